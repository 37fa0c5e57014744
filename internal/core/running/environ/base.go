package environ

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/rests"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/stored/frame"
)

// keptNames are the host's variables that stay in clean isolation: who and where
// the person is, the terminal, the language, and how to reach the network.
var keptNames = []string{
	"COLORTERM", "DBUS_SESSION_BUS_ADDRESS", "DISPLAY", "EDITOR", "HOME", "LANG", "LANGUAGE", "LOGNAME",
	"NO_COLOR", "CI", "PAGER", "SHELL", "SHLVL", "SSH_AGENT_PID", "SSH_AUTH_SOCK", "SSH_CONNECTION",
	"TERM", "TERM_PROGRAM", "TMPDIR", "TZ", "USER", "VISUAL", "WAYLAND_DISPLAY", "XAUTHORITY",
	"GOPROXY", "GOSUMDB", "GOPRIVATE", "GONOSUMDB", "GONOPROXY",
	"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY", "http_proxy", "https_proxy", "no_proxy", "all_proxy",
	"SSL_CERT_FILE", "SSL_CERT_DIR", "NODE_EXTRA_CA_CERTS", "REQUESTS_CA_BUNDLE", "CURL_CA_BUNDLE", "GIT_SSL_CAINFO",
	"npm_config_registry", "NPM_CONFIG_REGISTRY", "npm_config_replace_registry_host", "PIP_INDEX_URL",
}

var keptPrefixes = []string{"LC_", "TRAMMEL_", "XDG_"}

// keptInside are the host's variables that stay in sealed isolation: only such as
// name nothing of the host's files, and who may be reached how.
var keptInside = []string{
	"COLORTERM", "LOGNAME", "USER", "NO_COLOR", "CI", "TERM", "TERM_PROGRAM", "TZ",
	"GOPROXY", "GOSUMDB", "GOPRIVATE", "GONOSUMDB", "GONOPROXY",
	"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY", "http_proxy", "https_proxy", "no_proxy", "all_proxy",
	"npm_config_registry", "NPM_CONFIG_REGISTRY", "npm_config_replace_registry_host", "PIP_INDEX_URL",
}

// certificateNames are variables that name a file of certificates, which a sealed
// view shows where the root has nothing in its place.
var certificateNames = []string{"SSL_CERT_FILE", "NODE_EXTRA_CA_CERTS", "REQUESTS_CA_BUNDLE", "CURL_CA_BUNDLE", "GIT_SSL_CAINFO"}

// showable tells whether a file of the host can be shown at its own path.
func showable(file string) bool {
	info, err := os.Stat(file)
	return err == nil && info.Mode().IsRegular() && filepath.IsAbs(file) &&
		!slices.ContainsFunc(hiddenFolders, func(p string) bool { return strings.HasPrefix(file, p) })
}

// hiddenFolders are those of the host in whose place a view shows its own.
var hiddenFolders = []string{"/usr/", "/etc/", "/opt/", "/proc/", "/dev/"}

// BaseCommands are the host's commands that stay visible in clean isolation
// without being named in host: what POSIX calls utilities and people take for
// granted on every machine; with it what everybody types in a checkout, whatever it is of (git and what
// it goes through, make). No compiler or interpreter is here.
var BaseCommands = strings.Fields(`
	sh bash dash zsh fish env which true false test [ printf echo expr seq yes sleep date cal time timeout
	cat head tail tac tee less more cut paste sort uniq comm join tr fold fmt nl wc od xxd hexdump strings rev
	ls cp mv rm ln mkdir rmdir touch chmod chown chgrp stat file du df mktemp mkfifo readlink realpath basename dirname pwd install sync truncate dd
	grep egrep fgrep sed awk gawk mawk find xargs diff cmp patch ed
	tar gzip gunzip zcat bzip2 bunzip2 xz unxz zstd unzip zip
	sha1sum sha256sum sha512sum md5sum cksum b2sum base64 shasum
	id whoami groups hostname uname arch nproc getconf tty stty tput clear reset locale
	ps kill pgrep top free uptime nice nohup setsid flock
	vi vim nano tmux screen man
	git ssh scp make`)

// hostFolders are where host commands are looked for, whatever PATH says at the
// moment: a project's own folder on PATH must not decide what "git" is.
var hostFolders = []string{"/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin"}

// hostDirs are the folders to look in, each once: on many systems /bin is a link
// to /usr/bin.
func hostDirs(r *reading.Reader, path string) []string {
	var out []string
	known := map[disk.Stamp]bool{{}: true} // what is not there has the zero stamp
	for _, dir := range append(slices.Clone(hostFolders), filepath.SplitList(path)...) {
		if filepath.IsAbs(dir) {
			r.Identity(dir)
		}
		if stamp := disk.StampOf(dir); filepath.IsAbs(dir) && !known[stamp] {
			known[stamp] = true
			out = append(out, dir)
		}
	}
	return out
}

