package locator

import (
	"path"
	"strings"
	"testing"
)

func FuzzParse(f *testing.F) {
	for _, s := range []string{"git+https://git.example/hut.git#v1:lanes", "./x.tar.gz#:a", "../hut", "git+ssh://git@git.example/a#main", "git+file:///a#b:../c", "https://u:p@x.example/a.zip"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		Is(text)
		l, err := Parse(text, "/work/heronweir")
		if err != nil {
			return
		}
		if sub := path.Clean("/top/" + l.Sub); sub != "/top" && !strings.HasPrefix(sub, "/top/") {
			t.Errorf("%q leads out of what it names: %q", text, l.Sub)
		}
		if strings.Contains(l.At, "://") && strings.Contains(l.At, "@") && strings.Count(strings.SplitN(l.At, "@", 2)[0], ":") > 1 && !strings.Contains(strings.SplitN(l.At, "@", 2)[0][8:], "/") {
			t.Errorf("%q keeps a password", text)
		}
	})
}
