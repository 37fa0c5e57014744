// Package python reads the formats of Python packaging: version specifiers (PEP 440),
// requirements and markers (PEP 508), compatibility tags (PEP 425, 600 and 656), the names
// and metadata of wheels (PEP 427, core metadata), requirements files and pyproject.toml
// (PEP 621, 735), pylock.toml (PEP 751).
//
// It promises to read what the standards say and to refuse the rest with words; it runs
// nothing of a package and reaches no network.
package python

import (
	"strings"

	"app.example/trammel/internal/core/base/lazy"
)

// separators are the runs of characters that names treat alike.
var separators = lazy.Regexp(`[-_.]+`)

// validName is what may name a project (PEP 508, Names).
var validName = lazy.Regexp(`^[A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?$`)

// Normal is the one spelling of a project's name (PEP 503, Normalized Names).
func Normal(name string) string {
	return strings.ToLower(separators().ReplaceAllString(name, "-"))
}

// ValidName tells whether a text can name a project.
func ValidName(name string) bool { return validName().MatchString(name) }
