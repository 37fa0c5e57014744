package environ

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// plan is one of a made-up State, without a frame on disk.
func plan(t *testing.T, level declare.Isolation) *Plan {
	t.Helper()
	d := &declare.Declaration{
		Project: "heronweir", Dir: "/weir", Isolation: level,
		Variables: []declare.Variable{{Name: "ZULU", Value: "@{project.dir}/z"}, {Name: "LANES", Value: "@{service.lane.addresses}"}, {Name: "GOPATH", Value: "/mine"}},
		Services: []declare.Service{
			{Name: "lane", Copies: 2, Ports: []declare.Port{{Name: "http", Wanted: 8600}, {Name: "admin", Wanted: 9000}}}, {Name: "quiet", Copies: 1},
		},
	}
	l := &lock.Lock{Items: map[string]lock.Item{
		"node": {Variables: map[string]string{"npm_config_prefix": "@{home}"}}, "go": {Variables: map[string]string{"GOPATH": "@{home}/go", "GOCACHE": "@{cache}/go"}},
	}}
	p := &Plan{
		State: &checkout.State{
			Places: place.Places{Cache: "/cache"}, Written: d, Declaration: d, Lock: l, Bay: bay.Bay{Name: "main", Dir: "/bay"}, Ports: bay.Ports{"lane.1/admin": 9005},
			Platform: platform.Platform{OS: "linux", Arch: "amd64"},
		},
		Folders: Folders{Frame: "/frame/bin", Inside: "/frame/in-trixie", HostLinks: "/host", Homes: "/homes", Caches: "/caches", Languages: "of-x"},
	}
	p, err := p.withPorts(p.State.Ports)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestTheSameLockGivesTheSameVariablesInTheSameOrder(t *testing.T) {
	want := []string{
		"GOCACHE=/caches/LEVEL/go", "GOPATH=/mine", "npm_config_prefix=/homes/LEVEL/of-x", "NODE_PATH=", "ZULU=/weir/z", "LANES=127.0.0.1:8600,127.0.0.1:8601",
		"TRAMMEL_PROJECT=heronweir", "TRAMMEL_DIR=/weir", "TRAMMEL_BAY=main", "TRAMMEL_ENVIRONMENT=" + string(plan(t, declare.Open).ID()), "PWD=/here",
	}
	for _, level := range []declare.Isolation{declare.Open, declare.Clean} {
		want := strings.Split(strings.ReplaceAll(strings.Join(want, "\n"), "LEVEL", string(level)), "\n")
		environ := []string{"ZULU=the host's", "SECRET=1", "PATH=/usr/bin", "LANG=C", "PWD=/elsewhere", "TRAMMEL_SHELL_ZDOTDIR=/x", "=odd", "LC_ALL=C"}
		h := host.Host{Environ: environ}
		got := (&Ready{plan(t, level).Environment, h, &vault{host: h}}).Environ("/here")
		tail := got[len(got)-len(want)-1:]
		if !slices.Equal(tail[:len(want)], want) {
			t.Errorf("%s sets %q", level, tail)
		}
		path := "PATH=/frame/bin:/host:/homes/clean/of-x/bin"
		hostPart := []string{"LANG=C", "LC_ALL=C"}
		if level == declare.Open {
			path, hostPart = "PATH=/frame/bin:/usr/bin:/homes/open/of-x/bin", []string{"LANG=C", "LC_ALL=C", "SECRET=1"}
		}
		if tail[len(want)] != path || !slices.Equal(got[:len(got)-len(want)-1], hostPart) {
			t.Errorf("%s: %q, of the host %q", level, tail[len(want)], got[:len(got)-len(want)-1])
		}
	}
}

func TestReferences(t *testing.T) {
	in := plan(t, declare.Clean)
	for name, want := range map[string]string{
		"project.dir": "/weir", "project.name": "heronweir", "bay.dir": "/bay", "bay.name": "main", "copy": "2", "port.http": "8601",
		"service.lane.port.admin": "9005", "service.lane.address": "127.0.0.1:8600", "service.lane.url": "http://127.0.0.1:8600", "service.quiet.host": "127.0.0.1",
	} {
		if got, err := in.Lookup("lane", 2)(name); got != want || err != nil {
			t.Errorf("@{%s} is %q, %v", name, got, err)
		}
	}
	for _, name := range []string{"nothing", "service.quiet.url", "service.gone.url", "port.gone", "service.lane.port.gone", "service.lane.colour"} {
		if got, err := in.Lookup("lane", 1)(name); err == nil {
			t.Errorf("@{%s} is %q", name, got)
		}
	}
	if _, err := in.Lookup("", 0)("port.http"); err == nil {
		t.Error("@{port.http} outside of a service")
	}
}

func TestPortsThatNobodyRecordedAreTheWantedOnes(t *testing.T) {
	p := plan(t, declare.Clean)
	if p.Recorded || p.Ports["lane.2/http"] != 8601 || p.Ports["lane.1/admin"] != 9005 {
		t.Errorf("recorded %v: %v", p.Recorded, p.Ports)
	}
	all, _ := p.State.Ports.Expected(p.State.Declaration)
	if q, err := p.withPorts(all); err != nil || !q.Recorded {
		t.Errorf("all recorded: %v, %v", q.Recorded, err)
	}
}

func TestAPlanShowsNothingWithoutConsent(t *testing.T) {
	p := plan(t, declare.Clean)
	if _, err := p.Ready(approval.Given{}); !errors.Is(err, fault.ErrNotApproved) {
		t.Errorf("a Given that nobody gave: %v", err)
	}
	if _, err := p.Compile(approval.Given{}); !errors.Is(err, fault.ErrNotApproved) {
		t.Errorf("a kept plan without consent: %v", err)
	}
}

func TestTheFolderOfHostLinksIsExact(t *testing.T) {
	host, root := t.TempDir(), filepath.Join(t.TempDir(), "host")
	for _, name := range []string{"weir-tool", "not-named"} {
		os.WriteFile(filepath.Join(host, name), []byte("#!/bin/sh\n"), 0o755)
	}
	os.WriteFile(filepath.Join(host, "no-program"), nil, 0o644)
	links := LinksOf(nil, root, []string{"weir-tool", "no-program", "gone"}, host, "/opt/trammel")
	if !slices.Equal(links.Missing, []string{"no-program", "gone"}) {
		t.Errorf("missing %v", links.Missing)
	}
	var wait sync.WaitGroup
	for range 8 { // many at once
		wait.Go(func() {
			if err := links.Make(); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	names := func(l HostLinks) string {
		entries, _ := os.ReadDir(l.Dir)
		var out []string
		for _, e := range entries {
			if !slices.Contains(BaseCommands, e.Name()) {
				out = append(out, e.Name())
			}
		}
		return strings.Join(out, " ")
	}
	if names(links) != "trammel weir-tool" {
		t.Errorf("beside the base it shows %s", names(links))
	}
	before, _ := os.Stat(links.Dir)
	if err := links.Make(); err != nil {
		t.Fatal(err)
	}
	if after, _ := os.Stat(links.Dir); !os.SameFile(before, after) {
		t.Error("a folder that was right was made anew")
	}
	other := filepath.Join(links.Dir, "weir-tool")
	os.Remove(other)
	os.Symlink("/bin/false", other)
	if err := links.Make(); err != nil {
		t.Fatal(err)
	}
	if to, _ := os.Readlink(other); to != filepath.Join(host, "weir-tool") {
		t.Errorf("a link that leads elsewhere stays: %s", to)
	}
	if fewer := LinksOf(nil, root, nil, host, ""); fewer.Dir == links.Dir {
		t.Error("other links have the same folder")
	}
}
