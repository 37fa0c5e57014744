package canon

import "testing"

// The example of RFC 8785, section 3.2.3 (sorting), and the escapes of 3.2.2.2.
func TestCanonicalForm(t *testing.T) {
	cases := []struct {
		in   any
		want string
	}{
		{Map{"\u20ac": "Euro", "\r": "CR", "\ufb33": "Hebrew", "1": "One", "\U0001f600": "Smile", "\u0080": "Control", "\u00f6": "O"},
			"{\"\\r\":\"CR\",\"1\":\"One\",\"\u0080\":\"Control\",\"\u00f6\":\"O\",\"\u20ac\":\"Euro\",\"\U0001f600\":\"Smile\",\"\ufb33\":\"Hebrew\"}"},
		{"\u20ac$\u000f\nA'B\"\\\\\"/\u2028", "\"\u20ac$\\u000f\\nA'B\\\"\\\\\\\\\\\"/\u2028\""},
		{List{1, int64(-2), true, nil, []string{"a"}, map[string]string{"b": "c"}}, `[1,-2,true,null,["a"],{"b":"c"}]`},
		{"<&>", `"<&>"`},
	}
	for _, c := range cases {
		if got := string(JSON(c.in)); got != c.want {
			t.Errorf("%s\nnot %s", got, c.want)
		}
	}
	if got := Short("sha256:5be091c4aa"); got != "5be0 91c4" {
		t.Errorf("short form %q", got)
	}
}
