package source

import (
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/therootcompany/xz"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/stored/system"
	"app.example/trammel/internal/core/stored/unpack"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// debianArchive reads a Debian archive: InRelease, whose signature is checked
// against the machine's or the project's keys, Packages, which InRelease vouches
// for, and packages, which Packages vouches for ("DebianRepository/Format").
type debianArchive struct {
	name    string
	places  []archivePlace // a suite each
	since   []archivePlace // where what is gone from there may still be
	client  *fetch.Client
	machine *Machine
	d       declare.Debian
	source  declare.Source

	mu       sync.Mutex
	releases []signedRelease // one a suite, nil until read
	indexes  map[string]debian.Indexes
	failed   map[string]error  // why there is none, which each tool would find out again
	history  map[string][]once // a card's package or pattern → what any state had of it
}

var errNoSuite = errors.New("there is no such suite")

// archivePlace is where a suite is.
type archivePlace struct {
	suite string
	base  string // ends in /
	auth  string
	err   error // why it is nowhere
}

func (p archivePlace) at(path string) fetch.Address {
	return fetch.Address{URL: p.base + path, Authorization: p.auth}
}

type signedRelease struct {
	*debian.Release
	place  archivePlace
	suite  string
	digest string // of the InRelease file
}

// stampForm is how an archive of snapshots writes a moment (in UTC).
const stampForm = "20060102T150405Z"

func openDebian(a Address, d declare.Source, m *Machine, c *fetch.Client) Source {
	s := &debianArchive{name: d.Name, client: c, machine: m, d: d.Debian, source: d, indexes: map[string]debian.Indexes{}, failed: map[string]error{}, history: map[string][]once{}}
	s.places = placesOf(d, a, m, d.Debian.State)
	if !d.Debian.Since.IsZero() {
		s.since = slices.DeleteFunc(placesOf(d, a, m, d.Debian.Since), func(p archivePlace) bool { return p.err != nil || slices.Contains(s.places, p) })
	}
	return s
}

// placesOf are the places of a source's suites: now, or of the state of a moment. An archive of
// snapshots answers with the last state before the moment.
func placesOf(d declare.Source, a Address, m *Machine, state time.Time) []archivePlace {
	place := func(suite string, a Address, snapshots string) archivePlace {
		switch {
		case state.IsZero():
		case snapshots == "":
			return archivePlace{suite: suite, err: fault.New(fault.ErrSource, "the suite %q of source %q has no earlier states", suite, d.Name).
				Advise("Write under [source.%s] an archive that keeps every state of it:\n  also = [{ suite = %q, snapshots = \"https://…/@{stamp}/\" }]", d.Name, suite)}
		default:
			a.URL, a.Checkout = strings.ReplaceAll(snapshots, "@{stamp}", state.UTC().Format(stampForm)), true
		}
		return archivePlace{suite: suite, base: strings.TrimSuffix(a.URL, "/") + "/", auth: m.authorization(a, a.URL)}
	}
	var out []archivePlace
	for _, suite := range d.Debian.Suites {
		here := a
		if e, exact, ok := m.aptEntryFor(suite); a.Origin == "machine" && ok && exact { // apt's settings may have it elsewhere
			here.URL, here.Detail = e.url, e.file
		}
		out = append(out, place(suite, here, d.Debian.Snapshots))
	}
	for _, x := range d.Debian.Also {
		here := Address{URL: x.URL, Checkout: true}
		if x.URL == "" {
			e, exact, ok := m.aptEntryFor(x.Suite)
			if here = (Address{URL: e.url, Detail: e.file}); !ok || !exact {
				out = append(out, archivePlace{suite: x.Suite, err: fault.New(fault.ErrSource, "there is no address for the suite %q of source %q", x.Suite, d.Name).
					Advise("apt's settings on this machine do not name it. Write it under [source.%s]:\n  also = [{ suite = %q, url = \"https://…\" }]", d.Name, x.Suite)})
				continue
			}
		}
		out = append(out, place(x.Suite, here, x.Snapshots))
	}
	return out
}

func (s *debianArchive) Probe(ctx context.Context) error {
	_, err := s.read(ctx)
	return err
}

// read reads and checks the releases of all suites.
func (s *debianArchive) read(ctx context.Context) ([]signedRelease, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.releases != nil {
		return s.releases, nil
	}
	var out []signedRelease
	for _, place := range s.places {
		suite := place.suite
		if place.err != nil {
			return nil, place.err
		}
		r := signedRelease{suite: suite, place: place}
		raw, err := s.client.Document(ctx, place.at("dists/"+suite+"/InRelease"), "", func(raw []byte) (err error) {
			r.Release, err = s.checked(raw, suite)
			return err
		})
		if fetch.NotFound(err) {
			none := fault.New(fault.ErrSource, "the archive of source %q has no suite %q", s.name, suite)
			none.Cause = errNoSuite
			return nil, none.
				Advise("See that suite under [source.%s] is one of the archive's, and that the address is right: trammel sources\nA suite of another address, such as one with security fixes, is written so: also = [{ suite = %q, url = \"https://…\" }]", s.name, suite)
		}
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(raw)
		r.digest = "sha256:" + hex.EncodeToString(sum[:])
		out = append(out, r)
	}
	s.releases = out
	return out, nil
}

// trust names the keys in force: where they are, and how they look now.
func (s *debianArchive) trust(suite string) string {
	files, inline := s.machine.keyring(s.source, suite)
	id := canon.List{string(inline)}
	for _, f := range files {
		stamp := disk.StampOf(f)
		id = append(id, f, stamp.Size, stamp.Mod, stamp.Change)
	}
	return canon.Digest(id)
}

func (s *debianArchive) keys(suite string) (*debian.Keyring, error) {
	files, inline := s.machine.keyring(s.source, suite)
	if len(inline) > 0 {
		folder, err := os.MkdirTemp("", "trammel-keys-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(folder)
		files = []string{filepath.Join(folder, "keys.asc")}
		if err := os.WriteFile(files[0], inline, 0o600); err != nil {
			return nil, err
		}
	}
	keys, err := debian.ReadKeyring(files)
	if err != nil {
		return nil, fault.New(fault.ErrSource, "the keys for the source %q cannot be read: %v", s.name, err)
	}
	if len(keys.Keys) == 0 {
		return nil, fault.New(fault.ErrSource, "there are no keys to check the source %q with", s.name).
			Advise("Name a file with the archive's public keys as keyring under [source.%s] in %s,\nor install the keys that apt uses (the package debian-archive-keyring).", s.name, declare.FileName)
	}
	return keys, nil
}

// checked is a release that is signed, of the right suite and not stale. That a file of these bytes
// was signed by the keys in force is remembered, with what it says of indexes: reading keys and the
// file takes longer than all the rest of a look-up.
func (s *debianArchive) checked(raw []byte, suite string) (*debian.Release, error) {
	now := time.Now()
	sum := sha256.Sum256(raw)
	memo := "release " + hex.EncodeToString(sum[:])
	trust := s.trust(suite)
	var r *debian.Release
	var err error
	said, known := strings.CutPrefix(s.client.NoteOf(memo), trust+"\n")
	if !known || json.Unmarshal([]byte(said), &r) != nil {
		keys, keyErr := s.keys(suite)
		if keyErr != nil {
			return nil, keyErr
		}
		if r, err = debian.ReadRelease(raw, keys, now); err == nil {
			r = r.Indexes()
			if said, err := json.Marshal(r); err == nil {
				s.client.KeepNote(memo, trust+"\n"+string(said))
			}
		}
	}
	if err != nil {
		return nil, fault.New(fault.ErrSource, "the release of %q from the source %q is not to be trusted: %v", suite, s.name, err).
			Advise("Nothing of it was used. If the archive has new keys, bring this machine's up to date\n(the package debian-archive-keyring), or name them as keyring under [source.%s].", s.name)
	}
	if !r.Is(suite) {
		return nil, fault.New(fault.ErrSource, "the source %q gives the release of %q where %q was asked for", s.name, r.Codename, suite)
	}
	if !s.d.State.IsZero() {
		now = s.d.State // what was in force then
	}
	if !r.ValidUntil.IsZero() && now.After(r.ValidUntil) && !s.d.Expired {
		return nil, fault.New(fault.ErrSource, "the release of %q from the source %q was valid until %s", suite, s.name, r.ValidUntil.Format(time.DateOnly)).
			Advise("A mirror that stands still may hide mended packages. If that is wanted, write expired = true under [source.%s].", s.name)
	}
	return r, nil
}

// Read says what the lock keeps of the releases.
func (s *debianArchive) Read(ctx context.Context) (suites, index []string, dates []time.Time, err error) {
	releases, err := s.read(ctx)
	for _, r := range releases {
		index, dates = append(index, r.digest), append(dates, r.Date)
	}
	return s.d.Lines(), index, dates, err
}

// index opens the compact indexes of a platform, making those that are not there.
func (s *debianArchive) index(ctx context.Context, p platform.Platform) (debian.Indexes, error) {
	arch := debian.Arch(p.Arch)
	if p.OS != "linux" || arch == "" {
		return nil, noPart("the archive", s.name, p)
	}
	releases, err := s.read(ctx)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if list, ok := s.indexes[arch]; ok || s.failed[arch] != nil {
		return list, s.failed[arch]
	}
	var list debian.Indexes
	for _, r := range releases {
		for _, component := range s.d.Components {
			x, err := s.compact(ctx, r, component, arch)
			if err != nil {
				s.failed[arch] = err
				return nil, err
			}
			list = append(list, x)
		}
	}
	s.indexes[arch] = list
	return list, nil
}

// decoders are the compressions of Packages, the cheapest to read first.
var decoders = []struct {
	suffix string
	open   func(io.Reader) (io.Reader, error)
}{
	{".zst", func(r io.Reader) (io.Reader, error) { return zstd.NewReader(r) }},
	{".gz", func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) }},
	{".xz", func(r io.Reader) (io.Reader, error) { return xz.NewReader(r, xz.DefaultDictMax) }},
	{"", func(r io.Reader) (io.Reader, error) { return r, nil }},
}

