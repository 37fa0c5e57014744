package source

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/written/declare"
)

// Machine is where the settings of this machine are read from.
type Machine struct {
	Getenv   func(string) string
	Project  string   // the project's folder, where .npmrc may lie
	Config   string   // Trammel's own configuration folder
	Archives string   // folder of fetched archives
	Apt      string   // folder of apt's settings; "" means /etc/apt
	System   []string // folders of what an organisation keeps for the machine

	looks   *reading.Reader // notes what is read; nil: nothing is noted
	user    map[string]kept
	depot   string
	userErr error
	once    sync.Once
}

func (m *Machine) home() string { return m.Getenv("HOME") }

func (m *Machine) userSourcesPath() string { return filepath.Join(m.Config, "sources.toml") }

// kept is the address of a source in a sources.toml.
type kept struct{ url, file string }

// userSources reads sources.toml, the person's own and then the machine's: a table
// [source.NAME] with url for each. What is said first counts.
func (m *Machine) userSources() (map[string]kept, error) {
	m.once.Do(func() { // who comes meanwhile waits: resolvers ask at once
		m.user = map[string]kept{}
		for _, dir := range append([]string{m.Config}, m.System...) {
			if m.userErr = m.readSources(filepath.Join(dir, "sources.toml")); m.userErr != nil {
				break
			}
		}
	})
	return m.user, m.userErr
}

func (m *Machine) readSources(file string) error {
	raw, err := disk.Read(file, disk.MostText)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.New(fault.ErrUsage, "%s %s", file, disk.InWords(err))
	}
	p := page.Parse(file, raw)
	p.About = "a file of sources, which has [source.NAME] with url, and [depot]"
	if group := p.Table(p.Root, "source"); group != nil {
		for _, e := range group.Entries {
			if t := p.Table(group, e.Name); t != nil {
				if url := p.Text(t, "url"); m.user[e.Name].url == "" {
					m.user[e.Name] = kept{url, file}
				}
				p.Close(t)
			}
		}
	}
	if t := p.Table(p.Root, "depot"); t != nil {
		m.depot = cmp.Or(m.depot, p.Text(t, "url"))
		p.Close(t)
	}
	p.Close(p.Root)
	return p.Err()
}

// Depot is the address of the depot in force: the person's own, or else the declared one; "" for none.
func (m *Machine) Depot(declared string) (string, error) {
	_, err := m.userSources()
	return cmp.Or(m.depot, declared), err
}

// settings reads "key = value" lines, the common ground of .npmrc and go.env. In a file
// of the person's own or of the machine, ${NAME} in a value is the environment's; a file
// that a checkout brings is never given anything of it, and a value there that asks for it
// is none.
func (m *Machine) settings(path string, own bool) map[string]string {
	raw, err := m.looks.Read(path, 1<<20)
	if err != nil {
		return nil
	}
	out := map[string]string{}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		if !ok {
			continue
		}
		value = strings.Trim(strings.TrimSpace(value), `"'`)
		if own {
			value = os.Expand(value, func(name string) string { return m.Getenv(strings.TrimSuffix(name, "?")) })
		} else if strings.Contains(value, "$") {
			continue
		}
		out[strings.TrimSpace(key)] = value
	}
	return out
}

// npmrc is a file of npm's settings. It is own when it is the person's or the machine's,
// and not when it lies in a checkout or in a folder above one.
type npmrc struct {
	path string
	own  bool
}

// npmrcFiles lists the files that npm itself would read, strongest first.
func npmrcFiles(project string, getenv func(string) string) []npmrc {
	var own []npmrc
	if user := getenv("npm_config_userconfig"); user != "" {
		own = append(own, npmrc{user, true})
	} else if home := getenv("HOME"); home != "" {
		own = append(own, npmrc{filepath.Join(home, ".npmrc"), true})
	}
	if global := getenv("npm_config_globalconfig"); global != "" {
		own = append(own, npmrc{global, true})
	}
	own = append(own, npmrc{"/etc/npmrc", true}, npmrc{"/usr/local/etc/npmrc", true})
	var out []npmrc
	for d := project; d != ""; d = filepath.Dir(d) {
		file := filepath.Join(d, ".npmrc")
		out = append(out, npmrc{file, slices.ContainsFunc(own, func(o npmrc) bool { return o.path == file })})
		if d == filepath.Dir(d) {
			break
		}
	}
	return append(out, own...)
}

