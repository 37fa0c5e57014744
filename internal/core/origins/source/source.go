// Package source reads package repositories over their open protocols: one file
// a kind.
//
// A kind answers three questions: which versions of a tool are there for these
// platforms, which parts make up one version on one platform, and where a locked
// part can be had now. No address stands in this package: they come from the
// declaration, the user's sources.toml or the machine's own settings.
package source

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"time"

	"golang.org/x/mod/module"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Release is a version that a source has.
type Release struct {
	Version   string
	Published time.Time // zero where the source has no date
}

// Source is one package repository, opened.
type Source interface {
	// Releases lists the versions that are there for all of the platforms.
	Releases(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error)
	// Parts says what makes up one version on one platform, by part name. Of parts
	// with versions of their own nothing published after asOf counts, unless that
	// is zero. An error for which fetch.NotFound holds means that there is no such
	// version.
	Parts(ctx context.Context, from card.From, v string, p platform.Platform, asOf time.Time) (map[string]lock.Part, time.Time, error)
	// Where says where the archive of a locked part can be had, in the order to try.
	Where(p lock.Part) ([]fetch.Address, error)
	// Probe asks for something small, to see whether the source answers.
	Probe(ctx context.Context) error
}

// Dater is a source whose lists have no dates, but which knows the date of a
// version that it is asked for.
type Dater interface {
	// Published is when a version came out; zero when that is not known.
	Published(ctx context.Context, from card.From, v string, p platform.Platform) (time.Time, error)
}

// Rooter is a source whose tools share one root.
type Rooter interface {
	// Root resolves what the wanted packages need together, on one platform. kept
	// are packages that are locked and stay as they are where they can.
	Root(ctx context.Context, wants []debian.Wish, p platform.Platform, kept []lock.Package) (lock.Root, error)
	// Read says which suites were read, and the digests and dates of their signed releases.
	Read(ctx context.Context) (suites, index []string, dates []time.Time, err error)
}

// Address is where a source is and who said so.
type Address struct {
	URL    string
	Origin string // "declaration", "user" or "machine": what the lock keeps
	Detail string // for people: "GOPROXY in the environment"

	Checkout bool // a file of the checkout says so: nothing of the person's own goes there unasked
}

// kinds is the registry of source kinds: one line each.
var kinds = map[string]struct {
	scheme version.Scheme
	find   func(m *Machine, d declare.Source) (Address, bool)                    // the machine's own settings
	open   func(a Address, d declare.Source, m *Machine, c *fetch.Client) Source // the source itself
	hint   string                                                                // where its ecosystem keeps the address
}{
	"npm":    {version.Semver, findNPM, openNPM, "the npm setting registry (an .npmrc, or npm_config_registry)"},
	"gomod":  {version.Go, findGomod, openGomod, "GOPROXY (the environment, or: go env -w)"},
	"debian": {version.Dotted, findDebian, openDebian, "apt's settings (/etc/apt/sources.list and sources.list.d)"},
	"wheel":  {version.PEP440, findWheel, openWheel, "pip's settings (PIP_INDEX_URL, or index-url in pip.conf)"},
	"r":      {version.Dotted, findR, openR, "R's settings (options(repos = …) in an Rprofile)"},
	"listing": {version.Dotted, func(_ *Machine, d declare.Source) (Address, bool) {
		return Address{URL: d.Listing.Index, Detail: declare.FileName + " [source." + d.Name + "]", Checkout: true}, true
	}, openListing, "index in the declaration"},
	"catalog": {version.Dotted, func(*Machine, declare.Source) (Address, bool) { return Address{}, false }, openCatalog, "nothing but the declaration"},
}

// Scheme is how versions of a kind of source are ordered, unless a card says otherwise.
func Scheme(kind string) version.Scheme { return kinds[kind].scheme }

