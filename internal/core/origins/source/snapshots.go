package source

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/debian"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/card"
)

// Historian is a source that has earlier states of itself, and lists of what was in them.
type Historian interface {
	// Earlier lists the versions of a tool that any state had for all of the platforms and the
	// source does not have now, newest first. Which of them a suite had, StateWith finds out.
	Earlier(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error)
	// StateWith finds a moment, no later than bound unless that is zero, whose state has a version
	// for all of the platforms. An error for which fetch.NotFound holds means that none has.
	StateWith(ctx context.Context, from card.From, v string, on []platform.Platform, bound time.Time) (time.Time, error)
	// HasAt tells whether the state of a moment has a version for all of the platforms.
	HasAt(ctx context.Context, from card.From, v string, on []platform.Platform, at time.Time) (bool, error)
}

// lists is where an archive of snapshots says in JSON what it has had, and its name for the
// archive that this is of: such archives keep states below archive/NAME/STAMP/ and lists below
// mr/. Nothing, where the address has another form.
func lists(snapshots string) (base, archive string) {
	before, rest, ok := strings.Cut(snapshots, "/archive/")
	if archive, _, _ = strings.Cut(rest, "/"); !ok || archive == "" || strings.Contains(archive, "@{") {
		return "", ""
	}
	return before + "/mr/", archive
}

// listed reads one of the lists.
func (s *debianArchive) listed(ctx context.Context, path string, into any) error {
	base, _ := lists(s.d.Snapshots)
	at := base + path
	address := fetch.Address{URL: at, Authorization: s.machine.authorization(Address{URL: at, Checkout: true}, at)}
	_, err := s.client.Document(ctx, address, "application/json", func(raw []byte) error {
		if err := json.Unmarshal(raw, into); err != nil {
			return fault.New(fault.ErrSource, "the lists of source %q cannot be read: %s is not as expected: %v", s.name, path, err)
		}
		return nil
	})
	return err
}

// once is a package of one name at one version, of any state.
type once struct {
	name, version string // Debian version
	numbered      string // what a pattern such as postgresql-@{major} was filled with
}

// names are the packages that a card's pattern may mean, by the sources that the lists have.
func (s *debianArchive) names(ctx context.Context, pattern string) ([]once, error) {
	prefix, rest, patterned := strings.Cut(pattern, "@{")
	if !patterned {
		return []once{{name: pattern}}, nil
	}
	which, after, _ := strings.Cut(rest, "}")
	number := `\d+`
	if which == "minor" {
		number = `\d+\.\d+`
	}
	var all struct {
		Result []struct {
			Package string `json:"package"`
		} `json:"result"`
	}
	if err := s.listed(ctx, "package/", &all); err != nil {
		return nil, err
	}
	// A package postgresql-client-17 is of the source postgresql-17, and php8.4-cli of php8.4.
	form := regexp.MustCompile("^" + regexp.QuoteMeta(strings.TrimSuffix(prefix, "-")) + "-?(" + number + ")$")
	var out []once
	for _, x := range all.Result {
		if m := form.FindStringSubmatch(x.Package); m != nil {
			out = append(out, once{name: prefix + m[1] + after, numbered: m[1]})
		}
	}
	return out, nil
}

// everything is what any state had of a tool.
func (s *debianArchive) everything(ctx context.Context, from card.From) ([]once, error) {
	s.mu.Lock()
	had, known := s.history[from.Versioned]
	s.mu.Unlock()
	if known {
		return had, nil
	}
	names, err := s.names(ctx, from.Versioned)
	if err != nil {
		return nil, err
	}
	found := make([][]once, len(names))
	errs := make([]error, len(names))
	var wait sync.WaitGroup
	for i, n := range names {
		wait.Go(func() {
			var list struct {
				Result []struct {
					Version string `json:"binary_version"`
				} `json:"result"`
			}
			if errs[i] = s.listed(ctx, "binary/"+url.PathEscape(n.name)+"/", &list); fetch.NotFound(errs[i]) {
				errs[i] = nil
			}
			for _, x := range list.Result {
				v := debian.Upstream(x.Version)
				if n.numbered == "" || version.Major(v) == n.numbered || version.Minor(v) == n.numbered {
					found[i] = append(found[i], once{n.name, x.Version, n.numbered})
				}
			}
		})
	}
	wait.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	all := slices.Concat(found...)
	s.mu.Lock()
	s.history[from.Versioned] = all
	s.mu.Unlock()
	return all, nil
}

// Earlier lists what any state had and the source does not have now. What is newer than all
// that the source has is of other suites, and not listed.
func (s *debianArchive) Earlier(ctx context.Context, from card.From, on []platform.Platform) ([]Release, error) {
	if base, _ := lists(s.d.Snapshots); base == "" {
		return nil, nil
	}
	now, err := s.Releases(ctx, from, on)
	if err != nil {
		return nil, err
	}
	all, err := s.everything(ctx, from)
	if err != nil {
		return nil, err
	}
	var out []Release
	for _, x := range all {
		v := debian.Upstream(x.version)
		if same := func(r Release) bool { return r.Version == v }; slices.ContainsFunc(now, same) || slices.ContainsFunc(out, same) {
			continue
		}
		if len(now) == 0 || version.Dotted.Compare(v, now[0].Version) < 0 {
			out = append(out, Release{Version: v})
		}
	}
	return sortReleases(version.Dotted, out), nil
}

