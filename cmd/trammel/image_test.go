package main

import (
	"archive/tar"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	ociregistry "github.com/google/go-containerregistry/pkg/registry"
)

// weirImage is a project whose tools come from a root, with something of each kind.
const weirImage = newTally + `
[variables]
SPECIES = "silverfin"
LEDGER  = "@{service.ledger.address}"
TOKEN   = "@{secret.token}"

[secret.token]
from = "file:token.txt"

[step.prepare]
run = "echo prepared > prepared.txt"

[service.ledger]
run   = "sleep 600 & echo $$ > @{bay.dir}/data/pid; exec sleep 600"
ports = { main = 8590 }
needs = ["step.prepare"]

[routine.tell]
run = 'echo "$SPECIES $LEDGER ${TOKEN-none} $(cat prepared.txt 2>/dev/null) $1"'
`

func imageHut(t *testing.T) *hut {
	t.Helper()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "sealed", weirImage)
	h.write("token.txt", "a-key-of-the-mill-house\n")
	if err := os.Chmod(filepath.Join(h.dir, "token.txt"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.write(".gitignore", ".trammel/\ntoken.txt\nprepared.txt\n")
	h.write("data/passings.csv", "361,silverfin\n")
	h.fitted()
	h.write("trammel.local.toml", "[variables]\nMINE = \"own\"\n")
	commitAll(t, h)
	// What a repository brings along there is not what was done in a container.
	h.write(".trammel/done/prepare", "")
	for _, args := range [][]string{{"add", "-f", ".trammel/done/prepare"}, {"-c", "user.name=weir", "-c", "user.email=weir@weir.example", "commit", "-qm", "marks"}} {
		c := exec.Command("git", args...)
		c.Dir = h.dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
	if err := os.Remove(filepath.Join(h.dir, "trammel.local.toml")); err != nil {
		t.Fatal(err)
	}
	return h
}

func commitAll(t *testing.T, h *hut) {
	t.Helper()
	for _, args := range [][]string{{"init", "-q"}, {"add", "-A"}, {"-c", "user.name=weir", "-c", "user.email=weir@weir.example", "commit", "-qm", "weir"}} {
		c := exec.Command("git", args...)
		c.Dir = h.dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Skipf("git %v: %s", args, out)
		}
	}
}

// digestOf exports and returns the image's digest.
func (h *hut) digestOf(args ...string) string {
	h.t.Helper()
	var out struct{ Digest string }
	if err := json.Unmarshal([]byte(h.ok(append([]string{"export", "oci", "--json"}, args...)...)), &out); err != nil {
		h.t.Fatal(err)
	}
	return out.Digest
}

func TestAnImageIsTheSameOnEveryMachine(t *testing.T) {
	t.Parallel()
	h := imageHut(t)
	first := h.digestOf("--project", "a.tar")
	if again := h.digestOf("--project", "again"); again != first {
		t.Errorf("made again it is %s, not %s", again, first)
	}
	if other := h.digestOf("c.tar"); other == first {
		t.Error("without the project it is the same")
	}
	// A clone elsewhere, of another user with another umask and time zone, in other folders.
	other := newHut(t, nil, "")
	other.env = slices.Concat(h.env, []string{"TRAMMEL_HOME=" + other.home, "TZ=Pacific/Auckland"})
	if err := os.RemoveAll(other.dir); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("git", "clone", "-q", h.dir, other.dir).CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	_ = os.Remove(filepath.Join(other.dir, "trammel.local.toml"))
	other.write("token.txt", "another-key-of-the-mill-house\n")
	if os.Getuid() == 0 {
		asOrdinaryUser(t, other)
	}
	other.mask = "077"
	other.ok("fit")
	other.mask = ""
	if got := other.digestOf("--project", "b.tar"); got != first {
		t.Errorf("there it is %s, and here %s", got, first)
	}
	a, err := os.ReadFile(filepath.Join(h.dir, "a.tar"))
	b, errB := os.ReadFile(filepath.Join(other.dir, "b.tar"))
	if err != nil || errB != nil || string(a) != string(b) {
		t.Error("the archives have other bytes")
	}
	// What the secret holds, here and there, is in no blob of it, packed or not; what a step says is.
	if n := timesInLayout(t, filepath.Join(h.dir, "again"), "key-of-the-mill-house"); n != 0 {
		t.Errorf("a secret is %d times in the image", n)
	}
	if timesInLayout(t, filepath.Join(h.dir, "again"), "prepared.txt") == 0 {
		t.Error("the declaration is not in the image")
	}
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), `SPECIES = "silverfin"`, `SPECIES = "redgill"`, 1))
	h.ok("lock")
	h.fails(2, []string{"trammel.lock is not committed"}, "export", "oci", "x.tar", "--project", "--approve")
}

