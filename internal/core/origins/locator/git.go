package locator

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"unicode"

	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/storer"
	"github.com/go-git/go-git/v5/storage/filesystem"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/stored/tree"
)

// maxTree bounds what one commit may hold.
const maxTree = 4 << 30

// getGit writes the files of a commit into a folder. The commit is the pin, or what
// the locator's revision is now.
func getGit(ctx context.Context, l Locator, pin, into string) (string, error) {
	repository, hash, done, err := open(ctx, l, pin, filepath.Dir(into))
	if err != nil {
		return "", err
	}
	defer done()
	commit, err := repository.CommitObject(hash)
	if err != nil {
		return "", fault.New(fault.ErrSource, "%s: commit %s cannot be read: %v", l.Text, hash, err)
	}
	top, err := commit.Tree()
	if err != nil {
		return "", err
	}
	return hash.String(), write(ctx, repository.Storer, top, into)
}

// open finds the commit, in a repository of this machine or in one that is fetched,
// with as little of its history as the server lets.
func open(ctx context.Context, l Locator, pin, scratch string) (*git.Repository, plumbing.Hash, func(), error) {
	rev := l.Rev
	if pin != "" {
		rev = pin
	}
	none := plumbing.ZeroHash
	nothing := func() {}
	if !l.Remote() {
		r, err := git.PlainOpenWithOptions(l.At, &git.PlainOpenOptions{EnableDotGitCommonDir: true})
		if err != nil {
			return nil, none, nothing, fault.New(fault.ErrUsage, "%s: %v", l.Text, err)
		}
		hash, err := resolve(r, rev, "")
		if err != nil {
			return nil, none, nothing, missing(l, rev)
		}
		return r, hash, nothing, nil
	}
	tmp, err := os.MkdirTemp(scratch, ".new-git-*")
	if err != nil {
		return nil, none, nothing, err
	}
	done := func() { disk.RemoveAll(tmp) }
	fail := func(err error) (*git.Repository, plumbing.Hash, func(), error) {
		done()
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, none, nothing, err
	}
	r, err := git.Init(filesystem.NewStorage(osfs.New(tmp), cache.NewObjectLRUDefault()), nil)
	if err != nil {
		return fail(err)
	}
	remote, err := r.CreateRemote(&config.RemoteConfig{Name: "origin", URLs: []string{l.At}})
	if err != nil {
		return fail(err)
	}
	refs, err := remote.ListContext(ctx, &git.ListOptions{PeelingOption: git.AppendPeeled})
	if err != nil {
		return fail(fault.New(fault.ErrSource, "%s: %v", l.Text, err).Advise("See that the address is right and that you may read it (for ssh: ssh-add -l)."))
	}
	hash, known := find(refs, rev)
	if known {
		wanted := config.RefSpec(hash.String() + ":refs/heads/trammel")
		err = remote.FetchContext(ctx, &git.FetchOptions{RefSpecs: []config.RefSpec{wanted}, Depth: 1, Tags: git.NoTags})
	}
	if !known || err != nil { // an old server, or a commit that no branch ends in
		all := []config.RefSpec{"+refs/heads/*:refs/remotes/origin/*", "+refs/tags/*:refs/tags/*"}
		if err := remote.FetchContext(ctx, &git.FetchOptions{RefSpecs: all}); err != nil && !errors.Is(err, git.NoErrAlreadyUpToDate) {
			return fail(fault.New(fault.ErrSource, "%s: %v", l.Text, err))
		}
		if known {
			rev = hash.String()
		}
		if hash, err = resolve(r, rev, "refs/remotes/origin/"); err != nil {
			return fail(missing(l, rev))
		}
	}
	return r, hash, done, nil
}

func missing(l Locator, rev string) error {
	return fault.New(fault.ErrSource, "%s: there is no branch, tag or commit %q", l.Text, rev)
}

// find looks a revision up among the references that a server lists; a tag with an
// object of its own (gitrevisions(7), ^{}) is followed to its commit.
func find(refs []*plumbing.Reference, rev string) (plumbing.Hash, bool) {
	byName := map[string]*plumbing.Reference{}
	for _, r := range refs {
		byName[r.Name().String()] = r
	}
	if rev == "" {
		head := byName["HEAD"]
		if head != nil && head.Type() == plumbing.SymbolicReference {
			head = byName[head.Target().String()]
		}
		if head == nil {
			return plumbing.ZeroHash, false
		}
		return head.Hash(), true
	}
	for _, name := range []string{rev, "refs/tags/" + rev + "^{}", "refs/tags/" + rev, "refs/heads/" + rev} {
		if r := byName[name]; r != nil && r.Type() == plumbing.HashReference {
			return r.Hash(), true
		}
	}
	if regexp.MustCompile(`^[0-9a-f]{40}$`).MatchString(rev) {
		return plumbing.NewHash(rev), true
	}
	return plumbing.ZeroHash, false
}

