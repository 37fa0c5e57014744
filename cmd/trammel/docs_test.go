package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/demo"
	"app.example/trammel/internal/standin"
)

// block is a code block of a page: its language, what else its first line says, its
// lines.
type block struct {
	page, lang, more string
	line             int
	text             string
}

// pages are all pages of documentation, each with its blocks.
func pages(t *testing.T) map[string][]block {
	t.Helper()
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	more, _ := filepath.Glob("../../docs/reference/*.md")
	files = append(append(files, more...), "../../README.md", "../../CONTRIBUTING.md")
	out := map[string][]block{}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		page := strings.TrimPrefix(file, "../../")
		out[page] = nil
		var in *block
		for i, line := range strings.Split(string(raw), "\n") {
			info, fence := strings.CutPrefix(line, "```")
			switch {
			case fence && in == nil:
				lang, more, _ := strings.Cut(info, " ")
				in = &block{page: page, lang: lang, more: more, line: i + 1}
			case fence:
				out[page] = append(out[page], *in)
				in = nil
			case in != nil:
				in.text += line + "\n"
			}
		}
		if in != nil {
			t.Errorf("%s:%d: a code block without an end", page, in.line)
		}
	}
	return out
}

// Every sh block of a page is run, in order, in one folder; blocks of files are written
// where they stand. A comment "exit N" says how a line ends; without one it ends well.
func TestEveryExampleOfTheDocsRuns(t *testing.T) {
	t.Parallel()
	for page, blocks := range pages(t) {
		runs := slices.ContainsFunc(blocks, func(b block) bool { return b.lang == "sh" && b.more == "" })
		if !runs || slices.Contains(walks, page) {
			continue
		}
		t.Run(strings.ReplaceAll(page, "/", "-"), func(t *testing.T) {
			t.Parallel()
			s := registry(t)
			root := t.TempDir()
			h := newHut(t, s, "")
			dir := root
			if page != "docs/first-project.md" { // which begins with nothing
				if err := demo.Write(root, engine); err != nil {
					t.Fatal(err)
				}
				dir = filepath.Join(root, "heronweir")
			}
			first := ""
			if dir != root {
				first = "trammel lock >/dev/null 2>&1\ntrammel approve --yes >/dev/null 2>&1\n"
			}
			cmd, out, err := runPage(t, h, root, dir, first, blocks, 3*time.Minute)
			for _, name := range []string{dir, filepath.Join(root, "hut/ladder"), filepath.Join(root, "hut/heronweir")} {
				stop := exec.Command(program, "--dir", name, "stop")
				stop.Env = cmd.Env
				_ = stop.Run()
			}
			if err != nil {
				t.Errorf("%v\n%s", err, out[max(0, len(out)-2500):])
			}
		})
	}
}

// walks are pages whose toolchains come from real archives.
var walks = []string{"docs/statistician.md", "docs/data-team.md"}