// usedWithin is how exactly the time of an index says when it was used last.
const usedWithin = 24 * time.Hour

// compact opens the compact index of one Packages file. It is named by the digest
// that the release states for the plain file, so it is made once for a release.
func (s *debianArchive) compact(ctx context.Context, r signedRelease, component, arch string) (*debian.Index, error) {
	path := component + "/binary-" + arch + "/Packages"
	plain, ok := r.Files[path]
	if !ok {
		return nil, fault.New(fault.ErrSource, "the suite %q of source %q has no component %q for %s", r.suite, s.name, component, arch)
	}
	file := filepath.Join(s.client.Cache(), "debian-"+plain.SHA256+".index")
	if info, err := os.Stat(file); err == nil {
		if x, err := debian.OpenIndex(file); err == nil {
			if now := time.Now(); now.Sub(info.ModTime()).Abs() > usedWithin { // a sweep frees what was not used for long
				_ = os.Chtimes(file, now, now)
			}
			return x, nil
		}
	}
	// Another process may be making it.
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, err
	}
	unlock, err := disk.Lock(ctx, file+".lock")
	if err != nil {
		return nil, err
	}
	defer unlock()
	if x, err := debian.OpenIndex(file); err == nil {
		return x, nil
	}
	for _, d := range decoders {
		packed, ok := r.Files[path+d.suffix]
		if !ok {
			continue
		}
		below := path + d.suffix
		if r.ByHash {
			below = filepath.Dir(path) + "/by-hash/SHA256/" + packed.SHA256
		}
		archive, err := s.client.Archive(ctx, s.client.Cache(), fetch.Download{
			Name: "the index of " + r.suite + " " + component, From: r.place.at("dists/" + r.suite + "/" + below), Size: packed.Size, Digest: fetch.Digest("sha256:" + packed.SHA256), Said: "its signed release",
		})
		if fetch.NotFound(err) { // a mirror need not have every compression
			continue
		}
		if err != nil {
			return nil, err
		}
		defer fetch.Forget(archive)
		done := event.Task(ctx, "read the index of "+r.suite+" "+component)
		err = writeCompact(file, archive, d.open, plain)
		done("", err)
		if disk.Full(err) {
			return nil, fault.New(fault.ErrFailed, "there is no room for the index of %s %s: the disk is full", r.suite, component).
				Advise("Nothing of it was kept. Free some space and run the same command again.")
		}
		if err != nil {
			return nil, fault.New(fault.ErrSource, "the index of %s %s from the source %q cannot be read: %v", r.suite, component, s.name, err)
		}
		return debian.OpenIndex(file)
	}
	return nil, fault.New(fault.ErrSource, "the source %q has no index of %s %s that can be read", s.name, r.suite, component)
}

