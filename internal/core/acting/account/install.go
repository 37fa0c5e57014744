// Package account is what Trammel has on a person's account: the files that installing
// puts there, and everything that was ever kept, so that all of it can be listed and removed.
//
// The folders are those of the XDG Base Directory Specification 0.8 (user executables in
// ~/.local/bin) and, for root, of the Filesystem Hierarchy Standard 3.0, section 4.9
// (/usr/local). A removal that was killed is carried on by the next one: what says where
// things are goes last.
package account

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
)

// Texts are what is installed beside the program, by what reads it.
type Texts struct{ Bash, Zsh, Fish, Manual []byte }

// Prefix is the folder below which an account installs: ~/.local, and /usr/local for root.
// Errors: there is no home folder.
func Prefix(h host.Host, root bool) (string, error) {
	if root {
		return "/usr/local", nil
	}
	home := h.Getenv("HOME")
	if !filepath.IsAbs(home) {
		return "", fault.New(fault.ErrUsage, "there is no home folder to install into: HOME is not set").Advise("Name one: trammel install --prefix FOLDER")
	}
	return filepath.Join(home, ".local"), nil
}

// Installed is what Install put where, in the order in which it is removed.
type Installed struct {
	Files   []string `json:"files"`   // the program is the last
	Folders []string `json:"folders"` // that were made for them, the deepest first
}

// Program is where the program is, "" when none was installed.
func (i Installed) Program() string {
	if len(i.Files) == 0 {
		return ""
	}
	return i.Files[len(i.Files)-1]
}

func recordFile(p place.Places) string { return filepath.Join(p.State, "installed.json") }

// Recorded is what earlier Installs of this account put where.
// Errors: the record cannot be read.
func Recorded(p place.Places) (Installed, error) {
	var out Installed
	raw, err := disk.Read(recordFile(p), disk.MostText)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &out)
	}
	return out, err
}

// Install puts the program, which is the file self, and the texts below a prefix. Each file
// takes its place whole, so that one which runs stays as it is, and services that it
// supervises go on. What was there before is replaced.
// Errors: a folder cannot be written; then what was put so far stays, and is recorded.
func Install(p place.Places, self, prefix string, t Texts) (Installed, error) {
	was, err := Recorded(p)
	if err != nil {
		return Installed{}, fault.New(fault.ErrFailed, "what was installed before cannot be read: %v", err).Advise("Remove %s, and install again.", recordFile(p))
	}
	program := filepath.Join(prefix, "bin", "trammel")
	files := []struct {
		path string
		text []byte
	}{
		{filepath.Join(prefix, "share/bash-completion/completions/trammel"), t.Bash},
		{filepath.Join(prefix, "share/zsh/site-functions/_trammel"), t.Zsh},
		{filepath.Join(prefix, "share/fish/vendor_completions.d/trammel.fish"), t.Fish},
		{filepath.Join(prefix, "share/man/man1/trammel.1"), t.Manual},
	}
	now := Installed{Folders: was.Folders}
	for _, f := range files {
		now.Files = append(now.Files, f.path)
		now.Folders = append(missingFolders(filepath.Dir(f.path)), now.Folders...)
	}
	now.Folders = append(missingFolders(filepath.Dir(program)), now.Folders...)
	now.Folders = unique(now.Folders)
	slices.SortStableFunc(now.Folders, func(a, b string) int { return len(b) - len(a) })
	if earlier := was.Program(); earlier != program { // below another prefix
		now.Files = append(slices.Clone(was.Files), now.Files...)
	}
	now.Files = append(unique(now.Files), program)
	raw, err := json.Marshal(now)
	if err != nil {
		return now, err
	}
	if err := disk.Private(p.State); err != nil {
		return now, err
	}
	// The record first: what is there without one, nobody would find again.
	if err := disk.Write(recordFile(p), raw, 0o600); err != nil {
		return now, err
	}
	for _, f := range files {
		if err := put(f.path, func() error { return disk.Write(f.path, f.text, 0o644) }); err != nil {
			return now, err
		}
	}
	if same(self, program) {
		return now, nil
	}
	return now, put(program, func() error { return place.Copy(self, program) })
}

func put(path string, write func() error) error {
	err := os.MkdirAll(filepath.Dir(path), 0o755)
	if err == nil {
		err = write()
	}
	if errors.Is(err, fs.ErrPermission) {
		return fault.New(fault.ErrFailed, "%s cannot be written", path).Advise("Install into a folder of yours: trammel install --prefix ~/.local")
	}
	return err
}

// missingFolders are those on the way to a folder that are not there, the deepest first.
func missingFolders(dir string) (out []string) {
	for ; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if _, err := os.Lstat(dir); err == nil {
			break
		}
		out = append(out, dir)
	}
	return out
}

func unique(list []string) (out []string) {
	for _, x := range list {
		if !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

func same(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}
