package source

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/theory/jsonpath"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Listing is any HTTP tree with an index of versions and archives whose names follow from
// them: how the makers of most tools publish these. What is where, the declaration says.
type Listing struct {
	declare.Listing
	name          string
	authorization func(address string) string
	archives      string
	keys          []string // that may sign
	project       string
	client        *fetch.Client
}

func openListing(a Address, d declare.Source, m *Machine, c *fetch.Client) Source {
	return &Listing{Listing: *d.Listing, name: d.Name, archives: m.Archives, keys: d.Keys, project: m.Project, client: c, authorization: func(address string) string { return m.authorization(a, address) }}
}

func (l *Listing) at(address string) fetch.Address {
	return fetch.Address{URL: address, Authorization: l.authorization(address)}
}

// Probe reads the index.
func (l *Listing) Probe(ctx context.Context) error {
	_, err := l.versions(ctx)
	return err
}

// versions are what the index names, each once, with one leading v dropped.
func (l *Listing) versions(ctx context.Context) (out []string, err error) {
	_, err = l.client.Document(ctx, l.at(l.Index), "", func(raw []byte) error {
		words, err := pick(raw, l.Versions)
		if err == nil && len(words) == 0 {
			err = fmt.Errorf("%q finds no version in it", l.Versions)
		}
		if err != nil {
			return fault.New(fault.ErrSource, "the index of the source %q (%s): %v", l.name, l.at(l.Index), err).
				Advise("Its form may have changed. Look at it, and at versions under [source.%s].", l.name)
		}
		seen := map[string]bool{}
		out = nil
		for _, w := range words {
			v := strings.TrimPrefix(w, "v")
			if version.Dotted.Valid(v) && !strings.ContainsAny(v, "/\\ \t\n") && !seen[v] {
				seen[v] = true
				out = append(out, v)
			}
		}
		if len(out) == 0 {
			return fault.New(fault.ErrSource, "what %q finds in the index of the source %q are no versions: %.60q", l.Versions, l.name, words[0])
		}
		return nil
	})
	return out, err
}

// pick finds texts in a document: by a JSONPath (RFC 9535), which may end in ~ for the names
// of what it finds, or by a regular expression, of which the first group counts.
func pick(raw []byte, expression string) ([]string, error) {
	if !strings.HasPrefix(expression, "$") {
		re, err := regexp.Compile(expression)
		if err != nil {
			return nil, err
		}
		var out []string
		for _, m := range re.FindAllStringSubmatch(string(raw), -1) {
			out = append(out, m[min(1, len(m)-1)])
		}
		return out, nil
	}
	var doc any
	if err := json.Unmarshal(raw, &doc); err != nil {
		return nil, fmt.Errorf("it is not JSON: %w", err)
	}
	names := false
	if expression, names = strings.CutSuffix(expression, "~"); names {
		expression = strings.TrimSuffix(expression, ".*")
	}
	p, err := jsonpath.Parse(expression)
	if err != nil {
		return nil, fmt.Errorf("%q is no JSONPath: %w", expression, err)
	}
	var out []string
	for _, node := range p.Select(doc) {
		switch x := node.(type) {
		case string:
			out = append(out, x)
		case map[string]any:
			if names {
				out = append(out, lock.Sorted(x)...)
			}
		case []any:
			for _, y := range x {
				if text, ok := y.(string); ok {
					out = append(out, text)
				}
			}
		}
	}
	return out, nil
}

// filled puts a version and a platform into a text.
func (l *Listing) filled(text, v string, p platform.Platform) string {
	word := func(table map[string]string, name string) string {
		if w := table[name]; w != "" {
			return w
		}
		return name
	}
	return strings.NewReplacer("@{version}", v, "@{major}", version.Major(v), "@{minor}", version.Minor(v), "@{os}", word(l.OS, p.OS), "@{arch}", word(l.Arch, p.Arch)).Replace(text)
}

// base is the part of the address of archives that is the same for all.
func (l *Listing) base() string {
	before, _, _ := strings.Cut(l.Archive, "@{")
	return before[:strings.LastIndexByte(before, '/')+1]
}

// Releases lists the versions of the index.
func (l *Listing) Releases(ctx context.Context, _ card.From, _ []platform.Platform) ([]Release, error) {
	list, err := l.versions(ctx)
	var out []Release
	for _, v := range list {
		out = append(out, Release{Version: v})
	}
	return sortReleases(version.Dotted, out), err
}

