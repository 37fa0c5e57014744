package proof

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// homeOf is where a language's own installer puts libraries for one user, below the homes
// of this environment, and the kind of add-on that may have put them there.
var homeOf = []struct{ tool, below, installer string }{
	{"python", "python/lib/python*/site-packages", "pip"},
	{"python", "python/bin", "pip"},
	{"r", "r", "r"},
	{"node", "lib/node_modules", "npm"},
}

// homeFiles are files in a home folder that languages and shells obey whenever they start. A sealed
// environment has a home of its own, in which only what runs there can have put one.
var homeFiles = []string{
	".bashrc", ".bash_profile", ".bash_login", ".profile", ".zshenv", ".zshrc", ".zprofile", ".zlogin", ".config/fish/config.fish",
	".Rprofile", ".Renviron", ".npmrc", ".pip/pip.conf", ".config/pip/pip.conf", ".pydistutils.cfg", ".config/go/env", ".gitconfig", ".config/git/config", ".curlrc", ".psqlrc",
}

// libraries compares what the languages of this environment find besides their toolchains
// with the sets of the lock: that they show what the lock says, and that nothing else is on
// their paths which no set and no add-on brought.
func (v *verifier) libraries() {
	var details []Detail
	for _, m := range v.m.modules() {
		for _, line := range m.Differs() {
			name, what, _ := strings.Cut(line, " ")
			details = append(details, Detail{path.Join(m.Folder, name), what})
			v.fit("")
			if what == "is of no set" { // which no fit takes away: it may be somebody's work
				v.mend("rm -r " + shell.Typed(path.Join(m.Folder, name)))
			}
		}
	}
	home := v.m.home()
	for _, h := range homeOf {
		if _, ok := v.l.Items[h.tool]; !ok || v.installs(h.installer) {
			continue
		}
		folders, _ := filepath.Glob(filepath.Join(home, filepath.FromSlash(h.below)))
		for _, folder := range folders {
			for _, name := range top(folder) {
				shown := filepath.Join(folder, name)
				details = append(details, Detail{shown, fmt.Sprintf("is found by %s, and no set and no add-on brought it", h.tool)})
				v.mend("rm -r " + shell.Typed(shown))
			}
		}
	}
	if len(v.p.Declaration.Addons) == 0 {
		for _, name := range top(filepath.Join(home, "bin")) {
			shown := filepath.Join(home, "bin", name)
			details = append(details, Detail{shown, "is a command that no toolchain, set or add-on brought"})
			v.mend("rm -r " + shell.Typed(shown))
		}
	}
	if v.p.Declaration.Isolation == declare.Sealed && len(v.p.Declaration.Steps) == 0 { // a step may set up that home
		for _, name := range homeFiles {
			shown := filepath.Join(home, name)
			if _, err := os.Lstat(shown); err == nil {
				details = append(details, Detail{shown, "is obeyed by what starts in this environment, and the lock does not have it"})
				v.mend("rm -r " + shell.Typed(shown))
			}
		}
	}
	if len(details) > 0 {
		v.row("libraries", Drift, "more or other than the lock says", details...)
		return
	}
	if len(v.l.Libraries) == 0 {
		return // an environment without sets has nothing to say
	}
	var texts []string
	for _, name := range lock.Sorted(v.l.Libraries) {
		set := v.l.Libraries[name].On[v.p.Platform.String()]
		texts = append(texts, fmt.Sprintf("%s (%d for %s)", name, len(set.Packages), set.For))
	}
	v.row("libraries", OK, strings.Join(texts, ", "))
}

// installs tells whether an add-on of a kind is declared, or one that says itself what it
// runs, which may be any.
func (v *verifier) installs(kind string) bool {
	for _, a := range v.p.Declaration.Addons {
		if a.Kind == kind || a.Kind == "" {
			return true
		}
	}
	return false
}
