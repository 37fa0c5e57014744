package python

import (
	"fmt"
	"regexp"
	"strings"
	"sync"

	"app.example/trammel/internal/core/base/version"
)

// Specifiers are conditions on a version, all of which must hold (PEP 440, "Version
// specifiers"). None at all allows everything.
type Specifiers []Specifier

// Specifier is one condition.
type Specifier struct {
	Operator string // ~= == != <= >= < > ===
	Version  string // with .* behind it for a prefix
}

var specifierForm = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\s*(~=|===|==|!=|<=|>=|<|>)\s*(\S+)\s*$`)
})

// ParseSpecifiers reads conditions between commas.
func ParseSpecifiers(text string) (Specifiers, error) {
	var out Specifiers
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	for one := range strings.SplitSeq(text, ",") {
		if strings.TrimSpace(one) == "" {
			continue
		}
		m := specifierForm().FindStringSubmatch(one)
		if m == nil {
			return nil, fmt.Errorf("%q is no version specifier (PEP 440)", strings.TrimSpace(one))
		}
		s := Specifier{m[1], m[2]}
		if err := s.check(); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (s Specifier) check() error {
	if s.Operator == "===" {
		return nil
	}
	prefix, wild := strings.CutSuffix(s.Version, ".*")
	switch {
	case wild && s.Operator != "==" && s.Operator != "!=":
		return fmt.Errorf("%s%s: only == and != take a version that ends in .*", s.Operator, s.Version)
	case !version.PEP440.Valid(prefix):
		return fmt.Errorf("%q is no version (PEP 440)", s.Version)
	case s.Operator == "~=" && len(version.PythonRelease(s.Version)) < 2:
		return fmt.Errorf("~=%s: a compatible release has at least two numbers", s.Version)
	case strings.Contains(s.Version, "+") && s.Operator != "==" && s.Operator != "!=":
		return fmt.Errorf("%s%s: only == and != take a local version", s.Operator, s.Version)
	}
	return nil
}

func (s Specifier) String() string { return s.Operator + s.Version }

func (s Specifiers) String() string {
	var out []string
	for _, one := range s {
		out = append(out, one.String())
	}
	return strings.Join(out, ",")
}

// Prereleases tells whether the conditions name a pre-release, which allows them (PEP 440,
// "Handling of pre-releases").
func (s Specifiers) Prereleases() bool {
	for _, one := range s {
		if one.Operator != "!=" && version.PEP440.Prerelease(strings.TrimSuffix(one.Version, ".*")) {
			return true
		}
	}
	return false
}

// Allow tells whether a version meets all conditions. Pre-releases are not ruled out here:
// whether they count is decided over all versions that are there.
func (s Specifiers) Allow(v string) bool {
	for _, one := range s {
		if !one.allows(v) {
			return false
		}
	}
	return true
}

func (s Specifier) allows(v string) bool {
	if s.Operator == "===" { // "Arbitrary equality"
		return strings.EqualFold(v, s.Version)
	}
	if !version.PEP440.Valid(v) {
		return false
	}
	compare := version.PEP440.Compare
	public, _, _ := strings.Cut(v, "+")
	switch s.Operator {
	case "==", "!=":
		return s.matches(v) == (s.Operator == "==")
	case ">=":
		return compare(public, s.Version) >= 0
	case "<=":
		return compare(public, s.Version) <= 0
	case "<": // not a pre-release of the very version, unless that is one
		return compare(v, s.Version) < 0 &&
			(version.PEP440.Prerelease(s.Version) || !version.PEP440.Prerelease(v) || compare(version.PythonBase(v), version.PythonBase(s.Version)) != 0)
	case ">": // not a post-release or a local version of the very version
		if compare(v, s.Version) <= 0 {
			return false
		}
		same := compare(version.PythonBase(v), version.PythonBase(s.Version)) == 0
		if same && version.PythonPost(v) && !version.PythonPost(s.Version) {
			return false
		}
		return !(strings.Contains(v, "+") && compare(public, s.Version) == 0)
	case "~=": // >= V, == V without its last number .*
		release := version.PythonRelease(s.Version)
		prefix := strings.Join(release[:len(release)-1], ".") + ".*"
		if epoch := version.PythonEpoch(s.Version); epoch != "" {
			prefix = epoch + "!" + prefix
		}
		return compare(public, s.Version) >= 0 && Specifier{"==", prefix}.matches(v)
	}
	return false
}

// matches is version matching, with a prefix or without ("Version matching").
func (s Specifier) matches(v string) bool {
	public, _, _ := strings.Cut(v, "+")
	prefix, wild := strings.CutSuffix(s.Version, ".*")
	if !wild {
		if !strings.Contains(s.Version, "+") {
			return version.PEP440.Compare(public, s.Version) == 0
		}
		return version.PEP440.Compare(v, s.Version) == 0
	}
	if epochOf(v) != epochOf(prefix) {
		return false
	}
	// A prefix with a pre- or post-release in it stands for that one and its development
	// releases, which have the same beginning.
	have, want := version.PythonParts(public), version.PythonParts(prefix)
	release := len(version.PythonRelease(prefix))
	for len(version.PythonRelease(public)) < release { // 1.0 matches 1.0.0.*
		public = padded(public)
		have = version.PythonParts(public)
	}
	if len(want) > release { // more than numbers: the numbers must be as many
		for len(version.PythonRelease(prefix)) < len(version.PythonRelease(public)) {
			prefix = padded(prefix)
			want = version.PythonParts(prefix)
		}
	}
	if len(have) < len(want) {
		return false
	}
	for i := range want {
		if have[i] != want[i] {
			return false
		}
	}
	return true
}

func epochOf(v string) string {
	if e := strings.TrimLeft(version.PythonEpoch(v), "0"); e != "" {
		return e
	}
	return "0"
}

// padded puts one more .0 behind the numbers of a release.
func padded(v string) string {
	release := strings.Join(version.PythonRelease(v), ".")
	before, after, _ := strings.Cut(v, release)
	return before + release + ".0" + after
}
