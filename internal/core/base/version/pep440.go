package version

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// pep440 is a Python version taken apart (PEP 440, "Version scheme").
type pep440 struct {
	epoch   string
	release []string
	pre     string // "a", "b", "rc" or ""
	preN    string
	post    string // "" none
	hasPost bool
	dev     string
	hasDev  bool
	local   []string
}

// pep440Form is the regular expression of PEP 440, appendix B.
var pep440Form = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^v?(?:(\d+)!)?(\d+(?:\.\d+)*)` +
		`(?:[-_.]?(alpha|a|beta|b|preview|pre|c|rc)[-_.]?(\d*))?` +
		`(?:-(\d+)|([-_.]?(?:post|rev|r)[-_.]?)(\d*))?` +
		`(?:([-_.]?dev[-_.]?)(\d*))?` +
		`(?:\+([a-z0-9]+(?:[-_.][a-z0-9]+)*))?$`)
})

// readPEP440 are versions that were read, by their text: whoever chooses compares the same few again
// and again. What is in them is not changed.
var (
	readPEP440 sync.Map
	manyPEP440 atomic.Int64
)

// mostPEP440 is how many of them are kept.
const mostPEP440 = 1 << 17

func parsePEP440(v string) (p pep440, ok bool) {
	type read struct {
		pep440
		ok bool
	}
	if x, known := readPEP440.Load(v); known {
		return x.(read).pep440, x.(read).ok
	}
	p, ok = matchPEP440(v)
	if manyPEP440.Add(1) < mostPEP440 {
		readPEP440.Store(v, read{p, ok})
	}
	return p, ok
}

func matchPEP440(v string) (p pep440, ok bool) {
	m := pep440Form().FindStringSubmatch(strings.ToLower(strings.TrimSpace(v)))
	if m == nil {
		return p, false
	}
	p.epoch = m[1]
	p.release = strings.Split(m[2], ".")
	if m[3] != "" {
		p.pre = map[string]string{"alpha": "a", "beta": "b", "preview": "rc", "pre": "rc", "c": "rc"}[m[3]]
		if p.pre == "" {
			p.pre = m[3]
		}
		p.preN = m[4]
	}
	p.post, p.hasPost = m[5]+m[7], m[5] != "" || m[6] != ""
	p.dev, p.hasDev = m[9], m[8] != ""
	if m[10] != "" {
		p.local = strings.FieldsFunc(m[10], func(r rune) bool { return r == '-' || r == '_' || r == '.' })
	}
	return p, true
}

// comparePEP440 orders Python versions (PEP 440, "Summary of permitted suffixes
// and relative ordering"). Versions that do not parse come first, by their bytes.
func comparePEP440(a, b string) int {
	x, xok := parsePEP440(a)
	y, yok := parsePEP440(b)
	switch {
	case !xok && !yok:
		return strings.Compare(a, b)
	case !xok:
		return -1
	case !yok:
		return 1
	}
	if c := compareDigits(x.epoch, y.epoch); c != 0 {
		return c
	}
	if c := compareNumbers(x.release, y.release); c != 0 {
		return c
	}
	if c := comparePhase(x, y); c != 0 {
		return c
	}
	return slices.CompareFunc(x.local, y.local, func(p, q string) int {
		pn, qn := allDigits(p), allDigits(q)
		switch { // numbers come after words in a local version
		case pn && qn:
			return compareDigits(p, q)
		case pn:
			return 1
		case qn:
			return -1
		}
		return strings.Compare(p, q)
	})
}

// comparePhase orders what follows the release: a development release of the
// final one, pre-releases, the final one, post-releases; each may have
// development releases of its own before it.
func comparePhase(x, y pep440) int {
	phase := func(p pep440) int {
		switch {
		case p.pre == "" && !p.hasPost && p.hasDev:
			return 0
		case p.pre != "":
			return slices.Index([]string{"a", "b", "rc"}, p.pre) + 1
		}
		return 4
	}
	if c := cmp.Compare(phase(x), phase(y)); c != 0 {
		return c
	}
	if c := compareDigits(x.preN, y.preN); c != 0 {
		return c
	}
	if c := compareFlag(x.hasPost, y.hasPost); c != 0 {
		return c
	}
	if c := compareDigits(x.post, y.post); c != 0 {
		return c
	}
	if c := compareFlag(!x.hasDev, !y.hasDev); c != 0 {
		return c
	}
	return compareDigits(x.dev, y.dev)
}

func compareFlag(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}
