package main

import (
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/written/draft"
)

// light are the starters that need no more than other live tests fetch anyway.
var light = []string{"node-web", "go-and-node", "static-site"}

// Each starter goes from an empty folder to its own test, and proves itself.
func TestLiveStartersPassTheirOwnTest(t *testing.T) {
	long(t)
	if os.Getenv("TRAMMEL_LIVE") == "" {
		t.Skip("needs the registries: TRAMMEL_LIVE=1")
	}
	shareHome()
	names, _ := draft.Starters()
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			if whole := os.Getenv("TRAMMEL_LIVE") == "all"; !whole && !slices.Contains(light, name) {
				t.Skip("fetches a root of its own: TRAMMEL_LIVE=all")
			}
			t.Parallel()
			h := archiveHut(t, "")
			h.env = append(ownMachine(), "TRAMMEL_HOME="+h.home) // registries as this machine has them
			if err := os.Remove(filepath.Join(h.dir, "trammel.toml")); err != nil {
				t.Fatal(err)
			}
			h.ok("draft", "--from", name)
			if h.read("trammel.toml") == "" {
				t.Fatal("nothing was written")
			}
			h.ok("lock")
			h.ok("fit")
			started := h.ok("start")
			h.ok("do", "test")
			if strings.Contains(h.read("trammel.toml"), "[service.notebook]") {
				h.ok("start", "notebook")
				at, err := url.Parse(find(t, h, "notebook").Address) // several have one project name here
				if err != nil || at.Host == "" {
					t.Fatal(at, err)
				}
				if code, body := h.seen(at.Hostname(), "/api"); code != 200 {
					t.Errorf("the notebook answers %d %s by its name", code, body)
				}
			}
			if strings.Contains(h.read("trammel.toml"), "[service.") && !strings.Contains(started, "ready") && !strings.Contains(h.read("trammel.toml"), "auto  = false") {
				t.Errorf("nothing is ready:\n%s", started)
			}
			h.ok("verify")
		})
	}
}
