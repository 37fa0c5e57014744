package step

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"app.example/trammel/internal/core/base/disk"
)

// ignored decides which files count for a step by files in the format of .gitignore
// (gitignore(5), "PATTERN FORMAT"): the last pattern that fits a file decides.
type ignored []ignorePattern

type ignorePattern struct {
	glob string // below the project
	back bool   // "!": takes the file in again
	dir  bool   // folders only, and what is in them
}

func readIgnored(dir string, files []string) (ignored, error) {
	var out ignored
	for _, file := range files {
		raw, err := disk.ReadWithin(dir, file, disk.MostText)
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

// skips tells whether a file does not count.
func (list ignored) skips(name string) bool {
	skip := false
	for _, p := range list {
		fits := false
		for part := name; part != "."; part = path.Dir(part) {
			if part == name && p.dir {
				continue // the pattern is for folders, and this is a file
			}
			if ok, _ := doublestar.Match(p.glob, part); ok {
				fits = true
				break
			}
		}
		if fits {
			skip = !p.back
		}
	}
	return skip
}
