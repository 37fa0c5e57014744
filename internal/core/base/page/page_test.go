package page

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"
)

func TestPlacesPointAtWhatIsWrong(t *testing.T) {
	const text = "a = 1\n[b.\"c d\"]\n\"é\" = { x = [1, 'two'], y = \"z\" }\n\n[[list]]\nk = true\n[[list]]\nk = 1979-05-27\n"
	p := Parse("f.toml", []byte(text))
	if err := p.Err(); err != nil {
		t.Fatal(err)
	}
	inner := p.Table(p.Table(p.Root, "b"), "c d")
	e := inner.Entries[0]
	if e.Name != "é" || inner.Name != "b.c d" {
		t.Fatalf("%+v", e)
	}
	two := e.Value.Table.Get("x").Items[1]
	at := p.Place(two.Span)
	if at.Line != 3 || at.Text[at.Column-1:at.Column-1+at.Width] != "'two'" || two.Text != "two" {
		t.Errorf("%+v", at)
	}
	if inside := p.Place(e.Value.Table.Get("y").Within(0, 1)); inside.Text[inside.Column-1] != 'z' {
		t.Errorf("%+v", inside)
	}
	list := p.Root.Get("list")
	if list.Kind != Array || len(list.Items) != 2 || list.Items[1].Table.Get("k").Kind != Date {
		t.Errorf("%+v", list)
	}
}

func TestReadersCollectFaults(t *testing.T) {
	p := Parse("f.toml", []byte("text = 1\nlist = ['a', 2]\nwhole = 'x'\nbig = 999\nflag = 3\nage = '1 fortnight'\nchoice = 'blu'\ntable = 1\nmap = { a = 1 }\nspare = 1\n"))
	r := p.Root
	p.Text(r, "text")
	p.Texts(r, "list")
	p.Whole(r, "whole", 0, 0, 1)
	p.Whole(r, "big", 0, 0, 100)
	p.Flag(r, "flag")
	p.Duration(r, "age", time.Second)
	p.Choice(r, "choice", "red", "blue")
	p.Table(r, "table")
	p.Strings(r, "map")
	p.Text(r, "sparse")
	p.Close(r)
	text := p.Err().Error()
	for i, want := range []string{
		"1:8: text must be a string, not an integer", "2:14: each entry of list must be a string", "3:9: whole must be an integer",
		"4:7: big is 999; it must be from 0 to 100", "5:8: flag must be true or false", `6:7: "1 fortnight" is not a duration`,
		`7:10: "blu" is not a value of choice`, "8:9: table must be a table", "9:13: map.a must be a string", `10:1: no key "spare"`,
	} {
		if !strings.Contains(text, "f.toml:"+want) {
			t.Errorf("fault %d: it does not say %q:\n%s", i+1, want, text)
		}
	}
	if !strings.Contains(text, `Did you mean "blue"?`) || !strings.Contains(text, `Did you mean "sparse"?`) || len(p.Findings) != 10 {
		t.Errorf("%d findings:\n%s", len(p.Findings), text)
	}
}

func TestWhatIsNoTOMLIsOneFault(t *testing.T) {
	for text, says := range map[string]string{
		"a = ": "f.toml:1", "a = 1\na = 2\n": "f.toml:2", "[a]\n[a]\n": "f.toml:2", "a = 1\n[a.b]\n": "f.toml", "x\x00y": "NUL", "\xff\xfe": "f.toml:1",
	} {
		p := Parse("f.toml", []byte(text))
		if err := p.Err(); err == nil || !strings.Contains(err.Error(), says) || len(p.Findings) != 1 {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a.b = {c = [1, {d = 'x'}]}\n[[e]]\n[e.f]\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		p := Parse("f.toml", source)
		p.Close(p.Root)
		if err := p.Err(); err != nil {
			_ = err.Error()
		}
	})
}

// cutAnywhere tells what is wrong with a document that is given to the decoder name by name.
func cutAnywhere(source []byte) (cuts int, err error) {
	parts := newParts(source, 0, 1)
	_, err = read(source, parts)
	return len(parts.cuts), valid(source, parts, err)
}

// A document that is decoded in parts has the faults of the whole.
func TestADocumentThatIsCutHasTheFaultsOfTheWhole(t *testing.T) {
	for text, cuts := range map[string]int{
		"a = 1\nb = '''\n[c]\nd = 1\n'''\n[c]\nd = 2\n[e.f] # [c]\ng.h = [\n1,\n]\n": 5,
		"[a]\nb = 1\n[a.c]\nb = 1\n[d.e]\n[d.f]\n":                                   5,
	} {
		if n, err := cutAnywhere([]byte(text)); n != cuts || err != nil {
			t.Errorf("%q is cut at %d places, with %v", text, n, err)
		}
	}
	for _, text := range []string{
		"a = 1\nb = 2\na = 3\n", "[a]\nb = 1\n[c]\n[a]\n", "[a]\nb = 1\n[a.b]\n", "[a.b]\n[a]\nb = 1\n", "a = 1\n[a]\n", "[a]\nb.c = 1\n[a.b]\n",
		"[a]\nb.c = 1\nb.c = 2\n", "[a]\n[a.b]\n[a.b]\n", "[[a]]\n[a]\n", "a = [1]\n[a.b]\n", "a = [1]\n[[a]]\n", "a = {}\n[a.b]\n", "[a]\nb = 2026-13-01\n", "[\"a\"]\n['a']\n", "a\n", "[a]\nb = 1 c = 2\n",
	} {
		if _, err := cutAnywhere([]byte(text)); err == nil {
			t.Errorf("%q has no fault", text)
		}
	}
}

func FuzzParts(f *testing.F) {
	f.Add([]byte("a = 1\n[b]\nc.d = 2\n[b.e]\n\"f\" = {g = 1}\n[h.i]\n[h.k]\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		if bytes.IndexByte(source, 0) >= 0 {
			return
		}
		var whole map[string]any
		want := toml.Unmarshal(source, &whole)
		if _, got := cutAnywhere(source); (got == nil) != (want == nil) {
			t.Errorf("in parts: %v; whole: %v", got, want)
		}
	})
}

// A table of many entries is read as one of few.
func TestATableOfManyEntries(t *testing.T) {
	var text strings.Builder
	for i := range 100 {
		fmt.Fprintf(&text, "[tool.t%d]\nversion = \"%d\"\n", i, i)
	}
	text.WriteString("[[lane]]\nn = 1\n[[lane]]\nn = 2\n")
	p := Parse("many.toml", []byte(text.String()))
	tools := p.Table(p.Root, "tool")
	for i := range 100 {
		if got := p.Text(p.Table(tools, fmt.Sprintf("t%d", i)), "version"); got != strconv.Itoa(i) {
			t.Errorf("t%d is %q", i, got)
		}
	}
	if p.Table(tools, "t100") != nil || len(p.Tables(p.Root, "lane")) != 2 {
		t.Error("there is more or less than was written")
	}
	p.Close(tools)
	if found := p.Findings; len(found) != 0 {
		t.Errorf("what was asked for is not known: %v", found)
	}
	unasked := Parse("many.toml", []byte(text.String()))
	unasked.Table(unasked.Root, "tool").Get("t5")
	unasked.Close(unasked.Table(unasked.Root, "tool"))
	if found := unasked.Findings; len(found) != 99 {
		t.Errorf("%d keys were not asked for, not 99", len(found))
	}
}
