// Package policy holds what an organisation allows on a machine or in a repository: which
// kinds of source and which hosts, which isolation, which versions, where secrets may come
// from, who may sign catalogs and reports.
//
// A policy is a file of its own, in TOML 1.0: policy.toml in a system folder, for the
// machine, and trammel-policy.toml in a project's folder or above it up to the top of its
// repository. All that are found hold together, so that one can only take away from what
// another allows. Judging is pure: from what was declared and locked to a list of breaches.
//
// Not promised: that a person who owns the machine is held to it. It is for people who want
// to do what was agreed, and for machines that an organisation sets up.
package policy

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/page"
	"app.example/trammel/internal/core/base/reading"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/declare"
)

// The names of a policy's file in a system folder, and in a repository.
const (
	SystemName     = "policy.toml"
	RepositoryName = "trammel-policy.toml"
)

// Policy is one file.
type Policy struct {
	Name    string // whose it is
	Contact string // who to ask
	File    string // absolute
	Digest  string // of its meaning, as "sha256:" and hex digits

	kinds, hosts     *list // of sources; nil: any
	checksums        *rule // listings state checksums, Go modules are checked against a database, no release is expired
	catalogs         *list // keys that sign catalogs; nil: none needs to be signed
	reports          *list // keys that sign reports; nil: none needs to be signed
	isolation        *list
	commands         *list // of the host, that may show
	secrets          *list // where they may come from
	scripts          *rule // packages' install scripts do not run
	commits          bool  // consent is to every tracked file
	versions, refuse []tool
}

// rule is one line of a policy.
type rule struct {
	key   string // "sources.kinds"
	place fault.Place
}

type list struct {
	rule
	values []string
}

func (l *list) has(value string) bool { return l == nil || slices.Contains(l.values, value) }

// tool is what a policy says of one tool: which versions it may have, or why it is refused.
type tool struct {
	rule
	name, why string
	ask       version.Ask
}

// List is every policy in force.
type List []Policy

// Files are where policies may stand for a project: system folders first, then the repository
// from its top down. project is "" outside of any.
func Files(r *reading.Reader, system []string, project string) []string {
	var out []string
	for _, dir := range system {
		out = append(out, filepath.Join(dir, SystemName))
	}
	if project == "" {
		return out
	}
	folders := []string{project}
	for d := project; ; d = filepath.Dir(d) {
		if ours(r, filepath.Join(d, ".git")) {
			break
		}
		if d == filepath.Dir(d) { // no repository: only the project's own
			folders = folders[:1]
			break
		}
		folders = append(folders, filepath.Dir(d))
	}
	slices.Reverse(folders)
	for _, d := range folders {
		out = append(out, filepath.Join(d, RepositoryName))
	}
	return out
}

// ours tells whether something is there and belongs to this user or to root: another user of the
// machine makes no folder above a project its repository.
func ours(r *reading.Reader, path string) bool {
	info, err := r.Lstat(path)
	if err != nil {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && (st.Uid == 0 || int(st.Uid) == os.Getuid())
}

// Read reads the policies that are there. One that cannot be read is an error, and never
// counts as none.
func Read(r *reading.Reader, files []string) (List, error) {
	var out List
	for _, file := range files {
		raw, err := r.ReadWithin(filepath.Dir(file), filepath.Base(file), disk.MostText)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid) {
			continue
		}
		if err != nil {
			return nil, fault.New(fault.ErrNotApproved, "the policy %s %s", file, disk.InWords(err)).Advise("What it allows is not known. Have it mended by whoever keeps it.")
		}
		p, err := Parse(file, raw)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// Levels, kinds and origins that a policy may name.
var (
	levels  = []string{string(declare.Open), string(declare.Clean), string(declare.Sealed)}
	origins = []string{"file", "env", "command"}
)

// Parse reads one policy.
// Errors: fault.Findings with each fault and its place.
func Parse(file string, raw []byte) (Policy, error) {
	p := page.Parse(file, raw)
	p.About = "a policy"
	out := Policy{File: file, Digest: canon.Digest(string(raw))}
	if len(p.Findings) > 0 {
		return out, p.Err()
	}
	if v := p.Root.Get("format"); v == nil || v.Whole != 1 {
		p.Fault(page.Span{}, "Write at the top: format = 1", "this program reads policies of format 1")
	}
	out.Name, out.Contact = p.Text(p.Root, "name"), p.Text(p.Root, "contact")
	if out.Name == "" {
		p.Fault(page.Span{}, "Write, for example: name = \"Heron Weir\"", "a policy has a name, so that people know whose it is")
	}
	at := func(t *page.Table, key string) rule {
		v := t.Get(key)
		return rule{strings.TrimPrefix(t.Name+"."+key, "."), p.Place(v.Span)}
	}
	texts := func(t *page.Table, key string, known ...string) *list {
		if t == nil || t.Get(key) == nil {
			return nil
		}
		values := p.Texts(t, key)
		for _, v := range t.Get(key).Items {
			if len(known) > 0 && v.Kind == page.String && !slices.Contains(known, v.Text) {
				p.Fault(v.Span, fault.DidYouMean(v.Text, known), "%q is none of %s", v.Text, strings.Join(known, ", "))
			}
		}
		return &list{at(t, key), values}
	}
	flag := func(t *page.Table, key string, when bool) *rule {
		if t == nil || t.Get(key) == nil || p.Flag(t, key) != when {
			return nil
		}
		r := at(t, key)
		return &r
	}
	table := func(name string, read func(t *page.Table)) {
		if t := p.Table(p.Root, name); t != nil {
			read(t)
			p.Close(t)
		}
	}
	table("sources", func(t *page.Table) {
		out.kinds, out.hosts = texts(t, "kinds", declare.SourceKinds...), texts(t, "hosts")
		out.checksums = flag(t, "checksums", true)
	})
	table("catalogs", func(t *page.Table) { out.catalogs = texts(t, "signers") })
	table("reports", func(t *page.Table) { out.reports = texts(t, "signers") })
	table("environment", func(t *page.Table) {
		out.isolation, out.commands = texts(t, "isolation", levels...), texts(t, "host")
	})
	table("consent", func(t *page.Table) { out.commits = p.Choice(t, "to", consentFiles, consentCommits) == consentCommits })
	table("secrets", func(t *page.Table) { out.secrets = texts(t, "from", origins...) })
	table("packages", func(t *page.Table) { out.scripts = flag(t, "install-scripts", false) })
	table("versions", func(t *page.Table) {
		for _, e := range p.Strings(p.Root, "versions") {
			ask, err := version.ParseAsk(e.Value.Text)
			if err != nil {
				p.Fault(e.Value.Span, "Write, for example: go = \">=1.24.5\"", "%v", err)
			}
			out.versions = append(out.versions, tool{at(t, e.Name), e.Name, "", ask})
		}
	})
	table("refused", func(t *page.Table) {
		for _, e := range p.Strings(p.Root, "refused") {
			out.refuse = append(out.refuse, tool{at(t, e.Name), e.Name, e.Value.Text, version.Ask{}})
		}
	})
	p.Close(p.Root)
	return out, p.Err()
}