// Published is when an archive of snapshots saw a version first.
func (s *debianArchive) Published(ctx context.Context, from card.From, v string, p platform.Platform) (time.Time, error) {
	if base, _ := lists(s.d.Snapshots); base == "" {
		return time.Time{}, nil
	}
	all, err := s.everything(ctx, from)
	if err != nil {
		return time.Time{}, err
	}
	var first time.Time
	for _, x := range all {
		if debian.Upstream(x.version) != v {
			continue
		}
		at, err := s.firstSeen(ctx, x, p)
		if err != nil && !fetch.NotFound(err) {
			return time.Time{}, err
		}
		if !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	return first, nil
}

// firstSeen is when a package was first in a state of this archive; zero when it never was.
func (s *debianArchive) firstSeen(ctx context.Context, x once, p platform.Platform) (first time.Time, err error) {
	var files struct {
		Info map[string][]struct {
			Archive string `json:"archive_name"`
			First   string `json:"first_seen"`
		} `json:"fileinfo"`
		Result []struct {
			Arch string `json:"architecture"`
			Hash string `json:"hash"`
		} `json:"result"`
	}
	if err := s.listed(ctx, "binary/"+url.PathEscape(x.name)+"/"+url.PathEscape(x.version)+"/binfiles?fileinfo=1", &files); err != nil {
		return first, err
	}
	_, archive := lists(s.d.Snapshots)
	for _, r := range files.Result {
		if r.Arch != "all" && r.Arch != debian.Arch(p.Arch) {
			continue
		}
		for _, info := range files.Info[r.Hash] {
			if at, err := time.Parse(stampForm, info.First); err == nil && info.Archive == archive && (first.IsZero() || at.Before(first)) {
				first = at
			}
		}
	}
	return first, nil
}

// stateAt opens the state of a moment.
func (s *debianArchive) stateAt(at time.Time) *debianArchive {
	d := s.source
	d.Debian.State = at
	return openDebian(Address{}, d, s.machine, s.client).(*debianArchive)
}

// HasAt tells whether the state of a moment has a version for all of the platforms.
func (s *debianArchive) HasAt(ctx context.Context, from card.From, v string, on []platform.Platform, at time.Time) (bool, error) {
	is, err := s.compareAt(ctx, from, v, on, at)
	return is == 0, err
}

// compareAt compares what a state has of a tool with a version: 0 when it has that for all
// platforms, -1 when it has only older ones, 1 when it has newer ones or none at all.
func (s *debianArchive) compareAt(ctx context.Context, from card.From, v string, on []platform.Platform, at time.Time) (int, error) {
	has, err := s.stateAt(at).Releases(ctx, from, on)
	if err != nil {
		return 0, err
	}
	older := len(has) > 0
	for _, r := range has {
		if r.Version == v {
			return 0, nil
		}
		// Of a numbered package, another number says nothing.
		if sameLine := version.Major(r.Version) == version.Major(v); strings.Contains(from.Versioned, "@{") && !sameLine {
			continue
		}
		older = older && version.Dotted.Compare(r.Version, v) < 0
	}
	if older {
		return -1, nil
	}
	return 1, nil
}

// reach is how long after its first day a version may come into a suite: those that are tested
// first get it days later, those that are stable with their next point release.
var reach = []int{0, 1, 3, 6, 11, 21, 45, 90}

// mostLooks bounds how many states are looked at for one version: each costs its index.
const mostLooks = 16

// StateWith finds a state that has a version. A suite goes from older versions to newer ones,
// so that a state which has an older one is before the wanted and one with a newer one after it.
func (s *debianArchive) StateWith(ctx context.Context, from card.From, v string, on []platform.Platform, bound time.Time) (time.Time, error) {
	missing := noPart("a state of "+s.name+" with "+from.Versioned, v, on[0])
	first, err := s.Published(ctx, from, v, on[0])
	if err != nil {
		return first, err
	}
	last := time.Now()
	if !bound.IsZero() && bound.Before(last) {
		last = bound
	}
	if first.IsZero() || first.After(last) {
		return time.Time{}, missing
	}
	low, high, looks := first, last, 0
	look := func(at time.Time) (int, error) {
		looks++
		is, err := s.compareAt(ctx, from, v, on, at)
		if errors.Is(err, errNoSuite) { // not yet
			return 1, nil
		}
		return is, err
	}
	for _, days := range reach {
		at := first.AddDate(0, 0, days)
		if at.After(last) {
			break
		}
		switch is, err := look(at); {
		case err != nil:
			return time.Time{}, err
		case is == 0:
			return at, nil
		case is < 0:
			low = at
		}
	}
	for ; looks < mostLooks && high.Sub(low) > 6*time.Hour; looks++ {
		at := low.Add(high.Sub(low) / 2).Truncate(time.Second)
		switch is, err := look(at); {
		case err != nil:
			return time.Time{}, err
		case is == 0:
			return at, nil
		case is < 0:
			low = at
		default:
			high = at
		}
	}
	return time.Time{}, missing
}