// Parts says where the archive of a version is, with the digest that the source states, or
// that of what came first where it states none.
func (l *Listing) Parts(ctx context.Context, from card.From, v string, p platform.Platform, _ time.Time) (map[string]lock.Part, time.Time, error) {
	list, err := l.versions(ctx)
	if err != nil {
		return nil, time.Time{}, err
	}
	known := false
	for _, one := range list {
		known = known || one == v
	}
	if !known {
		return nil, time.Time{}, noPart(l.name, v, p)
	}
	address := l.filled(l.Archive, v, p)
	file := path.Base(address)
	tool := from.Parts[0].Name
	part := lock.Part{Path: strings.TrimPrefix(address, l.base()), Version: v, Strip: l.Strip, Commands: l.Bin, Executable: l.Bin}
	if part.Format = l.Format; part.Format == "" {
		part.Format = formatOf(file)
	}
	if part.Format == "binary" || part.Format == "gz" {
		part.Format += ":" + tool
		part.Commands, part.Executable, part.Strip = nil, nil, 0
		part.Bin = map[string]string{tool: "bin/" + tool}
	}
	if l.Sums != "" {
		part.Digest, err = l.digest(ctx, v, p, file)
		return map[string]lock.Part{tool: part}, time.Time{}, err
	}
	note := "listing " + address
	if l.Signature != "" { // what was not signed before is not taken for signed
		note += " signed by " + strings.Join(l.keys, " ") + l.Keyring
	}
	if known := fetch.Digest(l.client.NoteOf(note)); known.Check() == nil {
		part.Digest = known
	} else {
		archive := ""
		if archive, part.Digest, part.Size, err = l.client.Seen(ctx, l.archives, l.at(address)); err != nil {
			return nil, time.Time{}, err
		}
		if err := l.signedArchive(ctx, archive, v, p, file); err != nil {
			return nil, time.Time{}, err
		}
		l.client.KeepNote(note, string(part.Digest))
	}
	event.Say(ctx, fmt.Sprintf("The source %s states no digest of %s; that of what came first is locked.", l.name, file))
	return map[string]lock.Part{tool: part}, time.Time{}, nil
}

// formatOf is the format that an archive's name says.
func formatOf(file string) string {
	for ending, format := range map[string]string{".tar.gz": "tar.gz", ".tgz": "tar.gz", ".tar.xz": "tar.xz", ".txz": "tar.xz", ".tar.zst": "tar.zst", ".tar.bz2": "tar.bz2", ".tbz": "tar.bz2", ".zip": "zip"} {
		if strings.HasSuffix(file, ending) {
			return format
		}
	}
	if strings.HasSuffix(file, ".gz") {
		return "gz"
	}
	return "binary"
}

// The forms of a file of checksums: GNU coreutils' ("HEX  NAME", or with a * before the
// name), BSD's ("SHA256 (NAME) = HEX"), and one digest by itself.
var (
	gnuSum    = lazy.Regexp(`^\\?([0-9a-fA-F]{64,128})\s+[*]?(?:\./)?(\S+)$`)
	bsdSum    = lazy.Regexp(`^SHA(?:2-)?(256|384|512)\s*\((?:\./)?([^)]+)\)\s*=\s*([0-9a-fA-F]+)$`)
	singleSum = lazy.Regexp(`^([0-9a-fA-F]{64,128})$`)
)

func sumOf(hex string) (fetch.Digest, bool) {
	algorithm := map[int]string{64: "sha256", 96: "sha384", 128: "sha512"}[len(hex)]
	d := fetch.Digest(algorithm + ":" + strings.ToLower(hex))
	return d, algorithm != "" && d.Check() == nil
}

// digest is what the source states of an archive.
func (l *Listing) digest(ctx context.Context, v string, p platform.Platform, file string) (found fetch.Digest, err error) {
	where := l.filled(l.Sums, v, p)
	if strings.HasPrefix(where, "$") { // in the index itself
		_, err = l.client.Document(ctx, l.at(l.Index), "", func(raw []byte) error {
			if err := l.signed(ctx, raw, v, p, "the index"); err != nil {
				return err
			}
			words, err := pick(raw, where)
			if err != nil {
				return fault.New(fault.ErrSource, "the index of the source %q: %v", l.name, err)
			}
			for _, w := range words {
				if d, ok := sumOf(strings.TrimPrefix(w, "sha256:")); ok {
					found = d
				}
			}
			return nil
		})
	} else {
		_, err = l.client.Document(ctx, l.at(where), "", func(raw []byte) error {
			if err := l.signed(ctx, raw, v, p, "the file of checksums"); err != nil {
				return err
			}
			found = sumIn(string(raw), file)
			return nil
		})
		if fetch.NotFound(err) {
			err = fault.New(fault.ErrSource, "the source %q has no file of checksums at %s", l.name, l.at(where)).Advise("Look at sums under [source.%s].", l.name)
		}
	}
	if err == nil && found == "" {
		err = fault.New(fault.ErrSource, "the source %q states no checksum of %s (in %s)", l.name, file, fetch.Redact(where)).
			Advise("Look at it, and at sums and archive under [source.%s].", l.name)
	}
	return found, err
}

// sumIn finds the checksum of a file in a text.
func sumIn(text, file string) fetch.Digest {
	var single fetch.Digest
	lines := bufio.NewScanner(strings.NewReader(text))
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if m := gnuSum().FindStringSubmatch(line); m != nil && path.Base(m[2]) == file {
			if d, ok := sumOf(m[1]); ok {
				return d
			}
		}
		if m := bsdSum().FindStringSubmatch(line); m != nil && path.Base(m[2]) == file {
			if d, ok := sumOf(m[3]); ok {
				return d
			}
		}
		if m := singleSum().FindStringSubmatch(line); m != nil && single == "" {
			single, _ = sumOf(m[1])
		}
	}
	return single
}

// Where is the archive of a locked part.
func (l *Listing) Where(p lock.Part) ([]fetch.Address, error) {
	if u, err := url.Parse(p.Path); err != nil || u.IsAbs() || strings.HasPrefix(p.Path, "/") || strings.Contains(p.Path, "..") {
		return nil, fmt.Errorf("the lock's path %q leaves the source", p.Path)
	}
	return []fetch.Address{l.at(l.base() + p.Path)}, nil
}
