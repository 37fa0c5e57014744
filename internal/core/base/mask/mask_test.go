package mask

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

func TestSecretsDoNotPassInWhateverPiecesTheyCome(t *testing.T) {
	secrets := Of([]string{"heron-token", "heron", "abab!", "ab", "line one\nline two\n", ""})
	for in, want := range map[string]string{
		"heron-token":                       "(secret)",
		"a heron and a heron-token":         "a (secret) and a (secret)",
		"heron-toke":                        "(secret)-toke",
		"xabababab!y":                       "xabab(secret)y",
		"line one, ab, line two":            "(secret), ab, (secret)",
		"hero":                              "hero",
		"nothing here":                      "nothing here",
		"":                                  "",
		strings.Repeat("hero heron-", 9000): strings.Repeat("hero (secret)-", 9000),
	} {
		for name, r := range map[string]io.Reader{
			"at once": strings.NewReader(in), "byte by byte": iotest.OneByteReader(strings.NewReader(in)), "in halves": iotest.HalfReader(strings.NewReader(in)), "with its end": iotest.DataErrReader(strings.NewReader(in)),
		} {
			got, err := io.ReadAll(Reader(r, secrets))
			if err != nil || string(got) != want {
				t.Errorf("%.40q %s: %.80q %v", in, name, got, err)
			}
		}
	}
	if got := Text("a heron-token", secrets); got != "a (secret)" {
		t.Errorf("%q", got)
	}
	if _, err := io.ReadAll(Reader(iotest.ErrReader(io.ErrUnexpectedEOF), secrets)); err != io.ErrUnexpectedEOF {
		t.Errorf("an error is swallowed: %v", err)
	}
}
