package history

import (
	"errors"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"

	"app.example/trammel/internal/core/base/fault"
)

// Commit is what version control has checked out, as it is committed.
type Commit struct {
	ID     string
	At     time.Time
	Source string // where the repository is to be had, without a name or password; "" where no network address is known
	Files  []Tracked
}

// Tracked is a file of the project in a commit.
type Tracked struct {
	Path       string // below the project's folder
	Executable bool
	Link       string // target, of a symbolic link
	Sum        string // of its content, as version control names it
	At         string // its file, of one that version control does not know
	blob       *object.Blob
}

// Content opens the file as it was committed. It returns its size in bytes.
func (t Tracked) Content() (io.ReadCloser, int64, error) {
	if t.At != "" {
		f, err := os.Open(t.At)
		if err != nil {
			return nil, 0, err
		}
		info, err := f.Stat()
		if err != nil {
			f.Close()
			return nil, 0, err
		}
		return f, info.Size(), nil
	}
	r, err := t.blob.Reader()
	return r, t.blob.Size, err
}

// Text is the whole file.
func (t Tracked) Text() ([]byte, error) {
	r, _, err := t.Content()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// Head is the commit that is checked out, with the project's files in it.
func (h *History) Head() (*Commit, error) {
	none := fault.New(fault.ErrUsage, "%s is in no repository with a commit, so that nothing says which files are the project's", h.Dir).
		Advise("Commit them with git, or leave the files out.")
	if h.repository == nil {
		return nil, none
	}
	ref, err := h.repository.Head()
	if err != nil {
		return nil, none
	}
	c, err := h.repository.CommitObject(ref.Hash())
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "the commit %s cannot be read: %v", ref.Hash(), err)
	}
	out := &Commit{ID: c.Hash.String(), At: c.Committer.When.UTC(), Source: h.source()}
	top, err := c.Tree()
	if err == nil && h.below != "" {
		top, err = top.Tree(strings.TrimSuffix(h.below, "/"))
	}
	if errors.Is(err, object.ErrDirectoryNotFound) {
		return nil, none
	}
	if err != nil {
		return nil, err
	}
	walk := object.NewTreeWalker(top, true, nil)
	defer walk.Close()
	for {
		name, entry, err := walk.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if entry.Mode == filemode.Dir || entry.Mode == filemode.Submodule {
			continue
		}
		blob, err := h.repository.BlobObject(entry.Hash)
		if err != nil {
			return nil, err
		}
		t := Tracked{Path: name, Executable: entry.Mode == filemode.Executable, Sum: entry.Hash.String(), blob: blob}
		if entry.Mode == filemode.Symlink {
			target, err := t.Text()
			if err != nil {
				return nil, err
			}
			t.Link = string(target)
		}
		out.Files = append(out.Files, t)
	}
}

// source is the address of the remote "origin" as everybody may see it: one form for all ways
// to reach it, so that clones by different ways have the same.
func (h *History) source() string {
	r, err := h.repository.Remote("origin")
	if err != nil || len(r.Config().URLs) == 0 {
		return ""
	}
	text := r.Config().URLs[0]
	if !strings.Contains(text, "://") { // user@host:path, as ssh has it
		host, path, ok := strings.Cut(text, ":")
		if !ok || strings.ContainsAny(host, "/\\") || strings.HasPrefix(text, ".") {
			return ""
		}
		text = "ssh://" + host + "/" + strings.TrimPrefix(path, "/")
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme == "file" {
		return ""
	}
	return "https://" + u.Hostname() + strings.TrimSuffix(u.Path, ".git")
}
