package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// editing are commands that change files which people write too.
var editing = [][]string{
	{"set", "weirs=1.0"}, {"set", "weirs=1"}, {"set", "fry=1.0"}, {"unset", "fry"}, {"lock"}, {"lock", "--renew"}, {"fit"},
	{"set", "--local", "fry=1"}, {"recall", "1", "--declaration"},
}

// edits has two commands at once change the declaration and the lock n times, while an editor saves the declaration
// again and again, and expects that nothing which was saved is lost: it is in the file, or in what a recall put aside.
func edits(root, program string, n int, seed uint64, say func(string)) error {
	w, err := newWorld(root, program)
	if err != nil {
		return err
	}
	defer w.end()
	if err := w.must([]string{"lock"}, []string{"fit", "--approve"}); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(seed, 0))
	saved := 0
	for round := range n {
		pair := [2][]string{editing[r.IntN(len(editing))], editing[r.IntN(len(editing))]}
		over := make(chan struct{})
		var wait sync.WaitGroup
		var outcomes [2]outcome
		var errs [2]error
		for i := range pair {
			wait.Go(func() { outcomes[i], errs[i] = w.try(pair[i]...) })
		}
		go func() { wait.Wait(); close(over) }()
		first := saved
		for going := true; going; {
			if err := w.save(fmt.Sprintf("# saved %d\n", saved)); err != nil {
				return err
			}
			saved++
			select {
			case <-over:
				going = false
			case <-time.After(time.Duration(1+r.IntN(12)) * time.Millisecond):
			}
		}
		for i := range pair {
			if errs[i] != nil {
				return errs[i]
			}
		}
		if err := w.kept(first, saved); err != nil {
			return fmt.Errorf("round %d, %v and %v: %w\n%s\n%s", round+1, pair[0], pair[1], err, outcomes[0].said, outcomes[1].said)
		}
		if (round+1)%100 == 0 {
			say(fmt.Sprintf("%d of %d rounds, %d saved, nothing lost", round+1, n, saved))
		}
		if round%20 == 19 { // back to a short file
			if err := w.put("trammel.toml", declaration); err != nil {
				return err
			}
			_ = os.Remove(filepath.Join(w.dir, "trammel.local.toml"))
			if err := w.must([]string{"lock"}, []string{"approve", "--yes"}); err != nil {
				return err
			}
			removeAll(filepath.Join(w.dir, ".trammel/locks"))
		}
	}
	return nil
}

// save is what an editor does: it reads the file, and puts a new one in its place.
func (w *world) save(line string) error {
	file := filepath.Join(w.dir, "trammel.toml")
	for {
		raw, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		before, err := os.Stat(file)
		if err != nil {
			return err
		}
		if err := os.WriteFile(file+"~", append(raw, line...), 0o644); err != nil {
			return err
		}
		// Editors ask when the file is another than the one that they read.
		if now, err := os.Stat(file); err != nil || !os.SameFile(now, before) {
			continue
		}
		return os.Rename(file+"~", file)
	}
}

// kept makes sure that what was saved is somewhere.
func (w *world) kept(from, to int) error {
	var all strings.Builder
	files, _ := filepath.Glob(filepath.Join(w.dir, ".trammel/locks/*.toml"))
	more, _ := filepath.Glob(filepath.Join(w.dir, ".trammel/*.toml"))
	for _, file := range append(append(files, more...), filepath.Join(w.dir, "trammel.toml")) {
		raw, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		all.Write(raw)
	}
	for i := from; i < to; i++ {
		if !strings.Contains(all.String(), fmt.Sprintf("# saved %d\n", i)) {
			return fmt.Errorf("what was saved as number %d is gone", i)
		}
	}
	return nil
}
