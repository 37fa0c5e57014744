package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"app.example/trammel/internal/core/written/lock"
)

// deed is one command that is killed, with what makes sure that it has work to do.
type deed struct {
	name   string
	args   []string
	before func(w *world, r *rand.Rand) error
	// victim is who is killed: the command itself, or what it left running.
	victim func(w *world, started int) int
}

// count is how a deed went.
type count struct {
	name          string
	killed, ended int
}

// deeds are all that change something on the disk or start something.
var deeds = []deed{
	{name: "fit, from nothing", args: []string{"fit", "--approve"}, before: func(w *world, _ *rand.Rand) error {
		return w.remove(filepath.Join(w.home(), "data"))
	}},
	{name: "fit, steps due", args: []string{"fit", "--approve"}, before: func(w *world, r *rand.Rand) error {
		return w.put("in/count", fmt.Sprintf("silverfin %d\n", r.IntN(1000)))
	}},
	{name: "fit, mending", args: []string{"fit"}, before: func(w *world, r *rand.Rand) error {
		parts, _ := filepath.Glob(filepath.Join(w.store(), "*-weirs-1.*/share/00/000.txt"))
		for _, file := range parts {
			_ = os.Chmod(filepath.Dir(file), 0o755)
			if err := os.Remove(file); err != nil {
				return err
			}
		}
		o, err := w.try("verify") // which marks it
		if err == nil && o.code != 3 {
			err = o.wrong("does not see a missing file")
		}
		return err
	}},
	{name: "fit, a param changed", args: []string{"fit", "--approve"}, before: func(w *world, r *rand.Rand) error {
		return w.put("lanes.tmpl", fmt.Sprintf("lanes = {{ .param.lanes }} # %d\n", r.IntN(1000)))
	}},
	{name: "lock --renew", args: []string{"lock", "--renew"}, before: (*world).olderLock},
	{name: "lock --as-of", args: []string{"lock", "--renew", "--as-of", "2026-01-15"}},
	{name: "sweep", args: []string{"sweep"}, before: func(w *world, r *rand.Rand) error {
		// Everything that only the older lock names is of no use any more, twice over.
		if err := w.olderLock(r); err != nil {
			return err
		}
		if err := w.must([]string{"fit", "--approve"}, []string{"lock", "--renew"}, []string{"fit", "--approve"}); err != nil {
			return err
		}
		if err := w.put("trammel.toml", strings.Replace(declaration, "[variables]\n", fmt.Sprintf("[variables]\nDAY = \"%d\"\n", r.IntN(1000)), 1)); err != nil {
			return err
		}
		return w.must([]string{"lock"}, []string{"fit", "--approve"})
	}},
	{name: "verify --deep", args: []string{"verify", "--deep"}},
	{name: "export bundle", args: []string{"export", "bundle", "--output", "../bundles/heronweir.bundle"}, before: func(w *world, r *rand.Rand) error {
		if r.IntN(2) == 0 {
			os.Remove(w.bundle())
		}
		return os.MkdirAll(filepath.Dir(w.bundle()), 0o755)
	}},
	{name: "fit --bundle", args: []string{"fit", "--approve", "--bundle", "../bundles/heronweir.bundle"}, before: func(w *world, _ *rand.Rand) error {
		if err := w.must([]string{"export", "bundle", "--output", "../bundles/heronweir.bundle"}); err != nil {
			return err
		}
		return w.remove(w.home() + "/data")
	}},
	{name: "start", args: []string{"start"}},
	{name: "the supervisor", args: []string{"start"}, victim: func(w *world, _ int) int {
		if list := w.supervisors(); len(list) > 0 {
			return list[0]
		}
		return 0
	}},
	{name: "stop", args: []string{"stop"}, before: func(w *world, _ *rand.Rand) error { return w.must([]string{"start"}) }},
	{name: "clear", args: []string{"clear", "--yes", "main"}, before: func(w *world, _ *rand.Rand) error { return w.must([]string{"start"}) }},
}

// olderLock resolves as of a day before the newest releases.
func (w *world) olderLock(*rand.Rand) error {
	return w.must([]string{"lock", "--renew", "--as-of", "2026-01-15"})
}