// writeCompact turns a packed Packages file into a compact index, once the plain
// file has proved to be the one that the release vouches for.
func writeCompact(file, archive string, open func(io.Reader) (io.Reader, error), want debian.File) error {
	f, err := os.Open(archive)
	if err != nil {
		return err
	}
	defer f.Close()
	unpacked, err := open(f)
	if err != nil {
		return err
	}
	sum := sha256.New()
	counted := &counter{r: io.TeeReader(io.LimitReader(unpacked, want.Size+1), sum)}
	out, err := disk.Create(file)
	if err != nil {
		return err
	}
	defer out.Drop()
	compact := debian.NewIndexWriter(out)
	if err := debian.ParsePackages(counted, compact.Add); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); counted.n != want.Size || got != want.SHA256 {
		return errors.New("it is not the one that the signed release names")
	}
	if err := compact.Finish(); err != nil {
		return err
	}
	return out.Commit(0o600)
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

// candidates are the packages whose upstream version is a version of the tool: of
// one name, or of all names that a pattern such as postgresql-@{major} gives.
func candidates(list debian.Indexes, from card.From) ([]*debian.Package, error) {
	prefix, rest, pattern := strings.Cut(from.Versioned, "@{")
	var out []*debian.Package
	for _, x := range list {
		if !pattern {
			named, err := x.Named(from.Versioned)
			if err != nil {
				return nil, err
			}
			out = append(out, named...)
			continue
		}
		found, err := x.Starting(prefix)
		if err != nil {
			return nil, err
		}
		which, after, _ := strings.Cut(rest, "}")
		number := `\d+`
		if which == "minor" {
			number = `\d+\.\d+`
		}
		name := regexp.MustCompile("^" + regexp.QuoteMeta(prefix) + "(" + number + ")" + regexp.QuoteMeta(after) + "$")
		for _, p := range found {
			m := name.FindStringSubmatch(p.Name)
			if m == nil {
				continue
			}
			// postgresql-17 counts as the tool only at a version 17.
			v := debian.Upstream(p.Version)
			if which == "minor" && version.Minor(v) == m[1] || which == "major" && version.Major(v) == m[1] {
				out = append(out, p)
			}
		}
	}
	return out, nil
}

