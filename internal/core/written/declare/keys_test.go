package declare

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// Every key that a declaration may have stands in docs/declaration.md. The keys are those
// that a message about an unknown one lists, which it does for all but services and the top,
// that have too many.
func TestEveryKeyIsDocumented(t *testing.T) {
	raw, err := os.ReadFile("../../../../docs/declaration.md")
	if err != nil {
		t.Fatal(err)
	}
	known := regexp.MustCompile(`Known: ([^\n]+)\.`)
	total := 0
	for _, table := range []string{
		"[source.hut]\nkind = \"debian\"\nsuite = \"trixie\"\n", "[toolchain.go]\nversion = \"1\"\n", "[param.lanes]\nkind = \"integer\"\n", "[secret.TOKEN]\nfrom = \"env:A\"\n",
		"[file.\"a\"]\ntemplate = \"b\"\n", "[step.a]\nrun = \"true\"\n", "[service.a]\nrun = \"true\"\n[service.a.ready]\n",
		"[service.a]\nrun = \"true\"\n[service.a.stop]\n", "[routine.a]\nrun = \"true\"\n", "[addon.a]\nlist = \"true\"\n", "[variables.A]\nwhen = \"param.x\"\n",
	} {
		head := "format = 1\nproject = \"heronweir\"\n"
		_, err := Parse("trammel.toml", []byte(head+table+"no-such-key = 1\n"))
		found := []string(nil)
		if err != nil {
			found = known.FindStringSubmatch(err.Error())
		}
		if found == nil {
			t.Errorf("after %q nothing says which keys are known: %v", table, err)
			continue
		}
		for _, key := range strings.Split(found[1], ", ") {
			total++
			if !regexp.MustCompile("`" + regexp.QuoteMeta(key) + "\\b|\\b" + regexp.QuoteMeta(key) + " = ").Match(raw) {
				t.Errorf("docs/declaration.md does not speak of %s, a key of %q", key, table)
			}
		}
	}
	if total < 40 {
		t.Errorf("%d keys were found", total)
	}
}
