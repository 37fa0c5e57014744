// Package store is the content-addressed folder of unpacked parts that all
// projects of a user share.
//
// Promises: a part that has its name in the store is whole and was checked; a
// process that is killed at any instant leaves at most a unlinked folder, which
// the next one to add that part removes; two processes that want one part do the
// work once. Nothing in the store changes after it has appeared.
//
// Not promised: that nobody else damages it. Check finds that.
package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/stored/unpack"
	"app.example/trammel/internal/core/written/lock"
)

// Store is a folder of parts. Beside each part NAME lie NAME.manifest, what the
// tree digest was taken of, and NAME.stamps, the size and times of each entry
// when it was added, in the manifest's order.
type Store struct{ root string }

// Open names the store's folder; it is made when something is added.
func Open(root string) *Store { return &Store{root} }

// Name is the name of a part's folder: the first 32 hex digits of its tree
// digest, then what people call it. Items that have a part in common share it.
func Name(p lock.PartOn) string {
	return strings.TrimPrefix(string(p.Tree), "blake3:")[:32] + "-" + p.Name + "-" + p.Part.Version
}

// Path is where a part is, or will be. The part's tree digest must be known.
func (s *Store) Path(p lock.PartOn) string { return filepath.Join(s.root, Name(p)) }

// Look notes which parts are here and which trees are known, for who decides by that.
func (s *Store) Look(r *reading.Reader) {
	r.Folder(s.root)
	r.Folder(filepath.Join(s.root, ".trees"))
}

// ReadLock keeps sweeping away until it is given back; any number of processes may use
// the store at once.
func (s *Store) ReadLock(ctx context.Context) (done func(), err error) {
	return disk.LockShared(ctx, s.sweepLock())
}

// WriteLock waits until nobody uses the store and keeps everybody out.
func (s *Store) WriteLock(ctx context.Context) (done func(), err error) {
	return disk.Lock(ctx, s.sweepLock())
}

func (s *Store) sweepLock() string { return filepath.Join(s.root, ".sweep.lock") }

// Names lists the parts that are there, by the names of their folders.
func (s *Store) Names() ([]string, error) {
	entries, err := os.ReadDir(s.root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range entries {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			out = append(out, e.Name())
		}
	}
	return out, err
}

// Remove takes a part out: aside in one step, so that it is never half there,
// then away with its records.
func (s *Store) Remove(name string) error {
	defer s.linking()()
	path := filepath.Join(s.root, name)
	aside := filepath.Join(s.root, ".old-"+name)
	if err := os.Rename(path, aside); err != nil {
		return err
	}
	for _, record := range []string{".manifest", ".stamps", ".size", ".damaged"} {
		os.Remove(path + record)
	}
	return disk.RemoveAll(aside)
}

// Leftovers are folders of processes that were killed while they added or removed
// a part. With the store to itself a caller may remove them all.
func (s *Store) Leftovers() []string {
	left, _ := filepath.Glob(filepath.Join(s.root, ".new-*"))
	old, _ := filepath.Glob(filepath.Join(s.root, ".old-*"))
	return append(left, old...)
}

// Has tells whether a part is there, without looking into it.
func (s *Store) Has(p lock.PartOn) bool {
	if p.Tree == "" {
		return false
	}
	_, err := os.Lstat(s.Path(p))
	return err == nil
}

// MarkDamaged notes that a part was found damaged, so that the next fit mends it
// without being asked to look.
func (s *Store) MarkDamaged(p lock.PartOn) {
	_ = os.WriteFile(s.Path(p)+".damaged", nil, 0o644)
}

// Damaged tells whether a part was marked as damaged.
func (s *Store) Damaged(p lock.PartOn) bool {
	_, err := os.Lstat(s.Path(p) + ".damaged")
	return err == nil
}

// Commands tells whether the files of a part's commands are all there: a look at each, and
// not into it.
func (s *Store) Commands(p lock.PartOn) bool {
	look := os.Stat
	if p.Format == lock.RootFormat { // its links mean what they mean inside
		look = os.Lstat
	}
	for _, file := range p.Bin {
		info, err := look(filepath.Join(s.Path(p), filepath.FromSlash(file)))
		if err != nil || info.IsDir() || info.Mode().IsRegular() && info.Mode().Perm()&0o111 == 0 {
			return false
		}
	}
	return true
}

