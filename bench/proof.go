package main

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"

	"app.example/trammel/internal/standin"
)

const treeFiles = 50_000

// proofs measures verify on a tool of many files, and the history of a lock.
func (b *workshop) proofs() ([]row, error) {
	files := []standin.File{{Name: "bin/herons", Mode: 0o755, Content: "#!/bin/sh\necho herons 1.0\n"}}
	for i := range treeFiles {
		files = append(files, standin.File{Name: fmt.Sprintf("share/%03d/%05d.txt", i%250, i), Content: strings.Repeat(fmt.Sprintf("silverfin %05d\n", i), 256)})
	}
	if err := standin.Publish(b.path("many/tools"), []standin.Tool{{Name: "herons", Archives: [][]byte{standin.TarGz(files...)}}}); err != nil {
		return nil, err
	}
	if err := put(b.path("many/trammel.toml"), []byte("format = 1\nproject = \"many\"\nisolation = \"open\"\n\n[source.hut]\nkind = \"catalog\"\nurl = \"tools\"\n\n[toolchain]\nherons = \"1\"\n")); err != nil {
		return nil, err
	}
	many := func(args ...string) func() error {
		return b.run(b.program, append([]string{"--dir", b.path("many"), "--quiet"}, args...)...)
	}
	for _, args := range [][]string{{"lock"}, {"fit", "--approve"}} {
		if err := many(args...)(); err != nil {
			return nil, err
		}
	}
	found, _ := filepath.Glob(b.path("home/data/store/*-herons-1.0"))
	if len(found) != 1 {
		return nil, fmt.Errorf("the part of herons: %v", found)
	}
	sums := func(dir string) func() error {
		return func() error {
			return exec.Command("sh", "-c", `find "$0" -type f -print0 | xargs -0 -P 2 -n 500 sha256sum > /dev/null`, dir).Run()
		}
	}
	toolchain, whole, err := b.toolchain()
	if err != nil {
		return nil, err
	}
	if err := b.history(); err != nil {
		return nil, err
	}
	for _, n := range []int{10, 100, 1000} {
		if err := b.reports(n); err != nil {
			return nil, err
		}
	}
	machines := func(n int) func() error { return b.run(b.program, "compare", b.path(fmt.Sprintf("reports-%d", n))) }
	listed := func(n int) func() error {
		return b.run(b.program, "--dir", b.path(fmt.Sprintf("history-%d", n)), "recall", "--list", "--last", "0")
	}
	return []row{
		compare("verify, 50,000 files", "a stat walk of them on all cores", 1.2, 7, many("verify"), func() error { return statWalk(found[0]) }),
		compare("verify --deep, a Go toolchain", "sha256sum of it, two at a time", 0.15, 10, whole, sums(toolchain)),
		compare("verify --deep, 200 MB in 50,000 files", "sha256sum of them, two at a time", 0.35, 5, many("verify", "--deep"), sums(found[0])),
		b.memory("fit of a Go toolchain", 120, b.next(), b.path("whole"), nil, "fit", "--approve"),
		b.memory("verify --deep, 50,000 files", 120, b.path("home"), b.path("many"), nil, "verify", "--deep"),
		compare("recall --list, 100 revisions", "10 revisions", 10, 10, listed(100), listed(10)),
		compare("recall --list, 1,000 revisions", "100 revisions", 10, 5, listed(1000), listed(100)),
		compare("compare, 100 machines", "10 machines", 10, 10, machines(100), machines(10)),
		compare("compare, 1,000 machines", "100 machines", 10, 10, machines(1000), machines(100)),
	}, nil
}