// timesInLayout counts where a text stands in the blobs of a layout, unpacked where they are packed.
func timesInLayout(t *testing.T, layout, text string) (n int) {
	t.Helper()
	blobs, err := filepath.Glob(filepath.Join(layout, "blobs", "sha256", "*"))
	if err != nil || len(blobs) == 0 {
		t.Fatalf("no blobs in %s: %v", layout, err)
	}
	for _, blob := range blobs {
		f, err := os.Open(blob)
		if err != nil {
			t.Fatal(err)
		}
		var r io.Reader = f
		if z, err := gzip.NewReader(f); err == nil {
			r = z
		} else if _, err := f.Seek(0, io.SeekStart); err != nil {
			t.Fatal(err)
		}
		whole, err := io.ReadAll(r)
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
		n += strings.Count(string(whole), text)
	}
	return n
}

// unpackImage applies the layers of a layout in their order.
func unpackImage(t *testing.T, layout, into string) (config map[string]any) {
	t.Helper()
	blob := func(digest string) []byte {
		raw, err := os.ReadFile(filepath.Join(layout, "blobs", strings.Replace(digest, ":", "/", 1)))
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	var index struct{ Manifests []struct{ Digest string } }
	raw, err := os.ReadFile(filepath.Join(layout, "index.json"))
	if err != nil {
		t.Fatal(err)
	}
	_ = json.Unmarshal(raw, &index)
	var m struct {
		Config struct{ Digest string }
		Layers []struct{ Digest, MediaType string }
	}
	_ = json.Unmarshal(blob(index.Manifests[0].Digest), &m)
	for _, l := range m.Layers {
		f, err := os.Open(filepath.Join(layout, "blobs", strings.Replace(l.Digest, ":", "/", 1)))
		if err != nil {
			t.Fatal(err)
		}
		z, err := gzip.NewReader(f)
		if err != nil {
			t.Fatal(err)
		}
		last := ""
		for r := tar.NewReader(z); ; {
			e, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			if e.ModTime.Unix() != 0 || e.Uname != "" || e.Uid != 0 && e.Uid != 1000 || strings.HasPrefix(e.Name, "/") {
				t.Errorf("%s tells of a machine: %+v", e.Name, e)
			}
			last = e.Name
			at := filepath.Join(into, path.Clean("/"+e.Name))
			switch e.Typeflag {
			case tar.TypeDir:
				_ = os.MkdirAll(at, 0o755)
				_ = os.Chmod(at, os.FileMode(e.Mode)|0o700)
			case tar.TypeSymlink:
				_ = os.Remove(at)
				if err := os.Symlink(e.Linkname, at); err != nil {
					t.Fatal(err)
				}
			default:
				_ = os.Remove(at)
				out, err := os.OpenFile(at, os.O_CREATE|os.O_WRONLY, os.FileMode(e.Mode))
				if err != nil {
					t.Fatal(err)
				}
				_, _ = io.Copy(out, r)
				out.Close()
			}
		}
		if last == "" {
			t.Errorf("an empty layer: %s", l.Digest)
		}
		f.Close()
	}
	_ = json.Unmarshal(blob(m.Config.Digest), &config)
	return config
}

// container runs the image's launcher as the first process of a container would be.
type container struct {
	t   *testing.T
	dir string
}

func (c container) command(env []string, args ...string) *exec.Cmd {
	// Folders that change are the user's, who is whoever runs the tests.
	cmd := exec.Command("unshare", append([]string{"-Urpmf", "--kill-child", "sh", "-c", `mount -t proc proc "$0/proc" && exec chroot "$0" /opt/trammel/trammel inside "$@"`, c.dir}, args...)...)
	cmd.Env = append([]string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}, env...)
	return cmd
}

