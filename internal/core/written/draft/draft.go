// Package draft writes a first declaration from what a folder shows, or from a
// starter.
//
// It reads the files by which languages state their versions and nothing else,
// and changes nothing. What it cannot have from any source it writes as a comment,
// so that what it wrote locks at once.
package draft

import (
	"bufio"
	"bytes"
	"embed"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/mod/modfile"

	"app.example/trammel/internal/core/base/lazy"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/declare"
)

// Want is one toolchain that a folder asks for.
type Want struct {
	Tool string
	Ask  string // an ask that a declaration takes
	Why  string // "go.mod says go 1.24"
}

// Found is what a folder shows.
type Found struct {
	Wants    []Want
	Steps    []string // tables of the declaration, whole
	Routines []string

	Libraries []Libraries

	below string // the folder that is being looked at, "" for the project's own
}

// Libraries is a file with asks for a language's own packages.
type Libraries struct {
	Kind string // "python" or "r"
	File string
}

// Look reads a folder. A file that cannot be read as what it is counts as absent:
// a draft is a help, and the person reads it.
func Look(dir fs.FS) Found {
	var f Found
	dir = guarded{dir}
	f.look(dir)
	// Many projects have a folder for each of their parts.
	entries, _ := fs.ReadDir(dir, ".")
	for _, e := range entries {
		if !e.IsDir() || !partName().MatchString(e.Name()) || slices.Contains(notParts, e.Name()) {
			continue
		}
		if sub, err := fs.Sub(dir, e.Name()); err == nil {
			f.below = e.Name()
			f.look(sub)
		}
	}
	f.below = ""
	return f
}

// guarded gives regular files of a modest size and nothing else: a folder that somebody else
// filled may hold a pipe, on which a reader would wait for ever.
type guarded struct{ fs.FS }

// mostFile is how large a file may be that states versions, in bytes.
const mostFile = 4 << 20

func (g guarded) Open(name string) (fs.File, error) {
	info, err := fs.Stat(g.FS, name)
	if err == nil && !info.IsDir() && (!info.Mode().IsRegular() || info.Size() > mostFile) {
		err = &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	if err != nil {
		return nil, err
	}
	return g.FS.Open(name)
}

// partName is what a folder is called that is looked into, and notParts are those that others fill.
var (
	partName = lazy.Regexp(`^[a-z][a-z0-9-]{0,20}$`)
	notParts = []string{"node_modules", "vendor", "testdata", "dist", "build", "target", "third-party", "examples", "docs"}
)

func (f *Found) look(dir fs.FS) {
	for _, look := range []func(fs.FS, *Found){versionFiles, goMod, packageJSON, pyproject, requirements, cargo, pom, gemfile, composer, cmake, description, scripts} {
		look(dir, f)
	}
}

// at is a file of the folder that is being looked at, as the declaration names it.
func (f *Found) at(file string) string { return path.Join(f.below, file) }

// named is the name of a step, service or routine: that of a part's has the part before it.
func (f *Found) named(name string) string {
	if f.below != "" {
		return f.below + "-" + name
	}
	return name
}

// in is a command that runs in the folder that is being looked at.
func (f *Found) in(command string) string {
	if f.below != "" {
		return "cd " + shell.Typed(f.below) + " && " + command
	}
	return command
}

// has tells whether there is a set of a kind already: a project has one of each.
func (f *Found) has(kind string) bool {
	return slices.ContainsFunc(f.Libraries, func(l Libraries) bool { return l.Kind == kind })
}

// want notes an ask; what is none in a declaration is left out.
func (f *Found) want(tool, ask, why string) {
	if _, err := version.ParseAsk(ask); err == nil && ask != "" && !slices.ContainsFunc(f.Wants, func(w Want) bool { return w.Tool == tool }) {
		if f.below != "" {
			why = f.below + "/" + why
		}
		f.Wants = append(f.Wants, Want{tool, ask, oneLine(why)})
	}
}

// oneLine keeps what a stranger's file says within the comment that it is quoted in.
func oneLine(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return unicode.IsControl(r) || unicode.IsSpace(r) || r == unicode.ReplacementChar }), " ")
}