func (s *debianArchive) Releases(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error) {
	count := map[string]int{}
	for _, p := range on {
		list, err := s.index(ctx, p)
		if err != nil {
			return nil, err
		}
		found, err := candidates(list, from)
		if err != nil {
			return nil, err
		}
		here := map[string]bool{}
		for _, p := range found {
			if v := debian.Upstream(p.Version); !here[v] {
				here[v] = true
				count[v]++
			}
		}
	}
	// A release of the archive dates what it holds.
	_, _, dates, err := s.Read(ctx)
	if err != nil {
		return nil, err
	}
	var at time.Time
	if base, _ := lists(s.d.Snapshots); base == "" { // which know better, see Published
		for _, d := range dates {
			if d.After(at) {
				at = d
			}
		}
	}
	var out []Release
	for v, n := range count {
		if n == len(on) {
			out = append(out, Release{Version: v, Published: at.UTC()})
		}
	}
	return sortReleases(version.Dotted, out), nil
}

// Parts says which packages the tool wants; what they need is the root's business.
func (s *debianArchive) Parts(ctx context.Context, from card.From, v string, p platform.Platform, _ time.Time) (map[string]lock.Part, time.Time, error) {
	list, err := s.index(ctx, p)
	if err != nil {
		return nil, time.Time{}, err
	}
	found, err := candidates(list, from)
	if err != nil {
		return nil, time.Time{}, err
	}
	var best *debian.Package
	for _, q := range found {
		if debian.Upstream(q.Version) == v && (best == nil || version.Debian.Compare(q.Version, best.Version) > 0) {
			best = q
		}
	}
	if best == nil {
		return nil, time.Time{}, noPart(from.Package, v, p)
	}
	part := lock.Part{Path: best.Name, Version: best.Version, Format: lock.RootFormat}
	fill := func(text string) string {
		if err == nil {
			text, err = from.Expand(text, v, p)
		}
		return text
	}
	for _, name := range from.Packages {
		part.Wants = append(part.Wants, fill(name))
	}
	for _, glob := range from.Commands {
		part.Commands = append(part.Commands, fill(glob))
	}
	for command, file := range from.Bin {
		if part.Bin == nil {
			part.Bin = map[string]string{}
		}
		part.Bin[fill(command)] = fill(file)
	}
	for to, file := range from.Files {
		if part.Files == nil {
			part.Files = map[string]string{}
		}
		part.Files[fill(to)] = fill(file)
	}
	return map[string]lock.Part{from.Package: part}, time.Time{}, err
}

