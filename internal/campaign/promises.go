package main

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// promises looks whether everything on the disk is whole, whatever was killed. It does
// not ask the program.
func (w *world) promises(locks map[lock.ID]bool) error {
	for _, check := range []func() error{w.storeIsWhole, func() error { return w.lockIsKnown(locks) }, w.marksAreTrue, w.recordsAreWhole, w.nothingIsHalfMade, w.bundleIsWhole} {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

// storeIsWhole: a part that has its name has exactly the files of its manifest, byte by
// byte, and the manifest has the digest that the name begins with.
func (w *world) storeIsWhole() error {
	entries, err := os.ReadDir(w.store())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		path := filepath.Join(w.store(), e.Name())
		if _, err := os.Stat(path + ".damaged"); err == nil {
			continue // damaged on purpose, found, and not mended yet
		}
		raw, err := os.ReadFile(path + ".manifest")
		if err != nil {
			return fmt.Errorf("the part %s has no manifest", e.Name())
		}
		want, err := tree.Parse(raw)
		if err != nil || !strings.HasPrefix(e.Name(), strings.TrimPrefix(string(tree.DigestOf(raw)), "blake3:")[:32]) {
			return fmt.Errorf("the manifest of %s has another digest: %v", e.Name(), err)
		}
		have, err := tree.Scan(path, true)
		if err != nil {
			return err
		}
		if d := tree.Compare(want, have, true); len(d) > 0 {
			return fmt.Errorf("the part %s is not whole: %v", e.Name(), d[0])
		}
	}
	return nil
}

// lockIsKnown: the lock is one that some command wrote whole.
func (w *world) lockIsKnown(locks map[lock.ID]bool) error {
	l, err := lock.Read(w.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the lock is broken: %w", err)
	}
	if len(locks) > 0 && !locks[l.ID()] {
		return fmt.Errorf("the lock %s is none that a command would write", l.ID())
	}
	return nil
}

// marksAreTrue: a step that counts as done left all that it makes.
func (w *world) marksAreTrue() error {
	for name, last := range map[string]string{"load": "end", "sum": ""} {
		if _, err := os.Stat(filepath.Join(w.dir, ".trammel/steps", name+".json")); err != nil {
			continue
		}
		file := map[string]string{"load": "out/load", "sum": "out/sum"}[name]
		raw, err := os.ReadFile(filepath.Join(w.dir, file))
		if err != nil || !strings.HasSuffix(strings.TrimSpace(string(raw)), last) {
			return fmt.Errorf("the step %s counts as done, and it left %q, %v", name, raw, err)
		}
	}
	return nil
}

// recordsAreWhole: every record is JSON to its end.
func (w *world) recordsAreWhole() error {
	for _, root := range []string{filepath.Join(w.home(), "state"), filepath.Join(w.dir, ".trammel")} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || filepath.Ext(path) != ".json" {
				return nil
			}
			if raw, err := os.ReadFile(path); err == nil && !json.Valid(raw) {
				return fmt.Errorf("the record %s is not whole: %.80q", path, raw)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// nothingIsHalfMade: no file without its name lies among a person's or Trammel's own.
// One that was just taking its name is whole, and goes with the next that writes it. Folders that the store and the frames were filling are theirs to take away.
func (w *world) nothingIsHalfMade() error {
	for _, root := range []string{w.dir, filepath.Join(w.home(), "state"), filepath.Join(w.home(), "cache"), filepath.Join(w.root, "bundles")} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() && strings.HasPrefix(d.Name(), ".new-") && !strings.HasSuffix(d.Name(), disk.Instant) {
				return fmt.Errorf("%s was left behind", path)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *world) bundle() string { return filepath.Join(w.root, "bundles/heronweir.bundle") }

// bundleIsWhole: a bundle that is there can be read to its end.
func (w *world) bundleIsWhole() error {
	f, err := os.Open(w.bundle())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	r := tar.NewReader(f)
	for n := 0; ; n++ {
		_, err := r.Next()
		if err == io.EOF && n > 0 {
			return nil
		}
		if err == nil {
			_, err = io.Copy(io.Discard, r)
		}
		if err != nil {
			return fmt.Errorf("the bundle is cut short after %d entries: %w", n, err)
		}
	}
}

// noOrphans: no process is left but a supervisor and what it looks after.
func (w *world) noOrphans() error {
	return eventually(func() error {
		for _, pid := range w.processes() {
			if !w.lookedAfter(pid) {
				raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
				return fmt.Errorf("the process %d is left: %q", pid, raw)
			}
		}
		return nil
	})
}

// lookedAfter tells whether a process is a supervisor or below one.
func (w *world) lookedAfter(pid int) bool {
	for range 20 {
		if slices.Contains(w.supervisors(), pid) {
			return true
		}
		if pid = parentOf(pid); pid <= 1 {
			return false
		}
	}
	return false
}

func (w *world) supervisors() []int {
	var out []int
	for _, pid := range w.processes() {
		raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if strings.HasPrefix(string(raw), service.SupervisorName+"\x00") {
			out = append(out, pid)
		}
	}
	return out
}

// nobody: no process of this world runs at all.
func (w *world) nobody() error {
	return eventually(func() error {
		if left := w.processes(); len(left) > 0 {
			raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", left[0]))
			return fmt.Errorf("%d processes are left, one of them %q", len(left), raw)
		}
		return nil
	})
}

// recovered: the usual commands make everything good again, without being told what
// happened.
func (w *world) recovered() error {
	deadline := time.Now().Add(2 * time.Minute)
	if err := w.must([]string{"lock"}, []string{"fit", "--approve"}); err != nil {
		return err
	}
	o, err := w.try("verify", "--deep")
	if err == nil && o.code != 0 {
		err = o.wrong("finds drift after a fit")
	}
	if err == nil && time.Now().After(deadline) {
		err = errors.New("recovering takes minutes")
	}
	return err
}