func goMod(dir fs.FS, f *Found) {
	raw, err := fs.ReadFile(dir, "go.mod")
	if err != nil {
		return
	}
	mod, err := modfile.ParseLax("go.mod", raw, nil)
	if err != nil || mod.Go == nil {
		return
	}
	// Any newer patch release of the line will do; the lock holds it.
	f.want("go", prefix(mod.Go.Version, 2), "go.mod says go "+mod.Go.Version)
	f.Steps = append(f.Steps, fmt.Sprintf("[step.%s]\nabout = \"Download the Go modules\"\nrun   = %q\nreads = [%q, %q]\n", f.named("modules"), f.in("go mod download"), f.at("go.mod"), f.at("go.sum")))
	f.Routines = append(f.Routines, fmt.Sprintf("[routine.%s]\nabout = \"Unit tests\"\nrun   = %q\n", f.named("test"), f.in("go test ./...")))
}

// prefix is the first numbers of a version.
func prefix(v string, numbers int) string {
	words := strings.Split(v, ".")
	return strings.Join(words[:min(numbers, len(words))], ".")
}

func packageJSON(dir fs.FS, f *Found) {
	raw, err := fs.ReadFile(dir, "package.json")
	if err != nil {
		return
	}
	var p struct {
		Engines map[string]string `json:"engines"`
		Manager string            `json:"packageManager"`
		Scripts map[string]string `json:"scripts"`
	}
	if json.Unmarshal(raw, &p) != nil {
		return
	}
	if ask := fromRange(p.Engines["node"]); ask != "" {
		f.want("node", ask, "package.json engines.node: "+p.Engines["node"])
	} else if !strings.HasPrefix(p.Manager, "bun@") {
		f.want("node", "latest", "package.json states no engines.node")
	}
	if v, ok := strings.CutPrefix(p.Manager, "bun@"); ok {
		f.want("bun", "="+strings.Split(v, "+")[0], "package.json packageManager: "+p.Manager)
	} else if ask := fromRange(p.Engines["bun"]); ask != "" {
		f.want("bun", ask, "package.json engines.bun: "+p.Engines["bun"])
	}
	if _, err := fs.Stat(dir, "package-lock.json"); err == nil {
		f.Steps = append(f.Steps, fmt.Sprintf("[step.%s]\nabout = \"Install the npm packages\"\nrun   = %q\nreads = [%q, %q]\n", f.named("packages"), f.in("npm ci"), f.at("package.json"), f.at("package-lock.json")))
	}
	runner := "npm run"
	if strings.HasPrefix(p.Manager, "bun@") {
		runner = "bun run"
	}
	var names []string
	for name := range p.Scripts {
		// Those that npm itself runs around others are not for people.
		if regexp.MustCompile(`^[a-z][a-z0-9-]*$`).MatchString(name) && !strings.HasPrefix(name, "pre") && !strings.HasPrefix(name, "post") && name != "install" && name != "prepare" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		script := oneLine(p.Scripts[name])
		switch {
		case name == "dev" || name == "start" && p.Scripts["dev"] == "":
			f.Steps = append(f.Steps, fmt.Sprintf("[service.%s]          # %s: %s\nrun = %q\n", f.named(name), f.at("package.json"), script, f.in(runner+" "+name)))
		case name == "test" && slices.ContainsFunc(f.Routines, func(r string) bool { return strings.HasPrefix(r, "[routine."+f.named("test")+"]") }):
		case len(f.Routines) < mostRoutines:
			f.Routines = append(f.Routines, fmt.Sprintf("[routine.%s]          # %s: %s\nrun = '%s'\n", f.named(name), f.at("package.json"), script, f.in(runner+" "+name+` -- "$@"`)))
		}
	}
}