// Registry is an address of npm packages that a file names which is not the person's own.
type Registry struct{ File, URL string }

// NamedByCheckout is the registry that a checkout, or a folder above it, names for npm
// packages where the person's environment names none.
func NamedByCheckout(r *reading.Reader, project string) []Registry {
	m := &Machine{Getenv: r.Getenv, Project: project, looks: r}
	if a, ok := m.npmSetting(); ok && a.Checkout {
		return []Registry{{a.Detail, a.URL}}
	}
	return nil
}

// npmSetting is the registry that the environment or a file names.
func (m *Machine) npmSetting() (Address, bool) {
	for _, name := range []string{"npm_config_registry", "NPM_CONFIG_REGISTRY"} {
		if v := m.Getenv(name); v != "" {
			return Address{URL: v, Detail: name + " in the environment"}, true
		}
	}
	for _, file := range npmrcFiles(m.Project, m.Getenv) {
		if v := m.settings(file.path, file.own)["registry"]; v != "" {
			return Address{URL: v, Detail: file.path, Checkout: !file.own}, true
		}
	}
	return Address{}, false
}

func findNPM(m *Machine, _ declare.Source) (Address, bool) {
	if a, ok := m.npmSetting(); ok {
		return a, true
	}
	if v := m.ask("npm", "config", "get", "registry"); strings.HasPrefix(v, "http") {
		return Address{URL: v, Detail: "npm config get registry"}, true
	}
	return Address{}, false
}

// safe tells whether the person's credentials may go to an address at all: to one that a
// checkout names they go only over an encrypted connection, and only because the person's
// own files name the very host.
func safe(a Address) bool { return !a.Checkout || strings.HasPrefix(a.URL, "https://") }

// npmAuthorization finds the credentials for a registry in the person's own files
// (npm documentation, "npmrc", Auth related configuration). A registry that an .npmrc of
// the checkout names gets none.
func (m *Machine) npmAuthorization(a Address) string {
	u, err := url.Parse(strings.TrimSuffix(a.URL, "/") + "/")
	if err != nil || !safe(a) {
		return ""
	}
	prefix := "//" + u.Host + strings.TrimSuffix(u.Path, "/") + "/:"
	for _, file := range npmrcFiles(m.Project, m.Getenv) {
		if !file.own {
			continue
		}
		settings := m.settings(file.path, true)
		if token := settings[prefix+"_authToken"]; token != "" {
			return "Bearer " + token
		}
		if basic := settings[prefix+"_auth"]; basic != "" {
			return "Basic " + basic
		}
	}
	return m.netrc(u.Hostname())
}

// goSetting finds one of Go's own settings: the environment, the user's go/env
// file, then the go.env of the installed toolchain.
func (m *Machine) goSetting(name string) (value, detail string) {
	if v := m.Getenv(name); v != "" {
		return v, name + " in the environment"
	}
	file := filepath.Join(m.home(), ".config/go/env")
	switch {
	case runtime.GOOS == "darwin":
		file = filepath.Join(m.home(), "Library/Application Support/go/env")
	case m.Getenv("XDG_CONFIG_HOME") != "":
		file = filepath.Join(m.Getenv("XDG_CONFIG_HOME"), "go/env")
	}
	if v := m.settings(file, true)[name]; v != "" {
		return v, file
	}
	if root := m.goroot(); root != "" {
		file := filepath.Join(root, "go.env")
		if v := m.settings(file, true)[name]; v != "" {
			return v, file
		}
	}
	return "", ""
}

