// Package place knows where Trammel keeps things on a machine: the XDG base
// directories (XDG Base Directory Specification 0.8), or one folder when
// TRAMMEL_HOME is set.
package place

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/owned"
	"app.example/trammel/internal/core/base/shell"
)

// Places are the four roots, all absolute.
type Places struct {
	Data   string // the store and frames
	Cache  string // downloads and indexes: may always be deleted
	State  string // bays, known projects
	Config string // user default and sources

	System []string // what an organisation keeps for a machine: policy, sources; the strongest first
}

// Find reads the roots from the environment that getenv shows. Errors: fault.ErrUsage where there is none, and
// where somebody else could put something into one.
func Find(getenv func(string) string) (Places, error) {
	p, err := named(getenv)
	if err != nil {
		return p, err
	}
	if t, ok := owned.Check(p.Data, p.State, p.Cache, p.Config); !ok {
		return Places{}, fault.New(fault.ErrUsage, "Trammel keeps its files in %s, and %s %s. Whoever can write there could have you run their programs", cmp.Or(getenv("TRAMMEL_HOME"), filepath.Dir(p.State)), t.Path, t.Why).
			Advise("If it is your folder: chmod go-w %s\nIf not, set TRAMMEL_HOME to a folder in your home folder.", shell.Typed(t.Path))
	}
	return p, nil
}

func named(getenv func(string) string) (Places, error) {
	if home := getenv("TRAMMEL_HOME"); home != "" {
		if !filepath.IsAbs(home) {
			return Places{}, fault.New(fault.ErrUsage, "TRAMMEL_HOME is %q, which is not an absolute path", home).
				Advise("Set it to a folder of your own, such as $HOME/trammel, or unset it.")
		}
		home = filepath.Clean(home)
		return Places{home + "/data", home + "/cache", home + "/state", home + "/config", systems(getenv)}, nil
	}
	home := getenv("HOME")
	root := func(variable, below string) string {
		// A relative path in an XDG variable is invalid and is ignored (specification, section 3).
		if dir := getenv(variable); filepath.IsAbs(dir) {
			return filepath.Join(dir, "trammel")
		}
		if !filepath.IsAbs(home) {
			return ""
		}
		return filepath.Join(home, below, "trammel")
	}
	p := Places{
		Data:   root("XDG_DATA_HOME", ".local/share"),
		Cache:  root("XDG_CACHE_HOME", ".cache"),
		State:  root("XDG_STATE_HOME", ".local/state"),
		Config: root("XDG_CONFIG_HOME", ".config"),
		System: systems(getenv),
	}
	if p.Data == "" || p.Cache == "" || p.State == "" || p.Config == "" {
		return Places{}, fault.New(fault.ErrUsage, "there is no home folder to keep anything in: HOME is not set").
			Advise("Set HOME, or set TRAMMEL_HOME to a folder that Trammel may use.")
	}
	return p, nil
}

// SystemFolder is where an organisation keeps its policy and sources for a machine.
const SystemFolder = "/etc/trammel"

// systems are the system folders. TRAMMEL_SYSTEM names one more, and takes none away.
func systems(getenv func(string) string) []string {
	if dir := getenv("TRAMMEL_SYSTEM"); filepath.IsAbs(dir) && filepath.Clean(dir) != SystemFolder {
		return []string{SystemFolder, filepath.Clean(dir)}
	}
	return []string{SystemFolder}
}

// Equal tells whether two are the same folders.
func (p Places) Equal(o Places) bool {
	return p.Data == o.Data && p.Cache == o.Cache && p.State == o.State && p.Config == o.Config && slices.Equal(p.System, o.System)
}

// Store is the folder of unpacked parts.
func (p Places) Store() string { return filepath.Join(p.Data, "store") }

// Frames is the folder of frames.
func (p Places) Frames() string { return filepath.Join(p.Data, "frames") }

// Programs is the folder of copies of this program.
func (p Places) Programs() string { return filepath.Join(p.Data, "programs") }

// Program is the copy of this program that launches the commands of roots: in a
// place of Trammel's own, which shows in every view, and which stays when the
// program is replaced. The name is that of the file as it is now.
//
// self is the program's own file.
func (p Places) Program(self string) string {
	if strings.HasPrefix(self, p.Programs()+"/") {
		return self
	}
	stamp := disk.StampOf(self)
	return filepath.Join(p.Programs(), fmt.Sprintf("%x-%x-%x", stamp.Size, stamp.Mod, stamp.Inode), "trammel")
}

// Archives is the folder of downloaded archives.
func (p Places) Archives() string { return filepath.Join(p.Cache, "archives") }

// Layers is the folder of layers of images that were made.
func (p Places) Layers() string { return filepath.Join(p.Cache, "layers") }

