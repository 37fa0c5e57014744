// Command bench measures the program against what the operating system charges
// for the same work, side by side in one run, and prints a table of ratios:
//
//	go run ./bench                              # all rows
//	go run ./bench unpack                       # the rows whose name contains a word
//	go run ./bench -write docs/performance.md   # all rows, and the page of figures
//
// It makes its own data and needs no network, but for the rows of Debian roots, which
// are left out where no archive answers. Ours and the floor run in turn, so
// that a machine whose speed drifts changes both; medians are compared, and no
// bare time is worth quoting.
package main

import (
	"archive/tar"
	"archive/zip"
	"cmp"
	"compress/gzip"
	"context"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/creack/pty"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/stored/unpack"
	"app.example/trammel/internal/demo"
)

// row is one comparison.
type row struct {
	name, floor string
	goal        float64 // ours may take this many times the floor; 0: a figure without a goal
	runs        int
	ours, other func() error
}

func compare(name, floor string, goal float64, runs int, ours, other func() error) row {
	return row{name, floor, goal, runs, ours, other}
}

func main() {
	peak := flag.Bool("peak", false, "run a command and print how much memory it had at most, in KiB")
	port := flag.String("serve", "", "be a server on a port, for the rows of services")
	write := flag.String("write", "", "the page of figures to write")
	flag.Parse()
	if *peak {
		os.Exit(peakOf(flag.Args()))
	}
	if *port != "" {
		serve(*port, ownStart)
	}
	if err := bench(flag.Args(), *write); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// peakOf runs a command and prints how much memory it had at most: as the parent of a process this one
// must be small, whose own memory counts until the other is a program of its own (getrusage(2)).
func peakOf(command []string) int {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	fmt.Println(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
	return 0
}

func bench(words []string, page string) error {
	root, err := os.MkdirTemp("", "trammel-bench-")
	if err != nil {
		return err
	}
	defer disk.RemoveAll(root)
	b := &workshop{root: root, before: map[string]func() error{}, finally: map[string]func(){}, figures: map[string]func() (float64, error){}}
	defer func() {
		for _, f := range b.after {
			f()
		}
	}()
	if err := b.build(); err != nil {
		return err
	}
	parts, err := b.parts(words)
	if err != nil {
		return err
	}
	fmt.Printf("%-44s  %-34s  %7s  %-13s %7s  %s\n", "what", "against", "ratio", "quartiles", "goal", "")
	var results []result
	for _, part := range parts {
		rows, err := part()
		if err != nil {
			return err
		}
		for _, r := range rows {
			if len(words) > 0 && !slices.ContainsFunc(words, func(w string) bool { return strings.Contains(r.name, w) }) {
				continue
			}
			x, err := b.measure(r)
			if finally := b.finally[r.name]; finally != nil {
				finally()
			}
			if err != nil {
				return fmt.Errorf("%s: %w", r.name, err)
			}
			fmt.Printf("%-44s  %-34s  %6.2f×  %-13s %7s  %s\n", r.name, r.floor, x.ratio, x.spread(), x.wanted(), x.verdict())
			results = append(results, x)
		}
	}
	if page == "" {
		return nil
	}
	return writePage(page, results, b.remarks)
}

// measure runs both in turn and compares the medians.
//
// The quartiles are those of the ratios of each pair, so that noise shows.
func (b *workshop) measure(r row) (result, error) {
	if figure := b.figures[r.name]; figure != nil {
		ratio, err := figure()
		return result{row: r, ratio: ratio}, err
	}
	var ours, other []time.Duration
	for i := range r.runs + 1 {
		for _, side := range []struct {
			do  func() error
			all *[]time.Duration
		}{{r.ours, &ours}, {r.other, &other}} {
			if before := b.before[r.name]; before != nil && side.all == &ours {
				if err := before(); err != nil {
					return result{}, err
				}
			}
			b.took = 0
			start := time.Now()
			if err := side.do(); err != nil {
				return result{}, err
			}
			if i > 0 { // the first round warms up
				*side.all = append(*side.all, cmp.Or(b.took, time.Since(start)))
			}
		}
	}
	pairs := make([]float64, len(ours))
	for i := range ours {
		pairs[i] = float64(ours[i]) / float64(other[i])
	}
	slices.Sort(ours)
	slices.Sort(other)
	slices.Sort(pairs)
	return result{r, float64(ours[len(ours)/2]) / float64(other[len(other)/2]), pairs[len(pairs)/4], pairs[len(pairs)*3/4]}, nil
}

// workshop is the data that the rows work on.
type workshop struct {
	root    string
	program string
	hello   string
	project string
	env     []string
	fresh   int
	before  map[string]func() error            // by row: makes ready for ours, not measured
	finally map[string]func()                  // by row: ends what it left, so that the rows after it are alone
	figures map[string]func() (float64, error) // by row: a ratio by itself
	after   []func()                           // what to end
	remarks []string                           // figures that are no ratios
	took    time.Duration                      // how long what was done took, where it says so itself
}

func (b *workshop) path(name string) string { return filepath.Join(b.root, name) }

// next is a path that was never used: writing where a large tree was just deleted
// is several times slower.
func (b *workshop) next() string {
	b.fresh++
	return b.path(fmt.Sprintf("fresh-%d", b.fresh))
}

func (b *workshop) build() error {
	b.program, b.hello = b.path("trammel"), b.path("hello")
	source := b.path("hello.go")
	if err := os.WriteFile(source, []byte("package main\n\nimport \"fmt\"\n\nfunc main() { fmt.Println(\"hello\") }\n"), 0o644); err != nil {
		return err
	}
	for target, from := range map[string]string{b.program: "./cmd/trammel", b.hello: source} {
		cmd := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", target, from)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w\n%s", err, out)
		}
	}
	if err := demo.Write(b.root, b.program); err != nil {
		return err
	}
	b.project = b.path("heronweir")
	b.env = append(os.Environ(), "TRAMMEL_HOME="+b.path("home"))
	for _, args := range [][]string{{"lock"}, {"fit", "--approve"}} {
		if err := b.run(b.program, args...)(); err != nil {
			return err
		}
	}
	return nil
}

