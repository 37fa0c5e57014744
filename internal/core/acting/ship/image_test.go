package ship

import (
	"strings"
	"testing"

	"app.example/trammel/internal/core/written/history"
)

// What a commit holds lies in the project's folder of an image, whatever its objects say.
func TestFilesOfACommitLieInTheProject(t *testing.T) {
	for _, c := range []struct {
		files string // name, or link>target
		ok    bool
	}{
		{"a b/c b/d/e link>b up>../../etc", true},
		{"../x", false}, {"a/../../x", false}, {"/etc/passwd", false}, {"a//b", false}, {"./a", false}, {"..", false},
		{"link>/opt/trammel link/trammel", false}, {"a/link>../.. a/link/b/c", false}, {"file file/below", false},
	} {
		commit := &history.Commit{ID: "0123456789abcdef"}
		for name := range strings.FieldsSeq(c.files) {
			name, target, _ := strings.Cut(name, ">")
			commit.Files = append(commit.Files, history.Tracked{Path: name, Link: target})
		}
		if err := inPlace(commit); (err == nil) != c.ok {
			t.Errorf("%s: %v", c.files, err)
		}
	}
}
