//go:build linux

package within

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"app.example/trammel/internal/core/kernel/unix"
)

// played forks a process that plays a program and then a command, and waits for it.
func played(t *testing.T, p *program, closed bool, argv ...string) (status unix.WaitStatus, began error) {
	t.Helper()
	if err := Given(); err != nil {
		t.Skip(err)
	}
	paths := []string{argv[0]}
	p.files, p.argv, p.env = p.texts(paths)[:1], p.texts(argv), p.texts(os.Environ())
	e, err := enter(p, View{Closed: closed})
	if err != nil {
		t.Fatal(err)
	}
	defer e.Close()
	e.files, e.argv = paths, argv
	began = e.Began()
	status, err = e.Wait()
	if err != nil {
		t.Fatal(err)
	}
	return status, began
}

// A call is made when it is to be, and one that fails is told, and nothing after it is done.
func TestAForkedProcessMakesItsCallsInOrder(t *testing.T) {
	for _, closed := range []bool{false, true} {
		dir := t.TempDir()
		at := func(name string) string { return filepath.Join(dir, name) }
		p := newProgram()
		p.mapped()
		there, missing := p.slot(), p.slot()
		p.do("opening a folder", syscall.SYS_OPENAT, atFolder, p.text(dir), syscall.O_RDONLY|syscall.O_CLOEXEC, 0).to = there
		c := p.do("opening nothing", syscall.SYS_OPENAT, atFolder, p.text(at("nothing")), syscall.O_RDONLY, 0)
		c.to, c.may[0] = missing, uintptr(syscall.ENOENT)
		below := p.do("a folder below one that is open", syscall.SYS_MKDIRAT, 0, p.text("from"), 0o755)
		below.from = there
		p.folder("", at("given")).given = there
		p.folder("", at("not given")).given = missing
		p.folder("", at("unless")).unless = missing
		p.folder("", at("not unless")).unless = there
		p.folder("", at("from")) // it is there, which is no error
		p.write(at("file"), syscall.O_WRONLY|syscall.O_CREAT|syscall.O_EXCL, "silverfin\n")
		status, err := played(t, p, closed, "/bin/sh", "-c", "exit 7")
		if err != nil || status.ExitStatus() != 7 {
			t.Errorf("closed %v: it ended with %v, %v", closed, status, err)
		}
		for name, wanted := range map[string]bool{"from": true, "given": true, "not given": false, "unless": true, "not unless": false} {
			if _, err := os.Stat(at(name)); (err == nil) != wanted {
				t.Errorf("closed %v: %q is there: %v", closed, name, err == nil)
			}
		}
		if text, err := os.ReadFile(at("file")); string(text) != "silverfin\n" {
			t.Errorf("closed %v: the file has %q, %v", closed, text, err)
		}

		p = newProgram()
		p.mapped()
		p.do("going nowhere", syscall.SYS_CHDIR, p.text(at("nowhere")))
		p.folder("", at("after"))
		status, err = played(t, p, closed, "/bin/sh", "-c", "exit 7")
		if !errors.Is(err, syscall.ENOENT) || !strings.Contains(err.Error(), "going nowhere") || status.ExitStatus() != 126 {
			t.Errorf("closed %v: a call that fails ends with %v, %v", closed, status, err)
		}
		if _, err := os.Stat(at("after")); err == nil {
			t.Errorf("closed %v: it went on after a call that failed", closed)
		}

		for _, x := range []struct{ file, text, says string }{
			{"no-command", "", "no command"}, {"not-executable", "x", "cannot be started"}, {"script", "#!/no/such/interpreter\n", "it is a script for /no/such/interpreter"},
		} {
			mode := os.FileMode(0o755)
			if x.file == "not-executable" {
				mode = 0o644
			}
			if x.text != "" {
				if err := os.WriteFile(at(x.file), []byte(x.text), mode); err != nil {
					t.Fatal(err)
				}
			}
			p := newProgram()
			p.mapped()
			if _, err := played(t, p, closed, at(x.file)); err == nil || !strings.Contains(err.Error(), x.says) {
				t.Errorf("closed %v, %s: %v", closed, x.file, err)
			}
		}
	}
}

// The command's end is the end of all that it started, and of a signal it is told as one.
func TestAClosedViewEndsWithItsCommand(t *testing.T) {
	p := newProgram()
	p.mapped()
	file := filepath.Join(t.TempDir(), "late")
	status, err := played(t, p, true, "/bin/sh", "-c", "(sleep 1; : > "+file+") & exit 3")
	if err != nil || status.ExitStatus() != 3 {
		t.Errorf("%v, %v", status, err)
	}
	p = newProgram()
	p.mapped()
	if status, err := played(t, p, true, "/bin/sh", "-c", "kill -KILL $$"); err != nil || status.ExitStatus() != 128+9 {
		t.Errorf("%v, %v", status, err)
	}
	p = newProgram()
	p.mapped()
	// What is sent to the init from inside is nothing to it.
	if status, err := played(t, p, true, "/bin/sh", "-c", "kill -KILL 1; kill -TERM 1; kill -CHLD 1; exit 4"); err != nil || status.ExitStatus() != 4 {
		t.Errorf("%v, %v", status, err)
	}
	if _, err := os.Stat(file); err == nil {
		t.Error("what the command started outlived it")
	}
}

// A lock that this process gives up is free, whatever runs in a view meanwhile; what a command is to
// inherit it gets.
func TestAForkedProcessHoldsNothingOfThisOne(t *testing.T) {
	if err := Given(); err != nil {
		t.Skip(err)
	}
	for _, closed := range []bool{false, true} {
		file := filepath.Join(t.TempDir(), "lock")
		held, err := os.Create(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := syscall.Flock(int(held.Fd()), syscall.LOCK_EX); err != nil {
			t.Fatal(err)
		}
		read, write, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		p := newProgram()
		p.mapped()
		p.standard[0] = int(read.Fd())
		paths := []string{"/bin/cat"}
		p.files, p.argv, p.env = p.texts(paths)[:1], p.texts([]string{"cat"}), p.texts(nil)
		e, err := enter(p, View{Closed: closed})
		if err != nil {
			t.Fatal(err)
		}
		e.files, e.argv = paths, paths
		if err := e.Began(); err != nil {
			t.Fatal(err)
		}
		held.Close()
		read.Close()
		again, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := syscall.Flock(int(again.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
			t.Errorf("closed %v: the lock is held still: %v", closed, err)
		}
		again.Close()
		write.Close() // the last end of it, so that the command comes to the end of its input
		if status, err := e.Wait(); err != nil || status.ExitStatus() != 0 {
			t.Errorf("closed %v: %v %v", closed, status, err)
		}
		e.Close()
	}
}
