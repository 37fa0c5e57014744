// Package locator gets a folder of files that is named from outside of a project: a
// folder of this machine, an archive, or a commit of a git repository,
//
//	../heronweir
//	heronweir.tar.gz#:ops
//	git+https://git.example/heronweir.git#main:ops
//
// What a locator names may move; its pin may not. A pin is the id of a commit, or
// the digest of an archive's bytes, and the files of a pin are kept in a folder of
// their own that appears whole or not at all.
package locator

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/stored/unpack"
)

// Kind is what a locator names.
type Kind int

// The kinds of locators.
const (
	Folder Kind = iota
	Archive
	Git
)

// Locator is a parsed locator.
type Locator struct {
	Text string // as it was written
	Kind Kind
	At   string // an absolute path, or a URL
	Rev  string // Git: a branch, tag or commit; "" is the repository's own choice
	Sub  string // path below the top, with slashes, cleaned; "" is the top
}

// formats are the archives that can be unpacked, by the end of their names.
var formats = map[string]string{".tar.gz": "tar.gz", ".tgz": "tar.gz", ".zip": "zip"}

func formatOf(name string) string {
	for end, format := range formats {
		if strings.HasSuffix(name, end) {
			return format
		}
	}
	return ""
}

// Is tells whether a text is a locator that is not just a path: those of git, and
// archives.
func Is(text string) bool {
	at, _, _ := strings.Cut(text, "#")
	return strings.HasPrefix(text, "git+") || strings.Contains(text, "://") || formatOf(at) != ""
}

// Parse reads a locator; paths are relative to dir.
func Parse(text, dir string) (Locator, error) {
	at, fragment, _ := strings.Cut(text, "#")
	rev, sub, _ := strings.Cut(fragment, ":")
	l := Locator{Text: text, At: at, Rev: rev}
	if sub != "" {
		l.Sub = path.Clean(sub)
	}
	if strings.HasPrefix(l.Sub, "/") || l.Sub == ".." || strings.HasPrefix(l.Sub, "../") {
		return l, fault.New(fault.ErrUsage, "%q leads out of what it names", text).Advise("Write a path below the top: git+URL#REV:FOLDER")
	}
	if address, ok := strings.CutPrefix(at, "git+"); ok {
		l.Kind, l.At = Git, address
	} else if formatOf(at) != "" {
		l.Kind = Archive
	}
	if l.Kind != Git && rev != "" {
		return l, fault.New(fault.ErrUsage, "%q names a revision, which only a repository has", text).Advise("Write git+URL#REV:FOLDER, or ARCHIVE#:FOLDER.")
	}
	if strings.Contains(l.At, "://") {
		u, err := url.Parse(l.At)
		if err != nil || u.Host == "" && u.Scheme != "file" {
			return l, fault.New(fault.ErrUsage, "%q is not an address", l.At)
		}
		if _, has := u.User.Password(); has {
			return l, fault.New(fault.ErrUsage, "the address of a locator holds a password").Advise("Take it out; it would be written into the lock.")
		}
		schemes := map[Kind]string{Git: "https http ssh file", Archive: "https http file"}
		if l.Kind == Folder || !strings.Contains(" "+schemes[l.Kind]+" ", " "+u.Scheme+" ") {
			return l, fault.New(fault.ErrUsage, "%q is not an address that a locator can have", l.At).
				Advise("Write git+https://…, git+ssh://…, git+file:///…, or the address of a .tar.gz or .zip.")
		}
		if u.Scheme == "file" {
			l.At = u.Path
		}
	} else if !filepath.IsAbs(l.At) {
		l.At = filepath.Join(dir, filepath.FromSlash(l.At))
	}
	return l, nil
}

// Remote tells whether reading it takes the network.
func (l Locator) Remote() bool { return strings.Contains(l.At, "://") }

// ErrNotHere is what Kept returns when the files of a pin are not on this machine.
var ErrNotHere = errors.New("not on this machine yet")

// Keeper keeps the files of pins in folders below a cache.
type Keeper struct {
	Dir    string
	Client *fetch.Client // nil: nothing is fetched
}

// folder is where the files of a pin are.
func (k Keeper) folder(pin string) string {
	return filepath.Join(k.Dir, strings.TrimPrefix(canon.Digest(pin), "sha256:")[:40])
}