// mostRoutines is how many routines a draft makes of scripts.
const mostRoutines = 12

var comparator = lazy.Regexp(`^(\^|~|>=|<=|>|<|=)?\s*v?(\d+(?:\.\d+)*)(?:\.[xX*])*$`)

// fromRange turns a range of package.json or Cargo into an ask; "" for one that
// an ask cannot say. Of alternatives the last, which is the newest by custom.
func fromRange(ranges string) string {
	alternatives := strings.Split(ranges, "||")
	one := strings.TrimSpace(alternatives[len(alternatives)-1])
	if low, high, ok := strings.Cut(one, " - "); ok {
		return bounds(">="+strings.TrimSpace(low), "<="+strings.TrimSpace(high))
	}
	one = regexp.MustCompile(`([\^~<>=])\s+`).ReplaceAllString(strings.ReplaceAll(one, ",", " "), "$1")
	return bounds(strings.Fields(one)...)
}

func bounds(words ...string) string {
	var out []string
	for _, w := range words {
		m := comparator().FindStringSubmatch(w)
		if m == nil {
			return ""
		}
		numbers := strings.Split(m[2], ".")
		switch m[1] {
		case "":
			out = append(out, map[bool]string{true: "=", false: ""}[len(numbers) == 3]+m[2])
		case "^":
			out = append(out, ">="+m[2], "<"+next(numbers, max(1, firstNonZero(numbers))))
		case "~":
			out = append(out, ">="+m[2], "<"+next(numbers, min(2, len(numbers))))
		default:
			out = append(out, m[1]+m[2])
		}
	}
	return strings.Join(out, ", ")
}

// firstNonZero counts the numbers up to and with the first that is not 0.
func firstNonZero(numbers []string) int {
	for i, n := range numbers {
		if n != "0" {
			return i + 1
		}
	}
	return len(numbers)
}

// next is the first version beyond those that share the first numbers.
func next(numbers []string, keep int) string {
	out := slices.Clone(numbers[:keep])
	var n int
	fmt.Sscan(out[keep-1], &n)
	out[keep-1] = fmt.Sprint(n + 1)
	return strings.Join(out, ".")
}

func pyproject(dir fs.FS, f *Found) {
	var p struct {
		Project struct {
			Requires string   `toml:"requires-python"`
			Depends  []string `toml:"dependencies"`
			Dynamic  []string `toml:"dynamic"`
		} `toml:"project"`
	}
	if !readTOML(dir, "pyproject.toml", &p) {
		return
	}
	if p.Project.Requires != "" {
		f.want("python", fromRange(strings.ReplaceAll(strings.ReplaceAll(p.Project.Requires, "==", "="), "~=", "~")), "pyproject.toml requires-python: "+p.Project.Requires)
	}
	if len(p.Project.Depends) > 0 && !slices.Contains(p.Project.Dynamic, "dependencies") && !f.has("python") {
		f.want("python", "latest", "pyproject.toml states no requires-python")
		f.Libraries = append(f.Libraries, Libraries{"python", f.at("pyproject.toml")})
	}
}

// requirements takes a requirements file, which says nothing of the interpreter.
func requirements(dir fs.FS, f *Found) {
	if info, err := fs.Stat(dir, "requirements.txt"); err != nil || !info.Mode().IsRegular() {
		return
	}
	f.want("python", "latest", "requirements.txt states no version of Python")
	if !f.has("python") {
		f.Libraries = append(f.Libraries, Libraries{"python", f.at("requirements.txt")})
	}
}

func composer(dir fs.FS, f *Found) {
	raw, err := fs.ReadFile(dir, "composer.json")
	var p struct {
		Require map[string]string `json:"require"`
	}
	if err != nil || json.Unmarshal(raw, &p) != nil {
		return
	}
	defer f.want("composer", "latest", "composer.json is read by it")
	if ask := fromRange(p.Require["php"]); ask != "" {
		f.want("php", ask, "composer.json requires php "+p.Require["php"])
		return
	}
	f.want("php", "latest", "composer.json states no version of php")
}

