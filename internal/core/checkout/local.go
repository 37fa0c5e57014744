package checkout

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/shell"
)

// Local is the checkout's own folder for what can be made again.
func Local(dir string) string { return filepath.Join(dir, LocalName) }

// Clock is a folder in it where the clock of its file system is asked (reading.ClockOf): what is made there
// changes nothing that anybody looks at.
func Clock(dir string) string { return filepath.Join(Local(dir), "clock") }

// LocalName is the name of that folder.
const LocalName = ".trammel"

// localFolder says why the folder of what can be made again is not to be used. It must be
// a folder and not a link to one, the same user's, since what is in it is run; and what
// lies in it must be what Trammel puts there, since a repository can bring such a folder
// along: only the two links to the frame are links, and what another command is making of
// them this moment (or was, when it was killed: Tidy removes it).
func (s *State) localFolder(r *reading.Reader) error {
	path := Local(s.Dir())
	info, err := r.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.New(fault.ErrFailed, "%v", err)
	}
	if !info.IsDir() {
		return fault.New(fault.ErrUsage, "%s is no folder, but something that leads elsewhere or is nothing to keep files in", path).
			Advise("Trammel makes that folder itself; a repository has no business with that name. Remove it: rm %s", shell.Typed(path))
	}
	if err := sameUser(path, info); err != nil {
		return err
	}
	if err := s.foreign(r); err != nil {
		return err
	}
	entries, err := r.ReadDir(path)
	if err != nil {
		return fault.New(fault.ErrFailed, "%v", err)
	}
	for _, e := range entries {
		full := filepath.Join(path, e.Name())
		if e.Type()&fs.ModeSymlink != 0 && (e.Name() == "frame" || e.Name() == "bin" || unnamed(e.Name())) {
			continue
		}
		r.Identity(full) // its kind and owner do not change without another one
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fault.New(fault.ErrFailed, "%v", err)
		}
		if !info.IsDir() && !info.Mode().IsRegular() {
			return fault.New(fault.ErrUsage, "%s is neither a folder nor a file, and Trammel did not put it there", full).
				Advise("Remove it: rm %s", shell.Typed(full))
		}
		if err := sameUser(full, info); err != nil {
			return err
		}
	}
	return nil
}

func sameUser(path string, info fs.FileInfo) error {
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Getuid() {
		return fault.New(fault.ErrUsage, "%s belongs to another user (%d), who could change what runs from it", path, st.Uid).
			Advise("Work in a checkout of your own, or remove %s; it is made anew.", path)
	}
	return nil
}

// localID is the name that Trammel gave the folder when it made it. What was done in this
// checkout is recorded under it in the person's state, so that a folder which somebody
// brings along, or one that was removed and made again, has nothing to show for itself.
func localID(r *reading.Reader, dir string) string {
	raw, err := r.ReadWithin(dir, filepath.Join(LocalName, "id"), 64)
	id := strings.TrimSpace(string(raw))
	if err != nil || len(id) != 26 || strings.Trim(id, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") != "" {
		return ""
	}
	return id
}

// Done is the folder in which it is recorded what was done in this checkout, "" where
// nothing was.
func (s *State) Done() string {
	if s.LocalID == "" {
		return ""
	}
	return filepath.Join(filepath.Dir(s.Bay.Records), ".checkout", s.LocalID)
}