// known is where the tree digest of an archive is remembered, for parts whose
// lock does not state it yet.
func (s *Store) known(p lock.PartOn) string {
	name := string(p.Digest)
	switch {
	case p.Format == lock.SetFormat: // whose folder says its name
		name += "-" + p.Name
	case strings.HasPrefix(p.Build, "python:") || strings.HasPrefix(p.Build, "r:"): // built with more than one thing
		name += "-" + p.Name + "-" + p.Builder
	case p.Build != "": // one module may hold several commands
		name += "-" + p.Name
	}
	return filepath.Join(s.root, ".trees", strings.NewReplacer("/", "_", ":", "-").Replace(name))
}

// Tree is the tree digest of a part: the lock's, or the one that this store
// learnt when it unpacked the same archive; "" when neither knows it.
func (s *Store) Tree(p lock.PartOn) tree.Digest {
	if p.Tree != "" {
		return p.Tree
	}
	raw, err := disk.Read(s.known(p), disk.MostLock)
	name, recipe, _ := strings.Cut(strings.TrimSpace(string(raw)), " ")
	if err != nil || recipe != rulesOf(p) {
		return ""
	}
	return tree.Digest(name)
}

// Complete gives parts the trees that this store knows where their lock does not say
// them. Parts are handed on complete, and nobody else asks.
func (s *Store) Complete(parts []lock.PartOn) []lock.PartOn {
	for i := range parts {
		parts[i].Tree = s.Tree(parts[i])
	}
	return parts
}

// RootRecipe changes with each change of how a root is made from its packages.
const RootRecipe = "root 1"

// SetRecipe changes with each change of how a set is made from its packages.
const SetRecipe = "libraries 1"

// rulesOf is what besides the archive decides a tree.
func rulesOf(p lock.PartOn) string {
	switch p.Format {
	case lock.RootFormat:
		return strconv.Quote(RootRecipe)
	case lock.SetFormat:
		return strconv.Quote(SetRecipe)
	case "deb":
		return strconv.Quote(fmt.Sprint("deb ", p.Docs))
	}
	return strconv.Quote(fmt.Sprint(p.Prefix, p.Strip, executables(p), p.Build, p.Builder))
}

// executables are the globs of the card and the commands themselves.
func executables(p lock.PartOn) []string {
	out := append([]string{}, p.Executable...)
	for _, command := range lock.Sorted(p.Bin) {
		out = append(out, p.Bin[command])
	}
	return out
}

// Add unpacks an archive into the store and returns the part's tree digest. get
// brings the archive and is called only when there is something to do. With mend
// a part that is there is replaced.
func (s *Store) Add(ctx context.Context, p lock.PartOn, mend bool, get func() (archive string, err error)) (treeDigest tree.Digest, err error) {
	return s.once(ctx, p, string(p.Digest), mend, func(p lock.PartOn, id string) (tree.Digest, error) {
		archive, err := get()
		if err != nil {
			return "", err
		}
		return s.told(ctx, "unpack", p, id, func(ctx context.Context, fresh string) (tree.Manifest, error) {
			return unpackInto(ctx, p, archive, fresh)
		})
	})
}

// Make is Add for a part that is built: build fills a fresh folder, which becomes
// the part when its tree is the locked one.
func (s *Store) Make(ctx context.Context, p lock.PartOn, mend bool, build func(fresh string) error) (treeDigest tree.Digest, err error) {
	return s.once(ctx, p, string(p.Digest)+p.Builder+p.Name, mend, func(p lock.PartOn, id string) (tree.Digest, error) {
		return s.told(ctx, "build", p, id, func(_ context.Context, fresh string) (tree.Manifest, error) {
			if err := build(fresh); err != nil {
				return nil, err
			}
			return closed(fresh)
		})
	})
}

// Copy is Add for a part that is had as a whole tree: get fills a fresh folder, which becomes
// the part when its tree, which get returns, is the one that the part has.
func (s *Store) Copy(ctx context.Context, p lock.PartOn, mend bool, get func(ctx context.Context, fresh string) (tree.Manifest, error)) (treeDigest tree.Digest, err error) {
	id := string(p.Digest)
	if p.Build != "" {
		id += p.Builder + p.Name
	}
	return s.once(ctx, p, id, mend, func(p lock.PartOn, id string) (tree.Digest, error) {
		return s.told(ctx, "copy", p, id, get)
	})
}

// Merge is Add for a root, which fill makes of parts that are in the store; it
// returns the root's manifest. Files of a root are the parts' own.
func (s *Store) Merge(ctx context.Context, p lock.PartOn, mend bool, fill func(ctx context.Context, fresh string) (tree.Manifest, error)) (treeDigest tree.Digest, err error) {
	return s.once(ctx, p, string(p.Digest), mend, func(p lock.PartOn, id string) (tree.Digest, error) {
		defer s.linking()()
		return s.told(ctx, "make", p, id, fill)
	})
}