func cmake(dir fs.FS, f *Found) {
	before := len(f.Wants)
	eachLine(dir, "CMakeLists.txt", regexp.MustCompile(`(?i)^\s*cmake_minimum_required\s*\(\s*VERSION\s+(\d+(?:\.\d+)*)`), func(m []string) {
		f.want("cmake", ">="+m[1], "CMakeLists.txt wants at least cmake "+m[1])
	})
	if len(f.Wants) > before {
		f.want("gcc", "latest", "CMakeLists.txt builds with a compiler")
	}
}

func cargo(dir fs.FS, f *Found) {
	var p struct {
		Package struct {
			Rust string `toml:"rust-version"`
		} `toml:"package"`
		Workspace struct {
			Package struct {
				Rust string `toml:"rust-version"`
			} `toml:"package"`
		} `toml:"workspace"`
	}
	if !readTOML(dir, "Cargo.toml", &p) {
		return
	}
	v := p.Package.Rust + p.Workspace.Package.Rust
	if v != "" { // the oldest that will do
		f.want("rust", ">="+v, "Cargo.toml rust-version: "+v)
	}
	f.want("rust", "latest", "Cargo.toml states no rust-version")
}

func readTOML(dir fs.FS, name string, into any) bool {
	raw, err := fs.ReadFile(dir, name)
	return err == nil && toml.Unmarshal(raw, into) == nil
}

func pom(dir fs.FS, f *Found) {
	raw, err := fs.ReadFile(dir, "pom.xml")
	if err != nil {
		return
	}
	before := len(f.Wants)
	defer func() {
		if len(f.Wants) == before {
			f.want("openjdk", "latest", "pom.xml states no version of Java")
		}
		f.want("maven", "latest", "pom.xml is read by it")
	}()
	decoder := xml.NewDecoder(bytes.NewReader(raw))
	var inside string
	for {
		token, err := decoder.Token()
		if err != nil {
			return
		}
		switch t := token.(type) {
		case xml.StartElement:
			inside = t.Name.Local
		case xml.EndElement:
			inside = ""
		case xml.CharData:
			v := strings.TrimPrefix(strings.TrimSpace(string(t)), "1.")
			if slices.Contains([]string{"maven.compiler.release", "maven.compiler.target", "maven.compiler.source", "java.version"}, inside) && comparator().MatchString(v) {
				f.want("openjdk", v, "pom.xml "+inside+": "+v)
			}
		}
	}
}

func gemfile(dir fs.FS, f *Found) {
	eachLine(dir, "Gemfile", regexp.MustCompile(`^\s*ruby\s+["']([^"']+)["']`), func(m []string) {
		f.want("ruby", fromRange(strings.Replace(m[1], "~>", "~", 1)), "Gemfile says ruby "+m[1])
	})
}

func description(dir fs.FS, f *Found) {
	eachLine(dir, "DESCRIPTION", regexp.MustCompile(`\bR\s*\(\s*(>=\s*[\d.]+)\s*\)`), func(m []string) {
		f.want("r", fromRange(m[1]), "DESCRIPTION depends on R ("+m[1]+")")
	})
	if raw, err := fs.ReadFile(dir, "DESCRIPTION"); err == nil && !f.has("r") && regexp.MustCompile(`(?m)^Imports:`).Match(raw) {
		f.want("r", "latest", "DESCRIPTION states no version of R")
		f.Libraries = append(f.Libraries, Libraries{"r", f.at("DESCRIPTION")})
	}
}

// versionFiles are those with nothing but a version in them.
func versionFiles(dir fs.FS, f *Found) {
	for _, tool := range []string{"node", "python", "ruby", "go", "java"} {
		file := "." + tool + "-version"
		eachLine(dir, file, regexp.MustCompile(`^\s*v?(\d+(?:\.\d+)*)\s*$`), func(m []string) {
			name := tool
			if tool == "java" {
				name = "openjdk"
			}
			f.want(name, m[1], file+" says "+m[1])
		})
	}
}

