package lock

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
)

const heading = "# The lock of this project, written by: trammel lock\n# Review it and commit it. An edit by hand is refused; change trammel.toml and lock again.\n"

// Bytes is the content of the lock's file.
func (l *Lock) Bytes() []byte {
	facts := l.facts()
	digest := canon.Digest(facts)
	format := facts["format"]
	delete(facts, "format")
	b := []byte(heading)
	b = append(b, fmt.Sprintf("format = %d\ndigest = %q\n", format, digest)...)
	return appendTables(b, "", facts)
}

// bare are the characters of keys that need no quotes (TOML 1.0, Keys).
const bare = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-"

func key(name string) string {
	if name != "" && strings.Trim(name, bare) == "" {
		return name
	}
	return quote(name)
}

// quote writes a TOML basic string.
func quote(s string) string { return string(canon.JSON(s)) }

// appendTables writes facts as TOML: a table's own values first, then its
// sub-tables, each sorted by name.
func appendTables(b []byte, path string, table canon.Map) []byte {
	for _, name := range Sorted(table) {
		switch v := table[name].(type) {
		case string:
			b = append(b, key(name)+" = "+quote(v)+"\n"...)
		case int:
			b = append(b, key(name)+" = "+strconv.Itoa(v)+"\n"...)
		case int64:
			b = append(b, key(name)+" = "+strconv.FormatInt(v, 10)+"\n"...)
		case bool:
			b = append(b, key(name)+" = "+strconv.FormatBool(v)+"\n"...)
		case []string:
			quoted := make([]string, len(v))
			for i, s := range v {
				quoted[i] = quote(s)
			}
			line := "[" + strings.Join(quoted, ", ") + "]"
			if len(line) > 100 { // one fact a line
				line = "[\n  " + strings.Join(quoted, ",\n  ") + ",\n]"
			}
			b = append(b, key(name)+" = "+line+"\n"...)
		}
	}
	for _, name := range Sorted(table) {
		below := key(name)
		if path != "" {
			below = path + "." + below
		}
		switch v := table[name].(type) {
		case map[string]string:
			b = append(b, "\n["+below+"]\n"...)
			for _, k := range Sorted(v) {
				b = append(b, key(k)+" = "+quote(v[k])+"\n"...)
			}
		case canon.Map:
			if hasValues(v) {
				b = append(b, "\n["+below+"]\n"...)
			}
			b = appendTables(b, below, v)
		}
	}
	return b
}

// hasValues tells whether a table needs a header of its own.
func hasValues(table canon.Map) bool {
	for _, v := range table {
		switch v.(type) {
		case canon.Map, map[string]string:
		default:
			return true
		}
	}
	return len(table) == 0
}

// Write replaces the lock of a project's folder. A file that already has these
// bytes is left alone.
func (l *Lock) Write(dir string) error { return l.WriteFile(Path(dir)) }

// WriteFile is Write to any path.
func (l *Lock) WriteFile(path string) error {
	content := l.Bytes()
	if old, err := disk.ReadWithin(filepath.Dir(path), filepath.Base(path), disk.MostLock); err == nil && string(old) == string(content) {
		return nil
	}
	return disk.Write(path, content, 0o644)
}

// mostTurns is how often a change is begun anew because somebody else changed the lock meanwhile.
const mostTurns = 20

// Change reads a lock, has do change it, and writes what came of it where do says that something changed.
// A lock that somebody replaces meanwhile, as a pull does, is read again: theirs is not lost, and neither
// is what do learnt.
func Change(path string, do func(*Lock) (changed bool)) (l *Lock, changed bool, err error) {
	for range mostTurns {
		was, err := ReadBytes(filepath.Dir(path), filepath.Base(path))
		if err == nil {
			l, err = Parse(was)
		}
		if err != nil {
			return nil, false, err
		}
		if !do(l) {
			return l, false, nil
		}
		now := l.Bytes()
		if string(now) == string(was) {
			return l, true, nil
		}
		if err := disk.Edit(path, was, now, 0o644); !errors.Is(err, disk.ErrChanged) {
			return l, true, err
		}
	}
	return nil, false, disk.ErrChanged
}