// run starts a program in the project and waits for it.
func (b *workshop) run(program string, args ...string) func() error {
	return func() error {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = b.project, b.env
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s %s: %w\n%s", filepath.Base(program), strings.Join(args, " "), err, out)
		}
		return nil
	}
}

func both(first, second func() error) func() error {
	return func() error {
		if err := first(); err != nil {
			return err
		}
		return second()
	}
}

// parts make the rows: each makes its data, and is measured before the next does.
func (b *workshop) parts(words []string) ([]func() ([]row, error), error) {
	hello := b.run(b.hello)
	size, err := os.Stat(b.program)
	if err != nil {
		return nil, err
	}
	b.figures["binary, stripped"] = func() (float64, error) { return float64(size.Size()) / (28 << 20), nil }
	starts := []row{
		compare("binary, stripped", "28 MB", 1, 1, nil, nil),
		compare("trammel --version", "a Go program that prints a line", 1.6, 60, b.run(b.program, "--version"), hello),
		compare("trammel run -- true", "Go hello + true", 1.6, 60, b.run(b.program, "run", "--", "true"), both(hello, b.run("true"))),
		compare("trammel run -- true (alone)", "true", 0, 60, b.run(b.program, "run", "--", "true"), b.run("true")),
		compare("trammel fit, the demo, nothing to do", "Go hello", 4.5, 40, b.run(b.program, "fit"), hello),
		compare("trammel show, the demo", "Go hello", 4.5, 40, b.run(b.program, "show"), hello),
	}
	// Only the data that is wanted is made: some of it takes minutes.
	parts := []func() ([]row, error){func() ([]row, error) { return starts, nil }}
	for _, part := range []struct {
		about string
		rows  func() ([]row, error)
	}{
		{"prompts folder project", b.prompts}, {"services chain start with nothing to do, 1,000 status supervisor forward 256 init", b.services},
		// What writes trees comes before what fills the file system with them: in a full one each is slower.
		{"unpack toolchain zip tar", b.archives}, {"library set wheels", b.libraries}, {"sealed look-up root packages closure image depot memory", b.archive},
		{"choosing libraries Python", b.resolving}, {"verify deep files recall revisions compare machines memory", b.proofs}, {"growth all of tools steps lock fit with show run memory", b.growth},
	} {
		if len(words) > 0 && !slices.ContainsFunc(words, func(w string) bool { return strings.Contains(part.about, w) }) {
			continue
		}
		parts = append(parts, part.rows)
	}
	return parts, nil
}