// scripts take what only lies there: no file says which version.
func scripts(dir fs.FS, f *Found) {
	for _, x := range []struct{ glob, tool string }{{"*.R", "r"}, {"*.Rmd", "r"}, {"*.py", "python"}, {"*.ipynb", "python"}, {"*.rb", "ruby"}, {"*.php", "php"}} {
		if found, _ := fs.Glob(dir, x.glob); len(found) > 0 {
			f.want(x.tool, "latest", found[0]+" is there, and nothing says which version")
		}
	}
}

func eachLine(dir fs.FS, name string, re *regexp.Regexp, each func(m []string)) {
	raw, err := fs.ReadFile(dir, name)
	if err != nil {
		return
	}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		if m := re.FindStringSubmatch(lines.Text()); m != nil {
			each(m)
		}
	}
}

// Means are what there is to write a declaration with.
type Means struct {
	Can   func(tool string) bool              // a card knows the tool
	Suite string                              // of the Debian archive that tools come from that need one; "" for none
	From  func(tool string) bool              // the tool comes from there only
	Has   func(tool, ask string) (why string) // why that archive cannot give what is asked for: "trixie has 3.3.8"; "" when it can
	Index func(kind string) bool              // the machine's settings name a source of libraries of a kind
}

// Text writes the declaration.
func (f Found) Text(project string, m Means) string {
	can := m.Can
	var b strings.Builder
	fmt.Fprintf(&b, "# What this project is worked on with. See it all: trammel show\nformat  = 1\nproject = %q\nhost    = [\"git\", \"ssh\", \"make\"]   # of this machine, shown in the environment\n", project)
	if m.Suite != "" && slices.ContainsFunc(f.Wants, func(w Want) bool { return can(w.Tool) && m.From(w.Tool) }) {
		fmt.Fprintf(&b, "\n[source.%s]\nkind  = \"debian\"\nsuite = %q\n", m.Suite, m.Suite)
	}
	b.WriteString("\n[toolchain]\n")
	width := 0
	for _, w := range f.Wants {
		width = max(width, len(w.Tool))
	}
	missing := map[string]bool{}
	for _, w := range f.Wants {
		line := fmt.Sprintf("%-*s = %q", width, w.Tool, w.Ask)
		if !can(w.Tool) {
			missing[w.Tool] = true
			fmt.Fprintf(&b, "# %s   # %s; no source has it: trammel find\n", line, w.Why)
			continue
		}
		if m.From(w.Tool) {
			if why := m.Has(w.Tool, w.Ask); why != "" {
				line = fmt.Sprintf("%-*s = \"latest\"", width, w.Tool)
				w.Why += "; " + why
			}
		}
		fmt.Fprintf(&b, "%s   # %s\n", line, w.Why)
	}
	if len(f.Wants) == 0 {
		b.WriteString("# go = \"1.24\"    # see: trammel find\n")
	}
	for _, l := range f.Libraries {
		name := map[string]string{"python": "packages", "r": "figures"}[l.Kind]
		mark := ""
		if !m.Index(l.Kind) {
			mark = "# "
			fmt.Fprintf(&b, "\n# No source of these is set on this machine: add one of kind %q, with its url.\n", map[string]string{"python": "wheel", "r": "r"}[l.Kind])
		} else {
			b.WriteString("\n")
		}
		fmt.Fprintf(&b, "%[1]s[libraries.%[2]s]\n%[1]skind  = %[3]q\n%[1]sfiles = [%[4]q]\n", mark, name, l.Kind, l.File)
	}
	for _, table := range append(slices.Clone(f.Steps), f.Routines...) {
		b.WriteString("\n" + table)
	}
	return b.String()
}

