package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// project makes random declarations, cards and additions, in which whatever could happen
// has a word of its own: what runs leaves RAN-word behind, what is set or written is word.
type project struct {
	r       *rand.Rand
	count   int
	scripts map[string]string
}

func (p *project) word() string { p.count++; return fmt.Sprintf("w%04dw", p.count) }

// mark is a command that leaves its word behind, called in one of the ways that people
// call things: as it is, by a script, by a param.
func (p *project) mark(params *[]string) string {
	word := p.word()
	switch way := p.r.IntN(8); {
	case way == 0:
		name := "s/" + p.word() + ".sh"
		p.scripts[name] = "echo > \"$TRAMMEL_DIR/RAN-" + word + "\"\n"
		return [...]string{"sh " + name, "sh -e './" + name + "'", "exec env sh " + name, "sh @{project.dir}/" + name}[p.r.IntN(4)]
	case way == 1 && params != nil: // elsewhere a param means nothing
		name := fmt.Sprintf("p%d", p.count)
		*params = append(*params, fmt.Sprintf("[param.%s]\nkind = \"text\"\ndefault = \"RAN-%s\"\n", name, word))
		return "echo > @{project.dir}/@{param." + name + "}"
	}
	return "echo > @{bay.dir}/RAN-" + word
}

func (p *project) declare(own bool) string {
	var b strings.Builder
	var params []string
	some := func(most int, do func(i int)) {
		for i := range p.r.IntN(most + 1) {
			do(i)
		}
	}
	prefix := "a"
	if own {
		prefix = "own"
	}
	some(3, func(i int) {
		fmt.Fprintf(&b, "[variables]\n")
		for range i + 1 {
			fmt.Fprintf(&b, "%s_%s = %q\n", strings.ToUpper(prefix), strings.ToUpper(p.word()), p.word())
		}
		b.WriteString("#")
	})
	text := strings.ReplaceAll(b.String(), "#[variables]\n", "")
	b.Reset()
	b.WriteString(strings.TrimSuffix(text, "#"))
	if own {
		return b.String()
	}
	some(4, func(i int) {
		fmt.Fprintf(&b, "[step.s%d]\nrun = %q\n", i, p.mark(&params))
		if p.r.IntN(2) == 0 {
			fmt.Fprintf(&b, "evidence = %q\n", p.mark(&params))
		}
		if p.r.IntN(3) == 0 {
			b.WriteString("when = \"shell\"\n")
		}
	})
	some(2, func(i int) {
		fmt.Fprintf(&b, "[secret.K%d]\nfrom = %q\n[file.\"out/%s\"]\ntemplate = \"k%d.tmpl\"\n", i, "command:"+p.mark(nil)+"; echo x", p.word(), i)
		p.scripts[fmt.Sprintf("k%d.tmpl", i)] = fmt.Sprintf("{{ .secret.K%d }}\n", i)
	})
	some(2, func(i int) {
		fmt.Fprintf(&b, "[addon.a%d]\nwant = [%q]\nlist = %q\nadd = %q\n", i, p.word(), p.mark(&params)+"; cat a"+fmt.Sprint(i)+" 2>/dev/null || true", p.mark(&params)+"; echo @{item} >> a"+fmt.Sprint(i))
	})
	some(3, func(i int) {
		fmt.Fprintf(&b, "[routine.r%d]\nrun = %q\n", i, p.mark(&params))
	})
	some(2, func(i int) {
		fmt.Fprintf(&b, "[service.v%d]\nrun = %q\nready = { command = %q }\n", i, p.mark(&params)+"; exec sleep 600", p.mark(&params))
	})
	if p.r.IntN(2) == 0 {
		b.WriteString("[service.k]\ntool = \"keeper\"\nsettings = { extra = \"echo > @{bay.dir}/RAN-" + p.word() + "\" }\n")
	}
	return strings.Join(params, "") + b.String()
}

// Whatever a random project starts, sets or writes when everything that can be asked of
// it is asked stood, word by word, in what was agreed to before; a script counts by the
// bytes that are bound.
func TestWhateverHappensWasAgreedTo(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	happened := 0
	for seed := range 12 {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			p := &project{r: rand.New(rand.NewPCG(uint64(seed), 14)), scripts: map[string]string{}}
			cardText := fmt.Sprintf("variables = { CARD_%s = %q }\nanswer = { run = %q, match = '(1\\.0)' }\n[service]\nonce = %q\nrun = %q\n[service.setting]\nextra = \"true\"\n[service.ready]\ncommand = %q\n",
				strings.ToUpper(p.word()), p.word(), "sh -c 'echo 1.0'", "touch @{data}/RAN-"+p.word(), "eval \"$SETTING_EXTRA\"; touch @{data}/RAN-"+p.word()+"; exec sleep 600", "touch @{data}/RAN-"+p.word())
			h := stranger(t, p.declare(false)+catalogOf("keeper"), tool{"keeper", "echo 1.0", cardText})
			h.write("trammel.local.toml", p.declare(true))
			for name, text := range p.scripts {
				h.write(name, text)
			}
			h.ok("lock")
			shown := h.try("approve").out
			if len(h.ran()) > 0 {
				t.Fatalf("before consent: %v", h.ran())
			}
			h.ok("approve", "--yes")
			h.ok("fit")
			h.ok("start")
			env := h.ok("run", "--", "env")
			for i := range 4 {
				h.try("do", fmt.Sprintf("r%d", i))
			}
			h.try("verify")
			h.try("stop")
			agreed := func(word string) bool {
				if strings.Contains(shown, word) {
					return true
				}
				for name, text := range p.scripts {
					if strings.Contains(text, word) {
						return strings.Contains(shown, "the bytes of "+name) || strings.Contains(shown, name+"  ")
					}
				}
				return false
			}
			for _, path := range h.ran() {
				happened++
				if word := strings.TrimPrefix(filepath.Base(path), "RAN-"); !agreed(word) {
					t.Errorf("%s ran, and approve did not show it:\n%s", word, shown)
				}
			}
			for line := range strings.Lines(env) {
				name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
				if strings.HasPrefix(name, "A_W") || strings.HasPrefix(name, "OWN_W") || strings.HasPrefix(name, "CARD_W") {
					happened++
					if !strings.Contains(shown, name) || !strings.Contains(shown, value) {
						t.Errorf("%s is set, and approve did not show it:\n%s", line, shown)
					}
				}
			}
			files, _ := os.ReadDir(filepath.Join(h.dir, "out"))
			for _, f := range files {
				happened++
				if !strings.Contains(shown, "out/"+f.Name()) {
					t.Errorf("%s is written, and approve did not show it:\n%s", f.Name(), shown)
				}
			}
		})
	}
	if happened < 60 {
		t.Errorf("only %d things happened: the test shows little", happened)
	}
}