// archives measures unpacking a Go toolchain.
func (b *workshop) archives() ([]row, error) {
	var rows []row
	toolchain, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	tree := strings.TrimSpace(string(toolchain))
	zipped, tarred := b.path("toolchain.zip"), b.path("toolchain.tgz")
	if err := pack(tree, zipped, tarred); err != nil {
		return nil, err
	}
	for _, x := range []struct{ name, archive, format, command string }{
		{"unpack, hash, check a Go toolchain (zip)", zipped, "zip", "unzip"},
		{"unpack, hash, check the same (tar.gz)", tarred, "tar.gz", "tar"},
	} {
		if _, err := exec.LookPath(x.command); err != nil {
			fmt.Fprintf(os.Stderr, "bench: %s is not installed, so its row is left out\n", x.command)
			continue
		}
		ours := func() error {
			into := b.next()
			if err := os.Mkdir(into, 0o755); err != nil {
				return err
			}
			r, err := unpack.Archive(context.Background(), x.archive, x.format, into, unpack.Rules{HashZip: x.format == "zip"})
			if err == nil {
				_ = r.Manifest.Digest()
			}
			return err
		}
		other := func() error {
			into := b.next()
			if err := os.Mkdir(into, 0o755); err != nil {
				return err
			}
			if x.command == "unzip" {
				return b.run("unzip", "-q", x.archive, "-d", into)()
			}
			return b.run("tar", "xzf", x.archive, "-C", into)()
		}
		rows = append(rows, compare(x.name, x.command, 0.8, 7, ours, other))
	}
	return rows, nil
}

// prompts measures a shell that follows folders: prompts where nothing changed, and
// coming into a project.
func (b *workshop) prompts() ([]row, error) {
	bash, err := exec.LookPath("bash")
	if err != nil {
		return nil, err
	}
	hook, err := exec.Command(b.program, "follow", "bash").Output()
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(b.path("hook.sh"), hook, 0o644); err != nil {
		return nil, err
	}
	// A shell on a terminal of its own, without a person's start-up files, to which lines are
	// typed, of which the last ends it.
	typed := func(dir, lines, program string, args ...string) func() error {
		return func() error {
			cmd := exec.Command(program, args...)
			cmd.Dir, cmd.Env = dir, append(b.env, "SHELL="+bash, "HOME="+b.path("nobody"), "TERM=xterm")
			terminal, err := pty.Start(cmd)
			if err != nil {
				return err
			}
			defer terminal.Close()
			if _, err := io.WriteString(terminal, lines+"exit\n"); err != nil {
				return err
			}
			said, _ := io.ReadAll(terminal) // ends with the shell
			if m := regexp.MustCompile(`took=(\d+)`).FindSubmatch(said); m != nil {
				b.took, _ = time.ParseDuration(string(m[1]) + "µs")
			}
			return cmd.Wait()
		}
	}
	first := func(program string, args ...string) func() error { return typed(b.project, "", program, args...) }
	// The first prompt comes into the project; 200 more find nothing changed, and the shell itself
	// says how long those took.
	shell := func(rc string) func() error {
		lines := "cd " + b.project + "\nbegun=$EPOCHREALTIME\n" + strings.Repeat("true\n", 200) + "ended=$EPOCHREALTIME\necho took=$((${ended/./}-${begun/./}))\n"
		return typed(b.root, lines, bash, "--noprofile", "--rcfile", rc, "-i")
	}
	hello := b.run(b.hello)
	enter := fmt.Sprintf("__trammel_set() { :; }; eval \"$(%s follow --enter %s --of $$ bash)\"", b.program, b.project)
	return []row{
		compare("shell to the first prompt", "bash -i and two Go hellos", 1, 30, first(b.program, "shell"), both(first(bash, "-i"), both(hello, hello))),
		compare("200 prompts where nothing changed", "the same without following", 1.05, 15, shell(b.path("hook.sh")), shell("/dev/null")),
		compare("coming into a project", "Go hello and bash -c true", 1.6, 40, b.run("bash", "-c", enter), both(hello, b.run("bash", "-c", "true"))),
	}, nil
}

// pack writes one tree as a zip and as a gzipped tar archive.
func pack(tree, zipped, tarred string) error {
	zf, err := os.Create(zipped)
	if err != nil {
		return err
	}
	defer zf.Close()
	tf, err := os.Create(tarred)
	if err != nil {
		return err
	}
	defer tf.Close()
	z := zip.NewWriter(zf)
	g, err := gzip.NewWriterLevel(tf, 6)
	if err != nil {
		return err
	}
	t := tar.NewWriter(g)
	err = filepath.WalkDir(tree, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(tree, path)
		if err != nil {
			return err
		}
		w, err := z.CreateHeader(&zip.FileHeader{Name: filepath.ToSlash(name), Method: zip.Deflate})
		if err != nil {
			return err
		}
		if _, err := w.Write(content); err != nil {
			return err
		}
		if err := t.WriteHeader(&tar.Header{Name: filepath.ToSlash(name), Mode: 0o644, Size: int64(len(content)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		_, err = t.Write(content)
		return err
	})
	for _, c := range []io.Closer{z, t, g} {
		if closeErr := c.Close(); err == nil {
			err = closeErr
		}
	}
	return err
}