func findIn(is func(path string) bool, dirs []string, command string) string {
	for _, dir := range dirs {
		if full := filepath.Join(dir, command); is(full) {
			return full
		}
	}
	return ""
}

// FindHost looks for a host command. path is the host's PATH, searched last.
func FindHost(command, path string) string {
	return findIn(rests.IsCommand, hostDirs(nil, path), command)
}

// HostLinks is a folder of links to the host commands that show in clean isolation. It is
// named by the digest of what it shows, so that it never changes, and lies where no
// checkout and nothing that runs in a sealed environment can write.
type HostLinks struct {
	Dir     string            // absolute; it need not be there yet
	Shown   map[string]string // command → file
	Missing []string          // named commands that this host does not have
}

// LinksOf decides which host commands show: the base commands and those that are named,
// as far as this host has them. root is the folder of all such folders, path the host's
// PATH.
//
// self is this program's own file, which shows as trammel wherever it lies: what it advises can be
// typed where it says so. "" shows none.
func LinksOf(r *reading.Reader, root string, named []string, path, self string) HostLinks {
	l := HostLinks{Shown: map[string]string{}}
	dirs := hostDirs(r, path)
	for _, command := range BaseCommands {
		if full := findIn(r.CommandOf, dirs, command); full != "" {
			l.Shown[command] = full
		}
	}
	for _, command := range named {
		if full := findIn(r.Command, dirs, command); full != "" {
			l.Shown[command] = full
		} else {
			l.Missing = append(l.Missing, command)
		}
	}
	if self != "" {
		l.Shown["trammel"] = self
	}
	l.Dir = filepath.Join(root, strings.TrimPrefix(canon.Digest(l.Shown), "sha256:")[:32])
	return l
}

// Make puts the folder on disk: built aside and renamed, so that it is whole or not
// there. One that is there and right stays.
func (l HostLinks) Make() error {
	if l.right() {
		return nil
	}
	root := filepath.Dir(l.Dir)
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	// Two that find the folder wrong at once take turns; the second finds it right.
	unlock, err := disk.Lock(context.Background(), l.Dir+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	if l.right() {
		return nil
	}
	fresh, err := os.MkdirTemp(root, ".new-")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(fresh)
	inner := filepath.Join(fresh, "host")
	if err := os.Mkdir(inner, 0o755); err != nil {
		return err
	}
	for command, full := range l.Shown {
		if err := os.Symlink(full, filepath.Join(inner, command)); err != nil {
			return err
		}
	}
	if err := os.Rename(l.Dir, filepath.Join(fresh, "old")); err != nil && !os.IsNotExist(err) {
		return err
	}
	return os.Rename(inner, l.Dir)
}

// right tells whether the folder has just these links.
func (l HostLinks) right() bool { return len(l.Differs()) == 0 }

// Differs are the commands that the folder does not show as it should, each with what is wrong. A
// folder that is not there has one difference, of no command.
func (l HostLinks) Differs() (out []frame.Difference) {
	entries, err := os.ReadDir(l.Dir)
	if err != nil {
		return []frame.Difference{{What: "the folder of host commands is missing"}}
	}
	there := map[string]bool{}
	for _, e := range entries {
		there[e.Name()] = true
		want, ok := l.Shown[e.Name()]
		target, err := os.Readlink(filepath.Join(l.Dir, e.Name()))
		switch {
		case !ok:
			out = append(out, frame.Difference{Command: e.Name(), What: "extra host command"})
		case err != nil || target != want:
			out = append(out, frame.Difference{Command: e.Name(), What: "is not the host's own"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(l.Shown)) {
		if !there[name] {
			out = append(out, frame.Difference{Command: name, What: "missing host command"})
		}
	}
	return out
}

// PathScript is the script that stands for each command of .trammel/bin. It names the program that
// wrote it, and where that keeps things; should the program be gone, any that is on the PATH does.
func PathScript(s *checkout.State) string {
	text := "#!/bin/sh\n# Written by trammel fit: a command of this project's environment, with its variables.\n"
	if home := s.Host.Getenv("TRAMMEL_HOME"); home != "" {
		text += "export TRAMMEL_HOME=" + shell.Quote(s.Host.Abs(home)) + "\n"
	}
	return text + "program=" + shell.Quote(s.Host.Program) + "\n[ -x \"$program\" ] || program=trammel\nexec \"$program\" --command \"$0\" \"$@\"\n"
}