func (c container) run(env []string, args ...string) (string, int) {
	c.t.Helper()
	cmd := c.command(env, args...)
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

func TestAnImageStartsWhatIsNamed(t *testing.T) {
	t.Parallel()
	h := imageHut(t)
	h.ok("export", "oci", "--project", "image")
	c := container{t, t.TempDir()}
	config := unpackImage(t, filepath.Join(h.dir, "image"), c.dir)
	if out, code := c.run(nil, "list"); code != 0 {
		t.Skipf("a container cannot be made here: %s", out)
	}
	about := config["config"].(map[string]any)
	if about["User"] != "1000:1000" || fmt.Sprint(about["Entrypoint"]) != "[/opt/trammel/trammel inside]" || about["WorkingDir"] != "/srv/heronweir" {
		t.Errorf("%v", about)
	}
	for _, x := range []struct {
		what string
		env  []string
		args []string
		out  string // part of what is printed
		code int
	}{
		{"all that there is", nil, []string{"list"}, "routine tell\nservice ledger\nstep prepare\n", 0},
		{"a tool of the root", nil, []string{"--", "tallydb-17", "echo", "ran"}, "silverfin\nran\n", 0},
		{"a routine with its arguments", nil, []string{"routine", "tell", "more"}, "silverfin 127.0.0.1:8590 none  more\n", 0},
		{"what is locked stays", []string{"SPECIES=redgill", "LEDGER=ledger:1", "TOKEN=t"}, []string{"routine", "tell"}, "silverfin ledger:1 t  \n", 0},
		{"a step", nil, []string{"step", "prepare"}, "TOKEN is not set: there is a secret in it", 0},
		{"what it left", nil, []string{"routine", "tell"}, "none prepared", 0},
		{"an exit code", nil, []string{"--", "sh", "-c", "exit 7"}, "", 7},
		{"a signal", nil, []string{"--", "sh", "-c", "kill -TERM $$"}, "", 143},
		{"no such command", nil, []string{"--", "no-such-command"}, "no-such-command", 127},
		{"no such service", nil, []string{"service", "lane"}, "It has: ledger", 2},
		{"nothing of the host", nil, []string{"--", "sh", "-c", "ls /home/* /root/.cache 2>/dev/null | wc -l; echo $HOME $PWD"}, "0\n/var/lib/trammel/home /srv/heronweir\n", 0},
		{"the project's files", nil, []string{"--", "cat", "data/passings.csv"}, "361,silverfin", 0},
		{"nothing of a person's own", nil, []string{"--", "cat", "trammel.local.toml"}, "No such file", 1},
		{"no marks of a checkout", nil, []string{"--", "cat", ".trammel/done/prepare"}, "No such file", 1},
		{"and no secret", nil, []string{"--", "cat", "token.txt"}, "No such file", 1},
	} {
		if out, code := c.run(x.env, x.args...); code != x.code || !strings.Contains(out, x.out) {
			t.Errorf("%s: %q, code %d", x.what, out, code)
		}
	}
	// As the first process it ends on a signal, with what it started and what that left.
	cmd := c.command(nil, "service", "ledger")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	pid := filepath.Join(c.dir, "var/lib/trammel/bay/data/pid")
	eventually(t, "the service runs", func() bool { raw, err := os.ReadFile(pid); return err == nil && len(raw) > 0 })
	inner := 0
	eventually(t, "the first process is there", func() bool {
		raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", cmd.Process.Pid, cmd.Process.Pid))
		_, _ = fmt.Sscan(string(raw), &inner)
		return inner != 0
	})
	if err := syscall.Kill(inner, syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		_ = cmd.Process.Kill()
		t.Error("it did not end on SIGTERM")
	}
	if raw := h.read("prepared.txt"); raw != "" && !strings.Contains(raw, "prepared") {
		t.Errorf("the checkout was written to: %q", raw)
	}
}

func TestAnImageGoesToARegistry(t *testing.T) {
	t.Parallel()
	h := imageHut(t)
	inner := ociregistry.New(ociregistry.Logger(discard))
	var refuse bool
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if refuse {
			w.Header().Set("WWW-Authenticate", `Basic realm="weir"`)
			http.Error(w, `{"errors":[{"code":"UNAUTHORIZED","message":"who are you"}]}`, http.StatusUnauthorized)
			return
		}
		inner.ServeHTTP(w, r)
	}))
	defer s.Close()
	host := strings.TrimPrefix(s.URL, "http://")
	digest := h.digestOf("oci://"+host+"/heronweir:v1", "--project")
	r, err := http.Get(s.URL + "/v2/heronweir/manifests/v1")
	if err != nil || r.StatusCode != 200 || r.Header.Get("Docker-Content-Digest") != digest {
		t.Errorf("%v %v, not %s", err, r.Header, digest)
	}
	r.Body.Close()
	refuse = true
	h.fails(5, []string{"does not let you", "Sign in"}, "export", "oci", "oci://"+host+"/heronweir:v2")
	s.Close()
	h.fails(5, []string{"cannot be reached"}, "export", "oci", "oci://"+host+"/heronweir:v3")
	h.fails(2, []string{"names no image"}, "export", "oci", "oci://UPPER CASE")
	h.fails(2, []string{"no compression"}, "export", "oci", "x.tar", "--compression", "rar")
	h.write("something/file", "x")
	h.fails(2, []string{"is no image layout"}, "export", "oci", "something")
	if h.read("something/file") != "x" {
		t.Error("a folder of somebody else's was replaced")
	}
}

