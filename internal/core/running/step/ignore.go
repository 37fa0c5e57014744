package step

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/reading"
)

// ignored decides which files count for a step by files in the format of .gitignore
// (gitignore(5), "PATTERN FORMAT"): the last pattern that fits a file decides.
type ignored []ignorePattern

type ignorePattern struct {
	glob string // below the project
	back bool   // "!": takes the file in again
	dir  bool   // folders only, and what is in them
}

func readIgnored(r *reading.Reader, dir string, files []string) (ignored, error) {
	var out ignored
	for _, file := range files {
		raw, err := r.ReadWithin(dir, file, disk.MostText)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		base := path.Dir(filepath.ToSlash(file))
		for line := range strings.Lines(string(raw)) {
			line = strings.TrimRight(line, " \t\r\n")
			if line == "" || line[0] == '#' {
				continue
			}
			var p ignorePattern
			line, p.back = strings.CutPrefix(line, "!")
			line, p.dir = strings.CutSuffix(line, "/")
			if rest, rooted := strings.CutPrefix(line, "/"); rooted {
				line = rest
			} else if !strings.Contains(line, "/") { // at any depth
				line = "**/" + line
			}
			p.glob = path.Join(base, line)
			if doublestar.ValidatePattern(p.glob) {
				out = append(out, p)
			}
		}
	}
	return out, nil
}

// skipper asks ignored for many files, and asks for each folder once.
type skipper struct {
	list    ignored
	folders map[string][]bool // for each folder that was asked about: which patterns fit it or one above it
}

// skips tells whether a file does not count.
func (s *skipper) skips(name string) bool {
	if len(s.list) == 0 {
		return false
	}
	above := s.fits(path.Dir(name))
	skip := false
	for i, p := range s.list {
		// A pattern for folders does not fit a file.
		if above[i] || !p.dir && doublestar.MatchUnvalidated(p.glob, name) {
			skip = !p.back
		}
	}
	return skip
}

// fits tells for each pattern whether it fits a folder, or one that this is in.
func (s *skipper) fits(folder string) []bool {
	if known, ok := s.folders[folder]; ok {
		return known
	}
	out := make([]bool, len(s.list))
	if folder != "." {
		copy(out, s.fits(path.Dir(folder)))
		for i, p := range s.list {
			out[i] = out[i] || doublestar.MatchUnvalidated(p.glob, folder)
		}
	}
	s.folders[folder] = out
	return out
}

// prunes tells whether nothing in a folder counts, so that it need not be walked. Where a later
// pattern takes files in again, only each file can tell.
func (s *skipper) prunes(folder string) bool {
	if len(s.list) == 0 || slices.ContainsFunc(s.list, func(p ignorePattern) bool { return p.back }) {
		return false
	}
	return slices.ContainsFunc(s.list, func(p ignorePattern) bool { return doublestar.MatchUnvalidated(p.glob, folder) })
}

// key tells lists of patterns apart.
func (s *skipper) key() string { return fmt.Sprint(s.list) }