// resolve finds a revision in a repository that is here.
func resolve(r *git.Repository, rev, branches string) (plumbing.Hash, error) {
	if rev == "" {
		rev = "HEAD"
	}
	for _, name := range []string{rev, branches + rev} {
		if hash, err := r.ResolveRevision(plumbing.Revision(name)); err == nil {
			return *hash, nil
		}
	}
	return plumbing.ZeroHash, plumbing.ErrReferenceNotFound
}

// mostEntries bounds what one commit may hold.
const mostEntries = 500_000

// write writes the files of a tree into a fresh folder. Everything goes through that
// folder (os.Root), and links come last, when nothing is written any more, so that no
// name leads anywhere by a link. Names that git itself refuses to check out are refused
// (git's verify_path), and so is a link that leaves the tree, by however many others.
func write(ctx context.Context, from storer.EncodedObjectStorer, top *object.Tree, into string) error {
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	w := &writer{ctx: ctx, from: from, root: root, budget: maxTree}
	if err := w.folder(top, ""); err != nil {
		return err
	}
	links := w.links
	if name, leaves := links.Leaving(); leaves {
		return fault.New(fault.ErrSource, "the commit is refused: the link %q leads out of it", name)
	}
	for _, l := range links {
		if l.Target == "" || strings.ContainsRune(l.Target, 0) {
			return fault.New(fault.ErrSource, "the commit is refused: the link %q leads nowhere", l.Path)
		}
		if err := root.Symlink(l.Target, filepath.FromSlash(l.Path)); err != nil {
			return err
		}
	}
	return nil
}

// writer writes trees. What it cannot read is an error: a tree of which a part is missing
// is another one.
type writer struct {
	ctx    context.Context
	from   storer.EncodedObjectStorer
	root   *os.Root
	budget int64 // bytes that may still come
	count  int   // of entries so far
	links  tree.Manifest
}

func (w *writer) folder(t *object.Tree, at string) error {
	seen := map[string]bool{}
	for _, entry := range t.Entries {
		name := path.Join(at, entry.Name)
		if err := context.Cause(w.ctx); err != nil {
			return err
		}
		if refused(entry.Name) || !filepath.IsLocal(filepath.FromSlash(name)) {
			return fault.New(fault.ErrSource, "the commit is refused: it has a file named %q", at+"/"+entry.Name)
		}
		if seen[entry.Name] {
			return fault.New(fault.ErrSource, "the commit is refused: it has %q twice", name)
		}
		seen[entry.Name] = true
		if w.count++; w.count > mostEntries {
			return fault.New(fault.ErrSource, "the commit is refused: it has more than %d files", mostEntries)
		}
		var err error
		switch entry.Mode {
		case filemode.Submodule: // its files are in another repository
		case filemode.Dir:
			var below *object.Tree
			if below, err = object.GetTree(w.from, entry.Hash); err != nil {
				return fault.New(fault.ErrSource, "the folder %q of the commit cannot be read: %v", name, err)
			}
			if err = w.root.Mkdir(filepath.FromSlash(name), 0o755); err == nil {
				err = w.folder(below, name)
			}
		default:
			err = w.file(t, entry, name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *writer) file(t *object.Tree, entry object.TreeEntry, name string) error {
	file, err := t.TreeEntryFile(&entry)
	if err != nil {
		return fault.New(fault.ErrSource, "the file %q of the commit cannot be read: %v", name, err)
	}
	if w.budget -= file.Size; w.budget < 0 || file.Size < 0 {
		return fault.New(fault.ErrSource, "the commit is refused: it holds too much")
	}
	if entry.Mode != filemode.Symlink {
		return writeFile(w.root, file, entry.Mode, filepath.FromSlash(name))
	}
	if file.Size > 4096 {
		return fault.New(fault.ErrSource, "the commit is refused: the link %q is no link", name)
	}
	target, err := file.Contents()
	if err != nil {
		return err
	}
	w.links = append(w.links, tree.Entry{Type: tree.Link, Path: name, Target: target})
	return nil
}

// refused tells whether a tree may not have an entry of a name: one that is not a single
// word, or that is git's own folder on some file system.
func refused(name string) bool {
	if name == "" || name == "." || name == ".." || len(name) > 255 || strings.ContainsAny(name, "/\\\x00") {
		return true
	}
	plain := strings.TrimRight(strings.Map(func(r rune) rune {
		if r == ':' || unicode.Is(unicode.Cf, r) { // ignored by HFS+; ends a name on NTFS
			return -1
		}
		return r
	}, strings.ToLower(name)), " .")
	return plain == ".git" || plain == "git~1" || strings.HasPrefix(plain, ".git::")
}

func writeFile(root *os.Root, file *object.File, mode filemode.FileMode, to string) error {
	in, err := file.Reader()
	if err != nil {
		return err
	}
	defer in.Close()
	perm := os.FileMode(0o644)
	if mode == filemode.Executable {
		perm = 0o755
	}
	out, err := root.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, perm)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, io.LimitReader(in, file.Size))
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	return err
}