func TestAnImageNeedsARoot(t *testing.T) {
	t.Parallel()
	h := demoHut(t)
	h.ok("lock")
	h.ok("fit")
	h.fails(2, []string{"declares no root", "[source.trixie]"}, "export", "oci", "x.tar")
	h.fails(2, []string{"say where the image goes"}, "export", "oci")
}

// Several platforms make one index, each with a launcher of its own.
func TestAnIndexOfTwoPlatforms(t *testing.T) {
	t.Parallel()
	linuxOnly(t)
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\nplatforms = [\"linux/amd64\", \"linux/arm64\"]\n[service.lane]\nrun = \"sleep 1; exit 3\"\nports = { http = 8600 }\n")
	h.ok("lock")
	h.ok("fit")
	other, machine := "linux/arm64", byte(183) // EM_AARCH64
	if runtime.GOARCH == "arm64" {
		other, machine = "linux/amd64", 62 // EM_X86_64
	}
	h.fails(2, []string{"holds this program as its launcher", "--program"}, "export", "oci", "image", "--platform", "linux/"+runtime.GOARCH, "--platform", other)
	// The head of a program for the other machine (ELF-64 Object File Format, "File header").
	head := make([]byte, 64)
	copy(head, "\x7fELF\x02\x01\x01")
	head[16], head[18], head[20], head[52], head[54], head[58] = 2, machine, 1, 64, 56, 64
	h.write("other/trammel", string(head))
	h.fails(2, []string{"no image of this project", "locked"}, "export", "oci", "image", "--platform", "linux/riscv64")
	first := h.digestOf("image", "--platform", "linux/"+runtime.GOARCH, "--platform", other, "--program", "other/trammel")
	if again := h.digestOf("again.tar", "--platform", "linux/"+runtime.GOARCH, "--platform", other, "--program", "other/trammel"); again != first {
		t.Errorf("made again it is %s, not %s", again, first)
	}
	var outer, inner struct {
		Manifests []struct {
			Digest   string
			Platform struct{ OS, Architecture string }
		}
	}
	_ = json.Unmarshal([]byte(h.read("image/index.json")), &outer)
	if len(outer.Manifests) != 1 || outer.Manifests[0].Digest != first {
		t.Fatalf("%+v, not %s", outer, first)
	}
	_ = json.Unmarshal([]byte(h.read("image/blobs/"+strings.Replace(first, ":", "/", 1))), &inner)
	var on []string
	for _, m := range inner.Manifests {
		on = append(on, m.Platform.OS+"/"+m.Platform.Architecture)
	}
	slices.Sort(on)
	if !slices.Equal(on, []string{"linux/amd64", "linux/arm64"}) {
		t.Errorf("the index is of %v", on)
	}
	// An image of no system: the launcher interprets what a service runs.
	h.ok("export", "oci", "alone")
	c := container{t, t.TempDir()}
	unpackImage(t, filepath.Join(h.dir, "alone"), c.dir)
	if err := os.MkdirAll(filepath.Join(c.dir, "proc"), 0o755); err != nil {
		t.Fatal(err)
	}
	if out, code := c.run(nil, "list"); code != 0 {
		t.Skipf("a container cannot be made here: %s", out)
	}
	if out, code := c.run(nil, "service", "lane"); code != 127 && code != 3 || !strings.Contains(out, "sleep") {
		t.Errorf("%q, code %d", out, code)
	}
}
