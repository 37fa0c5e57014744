package main

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"app.example/trammel/internal/lacks"
)

// listing is every path of a folder with what it is, which tells whether anything changed.
func listing(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err == nil {
			to, _ := os.Readlink(path)
			size := info.Size()
			if info.IsDir() {
				size = 0
			}
			fmt.Fprintln(&b, strings.TrimPrefix(path, dir), info.Mode(), size, to)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// released is the folder of a release of this very source for this platform, signed.
func released(t *testing.T, version string) (folder, key string) {
	t.Helper()
	folder = t.TempDir()
	key = filepath.Join(t.TempDir(), "release-key")
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		lacks.Program(t, "ssh-keygen")
	}
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	make := exec.Command("../../.ci/release", version, folder, "--only", runtime.GOOS+"/"+runtime.GOARCH, "--key", key)
	if out, err := make.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return folder, key
}

func TestAReleaseIsInstalledByTwoLinesAndRemovedToTheLastFile(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	folder, key := released(t, "0.9.1")
	archive := filepath.Join(folder, "trammel-"+runtime.GOOS+"-"+runtime.GOARCH+".tar.gz")
	content, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	sums, _ := os.ReadFile(filepath.Join(folder, "SHA256SUMS"))
	if want := fmt.Sprintf("%x  %s\n", sha256.Sum256(content), filepath.Base(archive)); string(sums) != want {
		t.Errorf("the checksums are %q, not %q", sums, want)
	}
	public, _ := os.ReadFile(key + ".pub")
	signers := filepath.Join(filepath.Dir(key), "signers")
	os.WriteFile(signers, []byte("releases "+string(public)), 0o644)
	check := exec.Command("ssh-keygen", "-Y", "verify", "-f", signers, "-I", "releases", "-n", "trammel-release", "-s", filepath.Join(folder, "SHA256SUMS.sig"))
	check.Stdin = strings.NewReader(string(sums))
	if out, err := check.CombinedOutput(); err != nil {
		t.Errorf("the signature: %v %s", err, out)
	}

	// A bare account: a home folder, the system's own programs, no Go.
	h := newHut(t, nil, "")
	if os.Getuid() == 0 {
		asOrdinaryUser(t, h)
	}
	account := filepath.Join(h.dir, "account")
	for _, d := range []string{account, filepath.Join(account, "tmp")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
		os.Chown(d, 65534, 65534)
	}
	bashrc := "alias ll='ls -l'\neval \"$(trammel follow bash)\"\nexport HUT=lab\n"
	os.WriteFile(filepath.Join(account, ".bashrc"), []byte(bashrc), 0o640)
	os.Chown(filepath.Join(account, ".bashrc"), 65534, 65534)
	os.Chmod(folder, 0o755)
	shell := func(script string) (string, error) {
		c := exec.Command("/bin/sh", "-c", script)
		c.Dir = account
		c.Env = []string{"HOME=" + account, "PATH=" + account + "/.local/bin:/usr/bin:/bin", "TMPDIR=" + account + "/tmp", "SHELL=/bin/bash", "TERM=dumb", "NO_COLOR=1"}
		if h.user != nil {
			c.SysProcAttr = &syscall.SysProcAttr{Credential: h.user}
		}
		out, err := c.CombinedOutput()
		return string(out), err
	}
	ok := func(script string) string {
		t.Helper()
		out, err := shell(script)
		if err != nil {
			t.Fatalf("%s\n%v\n%s", script, err, out)
		}
		return out
	}
	before := listing(t, account)
	ok("tar xzf " + archive + " && ./" + strings.TrimSuffix(filepath.Base(archive), ".tar.gz") + "/trammel install")
	ok("rm -r trammel-*")
	if out := ok("trammel version"); !strings.Contains(out, "0.9.1") || !strings.Contains(out, account+"/.local/bin/trammel") {
		t.Errorf("trammel version says\n%s", out)
	}
	page, _ := os.ReadFile(filepath.Join(account, ".local/share/man/man1/trammel.1"))
	for _, words := range []string{".SS start", ".SS verify", ".SH EXIT STATUS", "\\-\\-older\\-than"} {
		if !strings.Contains(string(page), words) {
			t.Errorf("the manual page has no %q", words)
		}
	}
	ok("trammel demo")

	// Installed anew while services run: they go on, and the new program knows them.
	ok("cd tmp/trammel-demo-*/heronweir && trammel start && trammel install && trammel show")
	if out := ok("cd tmp/trammel-demo-*/heronweir && trammel show"); strings.Count(out, "ready") < 3 {
		t.Errorf("after an upgrade:\n%s", out)
	}
	ok("mkdir -p .config/trammel && echo 'format = 1' > .config/trammel/default.toml")

	with := listing(t, account)
	out := ok("trammel remove --print")
	for _, words := range []string{"running", "ledger", "data", ".bashrc:2", "settings", "default.toml", ".trammel", ".local/bin/trammel"} {
		if !strings.Contains(out, words) {
			t.Errorf("remove --print has no %q:\n%s", words, out)
		}
	}
	if now := listing(t, account); now != with {
		t.Error("listing what would be removed changed something")
	}
	if out, err := shell("trammel remove </dev/null"); err == nil || !strings.Contains(out, "--yes") || listing(t, account) != with {
		t.Errorf("remove without anybody to ask: %v\n%s", err, out)
	}
	var said struct {
		Removed bool
		Things  []struct{ Kind, Path string }
	}
	if err := json.Unmarshal([]byte(ok("trammel remove --yes --json 2>/dev/null")), &said); err != nil || !said.Removed || len(said.Things) < 10 {
		t.Errorf("%v %+v", err, said)
	}
	ok("find tmp -name .trammel -exec false {} +")
	if text, _ := os.ReadFile(filepath.Join(account, ".bashrc")); string(text) != "alias ll='ls -l'\nexport HUT=lab\n" {
		t.Errorf("the start-up file is\n%s", text)
	}
	// What people write stays: the example's folder, and the rest of the start-up file.
	ok("rm -r tmp/trammel-demo-*")
	os.WriteFile(filepath.Join(account, ".bashrc"), []byte(bashrc), 0o640)
	if now := listing(t, account); now != before {
		t.Errorf("after removing there is\n%s\nand before there was\n%s", now, before)
	}
}

func TestRemovingIsCarriedOnWhereItWasKilled(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[service.ledger]\nrun = \"sleep 300\"\n")
	h.ok("install", "--prefix", filepath.Join(h.dir, "there"))
	h.ok("lock")
	h.ok("start")
	// What somebody else keeps in the same folders is theirs.
	theirs := filepath.Join(h.home, "data", "passings.csv")
	if err := os.WriteFile(theirs, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if _, err := os.Stat(theirs); err != nil {
			t.Error("what was not Trammel's is gone")
		}
	}()
	// All that a kill between two of its acts can leave: each thing gone, in the order of going.
	for i := 0; ; i++ {
		var said struct {
			Things []struct {
				Kind, Path string
			}
		}
		out := h.ok("remove", "--print", "--json")
		if err := json.Unmarshal([]byte(out), &said); err != nil {
			t.Fatal(err)
		}
		if len(said.Things) == 0 || i == 20 {
			break
		}
		first := said.Things[0]
		if first.Path == filepath.Join(h.home, "data") { // as remove itself does it
			h.ok("remove", "--yes")
			break
		}
		switch first.Kind {
		case "running":
			h.ok("stop")
		default:
			if first.Path == filepath.Join(h.home, "state") {
				h.ok("remove", "--yes")
				continue
			}
			if err := os.RemoveAll(first.Path); err != nil {
				writable(first.Path)
				os.RemoveAll(first.Path)
			}
		}
	}
	for _, gone := range []string{filepath.Join(h.home, "state"), filepath.Join(h.home, "cache"), filepath.Join(h.home, "data", "store"), filepath.Join(h.dir, "there"), filepath.Join(h.dir, ".trammel")} {
		if _, err := os.Lstat(gone); err == nil {
			t.Errorf("%s is still there:\n%s", gone, listing(t, gone))
		}
	}
	if _, err := os.Stat(filepath.Join(h.dir, "trammel.lock")); err != nil {
		t.Error("the project's lock is gone, too")
	}
}

