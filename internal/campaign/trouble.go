package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// trouble is something that a machine does to a program, and what must hold then.
type trouble struct {
	name string
	do   func(w *world) error
}

var troubles = []trouble{
	{"the disk fills up while fitting", fullStore},
	{"the disk is full while locking", fullProject},
	{"a home that cannot be written", readOnlyHome},
	{"no home at all", noHome},
	{"every umask", umasks},
	{"the clock was set back", clockBack},
	{"two of everything at once", twice},
	{"an ordinary user does all of it", ordinaryUser},
	{"eight demos at once", demos},
}

// rounds is how often those troubles are made that come of many at once.
var rounds = 10

// demos runs the demo in eight homes at once, half of them an ordinary user's: they want the
// same ports, and none may take another's service for its own.
func demos(w *world) error {
	for round := range rounds {
		var wait sync.WaitGroup
		errs := make([]error, 8)
		for i := range errs {
			root := fmt.Sprintf("%s/demo-%d-%d", w.root, round, i)
			cmd := exec.Command(w.program, "demo", root+"/hut")
			cmd.Env = append(slices.Clone(w.env), "TRAMMEL_HOME="+root+"/home", "HOME="+root)
			if err := os.MkdirAll(root, 0o755); err != nil {
				return err
			}
			if i%2 == 1 && os.Getuid() == 0 {
				if err := os.Chown(root, 65534, 65534); err != nil {
					return err
				}
				cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			}
			cmd.Dir = root
			wait.Go(func() {
				out, err := cmd.CombinedOutput()
				if err != nil || strings.Contains(string(out), "  failed  ") {
					errs[i] = fmt.Errorf("round %d, demo %d: %v\n%s", round, i, err, out)
				}
				removeAll(root)
			})
		}
		wait.Wait()
		for _, err := range errs {
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// inSmall runs a shell script in a mount namespace of its own, where the folder at is a
// file system of some size.
func (w *world) inSmall(at, size, script string) (string, error) {
	if err := os.MkdirAll(at, 0o755); err != nil {
		return "", err
	}
	if err := exec.Command("unshare", "-Urm", "mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", at).Run(); err != nil {
		return "", notHere("no mount namespaces")
	}
	cmd := exec.Command("unshare", "-Urm", "sh", "-ec", `mount -t tmpfs -o "size=$1" tmpfs "$2"; `+script, "sh", size, at, w.program)
	cmd.Dir, cmd.Env = w.dir, w.env
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w\n%s", err, out)
	}
	return string(out), nil
}

func fullStore(w *world) error {
	if err := w.must([]string{"lock"}); err != nil {
		return err
	}
	// The catalog's tools need more; what is in the way goes, and all is well.
	out, err := w.inSmall(w.home(), "20m", `
		dd if=/dev/zero of="$2/filler" bs=1M count=16 2>/dev/null
		if "$3" fit --approve; then echo "it fitted into nothing"; exit 1; fi
		find "$2" -name ".new-*" -type f | sed "s/^/left: /"
		rm "$2/filler"
		mount -o remount,size=200m "$2"
		"$3" fit --approve && "$3" verify --deep`)
	if err != nil {
		return err
	}
	for _, line := range strings.Split(out, "\n") {
		if strings.HasPrefix(line, "left: ") {
			return fmt.Errorf("%s\n%s", line, out)
		}
	}
	if !strings.Contains(out, "disk is full") && !strings.Contains(out, "no space left") {
		return fmt.Errorf("nobody says that the disk is full:\n%s", out)
	}
	return nil
}

func fullProject(w *world) error {
	out, err := w.inSmall(filepath.Join(w.dir, "small"), "256k", `
		cp trammel.toml lanes.tmpl "$2"; mkdir "$2/in"; cp in/count "$2/in"
		sed -i 's#"\.\./#"../../#' "$2/trammel.toml"
		cd "$2"; "$3" lock; cp trammel.lock before
		dd if=/dev/zero of=filler bs=4k 2>/dev/null || true
		if "$3" lock --renew --as-of 2026-01-15; then echo "it locked onto nothing"; exit 1; fi
		cmp trammel.lock before
		rm filler; "$3" lock --renew --as-of 2026-01-15; "$3" lock --check --as-of 2026-01-15 || true
		ls -A | grep new- && exit 1 || true`)
	if err != nil {
		return err
	}
	if !strings.Contains(strings.ToLower(out), "no space") && !strings.Contains(out, "full") {
		return fmt.Errorf("nobody says that the disk is full:\n%s", out)
	}
	return nil
}

// someone is an ordinary user, when the caller can be another.
func (w *world) someone() error {
	if os.Getuid() != 0 {
		return nil
	}
	w.user = &syscall.Credential{Uid: 65534, Gid: 65534}
	return filepath.Walk(w.root, func(path string, _ os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, 65534, 65534)
	})
}

func readOnlyHome(w *world) error {
	if err := w.must([]string{"lock"}); err != nil {
		return err
	}
	if err := os.MkdirAll(w.home(), 0o755); err != nil {
		return err
	}
	if err := w.someone(); err != nil {
		return err
	}
	if err := removeUnder(w.home()); err != nil {
		return err
	}
	if err := os.Chmod(w.home(), 0o555); err != nil {
		return err
	}
	if err := w.refuses([]string{w.home(), "permission denied"}, "fit", "--approve"); err != nil {
		return err
	}
	if err := os.Chmod(w.home(), 0o755); err != nil {
		return err
	}
	return w.recovered()
}

func removeUnder(dir string) error {
	entries, err := os.ReadDir(dir)
	for _, e := range entries {
		removeAll(filepath.Join(dir, e.Name()))
	}
	return err
}

func noHome(w *world) error {
	w.env = slices.DeleteFunc(w.env, func(v string) bool {
		return strings.HasPrefix(v, "TRAMMEL_HOME=") || strings.HasPrefix(v, "HOME=")
	})
	if err := w.refuses([]string{"TRAMMEL_HOME"}, "fit", "--approve"); err != nil {
		return err
	}
	o, err := w.try("--version")
	if err == nil && o.code != 0 {
		err = o.wrong("needs a home")
	}
	return err
}

func umasks(w *world) error {
	for _, mask := range []string{"000", "077", "0777"} {
		fresh, err := newWorld(filepath.Join(w.root, mask), w.program)
		if err != nil {
			return err
		}
		if err := fresh.someone(); err != nil {
			return err
		}
		cmd := exec.Command("sh", "-ec", `umask "$1"; "$2" lock; "$2" fit --approve; "$2" verify --deep; "$2" start; "$2" stop`, "sh", mask, fresh.program)
		cmd.Dir, cmd.Env = fresh.dir, fresh.env
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: fresh.user}
		out, err := cmd.CombinedOutput()
		if mask == "0777" && err != nil {
			// Whoever may not read their own files is told so; nothing is broken by it.
			if !strings.Contains(strings.ToLower(string(out)), "permission denied") {
				return fmt.Errorf("umask %s: %w\n%s", mask, err, out)
			}
			err = nil
		}
		fresh.end()
		if err != nil {
			return fmt.Errorf("umask %s: %w\n%s", mask, err, out)
		}
		if err := fresh.storeIsWhole(); err != nil && mask != "0777" {
			return fmt.Errorf("umask %s: %w", mask, err)
		}
		// The store is nobody else's to write, whatever the mask.
		err = filepath.Walk(fresh.store(), func(path string, info os.FileInfo, err error) error {
			if err == nil && info.Mode()&os.ModeSymlink == 0 && filepath.Dir(path) != fresh.store() && info.Mode().Perm()&0o022 != 0 {
				return fmt.Errorf("umask %s: others may write %s", mask, path)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// clockBack gives files times that are yet to come, as after the clock was set back, and
// changes one without any change of its size and time.
func clockBack(w *world) error {
	if err := w.must([]string{"lock"}, []string{"fit", "--approve"}); err != nil {
		return err
	}
	ahead := time.Now().Add(26 * time.Hour).Truncate(time.Second)
	for _, name := range []string{"trammel.toml", "trammel.lock", "in/count"} {
		if err := os.Chtimes(filepath.Join(w.dir, name), ahead, ahead); err != nil {
			return err
		}
	}
	if err := w.must([]string{"fit", "--approve"}, []string{"verify", "--deep"}); err != nil {
		return err
	}
	if err := w.put("in/count", "silverfin 213\n"); err != nil { // as long as before
		return err
	}
	if err := os.Chtimes(filepath.Join(w.dir, "in/count"), ahead, ahead); err != nil {
		return err
	}
	o, err := w.try("verify")
	if err != nil {
		return err
	}
	if o.code != 3 || !strings.Contains(o.said, "due") {
		return o.wrong("does not see that a step's input changed")
	}
	if err := w.must([]string{"fit", "--approve"}); err != nil {
		return err
	}
	raw, err := os.ReadFile(filepath.Join(w.dir, "out/sum"))
	if err != nil || string(raw) != "silverfin 213\n" {
		return fmt.Errorf("the step left %q, %v", raw, err)
	}
	return nil
}

// twice runs every command twice at once, and some against each other.
func twice(w *world) error {
	if err := w.must([]string{"lock"}, []string{"approve", "--yes"}); err != nil {
		return err
	}
	for _, pair := range [][2][]string{
		{{"lock"}, {"lock"}}, {{"lock", "--renew"}, {"lock", "--renew", "--as-of", "2026-12-01"}},
		{{"fit"}, {"fit"}}, {{"start"}, {"start"}}, {{"verify"}, {"verify", "--deep"}}, {{"sweep"}, {"sweep"}},
		{{"start"}, {"stop"}}, {{"fit"}, {"sweep"}}, {{"fit"}, {"lock"}}, {{"start"}, {"fit"}}, {{"stop"}, {"stop"}},
		{{"clear", "--yes", "main"}, {"clear", "--yes", "main"}}, {{"clear", "--yes", "main"}, {"start"}}, {{"sweep"}, {"start"}},
		{{"export", "bundle", "--output", "../bundles/heronweir.bundle"}, {"export", "bundle", "--output", "../bundles/heronweir.bundle"}},
	} {
		for range 3 {
			if err := os.MkdirAll(filepath.Dir(w.bundle()), 0o755); err != nil {
				return err
			}
			var wait sync.WaitGroup
			var outcomes [2]outcome
			var errs [2]error
			for i := range pair {
				wait.Go(func() { outcomes[i], errs[i] = w.try(pair[i]...) })
			}
			wait.Wait()
			for i, o := range outcomes {
				if errs[i] != nil {
					return errs[i]
				}
				// One that stops or clears may end what the other starts; it says so.
				against := slices.ContainsFunc(pair[:], func(args []string) bool { return args[0] == "stop" || args[0] == "clear" })
				if o.code != 0 && !(against && o.code != 139) {
					return fmt.Errorf("beside %v: %w", pair[1-i], o.wrong("failed"))
				}
			}
			if err := w.promises(nil); err != nil {
				return fmt.Errorf("after %v and %v: %w", pair[0], pair[1], err)
			}
		}
	}
	if err := w.must([]string{"stop"}); err != nil {
		return err
	}
	if err := w.nobody(); err != nil {
		return err
	}
	return w.recovered()
}

func ordinaryUser(w *world) error {
	if os.Getuid() != 0 {
		return notHere("the caller is one")
	}
	if err := w.someone(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(w.bundle()), 0o777); err != nil {
		return err
	}
	if err := os.Chown(filepath.Dir(w.bundle()), 65534, 65534); err != nil {
		return err
	}
	return w.must([]string{"lock"}, []string{"fit", "--approve"}, []string{"verify", "--deep"}, []string{"start"}, []string{"verify"}, []string{"bays"},
		[]string{"export", "bundle", "--output", "../bundles/heronweir.bundle"}, []string{"stop"}, []string{"sweep"}, []string{"clear", "--yes", "main"})
}