// MakeLocal makes the folder for what can be made again, hidden from version control, and
// returns the State that knows it.
func (s *State) MakeLocal() (*State, error) {
	if s.LocalErr != nil && !errors.Is(s.LocalErr, errForeign) {
		return nil, s.LocalErr
	}
	if s.pending != nil {
		// Another command may have finished it since this state was read, and written more.
		if now, err := readPending(nil, s.Places, s.Dir()); err != nil {
			return nil, err
		} else if now != nil {
			if err := now.Finish(s.Places); err != nil {
				return nil, err
			}
		}
	}
	local := Local(s.Dir())
	copied := s.copied() // two with one id would have one memory of what was done
	if s.LocalID != "" && s.LocalErr == nil && !copied {
		if _, err := os.Lstat(filepath.Join(local, ".gitignore")); err == nil {
			return s, nil
		}
	}
	unlock, err := disk.Lock(context.Background(), s.madeFile("lock")) // one of two at once makes it
	if err != nil {
		return nil, err
	}
	defer unlock()
	out := *s
	if out.LocalErr = s.localFolder(nil); errors.Is(out.LocalErr, errForeign) {
		if out.Aside, err = putAside(s.Dir()); err != nil {
			return nil, err
		}
	}
	if err := os.Mkdir(local, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	if out.LocalErr = s.localFolder(nil); out.LocalErr != nil { // it may have come this moment
		return nil, out.LocalErr
	}
	if err := disk.WriteWithin(s.Dir(), LocalName+"/.gitignore", []byte("*\n"), 0o644); err != nil {
		return nil, err
	}
	if out.LocalID = localID(nil, s.Dir()); out.LocalID == "" || copied && out.LocalID == s.LocalID {
		// Known first: a folder with an id that nobody knows would be put aside.
		out.LocalID = rand.Text()
		if err := disk.Write(s.madeFile(out.LocalID), []byte(s.Dir()+"\n"), 0o600); err != nil {
			return nil, err
		}
		if err := disk.WriteWithin(s.Dir(), LocalName+"/id", []byte(out.LocalID+"\n"), 0o600); err != nil {
			return nil, err
		}
	}
	return &out, nil
}

// SayAside tells where a .trammel was moved that Trammel had not made.
func (s *State) SayAside(ctx context.Context) {
	if s.Aside != "" {
		event.Say(ctx, fmt.Sprintf("%s came with the project and was not made by Trammel for you. It was moved to %s, and nothing in it is used.", LocalName, s.Aside))
	}
}

// madeFile is where a person's state has that Trammel made the folder with an id.
func (s *State) madeFile(id string) string {
	return filepath.Join(s.Places.State, "made", id)
}

// errForeign marks the error of a folder that Trammel did not make.
var errForeign = errors.New("not made by Trammel")

// foreign says that the folder is there and that this person's Trammel did not make it: it came with
// a commit or an archive, and nothing in it is used.
func (s *State) foreign(r *reading.Reader) error {
	path := Local(s.Dir())
	entries, err := r.ReadDir(path)
	if err != nil || len(entries) == 0 { // none, or one that is being made this moment
		return nil
	}
	if id := localID(r, s.Dir()); id != "" {
		r.Identity(s.madeFile(id))
		if _, err := os.Lstat(s.madeFile(id)); err == nil {
			return nil
		}
	}
	e := fault.New(fault.ErrUsage, "%s is not a folder that Trammel made for you here; it came with the project", path)
	e.Cause = errForeign
	return e.Advise("Nothing in it is used. The next command that makes the environment moves it aside: trammel fit")
}

// putAside gives a folder that Trammel did not make another name, which version control is told to
// leave alone.
func putAside(dir string) (string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	aside := LocalName + "-aside-" + rand.Text()[:8]
	if err := root.Rename(LocalName, aside); err != nil {
		return "", err
	}
	return filepath.Join(dir, aside), nil
}

// EarlierLock is where the lock before the present one is kept, for the way back.
func EarlierLock(dir string) string { return filepath.Join(Local(dir), "earlier.lock") }

// unnamed are the names that files have for an instant while they take their own.
func unnamed(name string) bool {
	at := strings.LastIndexByte(name, '-')
	if !strings.HasPrefix(name, ".new-") {
		return false
	}
	last := name[at+1:]
	return at > len(".new-") && len(last) == 10 && strings.Trim(last, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") == "" ||
		len(last) >= 6 && strings.Trim(last, "0123456789") == "" // os.CreateTemp, as disk.Edit does
}

// Tidy removes what a command that was killed in that very instant left in the checkout.
func (s *State) Tidy() {
	for _, dir := range []string{s.Dir(), Local(s.Dir())} {
		entries, err := os.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			if !unnamed(e.Name()) {
				continue
			}
			info, err := e.Info()
			if err == nil && (info.Mode().IsRegular() || info.Mode()&fs.ModeSymlink != 0) && time.Since(info.ModTime()) > time.Minute {
				_ = disk.RemoveWithin(dir, e.Name())
			}
		}
	}
}