// Manifest reads the manifest of a part that is there.
func (s *Store) Manifest(p lock.PartOn) (tree.Manifest, error) {
	raw, err := disk.Read(s.Path(p)+".manifest", disk.MostLock)
	if err != nil {
		return nil, err
	}
	return tree.Parse(raw)
}

// once does the work of adding a part under the lock of its name, unless the part
// is there by then.
func (s *Store) once(ctx context.Context, p lock.PartOn, name string, mend bool, work func(p lock.PartOn, id string) (tree.Digest, error)) (tree.Digest, error) {
	if err := os.MkdirAll(filepath.Join(s.root, ".trees"), 0o755); err != nil {
		return "", fmt.Errorf("making the store: %w", err)
	}
	id := strings.NewReplacer("/", "_", ":", "-", " ", "-").Replace(name)
	unlock, err := disk.Lock(ctx, filepath.Join(s.root, ".locks", id))
	if err != nil {
		return "", err
	}
	defer unlock()
	if t := s.Tree(p); t != "" {
		p.Tree = t
		if s.Has(p) && !mend {
			return t, nil
		}
	}
	return work(p, id)
}

// told adds a part and tells of it as a task.
func (s *Store) told(ctx context.Context, verb string, p lock.PartOn, id string, fill func(ctx context.Context, fresh string) (tree.Manifest, error)) (tree.Digest, error) {
	task := verb + " " + p.Label() + " " + p.Part.Version
	done := event.Task(ctx, task)
	t, count, err := s.add(event.Within(ctx, task), p, id, fill)
	done(plural(count, "file"), err)
	return t, err
}

// closed takes the right to write from a tree and lists it.
func closed(root string) (tree.Manifest, error) {
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.Type()&fs.ModeSymlink != 0 {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		return os.Chmod(path, info.Mode().Perm()&^0o222)
	})
	if err != nil {
		return nil, err
	}
	return tree.Scan(root, true)
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return strconv.Itoa(n) + " " + word + "s"
}

// ErrWrongBytes is an archive whose content is not what was locked. The caller
// drops the archive from its cache.
var ErrWrongBytes = errors.New("wrong bytes")

// What is added lies beside the store's parts under a name of its own, and beside that what it
// replaces, and a record that is not whole yet.
const (
	aside  = "-old"
	record = ".record"
)

func (s *Store) add(ctx context.Context, p lock.PartOn, id string, fill func(ctx context.Context, fresh string) (tree.Manifest, error)) (treeDigest tree.Digest, count int, err error) {
	// Whoever holds the lock of the id makes it in one place, where what an earlier process left, killed
	// while it made this part, is found without a look through the store.
	fresh := filepath.Join(s.root, ".new-"+id+"-1")
	for _, left := range []string{fresh, fresh + aside, fresh + record} {
		if err := disk.RemoveAll(left); err != nil {
			return "", 0, err
		}
	}
	if err := os.Mkdir(fresh, 0o700); err != nil {
		return "", 0, err
	}
	defer func() {
		if err != nil {
			disk.RemoveAll(fresh)
		}
	}()
	manifest, err := fill(ctx, fresh)
	if err != nil {
		return "", 0, err
	}
	if name, leaves := manifest.Leaving(); leaves {
		return "", 0, fault.New(fault.ErrSource, "%s %s is refused: %q is a link that leaves the tree", p.Label(), p.Part.Version, name).Advise("Nothing of it was kept.")
	}
	treeDigest = manifest.Digest()
	if p.Tree != "" && p.Tree != treeDigest && byBuild(p) {
		return "", 0, fault.New(fault.ErrFailed, "%s %s was built here, and what came of it is not what the lock has: its tree digest is %.19s… and the lock has %.19s…", p.Label(), p.Part.Version, treeDigest, p.Tree).
			Advise("Its sources are the locked ones; the build came out differently. Nothing of it was kept.\nWhoever locked it can hand on what they built, by a depot: trammel stock")
	}
	if p.Tree != "" && p.Tree != treeDigest {
		return "", 0, wrong(p, "its tree digest is %.19s… and the lock has %.19s…", treeDigest, p.Tree)
	}
	for command, file := range p.Bin {
		if p.Format != lock.RootFormat && !has(manifest, file) {
			return "", 0, fault.New(fault.ErrSource, "%s %s has no file %s, which its card gives as the command %s", p.Label(), p.Part.Version, file, command).
				Advise("The card does not fit this version; choose another version or mend the card.")
		}
	}
	p.Tree = treeDigest
	final := s.Path(p)
	// The records come first, and each is whole or not there: its temporary file has
	// the folder's own name, so that the next process finds what a kill leaves. With
	// the last rename the part is there, and nothing temporary is.
	for _, x := range []struct {
		path    string
		content []byte
	}{{final + ".manifest", manifest.Bytes()}, {final + ".stamps", stampBytes(manifest)}, {final + ".size", sizeBytes(manifest)}, {s.known(p), []byte(string(treeDigest) + " " + rulesOf(p) + "\n")}} {
		temporary := fresh + record
		err := os.WriteFile(temporary, x.content, 0o644)
		if err == nil {
			err = os.Rename(temporary, x.path)
		}
		if err != nil {
			os.Remove(temporary)
			return "", 0, err
		}
	}
	if err := disk.SyncAll(fresh); err != nil {
		return "", 0, err
	}
	if err := replace(fresh, final); err != nil {
		return "", 0, err
	}
	os.Remove(final + ".damaged")
	return treeDigest, len(manifest), disk.SyncDir(s.root)
}