// Indexes is the folder of cached source documents.
func (p Places) Indexes() string { return filepath.Join(p.Cache, "indexes") }

// Bays is the folder of bays.
func (p Places) Bays() string { return filepath.Join(p.State, "bays") }

// Records is the folder of what Trammel itself goes by of bays: no program that runs
// in one sees it.
func (p Places) Records() string { return filepath.Join(p.State, "records") }

// Plans is the folder of compiled environments.
func (p Places) Plans() string { return filepath.Join(p.State, "plans") }

// Homes is the folder of what languages keep for a person: for each checkout and isolation apart.
func (p Places) Homes() string { return filepath.Join(p.State, "homes") }

// Tools is the folder of the caches of tools, apart likewise.
func (p Places) Tools() string { return filepath.Join(p.Cache, "tools") }

// Builds is the folder of the caches of this program's own builds, which no project's program can write.
func (p Places) Builds() string { return filepath.Join(p.Cache, "builds") }

// HostLinks is the folder of folders of links to host commands, each named by the
// digest of what it shows.
func (p Places) HostLinks() string { return filepath.Join(p.Data, "host") }

// Locators is the folder of what locators name.
func (p Places) Locators() string { return filepath.Join(p.Cache, "locators") }

// Checkouts is the folder of what is started from locators.
func (p Places) Checkouts() string { return filepath.Join(p.State, "checkouts") }

// KeepProgram makes sure that the copy is there, whole and on the disk; it is made anew
// after an upgrade. also are further names that it has beside it. It returns its path.
func (p Places) KeepProgram(self string, also ...string) (string, error) {
	to := p.Program(self)
	if to == self {
		return to, nil
	}
	fresh := false
	if raw, err := os.ReadFile(to + stampName); err != nil || string(raw) != stampText(to) {
		if err := Copy(self, to); err != nil {
			return to, err
		}
		fresh = true
	}
	for _, name := range also {
		linked, err := p.alsoNamed(to, name)
		if err != nil {
			return to, err
		}
		fresh = fresh || linked
	}
	if !fresh {
		return to, nil
	}
	return to, disk.Write(to+stampName, []byte(stampText(to)), 0o644)
}

// alsoNamed gives the copy another name, and tells whether it had to.
func (p Places) alsoNamed(program, name string) (bool, error) {
	at := filepath.Join(filepath.Dir(program), name)
	a, err := os.Stat(program)
	if err != nil {
		return false, err
	}
	if b, err := os.Lstat(at); err == nil && os.SameFile(a, b) {
		return false, nil
	}
	fresh := at + ".new-" + rand.Text()[:10] // two commands may do this at once
	if err := os.Link(program, fresh); err != nil {
		return false, err
	}
	if err := os.Rename(fresh, at); err != nil {
		return false, errors.Join(err, os.Remove(fresh))
	}
	return true, nil
}

// stampName is added to the path of the copy, for the file with the stamp that it had when it was made.
const stampName = ".stamp"

func stampText(file string) string {
	s := disk.StampOf(file)
	return fmt.Sprintf("%x %x %x %x\n", s.Size, s.Mod, s.Change, s.Inode)
}

// SameProgram compares the copy with the program, byte by byte.
// Errors: one of the two cannot be read.
func (p Places) SameProgram(self string, also ...string) (bool, error) {
	to := p.Program(self)
	if to == self {
		return true, nil
	}
	for _, name := range also {
		a, err := os.Stat(to)
		if err != nil {
			return false, err
		}
		if b, err := os.Lstat(filepath.Join(filepath.Dir(to), name)); err != nil || !os.SameFile(a, b) {
			return false, err
		}
	}
	var open [2]*os.File
	for i, name := range []string{self, to} {
		f, err := os.Open(name)
		if err != nil {
			return false, err
		}
		defer f.Close()
		open[i] = f
	}
	var read [2][]byte
	for i := range read {
		read[i] = make([]byte, 256<<10)
	}
	for {
		var n [2]int
		for i, f := range open {
			var err error
			if n[i], err = io.ReadFull(f, read[i]); err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
				return false, err
			}
		}
		if !bytes.Equal(read[0][:n[0]], read[1][:n[1]]) {
			return false, nil
		}
		if n[0] == 0 {
			return true, nil
		}
	}
}

// Copy puts a copy of a program at a path, whole and on the disk before it has its name there.
func Copy(self, to string) error {
	from, err := os.Open(self)
	if err != nil {
		return err
	}
	defer from.Close()
	fresh, err := disk.Create(to)
	if err != nil {
		return err
	}
	defer fresh.Drop()
	if _, err := io.Copy(fresh, from); err != nil {
		return err
	}
	if err := fresh.Sync(); err != nil {
		return err
	}
	if err := fresh.Commit(0o755); err != nil {
		return err
	}
	return disk.SyncDir(filepath.Dir(to))
}
