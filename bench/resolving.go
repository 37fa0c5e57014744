package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/standin"
)

// resolving are rows of choosing versions of Python libraries: beside pip on the same index, and as
// the set grows. The index is a stand-in on loopback: each package has five versions and needs three
// that come after it.
func (b *workshop) resolving() ([]row, error) {
	s := standin.New()
	b.after = append(b.after, s.Close)
	const versions = 5
	shelf := func(n int) (index string, asks []string) {
		index = fmt.Sprintf("shelf%d", n)
		for i := range n {
			for v := range versions {
				w := standin.Wheel{Name: fmt.Sprintf("p%03d", i), Version: fmt.Sprintf("1.%d", v), Files: []standin.File{{Name: fmt.Sprintf("p%03d.py", i), Content: "herons = 361\n"}}}
				for _, below := range []int{i + 1, i + 2, 2*i + 3} {
					if below < n {
						w.Requires = append(w.Requires, fmt.Sprintf("p%03d >=1.%d, <2", below, v/2))
					}
				}
				s.PutWheel(index, w)
			}
		}
		return s.Python(index), []string{"p000", fmt.Sprintf("p%03d !=1.4", n/2)}
	}
	set := func(n int) (ours func() error, index string, asks []string, err error) {
		index, asks = shelf(n)
		dir := b.path(fmt.Sprintf("shelf-%d", n))
		archive := standin.TarGz(standin.File{Name: "bin/python", Content: "#!/bin/sh\necho Python 3.13.5\n", Mode: 0o755})
		if err := standin.Publish(filepath.Join(dir, "tools"), []standin.Tool{{Name: "python", Archives: [][]byte{archive}, Versions: []string{"3.13.5"}}}); err != nil {
			return nil, "", nil, err
		}
		text := fmt.Sprintf("format = 1\nproject = \"heronweir\"\n[source.hut]\nkind = \"catalog\"\nurl = \"tools\"\n[source.shelf]\nkind = \"wheel\"\nurl = %q\n[toolchain]\npython = \"=3.13.5\"\n[libraries.survey]\nkind = \"python\"\nwant = [%q]\n",
			index, strings.Join(asks, `", "`))
		if err := put(filepath.Join(dir, "trammel.toml"), []byte(strings.ReplaceAll(text, `\"`, `"`))); err != nil {
			return nil, "", nil, err
		}
		at := func(args ...string) func() error {
			return b.run(b.program, append([]string{"--dir", dir, "--quiet"}, args...)...)
		}
		return at("lock", "--renew", "survey"), index, asks, at("lock")()
	}
	sets := map[int]func() error{}
	var rows []row
	for _, n := range []int{20, 200, 1000} {
		ours, index, asks, err := set(n)
		if err != nil {
			return nil, err
		}
		sets[n] = ours
		if n != 200 {
			continue
		}
		if exec.Command("python3", "-m", "pip", "--version").Run() != nil {
			fmt.Fprintln(os.Stderr, "bench: pip is not installed, so its row is left out")
			continue
		}
		pip := b.run("python3", append([]string{"-m", "pip", "install", "--isolated", "--dry-run", "--ignore-installed", "--break-system-packages", "--only-binary", ":all:",
			"--disable-pip-version-check", "--no-input", "-q", "--cache-dir", b.path("pip"), "--index-url", index}, asks...)...)
		rows = append(rows, compare("choosing 200 Python libraries, warm", "pip on the same index", 0.3, 7, ours, pip))
	}
	return append(rows, compare("choosing 200 Python libraries", "20 of them", 10, 10, sets[200], sets[20]),
		compare("choosing 1,000 Python libraries", "200 of them", 5, 5, sets[1000], sets[200])), nil
}
