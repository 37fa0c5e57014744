package python

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
)

// Target is what libraries are chosen for: an interpreter on a platform. Nothing of the
// machine that resolves plays a part in it.
type Target struct {
	Version  string // of CPython: "3.13.5"
	Platform platform.Platform
	Glibc    string // of the system that the interpreter runs on: "2.41"; "" where that is not known
}

// baseline is the C library that wheels may ask for where the interpreter's is not known:
// that of manylinux2014 (PEP 599).
const baseline = "2.17"

// oldestMac is the release of macOS that wheels may ask for: the machine's own is not in a
// lock.
var oldestMac = map[string]int{"amd64": 12, "arm64": 12}

// machine is the platform's machine as Python names it.
func (t Target) machine() string {
	if t.Platform.OS == "darwin" && t.Platform.Arch == "arm64" {
		return "arm64"
	}
	return map[string]string{"amd64": "x86_64", "arm64": "aarch64", "386": "i686", "arm": "armv7l", "ppc64le": "ppc64le", "s390x": "s390x", "riscv64": "riscv64"}[t.Platform.Arch]
}

// Environment are the values of markers (PEP 508, "Environment Markers").
func (t Target) Environment() map[string]string {
	system, sys := "Linux", "linux"
	if t.Platform.OS == "darwin" {
		system, sys = "Darwin", "darwin"
	}
	return map[string]string{
		"python_version": version.Minor(t.Version), "python_full_version": t.Version, "implementation_version": t.Version,
		"implementation_name": "cpython", "platform_python_implementation": "CPython",
		"os_name": "posix", "sys_platform": sys, "platform_system": system, "platform_machine": t.machine(),
		"platform_release": "", "platform_version": "",
	}
}

// platforms are the platform tags that the target takes, the best first.
func (t Target) platforms() []string {
	m := t.machine()
	var out []string
	if t.Platform.OS == "darwin" {
		newest := oldestMac[t.Platform.Arch]
		for major := newest; major >= 11; major-- {
			out = append(out, fmt.Sprintf("macosx_%d_0_%s", major, m), fmt.Sprintf("macosx_%d_0_universal2", major))
		}
		for minor := 16; minor >= 4; minor-- {
			if m == "x86_64" {
				out = append(out, fmt.Sprintf("macosx_10_%d_x86_64", minor), fmt.Sprintf("macosx_10_%d_intel", minor))
			}
			out = append(out, fmt.Sprintf("macosx_10_%d_universal2", minor))
		}
		return out
	}
	glibc := t.Glibc
	if glibc == "" {
		glibc = baseline
	}
	_, after, _ := strings.Cut(glibc, ".")
	newest, _ := strconv.Atoi(version.Major(after))
	oldest := 17
	if m == "x86_64" || m == "i686" {
		oldest = 5
	}
	names := map[int]string{17: "manylinux2014", 12: "manylinux2010", 5: "manylinux1"} // PEP 600, "Legacy manylinux tags"
	for minor := newest; minor >= oldest; minor-- {
		out = append(out, fmt.Sprintf("manylinux_2_%d_%s", minor, m))
		if names[minor] != "" {
			out = append(out, names[minor]+"_"+m)
		}
	}
	return append(out, "linux_"+m)
}

// Tags are the compatibility tags that the target takes, the best first (PEP 425, "Use";
// in the order of the packaging library that installers share).
func (t Target) Tags() []string {
	major, minor := version.Major(t.Version), version.Minor(t.Version)
	n, _ := strconv.Atoi(strings.TrimPrefix(minor, major+"."))
	cp := fmt.Sprintf("cp%s%d", major, n)
	platforms := t.platforms()
	var out []string
	add := func(python, abi string, on ...string) {
		for _, p := range on {
			out = append(out, python+"-"+abi+"-"+p)
		}
	}
	add(cp, cp, platforms...)
	add(cp, "abi3", platforms...)
	add(cp, "none", platforms...)
	for i := n - 1; i >= 2; i-- {
		add(fmt.Sprintf("cp%s%d", major, i), "abi3", platforms...)
	}
	py := []string{fmt.Sprintf("py%s%d", major, n), "py" + major}
	for i := n - 1; i >= 0; i-- {
		py = append(py, fmt.Sprintf("py%s%d", major, i))
	}
	for _, python := range py {
		add(python, "none", platforms...)
	}
	add(cp, "none", "any")
	for _, python := range py {
		add(python, "none", "any")
	}
	return out
}

// Wheel is what the name of a wheel says (PEP 427, "File name convention").
type Wheel struct {
	Name    string // normalized
	Version string
	Build   string
	Tags    []string // all that its compressed tag stands for
}

// ParseWheel reads the name of a wheel.
func ParseWheel(file string) (Wheel, bool) {
	stem, ok := strings.CutSuffix(path.Base(file), ".whl")
	f := strings.Split(stem, "-")
	if !ok || len(f) != 5 && len(f) != 6 {
		return Wheel{}, false
	}
	w := Wheel{Name: Normal(f[0]), Version: f[1]}
	if len(f) == 6 {
		w.Build = f[2]
		if w.Build == "" || w.Build[0] < '0' || w.Build[0] > '9' {
			return Wheel{}, false
		}
	}
	f = f[len(f)-3:]
	for python := range strings.SplitSeq(f[0], ".") {
		for abi := range strings.SplitSeq(f[1], ".") {
			for on := range strings.SplitSeq(f[2], ".") {
				w.Tags = append(w.Tags, python+"-"+abi+"-"+on)
			}
		}
	}
	return w, ValidName(w.Name) && version.PEP440.Valid(w.Version)
}

// Rank is the place of the wheel's best tag in a target's list, and false when the target
// takes none of them.
func (w Wheel) Rank(tags map[string]int) (int, bool) {
	best, ok := 0, false
	for _, tag := range w.Tags {
		if i, takes := tags[tag]; takes && (!ok || i < best) {
			best, ok = i, true
		}
	}
	return best, ok
}

// Places gives each tag its place in a list.
func Places(tags []string) map[string]int {
	out := make(map[string]int, len(tags))
	for i, tag := range tags {
		out[tag] = i
	}
	return out
}

// sdistEndings are those of source distributions (PEP 625, and older ones).
var sdistEndings = []string{".tar.gz", ".zip", ".tar.bz2", ".tar.xz"}

// ParseSdist reads the name of a source distribution of a project.
func ParseSdist(file, project string) (version_ string, ok bool) {
	for _, ending := range sdistEndings {
		stem, is := strings.CutSuffix(path.Base(file), ending)
		if !is {
			continue
		}
		for i := range stem { // the version is what follows the name, however that is spelt
			if stem[i] == '-' && Normal(stem[:i]) == project && version.PEP440.Valid(stem[i+1:]) {
				return stem[i+1:], true
			}
		}
	}
	return "", false
}

// Endings tells whether a name ends as a source distribution of a form that builds here.
func Endings(file string) (format string, ok bool) {
	i := slices.IndexFunc(sdistEndings[:2], func(e string) bool { return strings.HasSuffix(file, e) })
	if i < 0 {
		return "", false
	}
	return sdistEndings[i][1:], true
}