// ProjectName makes the name of a folder one that a project may have.
func ProjectName(dir string) string {
	name := regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(path.Base(dir)), "-")
	name = strings.Trim(strings.TrimLeft(name, "-0123456789"), "-")
	if name == "" {
		return "project"
	}
	return strings.TrimRight(name[:min(len(name), 40)], "-")
}

// starters are whole small projects, a folder each. Names that end in .starter would be taken
// for this module's own, and those that begin with dot- would not be embedded; both are written
// as they are meant.
//
//go:embed all:starters
var starters embed.FS

// Starters lists the starters with what each is for.
func Starters() (names, abouts []string) {
	entries, _ := starters.ReadDir("starters")
	for _, e := range entries {
		raw, _ := starters.ReadFile("starters/" + e.Name() + "/trammel.toml")
		about, _, _ := strings.Cut(strings.TrimPrefix(string(raw), "# "), "\n")
		names, abouts = append(names, e.Name()), append(abouts, about)
	}
	return names, abouts
}

// File is one file of a starter; Path is relative, with slashes.
type File struct {
	Path    string
	Content []byte
	Mode    fs.FileMode
}

// Starter is a project to begin with: its files, the declaration with the project's name in
// it. ok is false when there is none of that name.
func Starter(name, project, suite string) (files []File, ok bool) {
	if !fs.ValidPath(name) || strings.Contains(name, "/") {
		return nil, false
	}
	dir, err := fs.Sub(starters, "starters/"+name)
	if err != nil {
		return nil, false
	}
	files, err = Filled(dir, project, suite)
	for i, f := range files {
		base := strings.TrimSuffix(path.Base(f.Path), ".starter")
		if rest, hidden := strings.CutPrefix(base, "dot-"); hidden {
			base = "." + rest
		}
		files[i].Path, files[i].Mode = path.Join(path.Dir(f.Path), base), 0o644
	}
	return files, err == nil && len(files) > 0
}

// Declared reads the declaration among a starter's files, as it will be in a folder.
// Errors: as for declare.Read.
func Declared(files []File, dir string) (*declare.Declaration, error) {
	return declare.Read(filepath.Join(dir, declare.FileName), declare.Files{Read: func(_, name string) ([]byte, error) {
		for _, f := range files {
			if f.Path == filepath.ToSlash(filepath.Clean(name)) {
				return f.Content, nil
			}
		}
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}})
}

// The most that a starter may hold.
const (
	mostFiles = 2000
	mostBytes = 64 << 20
)

// Filled reads a folder as a starter, a team's own too: every regular file, with "PROJECT" and
// SUITE in the declaration replaced by the project's name and the suite of the machine's
// archive. Links, pipes and what belongs to version control or to Trammel are left out.
// Errors: it has no declaration, or more than a starter may hold.
func Filled(dir fs.FS, project, suite string) (files []File, err error) {
	sum, declared := int64(0), false
	err = fs.WalkDir(dir, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		// A file called .git leads git to whatever folder it names, with the settings there.
		own := slices.Contains([]string{".git", ".trammel"}, strings.ToLower(path.Base(name)))
		if e.IsDir() {
			if own {
				return fs.SkipDir
			}
			return nil
		}
		if own {
			return nil
		}
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() {
			return err
		}
		if sum += info.Size(); sum > mostBytes || len(files) == mostFiles {
			return fmt.Errorf("it holds more than %d files or %d MiB, which no starter does", mostFiles, mostBytes>>20)
		}
		content, err := fs.ReadFile(dir, name)
		if err != nil {
			return err
		}
		if name == "trammel.toml" {
			declared = true
			text := strings.Replace(string(content), `"PROJECT"`, fmt.Sprintf("%q", project), 1)
			content = []byte(strings.ReplaceAll(text, "SUITE", suite))
		}
		files = append(files, File{name, content, 0o644 | info.Mode().Perm()&0o111})
		return nil
	})
	if err == nil && !declared {
		err = errors.New("it has no trammel.toml")
	}
	return files, err
}