// reports writes the reports of so many machines that have the demo's environment.
func (b *workshop) reports(n int) error {
	one := b.path("hut-0000.json")
	if err := b.run(b.program, "verify", "--report", one, "--machine", "hut-0000")(); err != nil {
		return err
	}
	text, err := os.ReadFile(one)
	if err != nil {
		return err
	}
	for i := range n {
		name := fmt.Sprintf("hut-%04d", i)
		if err := put(filepath.Join(b.path(fmt.Sprintf("reports-%d", n)), name+".json"), bytes.ReplaceAll(text, []byte("hut-0000"), []byte(name))); err != nil {
			return err
		}
	}
	return nil
}

// toolchain is a project that has this machine's Go toolchain as a tool: its folder in
// the store, and verify --deep of it.
func (b *workshop) toolchain() (dir string, verify func() error, err error) {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return "", nil, err
	}
	tarred := b.path("whole.tgz")
	if err := pack(strings.TrimSpace(string(root)), b.path("whole.zip"), tarred); err != nil {
		return "", nil, err
	}
	archive, err := os.ReadFile(tarred)
	if err != nil {
		return "", nil, err
	}
	if err := standin.Publish(b.path("whole/tools"), []standin.Tool{{Name: "go", Archives: [][]byte{archive}}}); err != nil {
		return "", nil, err
	}
	if err := put(b.path("whole/trammel.toml"), []byte("format = 1\nproject = \"whole\"\nisolation = \"open\"\n\n[source.hut]\nkind = \"catalog\"\nurl = \"tools\"\n\n[toolchain]\ngo = \"1\"\n")); err != nil {
		return "", nil, err
	}
	run := func(args ...string) func() error {
		return b.run(b.program, append([]string{"--dir", b.path("whole"), "--quiet"}, args...)...)
	}
	for _, args := range [][]string{{"lock"}, {"fit", "--approve"}} {
		if err := run(args...)(); err != nil {
			return "", nil, err
		}
	}
	found, _ := filepath.Glob(b.path("home/data/store/*-go-1.0"))
	if len(found) != 1 {
		return "", nil, fmt.Errorf("the part of go: %v", found)
	}
	return found[0], run("verify", "--deep"), nil
}

// statWalk looks at every file of a tree, its folders shared among two.
func statWalk(root string) error {
	top, err := filepath.Glob(filepath.Join(root, "*", "*"))
	if err != nil {
		return err
	}
	work := make(chan string, len(top))
	for _, dir := range top {
		work <- dir
	}
	close(work)
	var wait sync.WaitGroup
	errs := make(chan error, 2)
	for range 2 {
		wait.Go(func() {
			for dir := range work {
				err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
					if err == nil {
						_, err = os.Lstat(path)
					}
					return err
				})
				if err != nil {
					errs <- err
					return
				}
			}
		})
	}
	wait.Wait()
	close(errs)
	return <-errs
}

// history commits 10, 100 and 1,000 revisions of a lock.
func (b *workshop) history() error {
	for _, n := range []int{10, 100, 1000} {
		dir := b.path(fmt.Sprintf("history-%d", n))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		repository, err := git.PlainInit(dir, false)
		if err != nil {
			return err
		}
		work, err := repository.Worktree()
		if err != nil {
			return err
		}
		for i := range n {
			text := fmt.Sprintf("format = 1\nproject = \"heronweir\"\n\n[variables]\nDAY = \"%d\"\n", i)
			if err := put(filepath.Join(dir, "trammel.toml"), []byte(text)); err != nil {
				return err
			}
			if err := b.run(b.program, "--dir", dir, "--quiet", "lock")(); err != nil {
				return err
			}
			for _, name := range []string{"trammel.toml", "trammel.lock"} {
				if _, err := work.Add(name); err != nil {
					return err
				}
			}
			who := &object.Signature{Name: "hut-laptop", Email: "hut-laptop@heronweir.example", When: time.Unix(int64(1_700_000_000+i*86400), 0)}
			if _, err := work.Commit(fmt.Sprintf("Day %d", i), &git.CommitOptions{Author: who, Committer: who}); err != nil {
				return err
			}
		}
	}
	return nil
}