func unpackInto(ctx context.Context, p lock.PartOn, archive, fresh string) (tree.Manifest, error) {
	result, err := unpack.Archive(ctx, archive, p.Format, fresh, unpack.Rules{
		Prefix: p.Prefix, Strip: p.Strip, Executable: executables(p), HashZip: strings.HasPrefix(string(p.Digest), "h1:"), Docs: p.Docs,
	})
	if err != nil {
		return nil, unpackError(p, err)
	}
	if result.H1 != "" && result.H1 != string(p.Digest) {
		return nil, wrong(p, "its module digest is %.19s… and the lock has %.19s…", result.H1, p.Digest)
	}
	return result.Manifest, nil
}

// replace renames fresh to final. A damaged tree that is there goes aside first;
// programs that run from it keep running.
func replace(fresh, final string) error {
	err := os.Rename(fresh, final)
	if err == nil {
		return nil
	}
	if !errors.Is(err, fs.ErrExist) && !errors.Is(err, unix.ENOTEMPTY) && !errors.Is(err, fs.ErrPermission) {
		return err
	}
	if err := os.Rename(final, fresh+aside); err != nil {
		return err
	}
	if err := os.Rename(fresh, final); err != nil {
		return err
	}
	disk.RemoveAll(fresh + aside)
	return nil
}

// byBuild tells whether a part is made by programs of others from its sources, and not only unpacked.
func byBuild(p lock.PartOn) bool {
	return strings.HasPrefix(p.Build, "python:") || strings.HasPrefix(p.Build, "r:") || strings.HasPrefix(p.Builder, "scripts ")
}

func has(m tree.Manifest, file string) bool {
	for _, e := range m {
		if e.Path == file {
			return true
		}
	}
	return false
}

func wrong(p lock.PartOn, format string, args ...any) error {
	e := fault.New(fault.ErrSource, "%s %s has the wrong bytes: "+format, append([]any{p.Label(), p.Part.Version}, args...)...)
	e.Cause = ErrWrongBytes
	return e.Advise("Nothing of it was kept. Fetch it again: trammel fit\nIf it stays so, the source serves something else than what was locked, or the lock is wrong.")
}

func unpackError(p lock.PartOn, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	if disk.Full(err) {
		return fault.New(fault.ErrFailed, "there is no room for %s %s: the disk is full", p.Label(), p.Part.Version).
			Advise("Nothing of it was kept. Free some space and run the same command again.")
	}
	var path *fs.PathError
	if errors.As(err, &path) {
		return fault.New(fault.ErrFailed, "%s %s cannot be unpacked: %v", p.Label(), p.Part.Version, err)
	}
	e := fault.New(fault.ErrSource, "%s %s: %v", p.Label(), p.Part.Version, err)
	e.Cause = ErrWrongBytes
	return e.Advise("Nothing of it was kept.")
}

// sizeBytes is the record of how much room a tree takes: a number of bytes.
func sizeBytes(m tree.Manifest) []byte {
	var sum int64
	for _, e := range m {
		sum += e.Stamp.Size
	}
	return strconv.AppendInt(nil, sum, 10)
}

// Size is the room that a part takes, in bytes, as recorded when it was added; 0
// when that is not known. What a root shares with others counts in each.
func (s *Store) Size(p lock.PartOn) int64 {
	raw, err := disk.Read(s.Path(p)+".size", disk.MostLock)
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseInt(string(raw), 10, 64)
	return n
}

