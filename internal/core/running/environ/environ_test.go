package environ

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"trammel.example/trammel/internal/core/checkout/bay"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
)

func inputs(level declare.Isolation) Inputs {
	return Inputs{
		Declaration: &declare.Declaration{
			Project: "heronweir", Dir: "/weir", Isolation: level,
			Variables: []declare.Variable{{Name: "ZULU", Value: "@{project.dir}/z"}, {Name: "LANES", Value: "@{service.lane.addresses}"}, {Name: "GOPATH", Value: "/mine"}},
			Services: []declare.Service{
				{Name: "lane", Copies: 2, Ports: []declare.Port{{Name: "http"}, {Name: "admin"}}}, {Name: "quiet", Copies: 1},
			},
		},
		Lock: &lock.Lock{Items: map[string]lock.Item{
			"node": {Variables: map[string]string{"npm_config_prefix": "@{home}"}}, "go": {Variables: map[string]string{"GOPATH": "@{home}/go", "GOCACHE": "@{cache}/go"}},
		}},
		Folders: Folders{Frame: "/frame/bin", Inside: "/frame/in-trixie", HostLinks: "/host", Home: "/home"}, Cache: "/cache",
		Bay: bay.Bay{Name: "main", Dir: "/bay"}, ID: "sha256:00",
		Ports: bay.Ports{"lane.1/http": 8600, "lane.2/http": 8601, "lane.1/admin": 9000, "lane.2/admin": 9001},
	}
}

func TestTheSameLockGivesTheSameVariablesInTheSameOrder(t *testing.T) {
	want := []string{
		"GOCACHE=/cache/go", "GOPATH=/mine", "npm_config_prefix=/home", "ZULU=/weir/z", "LANES=127.0.0.1:8600,127.0.0.1:8601",
		"TRAMMEL_PROJECT=heronweir", "TRAMMEL_DIR=/weir", "TRAMMEL_BAY=main", "TRAMMEL_ENVIRONMENT=sha256:00", "PWD=/here",
	}
	for _, level := range []declare.Isolation{declare.Open, declare.Clean} {
		e, err := Compute(inputs(level))
		if err != nil {
			t.Fatal(err)
		}
		host := []string{"ZULU=the host's", "SECRET=1", "PATH=/usr/bin", "LANG=C", "PWD=/elsewhere", "TRAMMEL_SHELL_ZDOTDIR=/x", "=odd", "LC_ALL=C"}
		got := e.Environ(host, "/here")
		tail := got[len(got)-len(want)-1:]
		if !slices.Equal(tail[:len(want)], want) {
			t.Errorf("%s sets %q", level, tail)
		}
		path := "PATH=/frame/bin:/home/bin:/host"
		hostPart := []string{"LANG=C", "LC_ALL=C"}
		if level == declare.Open {
			path, hostPart = "PATH=/frame/bin:/home/bin:/usr/bin", []string{"LANG=C", "LC_ALL=C", "SECRET=1"}
		}
		if tail[len(want)] != path || !slices.Equal(got[:len(got)-len(want)-1], hostPart) {
			t.Errorf("%s: %q, of the host %q", level, tail[len(want)], got[:len(got)-len(want)-1])
		}
	}
}

func TestReferences(t *testing.T) {
	in := inputs(declare.Clean)
	for name, want := range map[string]string{
		"project.dir": "/weir", "project.name": "heronweir", "bay.dir": "/bay", "bay.name": "main", "copy": "2", "port.http": "8601",
		"service.lane.port.admin": "9000", "service.lane.address": "127.0.0.1:8600", "service.lane.url": "http://127.0.0.1:8600", "service.quiet.host": "127.0.0.1",
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

func TestTheFolderOfHostLinksIsExact(t *testing.T) {
	host, links := t.TempDir(), filepath.Join(t.TempDir(), "host")
	for _, name := range []string{"weir-tool", "not-named"} {
		os.WriteFile(filepath.Join(host, name), []byte("#!/bin/sh\n"), 0o755)
	}
	os.WriteFile(filepath.Join(host, "no-program"), nil, 0o644)
	missing, err := LinkHost(links, []string{"weir-tool", "no-program", "gone"}, host)
	if err != nil || !slices.Equal(missing, []string{"no-program", "gone"}) {
		t.Errorf("missing %v, %v", missing, err)
	}
	var wait sync.WaitGroup
	for range 8 { // many at once
		wait.Go(func() {
			if _, err := LinkHost(filepath.Join(filepath.Dir(links), "shared"), []string{"weir-tool"}, host); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	names := func() string {
		entries, _ := os.ReadDir(links)
		var out []string
		for _, e := range entries {
			if !slices.Contains(BaseCommands, e.Name()) {
				out = append(out, e.Name())
			}
		}
		return strings.Join(out, " ")
	}
	if names() != "weir-tool" {
		t.Errorf("beside the base it shows %s", names())
	}
	before, _ := os.Stat(links)
	if _, err := LinkHost(links, []string{"weir-tool"}, host); err != nil {
		t.Fatal(err)
	}
	if after, _ := os.Stat(links); !os.SameFile(before, after) {
		t.Error("a folder that was right was made anew")
	}
	if _, err := LinkHost(links, nil, host); err != nil || names() != "" {
		t.Errorf("what is no longer named stays: %s, %v", names(), err)
	}
}