// Kept is the folder of a pin, if it is here.
func (k Keeper) Kept(l Locator, pin string) (string, error) {
	dir := filepath.Join(k.folder(pin), filepath.FromSlash(l.Sub))
	if _, err := os.Lstat(k.folder(pin)); err != nil {
		return "", ErrNotHere
	}
	if _, err := os.Stat(dir); err != nil {
		return "", fault.New(fault.ErrUsage, "%s: there is no %s in it", l.Text, l.Sub)
	}
	return dir, nil
}

// Get makes sure that the files of a locator are here: those of the pin, or, when
// pin is "", what the locator names now. It returns their folder or file, and the pin.
func (k Keeper) Get(ctx context.Context, l Locator, pin string) (dir, is string, err error) {
	if pin != "" {
		if dir, err := k.Kept(l, pin); !errors.Is(err, ErrNotHere) {
			return dir, pin, err
		}
	}
	if l.Remote() && (k.Client == nil || k.Client.Offline()) {
		return "", "", fault.New(fault.ErrSource, "%s is not on this machine yet", l.Text).Advise("Run it once with the network.")
	}
	if err := os.MkdirAll(k.Dir, 0o755); err != nil {
		return "", "", err
	}
	k.tidy()
	fresh, err := os.MkdirTemp(k.Dir, ".new-*")
	if err != nil {
		return "", "", err
	}
	defer disk.RemoveAll(fresh)
	if err := os.Chmod(fresh, 0o755); err != nil {
		return "", "", err
	}
	done := event.Task(ctx, "fetch "+fetch.Redact(l.Text))
	switch l.Kind {
	case Git:
		is, err = getGit(ctx, l, pin, fresh)
	case Archive:
		is, err = k.getArchive(ctx, l, fresh)
	default:
		err = fmt.Errorf("%s is a folder", l.Text)
	}
	done("", err)
	if err != nil {
		return "", "", err
	}
	if pin != "" && is != pin {
		return "", "", fault.New(fault.ErrSource, "%s has other content than the lock says", l.Text).
			Advise("Locked: %s. There now: %s.\nIf the new content is what you want: trammel lock --renew", pin, is)
	}
	unlock, err := disk.Lock(ctx, k.folder(is)+".lock")
	if err != nil {
		return "", "", err
	}
	defer unlock()
	if _, err := os.Lstat(k.folder(is)); err != nil {
		if err := os.Rename(fresh, k.folder(is)); err != nil {
			return "", "", err
		}
	}
	dir, err = k.Kept(l, is)
	return dir, is, err
}

// tidy removes what a process that was killed left, once nobody can be at it any more.
func (k Keeper) tidy() {
	left, _ := filepath.Glob(filepath.Join(k.Dir, ".new-*"))
	for _, path := range left {
		if info, err := os.Lstat(path); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
			_ = disk.RemoveAll(path)
		}
	}
}

// maxArchive bounds an archive whose size nobody declares.
const maxArchive = 1 << 30

// getArchive unpacks an archive. Its pin is the digest of its bytes. The one folder
// that most archives have at their top is taken off.
func (k Keeper) getArchive(ctx context.Context, l Locator, into string) (pin string, err error) {
	format := formatOf(l.At)
	file := l.At
	if l.Remote() {
		tmp, err := os.CreateTemp(k.Dir, ".new-archive-*")
		if err != nil {
			return "", err
		}
		defer os.Remove(tmp.Name())
		err = k.Client.Copy(ctx, fetch.Address{URL: l.At}, tmp, maxArchive)
		if closeErr := tmp.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return "", err
		}
		file = tmp.Name()
	}
	if pin, err = digestOf(file); err != nil {
		return "", fault.New(fault.ErrUsage, "%s cannot be read: %v", l.Text, err)
	}
	whole := filepath.Join(into, ".whole")
	if err := os.Mkdir(whole, 0o755); err != nil {
		return "", err
	}
	if _, err := unpack.Archive(ctx, file, format, whole, unpack.Rules{Open: true}); err != nil {
		return "", fault.New(fault.ErrUsage, "%s: %v", l.Text, err)
	}
	top := whole
	if entries, err := os.ReadDir(whole); err == nil && len(entries) == 1 && entries[0].IsDir() {
		top = filepath.Join(whole, entries[0].Name())
	}
	entries, err := os.ReadDir(top)
	if err != nil {
		return "", err
	}
	for _, e := range entries {
		if err := os.Rename(filepath.Join(top, e.Name()), filepath.Join(into, e.Name())); err != nil {
			return "", err
		}
	}
	return pin, disk.RemoveAll(whole)
}

func digestOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil)), nil
}
