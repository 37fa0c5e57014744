package main

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
	"app.example/trammel/internal/demo"
	"app.example/trammel/internal/lacks"
)

// plug is a disk of its own, an ext4 in a file, whose power can be cut.
type plug struct {
	t         *testing.T
	image, at string
}

// newPlug makes one; where a test may not mount it is skipped.
func newPlug(t *testing.T) *plug {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("a disk of its own needs root")
	}
	for _, tool := range []string{"mkfs.ext4", "mount", "umount"} {
		if _, err := exec.LookPath(tool); err != nil {
			lacks.Program(t, tool)
		}
	}
	dir := t.TempDir()
	p := &plug{t, filepath.Join(dir, "disk"), filepath.Join(dir, "at")}
	if err := os.Mkdir(p.at, 0o755); err != nil {
		t.Fatal(err)
	}
	f, err := os.Create(p.image)
	if err == nil {
		err = f.Truncate(512 << 20)
		f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mkfs.ext4", "-q", "-F", p.image).CombinedOutput(); err != nil {
		t.Skipf("%v %s", err, out)
	}
	if out, err := exec.Command("mount", "-o", "loop", p.image, p.at).CombinedOutput(); err != nil {
		t.Skipf("this machine mounts nothing: %v %s", err, out)
	}
	t.Cleanup(func() { p.leave(); _ = exec.Command("umount", "-l", p.at).Run() })
	return p
}

// cut takes the power away: what is in memory and in no journal is lost (EXT4_IOC_SHUTDOWN of
// linux/fs/ext4, with EXT4_GOING_FLAGS_NOLOGFLUSH).
func (p *plug) cut() {
	p.t.Helper()
	f, err := os.Open(p.at)
	if err != nil {
		p.t.Fatal(err)
	}
	defer f.Close()
	const shutdown, withoutJournal = 0x8004587d, 2
	if err := unix.IoctlSetPointerInt(int(f.Fd()), shutdown, withoutJournal); err != nil {
		p.t.Skipf("this kernel cuts no power: %v", err)
	}
}

// leave ends what still uses the disk, all of which this test has started: the machine is off.
func (p *plug) leave() {
	procs, _ := filepath.Glob("/proc/[0-9]*")
	for _, proc := range procs {
		links, _ := filepath.Glob(proc + "/fd/*")
		for _, link := range append(links, proc+"/cwd", proc+"/exe", proc+"/root") {
			if to, err := os.Readlink(link); err == nil && strings.HasPrefix(to, p.at+"/") {
				if pid, err := strconv.Atoi(filepath.Base(proc)); err == nil && pid != os.Getpid() {
					_ = unix.Kill(pid, unix.SIGKILL)
				}
				break
			}
		}
	}
}

// again turns the machine on: the disk is what its journal says.
func (p *plug) again() {
	p.t.Helper()
	p.leave()
	// A process of another test may hold the old one in a mount namespace of its own; the file has
	// what had reached the disk, and is read as it is.
	if out, err := exec.Command("umount", "-l", p.at).CombinedOutput(); err != nil {
		p.t.Fatalf("%v %s", err, out)
	}
	next := filepath.Join(filepath.Dir(p.image), "disk-"+strconv.FormatInt(time.Now().UnixNano(), 36))
	if out, err := exec.Command("cp", "--sparse=always", p.image, next).CombinedOutput(); err != nil {
		p.t.Fatalf("%v %s", err, out)
	}
	if err := os.Remove(p.image); err != nil {
		p.t.Fatal(err)
	}
	p.image = next
	if out, err := exec.Command("mount", "-o", "loop", p.image, p.at).CombinedOutput(); err != nil {
		p.t.Fatalf("%v %s", err, out)
	}
}

// The power goes at any instant: what the disk holds then, the next commands mend by themselves.
func TestThePowerIsCutAtAnyInstant(t *testing.T) {
	linuxOnly(t)
	p := newPlug(t)
	t.Parallel()
	h := newHut(t, nil, "")
	h.dir, h.home = filepath.Join(p.at, "work", "heronweir"), filepath.Join(p.at, "home")
	h.env = append(h.env, "TRAMMEL_HOME="+h.home)
	if err := demo.Write(filepath.Dir(h.dir), engine); err != nil {
		t.Fatal(err)
	}
	h.ok("lock")
	h.ok("fit")
	unix.Sync()
	seed := uint64(time.Now().UnixNano())
	if text := os.Getenv("WEIR_SEED"); text != "" {
		seed, _ = strconv.ParseUint(text, 10, 64)
	}
	t.Logf("WEIR_SEED=%d", seed)
	dice := rand.New(rand.NewPCG(seed, 7))
	rounds := 10
	if n, err := strconv.Atoi(os.Getenv("WEIR_CUTS")); err == nil {
		rounds = n
	}
	asks := []string{"1.4", "1.3", "1.2"}
	lost := 0 // files that nobody waited for
	for i := range rounds {
		was := []string{"fit"}
		switch dice.IntN(6) {
		case 0:
			was = []string{"set", "sluice=" + asks[dice.IntN(3)]}
		case 1:
			was = []string{"start"}
		case 2:
			was = []string{"recall", "1", "--declaration"}
		case 3:
			was = []string{"sweep"}
		case 4:
			was = []string{"--bay", "trial", "start", "--approve"}
		default:
			h.try("set", "sluice="+asks[dice.IntN(3)])
			h.try("approve", "--yes")
			if dice.IntN(2) == 0 { // unpacked anew
				parts, _ := filepath.Glob(filepath.Join(h.home, "data/store/*-sluice-*"))
				for _, part := range parts {
					writable(part)
					_ = os.RemoveAll(part)
				}
			}
		}
		c := h.command(was...)
		c.Stdout, c.Stderr = io.Discard, io.Discard
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		after := time.Duration(dice.IntN(250)) * time.Millisecond
		time.Sleep(after)
		canary := filepath.Join(p.at, fmt.Sprintf("canary-%d", i))
		if err := os.WriteFile(canary, []byte("nobody waits for the disk"), 0o644); err != nil {
			t.Fatal(err)
		}
		p.cut()
		_ = c.Process.Kill()
		_ = c.Wait()
		p.again()
		if raw, err := os.ReadFile(canary); err != nil || len(raw) == 0 {
			lost++
		}
		step := fmt.Sprintf("round %d: %v, cut after %s", i, was, after)
		// Whatever has its name is whole.
		if _, err := declare.Read(filepath.Join(h.dir, "trammel.toml"), declare.Files{}); err != nil {
			t.Fatalf("%s: the declaration is %v", step, err)
		}
		if _, err := lock.ReadFile(filepath.Join(h.dir, "trammel.lock")); err != nil {
			t.Fatalf("%s: the lock is %v", step, err)
		}
		// And the usual commands make everything good, without being told what happened.
		for _, args := range [][]string{{"lock"}, {"approve", "--yes"}, {"fit"}, {"start"}, {"verify", "--deep"}, {"stop"}} {
			if o := h.try(args...); o.code != 0 {
				t.Fatalf("%s: trammel %v ends with %d\n%s%s", step, args, o.code, o.out, o.err)
			}
		}
		left, _ := filepath.Glob(filepath.Join(h.home, "state", "approvals", ".new-*"))
		if len(left) > 1 {
			t.Errorf("%s: it left %v", step, left)
		}
	}
	if lost == 0 {
		t.Error("the cuts lost nothing, so that they prove nothing")
	}
}