// NoCommands tells whether a package brings no command at all, and what it rests on then. The
// package itself says so, so that it is fetched, as fitting would do anyway; nothing is said of
// one that cannot be had now.
func (s *debianArchive) NoCommands(ctx context.Context, name, v string, p platform.Platform) (none bool, rests []string) {
	list, err := s.index(ctx, p)
	if err != nil {
		return false, nil
	}
	found, err := candidates(list, card.From{Versioned: name})
	i := slices.IndexFunc(found, func(q *debian.Package) bool { return debian.Upstream(q.Version) == v })
	if err != nil || i < 0 || found[i].Size > mostAsked {
		return false, nil
	}
	q := found[i]
	from, err := s.Where(lock.Part{Path: q.Path})
	if err != nil {
		return false, nil
	}
	for _, at := range from {
		archive, err := s.client.Archive(event.With(ctx, func(event.Event) {}), s.machine.Archives, fetch.Download{Name: q.Name, From: at, Size: q.Size, Digest: fetch.Digest("sha256:" + q.SHA256)})
		if err != nil {
			continue
		}
		has, err := unpack.List(archive)
		if err != nil {
			return false, nil
		}
		for _, file := range append(has.Files, system.AlternativesOf(has.Postinst)...) {
			if slices.Contains([]string{"usr/bin", "usr/sbin", "usr/games"}, path.Dir(file)) {
				return false, nil
			}
		}
		groups, _ := debian.ParseRelations(q.Depends, debian.Arch(p.Arch))
		for _, group := range groups {
			rests = append(rests, group[0].Name)
		}
		return true, rests
	}
	return false, nil
}

// mostAsked is how large a package may be to be fetched for what it brings, in bytes.
const mostAsked = 64 << 20

// Root resolves the root of a platform.
func (s *debianArchive) Root(ctx context.Context, wants []debian.Wish, p platform.Platform, kept []lock.Package) (lock.Root, error) {
	list, err := s.index(ctx, p)
	if err != nil {
		return lock.Root{}, err
	}
	var stay []*debian.Package
	for _, k := range kept {
		for _, x := range list {
			named, err := x.Named(k.Name)
			if err != nil {
				return lock.Root{}, err
			}
			if i := slices.IndexFunc(named, func(q *debian.Package) bool { return q.SHA256 == k.SHA256 }); i >= 0 {
				stay = append(stay, named[i])
				break
			}
		}
	}
	closure, err := list.Resolve(wants, debian.Arch(p.Arch), stay)
	var unsatisfied *debian.Unsatisfied
	var clash *debian.Clash
	switch {
	case errors.As(err, &unsatisfied):
		return lock.Root{}, fault.New(fault.ErrUsage, "the root of source %q for %s cannot be resolved: %v", s.name, p, err).
			Advise("If the archive has moved on since it was locked, renew what comes from it: trammel lock --renew TOOL")
	case errors.As(err, &clash):
		return lock.Root{}, fault.New(fault.ErrUsage, "the root of source %q for %s cannot be: %v", s.name, p, err).
			Advise("Have one of the two from another source: each suite has a root of its own.")
	case err != nil:
		return lock.Root{}, err
	}
	root := lock.Root{Docs: s.d.Docs}
	for _, r := range s.releases {
		root.Version = max(root.Version, r.Date.Format(time.DateOnly))
	}
	for _, q := range closure.Packages {
		root.Packages = append(root.Packages, lock.Package{Name: q.Name, Version: q.Version, Path: q.Path, Size: q.Size, SHA256: q.SHA256}.String())
	}
	return root, nil
}

func (s *debianArchive) Where(p lock.Part) ([]fetch.Address, error) {
	if strings.Contains(p.Path, "..") || strings.HasPrefix(p.Path, "/") {
		return nil, fmt.Errorf("the lock's path %q leaves the source", p.Path)
	}
	// A path does not say of which of the archives it is; its digest does.
	var out []fetch.Address
	for _, place := range slices.Concat(s.places, s.since) {
		if at := place.at(p.Path); place.err == nil && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out, nil
}
