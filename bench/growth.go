package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"app.example/trammel/internal/standin"
)

// growth measures how the everyday commands grow with what is declared: a catalog
// of 10, 100 and 1,000 tools, and projects that declare 2, 20 and 200 of them. The
// floor of each row is the same command on a tenth; linear is 10×.
func (b *workshop) growth() ([]row, error) {
	sizes := []int{10, 100, 1000}
	for _, n := range sizes {
		if err := b.catalog(n); err != nil {
			return nil, err
		}
		if err := b.declare(fmt.Sprintf("project-%d", n), n, n/5); err != nil {
			return nil, err
		}
	}
	// Everything of a catalog: what a large monorepo would declare.
	for name, n := range map[string]int{"ten": 10, "thousand": 1000} {
		if err := b.declare(name, n, n); err != nil {
			return nil, err
		}
	}
	rows := []row{
		compare("fit with nothing to do, 10 tools", "Go hello", 4.5, 30, b.run(b.program, "--dir", b.path("ten"), "fit"), b.run(b.hello)),
		compare("fit with nothing to do, 1,000 tools", "Go hello", 12, 10, b.run(b.program, "--dir", b.path("thousand"), "fit"), b.run(b.hello)),
	}
	for i, n := range sizes[1:] {
		small, large := b.inside(sizes[i]), b.inside(n)
		for _, args := range [][]string{{"lock"}, {"lock", "--renew"}, {"fit"}, {"show"}, {"run", "--", "true"}} {
			rows = append(rows, row{
				fmt.Sprintf("trammel %s, %d of %d tools", strings.Join(args, " "), n/5, n), fmt.Sprintf("%d of %d", sizes[i]/5, sizes[i]),
				10, 15, large(args), small(args),
			})
		}
	}
	many, err := b.manyTools(5000)
	if err != nil {
		return nil, err
	}
	rows = append(rows, many...)
	reads, err := b.readFiles(100_000)
	if err != nil {
		return nil, err
	}
	rows = append(rows, reads)
	plan := func(n int) func() error {
		return b.run(b.program, "--quiet", "--dir", b.path(fmt.Sprintf("steps-%d", n)), "show") // no answer is kept to that
	}
	for i, n := range sizes {
		if err := b.steps(n); err != nil {
			return nil, err
		}
		if i > 0 {
			rows = append(rows, compare(fmt.Sprintf("show, planning %d steps", n), fmt.Sprintf("%d steps", sizes[i-1]), 10, 10, plan(n), plan(sizes[i-1])))
		}
	}
	return rows, nil
}

// manyTools locks, renews and asks for what is newer of a catalog's every tool, against a fifth
// of it; and tells how much memory the first takes at most.
func (b *workshop) manyTools(n int) ([]row, error) {
	for _, n := range []int{n / 5, n} {
		if err := b.catalog(n); err != nil {
			return nil, err
		}
		text := fmt.Sprintf("format = 1\nproject = \"heronweir\"\n[source.hut]\nkind = \"catalog\"\nurl = \"../catalog-%d\"\n[toolchain]\n", n)
		for i := range n {
			text += fmt.Sprintf("tool-%d = \"1\"\n", i)
		}
		if err := put(filepath.Join(b.path(fmt.Sprintf("all-%d", n)), "trammel.toml"), []byte(text)); err != nil {
			return nil, err
		}
	}
	in := func(n int, args ...string) func() error {
		return b.run(b.program, append([]string{"--dir", b.path(fmt.Sprintf("all-%d", n))}, args...)...)
	}
	anew := func(n int) func() error {
		return func() error {
			_ = os.Remove(filepath.Join(b.path(fmt.Sprintf("all-%d", n)), "trammel.lock"))
			return in(n, "lock")()
		}
	}
	dir := b.path(fmt.Sprintf("all-%d", n))
	unlocked := func() error { return os.RemoveAll(filepath.Join(dir, "trammel.lock")) }
	return []row{
		compare(fmt.Sprintf("lock, all of %d tools", n), fmt.Sprintf("of %d", n/5), 5, 5, anew(n), anew(n/5)),
		compare(fmt.Sprintf("newer, all of %d tools", n), fmt.Sprintf("of %d", n/5), 5, 5, in(n, "newer"), in(n/5, "newer")),
		b.memory(fmt.Sprintf("lock, %d tools", n), 250, b.path("home"), dir, unlocked, "lock"),
	}, nil
}

