package disk

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// A reader sees the whole old content or the whole new one, and what is left is
// one file.
func TestWriteIsWholeOrNotAtAll(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "er", "file")
	contents := []string{strings.Repeat("a", 100_000), strings.Repeat("b", 50)}
	if err := Write(path, []byte(contents[0]), 0o600); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for i := range 4 {
		wait.Go(func() {
			for range 20 {
				if err := Write(path, []byte(contents[i%2]), 0o600); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wait.Go(func() {
		for range 500 {
			b, err := os.ReadFile(path)
			if err != nil || string(b) != contents[0] && string(b) != contents[1] {
				t.Errorf("a reader saw %d bytes, %v", len(b), err)
				return
			}
		}
	})
	wait.Wait()
	if left, _ := os.ReadDir(filepath.Dir(path)); len(left) != 1 {
		t.Errorf("left over: %v", left)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("the mode is %v", info.Mode())
	}
}

func TestAFailedWriteLeavesTheOldContent(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "file")
	if err := os.MkdirAll(filepath.Join(path, "in the way"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := Write(path, []byte("x"), 0o644); err == nil {
		t.Error("a folder was replaced by a file")
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("left over: %v", left)
	}
}

func TestLocksKeepOthersOut(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	unlock, err := TryLock(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := TryLock(path); !errors.Is(err, ErrHeld) {
		t.Errorf("taken twice: %v", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if _, err := Lock(ctx, path); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("waiting with a limit: %v", err)
	}
	if _, err := LockShared(ctx, path); err == nil {
		t.Error("shared while somebody has it alone")
	}
	unlock()
	one, err := LockShared(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	two, err := LockShared(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := TryLock(path); !errors.Is(err, ErrHeld) {
		t.Errorf("alone while two share it: %v", err)
	}
	one()
	two()
	if unlock, err = TryLock(path); err != nil {
		t.Fatal(err)
	}
	unlock()
}

func TestStampsFindEveryChange(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	if (StampOf(path) != Stamp{}) {
		t.Error("a missing file has a stamp")
	}
	os.WriteFile(path, []byte("abc"), 0o644)
	first := StampOf(path)
	info, _ := os.Stat(path)
	time.Sleep(20 * time.Millisecond) // past the grain of the kernel's clock
	os.WriteFile(path, []byte("abd"), 0o644)
	os.Chtimes(path, info.ModTime(), info.ModTime()) // the same size and time
	if StampOf(path) == first {
		t.Error("a change behind the old size and time was not seen")
	}
}

func TestRemoveAllTakesReadOnlyTrees(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "store")
	os.MkdirAll(filepath.Join(dir, "a/b"), 0o755)
	os.WriteFile(filepath.Join(dir, "a/b/c"), nil, 0o444)
	os.Chmod(filepath.Join(dir, "a/b"), 0o555)
	os.Chmod(filepath.Join(dir, "a"), 0o555)
	if err := RemoveAll(dir); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(dir); !os.IsNotExist(err) {
		t.Error("it is still there")
	}
}

// What is being written has no name that a kill could leave behind.
func TestAnUnfinishedFileHasNoName(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "file")
	for _, before := range []string{"", "old"} {
		f, err := Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.WriteString("new"); err != nil {
			t.Fatal(err)
		}
		left, _ := os.ReadDir(dir)
		if probe := unlinked(dir); probe != nil { // this file system can do it
			probe.Close()
			if want := min(len(before), 1); len(left) != want {
				t.Errorf("while it is written: %v", left)
			}
		}
		if err := f.Commit(0o640); err != nil {
			t.Fatal(err)
		}
		f.Drop()
		raw, _ := os.ReadFile(path)
		if info, err := os.Stat(path); err != nil || string(raw) != "new" || info.Mode().Perm() != 0o640 {
			t.Errorf("%q, %v", raw, err)
		}
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 {
		t.Errorf("left over: %v", left)
	}
}