func TestCompletionsAreReadByTheirShells(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n\n[service.board]\nrun = \"true\"\n\n[service.ledger]\nrun = \"true\"\n")
	h.ok("install", "--prefix", filepath.Join(h.dir, "there"))
	share := filepath.Join(h.dir, "there", "share")
	for shell, script := range map[string]string{
		"fish": "set -p fish_complete_path " + share + "/fish/vendor_completions.d; complete -C 'trammel start bo'; complete -C 'trammel cle'",
		"zsh": `fpath=(` + share + `/zsh/site-functions $fpath); autoload -Uz compinit && compinit -D
_describe() { print -l ${(P)2}; }; _files() { :; }
autoload +X _trammel
words=(trammel start bo) CURRENT=3; _trammel; words=(trammel cle) CURRENT=2; _trammel`,
	} {
		path, err := exec.LookPath(shell)
		if err != nil {
			t.Logf("%s is not here", shell)
			continue
		}
		c := exec.Command(path, "-c", script)
		if shell == "zsh" {
			c = exec.Command(path, "-f", "-c", script)
		}
		c.Dir = h.dir
		c.Env = append(h.env, "PATH="+filepath.Join(h.dir, "there", "bin")+":"+os.Getenv("PATH"))
		out, err := c.CombinedOutput()
		if err != nil || !strings.Contains(string(out), "board") || !strings.Contains(string(out), "clear") {
			t.Errorf("%s: %v\n%s", shell, err, out)
		}
	}
}