// goroot is the folder of the Go toolchain on this machine's PATH, or "".
func (m *Machine) goroot() string {
	for _, dir := range filepath.SplitList(m.Getenv("PATH")) {
		if real, err := filepath.EvalSymlinks(filepath.Join(dir, "go")); err == nil {
			return filepath.Dir(filepath.Dir(real))
		}
	}
	return ""
}

func findGomod(m *Machine, _ declare.Source) (Address, bool) {
	v, detail := m.goSetting("GOPROXY")
	for _, one := range strings.FieldsFunc(v, func(r rune) bool { return r == ',' || r == '|' }) {
		if one != "direct" && one != "off" {
			return Address{URL: v, Detail: detail}, true
		}
	}
	return Address{}, false
}

// sumDB is the checksum database: the declaration's, or GOSUMDB. name is "" when
// there is none; key is "" when only its name is known (go help module-private).
func (m *Machine) sumDB(declared string) (name, key string) {
	v := declared
	if v == "" {
		v, _ = m.goSetting("GOSUMDB")
	}
	fields := strings.Fields(v)
	if len(fields) == 0 || fields[0] == "off" {
		return "", ""
	}
	name, _, hasKey := strings.Cut(fields[0], "+")
	if hasKey {
		return name, fields[0]
	}
	return name, m.knownSumKey(name)
}

// knownSumKey looks a database's key up where the machine's own Go toolchain
// keeps those it trusts, so that none stands in this program.
func (m *Machine) knownSumKey(name string) string {
	root := m.goroot()
	if root == "" {
		return ""
	}
	file := filepath.Join(root, "src/cmd/go/internal/modfetch/key.go")
	raw, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	re := regexp.MustCompile(`"` + regexp.QuoteMeta(name) + `":\s*"([^"]+)"`)
	if found := re.FindSubmatch(raw); found != nil {
		return string(found[1])
	}
	return ""
}

// netrc finds the login for a host, as a Basic Authorization value.
func (m *Machine) netrc(host string) string {
	file := m.Getenv("NETRC")
	if file == "" {
		file = filepath.Join(m.home(), ".netrc")
	}
	raw, err := disk.Read(file, 1<<20)
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(raw))
	for i := 0; i+1 < len(fields); i++ {
		if fields[i] != "machine" || fields[i+1] != host {
			continue
		}
		login, password := "", ""
		for j := i + 2; j+1 < len(fields) && fields[j] != "machine" && fields[j] != "default"; j += 2 {
			switch fields[j] {
			case "login":
				login = fields[j+1]
			case "password":
				password = fields[j+1]
			}
		}
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(login+":"+password))
	}
	return ""
}

// authorization finds the credentials for an address that is not an npm registry, of a
// source that is at a.
func (m *Machine) authorization(a Address, address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	if u.User != nil {
		password, _ := u.User.Password()
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
	}
	if a.URL = address; !safe(a) {
		return ""
	}
	return m.netrc(u.Hostname())
}

// answering is how long a host client may take to say a setting: on a machine that is busy one that starts an
// interpreter takes many seconds.
const answering = time.Minute

// ask starts a host client for a setting that stands in no file. It is the last
// resort, since some clients take a second to start. It works in the top folder, so that
// no file of a checkout is a setting of it, and only a client that is none of a checkout's
// is started.
func (m *Machine) ask(client string, args ...string) string {
	for _, dir := range filepath.SplitList(m.Getenv("PATH")) {
		path := filepath.Join(dir, client)
		if !filepath.IsAbs(dir) || m.Project != "" && strings.HasPrefix(path, m.Project+"/") {
			continue
		}
		if info, err := os.Stat(path); err != nil || info.IsDir() || info.Mode()&0o111 == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), answering)
		defer cancel()
		cmd := exec.CommandContext(ctx, path, args...)
		cmd.Dir = "/"
		// To ask npm is no reason to leave a log of it in the person's home.
		cmd.Env = append(cmd.Environ(), "npm_config_logs_max=0", "npm_config_update_notifier=false")
		out, err := cmd.Output()
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(out))
	}
	return ""
}
