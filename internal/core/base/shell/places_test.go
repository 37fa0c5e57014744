package shell

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// What is typed as one word is that word in every shell, whatever is in it, and shows all of its
// characters.
func TestTypedIsOneWordAndMeansNothing(t *testing.T) {
	t.Parallel()
	for _, value := range []string{
		"", "lane", "a b", "$(touch RAN)", "`touch RAN`", "; touch RAN #", "x;touch RAN;", "' ; touch RAN ; '", `"; touch RAN; "`, "~", "~root", "*", "?", "[a]", "{a,b}", "#", "!", "!!", "$HOME", "${IFS}",
		"\\", "a\\", "(touch RAN)", "<(touch RAN)", "=ls", "a=b", "%", "^", "&", "|", ">RAN", "-rf", "-rf /", "ü", "a'b\"c", "$'x'", "@", "--", "\t", "a\nb", "a\n; touch RAN", "\x1b]0;x\x07", "\x01" + "1", "a\x1bbc",
		"\u202etxt.exe", "a\u200bb", "\xff\xfe", "a\xffb", "é\x00"[:2],
	} {
		word := Typed(value)
		if strings.ContainsAny(word, "\n\t\x1b\x07") || strings.Contains(word, "\u202e") || strings.Contains(word, "\u200b") {
			t.Errorf("%q is typed with what cannot be seen: %q", value, word)
		}
		want := value
		if strings.HasPrefix(value, "-") && strings.Contains(value, "/") {
			want = "./" + value
		}
		for _, name := range []string{"bash", "zsh", "fish"} {
			if _, err := exec.LookPath(name); err != nil || name == "fish" && strings.HasPrefix(word, "$'") {
				continue
			}
			dir := t.TempDir()
			c := exec.Command(name, "-c", "printf %s "+word)
			if name == "zsh" {
				c = exec.Command(name, "-f", "-c", "printf %s "+word)
			}
			c.Dir, c.Env = dir, append(os.Environ(), "HOME="+dir)
			out, err := c.Output()
			if string(out) != want || err != nil {
				t.Errorf("%s: %q typed as %s is %q, %v", name, value, word, out, err)
			}
			if _, err := os.Lstat(filepath.Join(dir, "RAN")); err == nil {
				t.Errorf("%s: %q typed as %s ran", name, value, word)
			}
		}
	}
}
