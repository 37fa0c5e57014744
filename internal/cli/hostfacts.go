package cli

import (
	"cmp"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sys/unix"

	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/proven/report"
	"app.example/trammel/internal/core/running/environ"
)

// hostFacts are what a report records of the machine and does not judge, and what must
// not be in it: where this person keeps things, and what they are called.
func hostFacts(c *cli.Command, p *checkout.State, given approval.Given) (report.Facts, error) {
	name := c.String("machine")
	if name == "" {
		var err error
		if name, err = os.Hostname(); err != nil {
			return report.Facts{}, err
		}
	}
	f := report.Facts{Machine: name, Made: time.Now(), Variables: map[string]string{}, Hide: map[string]string{}}
	var uts unix.Utsname
	kernel := runtime.GOOS
	if unix.Uname(&uts) == nil {
		kernel = unix.ByteSliceToString(uts.Sysname[:]) + " " + unix.ByteSliceToString(uts.Release[:])
	}
	zone, _ := time.Now().Zone()
	f.Host = map[string]string{
		"kernel": kernel, "libc": libc(), "cpu": cpuName(), "locale": cmp.Or(os.Getenv("LC_ALL"), os.Getenv("LC_CTYPE"), os.Getenv("LANG"), "C"),
		"timezone": zone, "shell": filepath.Base(os.Getenv("SHELL")), "case": foldsCase(p.Dir()),
	}
	for path, stands := range map[string]string{
		p.Dir(): "(project)", filepath.Join(p.Places.Homes(), bay.CheckoutID(p.Dir())): "(homes)", filepath.Join(p.Places.Tools(), bay.CheckoutID(p.Dir())): "(tools)", p.Bay.Dir: "(bay)", p.Places.Data: "(data)", p.Places.Cache: "(cache)", p.Places.State: "(state)", p.Places.Config: "(config)", os.Getenv("HOME"): "(home)",
	} {
		f.Hide[path] = stands
	}
	if u, err := user.Current(); err == nil && u.Uid != "0" {
		f.Hide[u.Username] = "(user)"
	}
	if given.Holds() {
		if plan, err := environ.Decide(p); err == nil {
			if ready, err := plan.Ready(given); err == nil {
				for _, secret := range ready.Masks() {
					f.Hide[secret] = "(secret)"
				}
			}
		}
	}
	// With the ports that are wanted: those that a machine has are its own affair.
	if plan, err := environ.Decide(p.Refreshed(bay.Ports{})); err == nil {
		for _, v := range plan.Environment.Variables {
			f.Variables[v.Name] = v.Value
		}
	}
	return f, nil
}

// libc is the C library that programs of the host are linked to.
func libc() string {
	for _, glob := range []string{"/lib/*/libc.so.6", "/lib64/libc.so.6", "/usr/lib/libc.so.6"} {
		if found, _ := filepath.Glob(glob); len(found) > 0 {
			return "glibc"
		}
	}
	if found, _ := filepath.Glob("/lib/ld-musl-*"); len(found) > 0 {
		return "musl"
	}
	return "other"
}

func cpuName() string {
	raw, err := os.ReadFile("/proc/cpuinfo")
	if err == nil {
		for line := range strings.Lines(string(raw)) {
			if name, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
				return strings.TrimSpace(value)
			}
		}
	}
	return runtime.GOARCH
}

// foldsCase tells whether two names that differ in case are one file here.
func foldsCase(dir string) string {
	if _, err := os.Stat(filepath.Join(dir, "TRAMMEL.toml")); err == nil {
		return "folded"
	}
	return "kept"
}
