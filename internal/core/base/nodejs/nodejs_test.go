package nodejs

import (
	"strings"
	"testing"
)

func TestWhatAPackageLockSays(t *testing.T) {
	const good = `{"lockfileVersion": 3, "packages": {"": {"name": "weir"},
"node_modules/@weir/tables": {"version": "1.0.0", "resolved": "https://npm.example/base/@weir/tables/-/tables-1.0.0.tgz", "integrity": "sha512-x", "os": "linux"},
"node_modules/other": {"name": "real", "version": "2.0.0", "resolved": "https://npm.example/real/-/real-2.0.0.tgz", "integrity": "sha512-y", "devOptional": true},
"node_modules/real/node_modules/inner": {"version": "1.0.0", "inBundle": true},
"node_modules/own": {"resolved": "packages/own", "link": true}, "packages/own": {"version": "0.0.1"}}}`
	var a Asks
	if err := a.AddLock("package-lock.json", []byte(good)); err != nil {
		t.Fatal(err)
	}
	if len(a.Locked) != 2 || a.Locked[0].Path != "@weir/tables/-/tables-1.0.0.tgz" || a.Locked[0].OS[0] != "linux" || a.Locked[1].Name != "real" || !a.Locked[1].Optional || a.Own["node_modules/own"] != "packages/own" {
		t.Errorf("%+v %v", a.Locked, a.Own)
	}
	for change, words := range map[string]string{
		`"lockfileVersion": 3|"lockfileVersion": 1`: "lockfileVersion 1", `"integrity": "sha512-x"|"a": 1`: "no integrity", `"packages/own", "link"|"/etc", "link"`: "not in the project",
		`https://npm.example/real/-/real-2.0.0.tgz|https://files.example/x.tgz`: "an address of its own", `node_modules/own"|node_modules/../../own"`: "no place for a package",
		`{"lockfileVersion"|{{`: "not JSON", `"packages/own", "link"|"../own", "link"`: "not in the project",
	} {
		old, new, _ := strings.Cut(change, "|")
		if err := new2(strings.Replace(good, old, new, 1)); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", change, err)
		}
	}
	var p Asks
	if err := p.AddPackage("package.json", []byte(`{"dependencies": {"a": "^1"}, "devDependencies": {"a": "^2", "b": "*"}, "workspaces": ["x"]}`)); err != nil || p.Wants["a"] != "^1" || p.Wants["b"] != "*" || !p.Workspaces {
		t.Errorf("%+v %v", p, err)
	}
}

func new2(text string) error { return new(Asks).AddLock("package-lock.json", []byte(text)) }
