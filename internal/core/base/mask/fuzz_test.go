package mask

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

// FuzzReader masks a stream that comes in pieces of one byte: the same text comes out
// as of the whole, and no secret.
func FuzzReader(f *testing.F) {
	f.Add("the reed is reeds and reed again", "reeds", "reed is")
	f.Add("aaaaaaaaaa", "aaaa", "aaaaaa")
	f.Fuzz(func(t *testing.T, text, one, two string) {
		secrets := Of([]string{one, two})
		got, err := io.ReadAll(Reader(iotest.OneByteReader(strings.NewReader(text)), secrets))
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range secrets {
			if strings.Contains(string(got), s) && !strings.Contains(shown, s) {
				// What stands for a secret may make one together with what is around it.
				if !strings.Contains(string(got), shown) {
					t.Errorf("%q shows in %q", s, got)
				}
			}
		}
		if len(secrets) == 1 && !strings.Contains(shown, secrets[0]) {
			if want := Text(text, secrets); string(got) != want {
				t.Errorf("%q, and of the whole text %q", got, want)
			}
		}
	})
}
