package source

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"time"

	"trammel.example/trammel/internal/core/base/page"
	"trammel.example/trammel/internal/core/written/declare"
)

// Machine is where the settings of this machine are read from.
type Machine struct {
	Getenv  func(string) string
	Project string // the project's folder, where .npmrc may lie
	Config  string // Trammel's own configuration folder
	Apt     string // folder of apt's settings; "" means /etc/apt

	user    map[string]string
	userErr error
	read    bool
}

func (m *Machine) home() string { return m.Getenv("HOME") }

func (m *Machine) userSourcesPath() string { return filepath.Join(m.Config, "sources.toml") }

// userSources reads sources.toml: a table [source.NAME] with url for each.
func (m *Machine) userSources() (map[string]string, error) {
	if m.read {
		return m.user, m.userErr
	}
	m.read = true
	raw, err := os.ReadFile(m.userSourcesPath())
	if err != nil {
		return nil, nil
	}
	p := page.Parse(m.userSourcesPath(), raw)
	m.user = map[string]string{}
	if group := p.Table(p.Root, "source"); group != nil {
		for _, e := range group.Entries {
			if t := p.Table(group, e.Name); t != nil {
				m.user[e.Name] = p.Text(t, "url")
				p.Close(t)
			}
		}
	}
	p.Close(p.Root)
	m.userErr = p.Err()
	return m.user, m.userErr
}

// settings reads "key = value" lines, the common ground of .npmrc and go.env;
// ${NAME} in a value is the environment's.
func (m *Machine) settings(path string) map[string]string {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	out := map[string]string{}
	lines := bufio.NewScanner(bytes.NewReader(raw))
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
		out[strings.TrimSpace(key)] = os.Expand(value, func(name string) string {
			return m.Getenv(strings.TrimSuffix(name, "?"))
		})
	}
	return out
}

// npmrcFiles lists the files that npm itself would read, strongest first.
func (m *Machine) npmrcFiles() []string {
	var out []string
	for d := m.Project; d != ""; d = filepath.Dir(d) {
		out = append(out, filepath.Join(d, ".npmrc"))
		if d == filepath.Dir(d) {
			break
		}
	}
	if user := m.Getenv("npm_config_userconfig"); user != "" {
		out = append(out, user)
	} else if m.home() != "" {
		out = append(out, filepath.Join(m.home(), ".npmrc"))
	}
	if global := m.Getenv("npm_config_globalconfig"); global != "" {
		out = append(out, global)
	}
	return append(out, "/etc/npmrc", "/usr/local/etc/npmrc")
}

func findNPM(m *Machine, _ declare.Source) (Address, bool) {
	for _, name := range []string{"npm_config_registry", "NPM_CONFIG_REGISTRY"} {
		if v := m.Getenv(name); v != "" {
			return Address{URL: v, Detail: name + " in the environment"}, true
		}
	}
	for _, file := range m.npmrcFiles() {
		if v := m.settings(file)["registry"]; v != "" {
			return Address{URL: v, Detail: file}, true
		}
	}
	if v := m.ask("npm", "config", "get", "registry"); strings.HasPrefix(v, "http") {
		return Address{URL: v, Detail: "npm config get registry"}, true
	}
	return Address{}, false
}

// npmAuthorization finds the credentials for a registry in the same files
// (npm documentation, "npmrc", Auth related configuration).
func (m *Machine) npmAuthorization(registry string) string {
	u, err := url.Parse(registry)
	if err != nil {
		return ""
	}
	prefix := "//" + u.Host + strings.TrimSuffix(u.Path, "/") + "/:"
	for _, file := range m.npmrcFiles() {
		settings := m.settings(file)
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
	if v := m.settings(file)[name]; v != "" {
		return v, file
	}
	if root := m.goroot(); root != "" {
		file := filepath.Join(root, "go.env")
		if v := m.settings(file)[name]; v != "" {
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
	raw, err := os.ReadFile(filepath.Join(root, "src/cmd/go/internal/modfetch/key.go"))
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
	raw, err := os.ReadFile(file)
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

// authorization finds the credentials for an address that is not an npm registry.
func (m *Machine) authorization(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	if u.User != nil {
		password, _ := u.User.Password()
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
	}
	return m.netrc(u.Hostname())
}

// ask starts a host client for a setting that stands in no file. It is the last
// resort, since some clients take a second to start.
func (m *Machine) ask(client string, args ...string) string {
	for _, dir := range filepath.SplitList(m.Getenv("PATH")) {
		path := filepath.Join(dir, client)
		if info, err := os.Stat(path); err != nil || info.IsDir() || info.Mode()&0o111 == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		out, err := exec.CommandContext(ctx, path, args...).Output()
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(out))
	}
	return ""
}