// killing kills n commands, each at a random instant of the time that it takes, and
// looks at every promise after each.
func (w *world) killing(r *rand.Rand, n int, say func(string)) ([]count, error) {
	if err := w.must([]string{"lock"}, []string{"fit", "--approve"}, []string{"verify", "--deep"}); err != nil {
		return nil, err
	}
	counts := make([]count, len(deeds))
	typical := make([]time.Duration, len(deeds))
	for i, d := range deeds { // once to its end, to see how long it takes
		counts[i].name, typical[i] = d.name, 200*time.Millisecond
		if n <= len(deeds) {
			continue // a short campaign guesses
		}
		took, err := w.whole(d, r)
		if err != nil {
			return counts, fmt.Errorf("%s, not killed: %w", d.name, err)
		}
		typical[i] = took
	}
	for round := range n {
		i := round % len(deeds)
		d := deeds[i]
		killed, err := w.kill(d, r, time.Duration(r.Float64()*1.1*float64(typical[i])))
		if err != nil {
			return counts, fmt.Errorf("kill %d, %s: %w", round+1, d.name, err)
		}
		if killed {
			counts[i].killed++
		} else {
			counts[i].ended++
		}
		if (round+1)%100 == 0 {
			say(fmt.Sprintf("%d of %d, every promise held", round+1, n))
		}
	}
	// In the end nothing is left over that a sweep does not take.
	if err := w.must([]string{"fit", "--approve"}, []string{"sweep"}); err != nil {
		return counts, err
	}
	left, _ := filepath.Glob(filepath.Join(w.store(), ".new-*"))
	old, _ := filepath.Glob(filepath.Join(w.store(), ".old-*"))
	if left = append(left, old...); len(left) > 0 {
		return counts, fmt.Errorf("a sweep leaves %s", left[0])
	}
	return counts, nil
}

// whole does a deed to its end.
func (w *world) whole(d deed, r *rand.Rand) (time.Duration, error) {
	if d.before != nil {
		if err := d.before(w, r); err != nil {
			return 0, err
		}
	}
	start := time.Now()
	if err := w.must(d.args); err != nil {
		return 0, err
	}
	took := time.Since(start)
	if err := w.must([]string{"stop"}); err != nil {
		return 0, err
	}
	return took, w.recovered()
}

// kill begins a deed, kills it after a while, and looks.
func (w *world) kill(d deed, r *rand.Rand, after time.Duration) (killed bool, err error) {
	if d.before != nil {
		if err := d.before(w, r); err != nil {
			return false, err
		}
	}
	locks, err := w.locks(d)
	if err != nil {
		return false, err
	}
	cmd, said := w.command(d.args...)
	if err := cmd.Start(); err != nil {
		return false, err
	}
	time.Sleep(after)
	victim := cmd.Process.Pid
	if d.victim != nil {
		victim = d.victim(w, victim)
	}
	if victim != 0 {
		_ = syscall.Kill(victim, syscall.SIGKILL)
	}
	_ = cmd.Wait()
	killed = !cmd.ProcessState.Exited() || d.victim != nil && victim != 0
	if err := w.noOrphans(); err != nil {
		return killed, fmt.Errorf("%w\nIt had said: %s", err, firstLine(said.String()))
	}
	if err := w.promises(locks); err != nil {
		return killed, err
	}
	if slices.Contains([]string{"start", "the supervisor", "stop", "clear"}, d.name) {
		// What runs can be seen and stopped; what was half cleared can be cleared.
		if err := w.must([]string{"bays"}, []string{"stop"}); err != nil {
			return killed, err
		}
		if d.name == "clear" {
			if _, err := w.try("clear", "--yes", "main"); err != nil {
				return killed, err
			}
		}
	}
	if err := w.nobody(); err != nil {
		return killed, fmt.Errorf("after a stop: %w", err)
	}
	return killed, w.recovered()
}

// locks are the ids that the lock may have after a deed: the one before it, and the ones
// that the commands of this campaign write.
func (w *world) locks(d deed) (map[lock.ID]bool, error) {
	before, err := lock.Read(w.dir)
	if err != nil {
		return nil, err
	}
	if d.args[0] != "lock" {
		return map[lock.ID]bool{before.ID(): true}, nil
	}
	// The same command on a copy of the project tells what it would write.
	copied := *w
	copied.dir = filepath.Join(w.root, "copy")
	defer os.RemoveAll(copied.dir)
	for _, name := range []string{"trammel.toml", "trammel.lock", "lanes.tmpl", "in/count"} {
		raw, err := os.ReadFile(filepath.Join(w.dir, name))
		if err != nil {
			return nil, err
		}
		if err := copied.put(name, string(raw)); err != nil {
			return nil, err
		}
	}
	if err := copied.must(d.args); err != nil {
		return nil, err
	}
	after, err := lock.Read(copied.dir)
	if err != nil {
		return nil, err
	}
	return map[lock.ID]bool{before.ID(): true, after.ID(): true}, nil
}