// CanName tells whether a kind of source can have a package of a name. What cannot be one is offered to
// nobody: it comes from a registry's answer and goes into command lines.
func CanName(kind, name string) bool {
	of := func(letters string) bool {
		return name != "" && len(name) <= 214 && strings.Trim(name, letters) == ""
	}
	const lower, digits = "abcdefghijklmnopqrstuvwxyz", "0123456789"
	upper := strings.ToUpper(lower)
	switch kind {
	case "npm": // docs of the registry, "package-name-guidelines", with what older packages have
		scope, rest, scoped := strings.Cut(name, "/")
		return of(lower+upper+digits+"@/._-~") && (!scoped && name[0] != '@' || scoped && len(scope) > 1 && scope[0] == '@' && rest != "" && !strings.ContainsAny(rest+scope[1:], "/@")) && name[0] != '.' && name[0] != '-'
	case "gomod":
		return module.CheckPath(name) == nil
	case "debian": // Debian Policy, section 5.6.1
		return of(lower+digits+"+.-") && len(name) > 1 && strings.ContainsAny(name[:1], lower+digits)
	case "wheel":
		return python.ValidName(name)
	case "r": // Writing R Extensions, section 1.1.1
		return of(lower+upper+digits+".") && strings.ContainsAny(name[:1], lower+upper)
	}
	return of(lower+upper+digits+"_.+/@-") && name[0] != '-'
}

// Implied is the source that needs no table in the declaration: the kind's name
// is the source's name.
func Implied(kind string) declare.Source { return declare.Source{Name: kind, Kind: kind} }

// Locate finds where a source is, in the order: the declaration, the user's
// sources.toml, the ecosystem's own settings on this machine.
func Locate(d declare.Source, m *Machine) (Address, error) {
	k, ok := kinds[d.Kind]
	if !ok {
		return Address{}, fault.New(fault.ErrUsage, "source %q has the kind %q, which this program does not know", d.Name, d.Kind)
	}
	if d.URL != "" {
		return Address{d.URL, "declaration", declare.FileName + " [source." + d.Name + "]", true}, nil
	}
	user, err := m.userSources()
	if err != nil {
		return Address{}, err
	}
	if own := user[d.Name]; own.url != "" {
		return Address{own.url, "user", own.file, false}, nil
	}
	if a, ok := k.find(m, d); ok {
		a.Origin = "machine"
		return a, nil
	}
	return Address{}, fault.New(fault.ErrSource, "there is no address for the source %q (%s)", d.Name, d.Kind).
		Advise("An address may be written in %s as url under [source.%s],\nin %s,\nor in %s.", declare.FileName, d.Name, m.userSourcesPath(), k.hint)
}

// Open finds and opens a source.
func Open(d declare.Source, m *Machine, c *fetch.Client) (Source, Address, error) {
	a, err := Locate(d, m)
	if err != nil {
		return nil, a, err
	}
	if err := checkURL(d, a); err != nil {
		return nil, a, err
	}
	return kinds[d.Kind].open(a, d, m, c), a, nil
}

func checkURL(d declare.Source, a Address) error {
	if d.Kind == "catalog" {
		return nil
	}
	for _, one := range strings.FieldsFunc(a.URL, func(r rune) bool { return r == ',' || r == '|' }) {
		if one != "direct" && one != "off" && !strings.HasPrefix(one, "http://") && !strings.HasPrefix(one, "https://") {
			return fault.New(fault.ErrUsage, "the address of source %q is %q, which is not http or https (from %s)", d.Name, fetch.Redact(one), a.Detail)
		}
	}
	return nil
}

// noPart says that a version lacks a part, in a way that fetch.NotFound sees.
func noPart(what, version_ string, p platform.Platform) error {
	return fmt.Errorf("%s %s is not there for %s: %w", what, version_, p, &fetch.StatusError{URL: what, Status: 404})
}

// sortReleases puts the newest first.
func sortReleases(s version.Scheme, list []Release) []Release {
	sort.SliceStable(list, func(i, j int) bool { return s.Compare(list[i].Version, list[j].Version) > 0 })
	return list
}
