package publish

import (
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/lazy"
)

// Named is what an archive is of.
type Named struct {
	Tool, Version, Platform string // Platform is "linux/amd64" and the like, or "any"
	Format                  string
}

var (
	endings  = []string{".tar.gz", ".tgz", ".tar.xz", ".tar.zst", ".tar.bz2", ".zip"}
	systems  = map[string]string{"linux": "linux", "darwin": "darwin", "macos": "darwin", "osx": "darwin"}
	machines = map[string]string{"amd64": "amd64", "x86_64": "amd64", "x64": "amd64", "arm64": "arm64", "aarch64": "arm64"}
	numbered = lazy.Regexp(`(?:^|[-_.])v?(\d+(?:\.\d+)+(?:(?:-|\.)?(?:rc|beta|alpha)\.?\d*)?)(?:[-_.]|$)`)
	toolName = lazy.Regexp(`^[a-z][a-z0-9_-]*$`)
)

// NameOf reads the name of an archive: TOOL, VERSION and PLATFORM in any of the usual orders.
func NameOf(file string) (Named, error) {
	base := filepath.Base(file)
	var n Named
	stem := ""
	for _, e := range endings {
		if s, ok := strings.CutSuffix(base, e); ok {
			stem, n.Format = s, strings.TrimPrefix(e, ".")
		}
	}
	if n.Format == "tgz" {
		n.Format = "tar.gz"
	}
	if stem == "" {
		return n, fault.New(fault.ErrUsage, "%s is no archive that a catalog can have", base).Advise("Known: %s", strings.Join(endings, " "))
	}
	m := numbered().FindStringSubmatchIndex(stem)
	if m == nil {
		return n, fault.New(fault.ErrUsage, "the name of %s states no version", base).Advise("Say it: --tool NAME --version V [--platform OS/ARCH]")
	}
	n.Version = stem[m[2]:m[3]]
	rest := stem[:m[0]] + "-" + stem[m[3]:]
	words := strings.FieldsFunc(strings.ReplaceAll(strings.ToLower(rest), "x86_64", "amd64"), func(r rune) bool { return r == '-' || r == '_' || r == '.' || r == '/' })
	os, arch := "", ""
	var name []string
	for _, w := range words {
		switch {
		case systems[w] != "":
			os = systems[w]
		case machines[w] != "":
			arch = machines[w]
		case slices.Contains([]string{"gnu", "musl", "unknown", "apple", "static", "release"}, w):
		default:
			name = append(name, w)
		}
	}
	n.Tool = strings.Join(name, "-")
	switch {
	case os != "" && arch != "":
		n.Platform = os + "/" + arch
	case os == "" && arch == "":
		n.Platform = "any"
	default:
		return n, fault.New(fault.ErrUsage, "the name of %s states a system or a machine, and not both", base).Advise("Say it: --platform OS/ARCH, or --platform any")
	}
	return n, nil
}