// Room walks a root and counts the bytes of its files, and of those the ones that
// other roots have too: files with more names than the root's and the part's.
func (s *Store) Room(p lock.PartOn) (whole, shared int64) {
	type file struct{ size, all, here int64 }
	files := map[uint64]file{}
	_ = filepath.WalkDir(s.Path(p), func(name string, d fs.DirEntry, err error) error {
		var st unix.Stat_t
		if err == nil && d.Type().IsRegular() && unix.Lstat(name, &st) == nil {
			files[st.Ino] = file{st.Size, int64(st.Nlink), files[st.Ino].here + 1}
		}
		return nil
	})
	for _, f := range files {
		whole += f.size
		if f.all > 2*f.here {
			shared += f.size
		}
	}
	return whole, shared
}

func stampBytes(m tree.Manifest) []byte {
	var b []byte
	for _, e := range m {
		for _, n := range []int64{e.Stamp.Size, e.Stamp.Mod, e.Stamp.Change} {
			b = append(strconv.AppendInt(b, n, 10), ' ')
		}
		b = append(strconv.AppendUint(b, e.Stamp.Inode, 10), '\n')
	}
	return b
}

func readStamps(raw []byte, m tree.Manifest) error {
	text := string(raw)
	for i := range m {
		line, rest, ok := strings.Cut(text, "\n")
		if !ok {
			return errors.New("the record of stamps is cut off")
		}
		text = rest
		var n [3]int64
		for k := range n {
			field, after, ok := strings.Cut(line, " ")
			value, err := strconv.ParseInt(field, 10, 64)
			if !ok || err != nil {
				return errors.New("the record of stamps is damaged")
			}
			n[k], line = value, after
		}
		inode, err := strconv.ParseUint(line, 10, 64)
		if err != nil {
			return errors.New("the record of stamps is damaged")
		}
		m[i].Stamp = disk.Stamp{Size: n[0], Mod: n[1], Change: n[2], Inode: inode}
	}
	return nil
}

// Checked is what a check of one part found.
type Checked struct {
	Missing     bool
	Files       int
	Differences []tree.Difference
	Record      string // what is wrong with the part's own records, or ""
}

// OK tells whether the part is as the lock says.
func (c Checked) OK() bool { return !c.Missing && c.Record == "" && len(c.Differences) == 0 }

// mostTouched is how many files may have other stamps before all are read, on all cores.
const mostTouched = 64

// Check compares a part with the lock: the manifest with the tree digest, then
// the files with the manifest. When deep, every byte is hashed; else those of files whose stamps are
// not the recorded ones: what was only touched is what it was.
func (s *Store) Check(p lock.PartOn, deep bool) (Checked, error) {
	if !s.Has(p) {
		return Checked{Missing: true}, nil
	}
	path := s.Path(p)
	// The tree is looked through while its record is read.
	var have tree.Manifest
	var scanErr error
	var scanning sync.WaitGroup
	scanned := deep
	scanning.Go(func() { have, scanErr = tree.Scan(path, scanned) })
	defer scanning.Wait()
	raw, err := disk.Read(path+".manifest", disk.MostLock)
	if err != nil {
		return Checked{Record: "its manifest cannot be read"}, nil
	}
	want, err := tree.Parse(raw)
	if err != nil || tree.DigestOf(raw) != p.Tree {
		return Checked{Record: "its manifest does not have the locked digest"}, nil
	}
	if !deep {
		stamps, err := disk.Read(path+".stamps", disk.MostLock)
		if err == nil {
			err = readStamps(stamps, want)
		}
		if err != nil {
			deep = true // without stamps only the content can tell
		}
	}
	if scanning.Wait(); deep != scanned {
		have, scanErr = tree.Scan(path, deep)
	}
	if scanErr != nil {
		return Checked{}, scanErr
	}
	found := Checked{Files: len(want), Differences: tree.Compare(want, have, deep)}
	if deep || len(found.Differences) == 0 {
		return found, nil
	}
	spans := s.spans()
	found.Differences = slices.DeleteFunc(found.Differences, func(d tree.Difference) bool {
		if d.What != tree.Changed {
			return false
		}
		was, _ := entryAt(want, d.Path)
		now, _ := entryAt(have, d.Path)
		return linkedOnly(was.Stamp, now.Stamp, spans)
	})
	if len(found.Differences) > mostTouched {
		return s.Check(p, true)
	}
	found.Differences = slices.DeleteFunc(found.Differences, func(d tree.Difference) bool {
		if d.What != tree.Changed {
			return false
		}
		was, _ := entryAt(want, d.Path)
		sum, err := tree.SumOf(filepath.Join(path, filepath.FromSlash(d.Path)))
		return err == nil && sum == was.Sum
	})
	return found, nil
}