// readFiles is a look at two steps that read n files, against a walk that looks at each.
func (b *workshop) readFiles(n int) (row, error) {
	dir := b.path("reads")
	for i := range n / 100 {
		for j := range 100 {
			if err := put(filepath.Join(dir, fmt.Sprintf("lane-%d/%d/day-%d.csv", i%50, i, j)), fmt.Appendf(nil, "%d,%d,silverfin\n", i, j)); err != nil {
				return row{}, err
			}
		}
	}
	text := "format = 1\nproject = \"heronweir\"\n[step.count]\nrun = \"true\"\nreads = [\"**/*\"]\n[step.sum]\nrun = \"true\"\nreads = [\"**/*\"]\nneeds = [\"step.count\"]\n"
	if err := put(filepath.Join(dir, "trammel.toml"), []byte(text)); err != nil {
		return row{}, err
	}
	at := func(args ...string) func() error {
		return b.run(b.program, append([]string{"--dir", dir}, args...)...)
	}
	for _, args := range [][]string{{"lock"}, {"fit", "--approve"}, {"fit"}} {
		time.Sleep(time.Second) // stamps tell of files that were written a while ago
		if err := at(args...)(); err != nil {
			return row{}, err
		}
	}
	return compare(fmt.Sprintf("show, two steps that read %d files", n), "find, with a look at each", 2, 7, at("show"), b.run("find", dir, "-newermt", "2100-01-01")), nil
}

// steps writes and fits a project with n steps in a graph: each reads files of its
// own and needs two that come before it.
func (b *workshop) steps(n int) error {
	dir := b.path(fmt.Sprintf("steps-%d", n))
	text := "format = 1\nproject = \"heronweir\"\n"
	for i := range n {
		text += fmt.Sprintf("[step.count-%d]\nrun = \"true\"\nreads = [\"lane-%d/*.csv\"]\n", i, i)
		if i > 1 {
			text += fmt.Sprintf("needs = [\"step.count-%d\", \"step.count-%d\"]\n", i-1, i/2)
		}
		if err := put(filepath.Join(dir, fmt.Sprintf("lane-%d/day-%d.csv", i, i)), []byte("361,silverfin\n")); err != nil {
			return err
		}
	}
	if err := put(filepath.Join(dir, "trammel.toml"), []byte(text)); err != nil {
		return err
	}
	for _, args := range [][]string{{"lock"}, {"fit", "--approve"}} {
		if err := b.run(b.program, append([]string{"--dir", dir}, args...)...)(); err != nil {
			return err
		}
	}
	return nil
}

// inside runs the program in the project with a catalog of n tools.
func (b *workshop) inside(n int) func(args []string) func() error {
	dir := b.path(fmt.Sprintf("project-%d", n))
	return func(args []string) func() error {
		return b.run(b.program, append([]string{"--dir", dir}, args...)...)
	}
}

// catalog writes a catalog of n tiny tools in three versions each.
func (b *workshop) catalog(n int) error {
	var tools []standin.Tool
	for i := range n {
		t := standin.Tool{Name: fmt.Sprintf("tool-%d", i)}
		for v := range 3 {
			t.Archives = append(t.Archives, standin.TarGz(standin.File{Name: "bin/" + t.Name, Content: fmt.Sprintf("#!/bin/sh\necho %s 1.%d\n", t.Name, v), Mode: 0o755}))
		}
		tools = append(tools, t)
	}
	return standin.Publish(b.path(fmt.Sprintf("catalog-%d", n)), tools)
}

// declare writes, locks and fits a project that has some tools of the catalog of n,
// taken from all over it.
func (b *workshop) declare(name string, n, tools int) error {
	text := fmt.Sprintf("format = 1\nproject = \"heronweir\"\n[source.hut]\nkind = \"catalog\"\nurl = \"../catalog-%d\"\n[toolchain]\n", n)
	for i := range tools {
		text += fmt.Sprintf("tool-%d = \"1\"\n", i*(n/tools))
	}
	dir := b.path(name)
	if err := put(filepath.Join(dir, "trammel.toml"), []byte(text)); err != nil {
		return err
	}
	for _, args := range [][]string{{"lock"}, {"fit", "--approve"}} {
		if err := b.run(b.program, append([]string{"--dir", dir}, args...)...)(); err != nil {
			return err
		}
	}
	return nil
}

func put(path string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, content, 0o644)
}
