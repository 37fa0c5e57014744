package plain_test

import (
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/plain"
)

// Each does what its namesake in package strings does.
func FuzzPlain(f *testing.F) {
	for _, s := range []string{"", "a", "/a//b/", " two\tthree \n", "heron weir heron", "aaa", "PATH=/bin:/usr/bin:"} {
		for _, part := range []string{"a", "/", ":", "heron", "aa", "=", " "} {
			f.Add(s, part)
		}
	}
	f.Fuzz(func(t *testing.T, s, part string) {
		same := func(name string, ours, theirs any) {
			t.Helper()
			if ours != theirs {
				t.Errorf("%s of %q and %q: %v, not %v", name, s, part, ours, theirs)
			}
		}
		list := func(name string, ours, theirs []string) {
			t.Helper()
			if !slices.Equal(ours, theirs) {
				t.Errorf("%s of %q and %q: %q, not %q", name, s, part, ours, theirs)
			}
		}
		same("Index", plain.Index(s, part), strings.Index(s, part))
		same("Contains", plain.Contains(s, part), strings.Contains(s, part))
		same("HasPrefix", plain.HasPrefix(s, part), strings.HasPrefix(s, part))
		same("HasSuffix", plain.HasSuffix(s, part), strings.HasSuffix(s, part))
		same("TrimPrefix", plain.TrimPrefix(s, part), strings.TrimPrefix(s, part))
		same("TrimSuffix", plain.TrimSuffix(s, part), strings.TrimSuffix(s, part))
		before, after, found := plain.Cut(s, part)
		wantBefore, wantAfter, wantFound := strings.Cut(s, part)
		same("Cut, before", before, wantBefore)
		same("Cut, after", after, wantAfter)
		same("Cut, found", found, wantFound)
		rest, found := plain.CutPrefix(s, part)
		wantRest, wantFound := strings.CutPrefix(s, part)
		same("CutPrefix", rest, wantRest)
		same("CutPrefix, found", found, wantFound)
		list("Join", []string{plain.Join([]string{s, part, s}, part)}, []string{strings.Join([]string{s, part, s}, part)})
		same("Join of none", plain.Join(nil, part), "")
		if part != "" {
			c := part[0]
			same("IndexByte", plain.IndexByte(s, c), strings.IndexByte(s, c))
			same("LastIndexByte", plain.LastIndexByte(s, c), strings.LastIndexByte(s, c))
			list("Split", plain.Split(s, c), strings.Split(s, string([]byte{c})))
			same("ReplaceAll", plain.ReplaceAll(s, part, "<"+s+">"), strings.ReplaceAll(s, part, "<"+s+">"))
		}
		ascii := !strings.ContainsFunc(s+part, func(r rune) bool { return r >= 0x80 })
		if ascii {
			same("ContainsAny", plain.ContainsAny(s, part), strings.ContainsAny(s, part))
			list("Fields", plain.Fields(s), strings.Fields(s))
			same("TrimSpace", plain.TrimSpace(s), strings.TrimSpace(s))
		}
	})
}