// runPage runs the blocks of a page in a folder, after some lines of its own.
func runPage(t *testing.T, h *hut, root, dir, first string, blocks []block, within time.Duration) (*exec.Cmd, []byte, error) {
	t.Helper()
	script := "set -u\n" + first
	for _, b := range blocks {
		script += b.script()
	}
	file := filepath.Join(root, "page.sh")
	if err := os.WriteFile(file, []byte(script), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("bash", file)
	cmd.Dir = dir
	cmd.Env = append(h.env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "HOME="+root, "SHELL=/bin/sh")
	guard := time.AfterFunc(within, func() { cmd.Process.Kill() })
	defer guard.Stop()
	cmd.WaitDelay = 10 * time.Second
	out, err := cmd.CombinedOutput()
	return cmd, out, err
}

var exits = regexp.MustCompile(`#.*\bexit (\d+)`)

// script is what a block does, in bash.
func (b block) script() string {
	if name, ok := strings.CutPrefix(b.more, "file="); ok {
		return fmt.Sprintf("mkdir -p \"$(dirname %[1]s)\"; cat > %[1]s <<'THE-BLOCK-ENDS'\n%[2]sTHE-BLOCK-ENDS\n", name, b.text)
	}
	if name, ok := strings.CutPrefix(b.more, "add="); ok {
		return fmt.Sprintf("cat >> %s <<'THE-BLOCK-ENDS'\n%sTHE-BLOCK-ENDS\n", name, b.text)
	}
	if b.lang != "sh" || b.more != "" {
		return ""
	}
	out := ""
	for i, line := range strings.Split(strings.TrimSuffix(b.text, "\n"), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		want := "0"
		if m := exits.FindStringSubmatch(line); m != nil {
			want = m[1]
		}
		out += fmt.Sprintf("echo '$ %s'\n%s\ncode=$?; [ $code -eq %s ] || { echo \"%s:%d ended with $code, not %s\"; exit 99; }\n", strings.ReplaceAll(line, "'", `'\''`), line, want, b.page, b.line+1+i, want)
	}
	return out
}

// Declarations that are shown without being used parse all the same, once what they lean
// on is there.
func TestEveryDeclarationOfTheDocsParses(t *testing.T) {
	t.Parallel()
	count := 0
	for page, blocks := range pages(t) {
		if page == "docs/catalog.md" || page == "docs/sources.md" { // which show other files than declarations
			continue
		}
		for _, b := range blocks {
			if b.lang != "toml" || b.more == "policy" || b.more == "sources" { // their own tests read those
				continue
			}
			count++
			text := b.text
			if !strings.Contains(text, "format") {
				text = "format = 1\nproject = \"heronweir\"\n" + text
			}
			_, err := declare.Parse("trammel.toml", []byte(text))
			var findings fault.Findings
			if errors.As(err, &findings) {
				for _, f := range findings {
					// A fragment leans on services, steps and tools of the declaration around it.
					if dangling := regexp.MustCompile(`there is no|not declared|names no|no source|no toolchain|no such file|no (step|param|service|file) is named`); !dangling.MatchString(f.What) {
						t.Errorf("%s:%d: %s", page, b.line+f.Line, f.What)
					}
				}
			} else if err != nil {
				t.Errorf("%s:%d: %v", page, b.line, err)
			}
		}
	}
	if count < 10 {
		t.Errorf("%d declarations were found", count)
	}
}

// Every command line in the docs, wherever it stands, names a command of the program, and
// options that the command has.
func TestEveryCommandLineOfTheDocsIsKnown(t *testing.T) {
	t.Parallel()
	h := newHut(t, standin.New(), "")
	helps := map[string]string{}
	help := func(words ...string) string {
		key := strings.Join(words, " ")
		if _, ok := helps[key]; !ok {
			o := h.try(append(words, "--help")...)
			helps[key] = o.out
			if o.code != 0 || !strings.Contains(o.out, "trammel") {
				helps[key] = ""
			}
		}
		return helps[key]
	}
	files, _ := filepath.Glob("../../docs/*.md")
	inline := regexp.MustCompile("`trammel ([^`]+)`")
	lines, count := map[string][]string{}, 0
	for _, file := range append(files, "../../README.md", "../../CONTRIBUTING.md") {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range inline.FindAllStringSubmatch(string(raw), -1) {
			lines[file] = append(lines[file], strings.ReplaceAll(m[1], "\n", " "))
		}
	}
	for page, blocks := range pages(t) {
		for _, b := range blocks {
			for line := range strings.Lines(b.text) {
				if rest, ok := strings.CutPrefix(strings.TrimPrefix(strings.TrimSpace(line), "$ "), "trammel "); ok && b.lang != "toml" {
					lines[page] = append(lines[page], rest)
				}
			}
		}
	}
	for page, list := range lines {
		for _, line := range list {
			line, _, _ = strings.Cut(line, " #")
			line, _, _ = strings.Cut(line, " -- ")
			line, _, _ = strings.Cut(line, "<<")
			words := strings.Fields(line)
			for len(words) > 1 && strings.HasPrefix(words[0], "--") { // options of the program itself
				words = words[1:]
				if words[0] != "" && !strings.HasPrefix(words[0], "--") && help(words[0]) == "" {
					words = words[1:] // the option's value
				}
			}
			if len(words) == 0 || words[0] == "help" || words[0] == "COMMAND" || strings.HasPrefix(words[0], "--") {
				continue
			}
			count++
			text := help(words[0])
			if len(words) > 1 {
				if below := help(words[0], words[1]); words[0] == "export" || words[0] == "data" || words[0] == "follow" {
					text += below
				}
			}
			if text == "" {
				t.Errorf("%s: there is no command %q", page, words[0])
				continue
			}
			for _, w := range words[1:] {
				flag, _, _ := strings.Cut(strings.Trim(w, "[]…|,;.)"), "=")
				if strings.HasPrefix(flag, "--") && len(flag) > 2 && !strings.Contains(text, flag) {
					t.Errorf("%s: trammel %s has no option %s", page, words[0], flag)
				}
			}
		}
	}
	if count < 100 {
		t.Errorf("%d command lines were found", count)
	}
}

// Links between pages, and to pictures and their headings, lead somewhere.
func TestEveryLinkOfTheDocsLeadsSomewhere(t *testing.T) {
	t.Parallel()
	link := regexp.MustCompile(`\]\(([^)]+)\)`)
	heading := regexp.MustCompile(`(?m)^#+ (.+)$`)
	anchor := func(title string) string {
		title = strings.ToLower(strings.TrimSpace(title))
		title = regexp.MustCompile(`[^\p{L}\p{N} _-]`).ReplaceAllString(title, "")
		return strings.ReplaceAll(title, " ", "-")
	}
	for page := range pages(t) {
		raw, err := os.ReadFile("../../" + page)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range link.FindAllStringSubmatch(string(raw), -1) {
			target, fragment, _ := strings.Cut(m[1], "#")
			if strings.Contains(target, "://") {
				continue
			}
			file := filepath.Join("../..", filepath.Dir(page), target)
			if target == "" {
				file = "../../" + page
			}
			there, err := os.ReadFile(file)
			if err != nil {
				if _, statErr := os.Stat(file); statErr != nil {
					t.Errorf("%s leads to %s, which is not there", page, m[1])
				}
				continue
			}
			if fragment != "" && !slices.ContainsFunc(heading.FindAllStringSubmatch(string(there), -1), func(h []string) bool { return anchor(h[1]) == fragment }) {
				t.Errorf("%s leads to %s, which has no such heading", page, m[1])
			}
		}
	}
}

// The tests that the page on security names are there.
func TestSecurityNamesTestsThatAreThere(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	err = filepath.WalkDir("../..", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllStringSubmatch(string(text), -1) {
			there[m[1]] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`(Test\\w+)`").FindAllStringSubmatch(string(raw), -1)
	for _, m := range named {
		if !there[m[1]] {
			t.Errorf("there is no %s", m[1])
		}
	}
	if len(named) < 15 {
		t.Errorf("only %d are named", len(named))
	}
}
