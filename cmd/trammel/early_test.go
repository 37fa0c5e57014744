package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

// The roles that this program is started in most often play before its libraries are
// initialised (internal/early): what came before them is little, and of none that is heavy.
func TestRolesPlayBeforeTheLibraries(t *testing.T) {
	linuxOnly(t)
	before := func(name string, args ...string) (out []string) {
		cmd := exec.Command(program)
		cmd.Args = append([]string{name}, args...)
		cmd.Env = append(os.Environ(), "GODEBUG=inittrace=1")
		said, _ := cmd.CombinedOutput()
		for line := range strings.Lines(string(said)) {
			if rest, ok := strings.CutPrefix(line, "init "); ok {
				pkg, _, _ := strings.Cut(rest, " @")
				out = append(out, pkg)
			}
		}
		return out
	}
	all := len(before("trammel", "help", "version"))
	if all < 100 {
		t.Fatalf("the whole program has %d initialisers: this looks at nothing", all)
	}
	for _, role := range [][]string{{"trammel", "--version"}, {"trammel-init"}, {"trammel-sealed"}} {
		list := before(role[0], role[1:]...)
		if len(list) == 0 || len(list) > 50 {
			t.Errorf("%s starts after %d of %d initialisers", role[0], len(list), all)
		}
		for _, pkg := range list {
			for _, heavy := range []string{"charm.land/", "mvdan.cc/", "net/http", "encoding/json", "os/exec", "path/filepath", "golang.org/x/crypto", "github.com/go-git/go-git/v5 ", "github.com/ProtonMail"} {
				if strings.HasPrefix(pkg+" ", heavy) {
					t.Errorf("%s starts after %s", role[0], pkg)
				}
			}
		}
	}
	// What a role imports is of the standard library, but for the module's own.
	out, err := exec.Command("go", "list", "-deps", "app.example/trammel/internal/early").Output()
	if err != nil {
		t.Fatal(err)
	}
	for pkg := range strings.FieldsSeq(string(out)) {
		if first, _, _ := strings.Cut(pkg, "/"); strings.Contains(first, ".") && !strings.HasPrefix(pkg, "app.example/trammel/") {
			t.Errorf("internal/early rests on %s", pkg)
		}
	}
}
