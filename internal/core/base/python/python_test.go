package python

import (
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/base/platform"
)

// The examples are those of the standards, where they have any.
func TestSpecifiers(t *testing.T) {
	for _, c := range []struct {
		spec, yes, no string
	}{
		{"~=2.2", "2.2 2.3 2.99.post1", "2.1 3.0"},
		{"~=1.4.5", "1.4.5 1.4.9", "1.5.0 1.4.4"},
		{"~=2.2.post3", "2.2.post3 2.3", "2.2 3.0"},
		{"~=1.4.5a4", "1.4.5a4 1.4.5", "1.5"},
		{"==1.1", "1.1 1.1.0 1.1+local.7", "1.1.post1 1.1a1 1.1.dev1"},
		{"==1.1.post1", "1.1.post1", "1.1"},
		{"==1.1.*", "1.1 1.1.post1 1.1a1 1.1.9", "1.10 1.2"},
		{"==1.1.0.*", "1.1 1.1.0.1", "1.1.1"},
		{"==1.0+ubuntu.1", "1.0+ubuntu.1", "1.0 1.0+ubuntu.2"},
		{"!=1.1", "1.1.post1 1.2", "1.1 1.1.0"},
		{"!=1.1.*", "1.2 1.10", "1.1 1.1.post1"},
		{">1.7", "1.7.1 1.8", "1.7 1.7.0.post1 1.7+x"},
		{">1.7.post2", "1.7.1 1.7.0.post3", "1.7.0.post2"},
		{"<1.7", "1.6 1.6.9", "1.7 1.7rc1"},
		{"<1.7rc2", "1.7rc1 1.6", "1.7rc2 1.7"},
		{">=1.0,!=1.3.4.*,<2.0", "1.3.5 1.9", "1.3.4.1 2.0 0.9"},
		{"<=1.0", "1.0 1.0+x 0.9", "1.0.post1"},
		{"===1.0", "1.0", "1.0.0"},
		{">=1!0.5", "1!0.6", "9.0"},
		{"==1!2.*", "1!2.3", "2.3"},
		{">= 1.0 , < 2", "1.5", "2.0"},
	} {
		s, err := ParseSpecifiers(c.spec)
		if err != nil {
			t.Errorf("%s: %v", c.spec, err)
			continue
		}
		for _, v := range strings.Fields(c.yes) {
			if !s.Allow(v) {
				t.Errorf("%s does not allow %s", c.spec, v)
			}
		}
		for _, v := range strings.Fields(c.no) {
			if s.Allow(v) {
				t.Errorf("%s allows %s", c.spec, v)
			}
		}
	}
	for _, bad := range []string{"1.0", "=>1", "~=1", ">=1.*", "==x.*", ">=1.0+local", "== 1 2", "~=1.*"} {
		if s, err := ParseSpecifiers(bad); err == nil {
			t.Errorf("%q was read as %v", bad, s)
		}
	}
	for text, want := range map[string]bool{">=1.0": false, ">=1.0rc1": true, "==1.0.dev3": true, "!=1.0a1": false, "": false} {
		if s, _ := ParseSpecifiers(text); s.Prereleases() != want {
			t.Errorf("%q names a pre-release: %v", text, !want)
		}
	}
}

func TestRequirements(t *testing.T) {
	for text, want := range map[string]string{
		"A": "a", "A.B-C_D": "a-b-c-d", "aa": "aa", "name>=3": "name >=3", "name<=1 , >0.5": "name <=1,>0.5", "name>=3,<2": "name >=3,<2",
		"name[Fred,bar] (>=3) ; python_version=='2.7'":          `name[bar,fred] >=3; python_version == "2.7"`,
		"name; os_name=='a' or os_name=='b'":                    `name; os_name == "a" or os_name == "b"`,
		"name; os_name=='a' and os_name=='b' or os_name=='c'":   `name; os_name == "a" and os_name == "b" or os_name == "c"`,
		"name; os_name=='a' and (os_name=='b' or os_name=='c')": `name; os_name == "a" and (os_name == "b" or os_name == "c")`,
		"name@https://foo.example ; os_name=='a'":               `name @ https://foo.example; os_name == "a"`,
		"name[]": "name",
	} {
		r, err := ParseRequirement(text)
		if err != nil || r.String() != want {
			t.Errorf("%q is %q, %v", text, r, err)
		}
		if again, err := ParseRequirement(r.String()); err != nil || again.String() != r.String() {
			t.Errorf("%q does not read back: %q %v", r, again, err)
		}
	}
	for _, bad := range []string{"", "-x", "name[a", "name[!]", "name; os_name", "name; 'a' == 'b'", "name; nosuch == 'a'", "name >=3 <4", "name; (os_name == 'a'", "./here"} {
		if r, err := ParseRequirement(bad); err == nil {
			t.Errorf("%q was read as %v", bad, r)
		}
	}
}

func TestMarkers(t *testing.T) {
	linux := Target{Version: "3.13.5", Platform: platform.Platform{OS: "linux", Arch: "amd64"}, Glibc: "2.41"}
	mac := Target{Version: "3.9.2", Platform: platform.Platform{OS: "darwin", Arch: "arm64"}}
	for _, c := range []struct {
		marker     string
		linux, mac bool
	}{
		{"python_version >= '3.10'", true, false}, {"python_version < '3.9.3'", false, true}, {"python_full_version > '3.13'", true, false},
		{"'3.10' <= python_version", true, false}, {"sys_platform == 'linux'", true, false}, {"platform_machine == 'arm64'", false, true},
		{"platform_machine in 'x86_64 AMD64'", true, false}, {"platform_system != 'Windows'", true, true}, {"sys_platform not in 'win32 cygwin'", true, true},
		{"implementation_name == 'cpython' and os_name == 'posix'", true, true}, {"python_version == '3.13.*'", true, false},
		{"python_version ~= '3.9' and sys_platform == 'darwin' or sys_platform == 'linux'", true, true}, {"platform_python_implementation == 'PyPy'", false, false},
		{"extra == 'More_Plots'", false, false}, {"python_implementation == 'CPython'", true, true},
	} {
		m, err := ParseMarker(c.marker)
		if err != nil {
			t.Errorf("%s: %v", c.marker, err)
			continue
		}
		if got := m.Holds(linux.Environment(), ""); got != c.linux {
			t.Errorf("%s on linux: %v", c.marker, got)
		}
		if got := m.Holds(mac.Environment(), ""); got != c.mac {
			t.Errorf("%s on macOS: %v", c.marker, got)
		}
	}
	if m, _ := ParseMarker("extra == 'More_Plots'"); !m.Holds(nil, "more-plots") || !m.Extra() {
		t.Error("names of extras are compared as written")
	}
}

func TestTagsOfWheels(t *testing.T) {
	linux := Places(Target{Version: "3.13.5", Platform: platform.Platform{OS: "linux", Arch: "amd64"}, Glibc: "2.31"}.Tags())
	mac := Places(Target{Version: "3.12.1", Platform: platform.Platform{OS: "darwin", Arch: "arm64"}}.Tags())
	arm := Places(Target{Version: "3.11.2", Platform: platform.Platform{OS: "linux", Arch: "arm64"}}.Tags())
	for file, want := range map[string]string{
		"a-1-py3-none-any.whl": "linux mac arm", "a-1-py2.py3-none-any.whl": "linux mac arm", "a-1-cp313-cp313-manylinux_2_17_x86_64.manylinux2014_x86_64.whl": "linux",
		"a-1-cp313-cp313-manylinux_2_34_x86_64.whl": "", "a-1-cp36-abi3-manylinux1_x86_64.whl": "linux", "a-1-cp312-cp312-macosx_11_0_arm64.whl": "mac",
		"a-1-cp312-cp312-macosx_10_9_universal2.whl": "mac", "a-1-cp312-cp312-macosx_14_0_arm64.whl": "", "a-1-cp311-cp311-manylinux2014_aarch64.whl": "arm",
		"a-1-cp311-cp311-musllinux_1_2_aarch64.whl": "", "a-1-2build-py3-none-any.whl": "linux mac arm", "a-1-py3-none-linux_x86_64.whl": "linux", "a-1-cp314-cp314-linux_x86_64.whl": "",
	} {
		w, ok := ParseWheel(file)
		if !ok {
			t.Errorf("%s is no wheel", file)
			continue
		}
		var takes []string
		for _, x := range []struct {
			name string
			tags map[string]int
		}{{"linux", linux}, {"mac", mac}, {"arm", arm}} {
			if _, ok := w.Rank(x.tags); ok {
				takes = append(takes, x.name)
			}
		}
		if got := strings.Join(takes, " "); got != want {
			t.Errorf("%s is for %q", file, got)
		}
	}
	best, _ := ParseWheel("a-1-cp313-cp313-manylinux_2_17_x86_64.whl")
	pure, _ := ParseWheel("a-1-py3-none-any.whl")
	if x, _ := best.Rank(linux); func() int { y, _ := pure.Rank(linux); return y }() <= x {
		t.Error("the wheel for everybody comes before that for this machine")
	}
	for _, bad := range []string{"a-1.whl", "a-1-py3-none-any.zip", "a-x-py3-none-any.whl", "a-1-b-py3-none-any.whl"} {
		if _, ok := ParseWheel(bad); ok {
			t.Errorf("%s is a wheel", bad)
		}
	}
	for file, want := range map[string]string{"weir-count-1.2.tar.gz": "1.2", "Weir_Count-1.2rc1.zip": "1.2rc1", "weir-1.2.tar.gz": "", "weir-count-x.tar.gz": ""} {
		if v, _ := ParseSdist(file, "weir-count"); v != want {
			t.Errorf("%s is of %q", file, v)
		}
	}
}

func TestMetadata(t *testing.T) {
	m, err := ParseMetadata([]byte("Metadata-Version: 2.3\nName: Weir_Count\nVersion: 1.0\nRequires-Python: >=3.9\nRequires-Dist: tally>=2\nRequires-Dist: grid; extra == 'more'\nRequires-Dist: (nonsense\nProvides-Extra: More\nSummary: Counts.\n\nName: not here\n"))
	if err != nil || m.Name != "weir-count" || m.Summary != "Counts." || len(m.Odd) != 1 || m.RequiresPython.String() != ">=3.9" || !slices.Equal(m.Extras, []string{"more"}) {
		t.Fatalf("%+v %v", m, err)
	}
	if got := m.Under(nil, nil); len(got) != 1 || got[0].Name != "tally" {
		t.Errorf("%v", got)
	}
	if got := m.Under(nil, []string{"more"}); len(got) != 2 {
		t.Errorf("%v", got)
	}
	for _, bad := range []string{"", "Name: x\n\n", "Version: 1\n\n", "no field at all"} {
		if m, err := ParseMetadata([]byte(bad)); err == nil {
			t.Errorf("%q was read as %v", bad, m)
		}
	}
}

func TestAsksOfFiles(t *testing.T) {
	files := map[string]string{
		"requirements.txt": "tally >=2  # any newer\n-r more/extra.txt\n-c held.txt\ngrid==1.0 \\\n    --hash=sha256:" + strings.Repeat("a", 64) + " \\\n    --hash=sha256:" + strings.Repeat("b", 64) + "\n-e .\n--require-hashes\n",
		"more/extra.txt":   "board[counts]; python_version >= '3'\n", "held.txt": "board <4\n",
		"circle.txt": "-r circle.txt\n", "index.txt": "--index-url https://index.example/simple\n", "url.txt": "tally @ https://files.example/t.whl\n",
		"loose.txt": "tally >=1 --hash=sha256:" + strings.Repeat("a", 64) + "\n", "odd.txt": "ok\n\nnot ok\n", "edit.txt": "-e git+https://git.example/x\n",
		"pyproject.toml": "[project]\nname = \"weir\"\nrequires-python = \">=3.9\"\ndependencies = [\"tally\", \"weir[figures]\"]\n[project.optional-dependencies]\nfigures = [\"plots >=1\"]\nslow = [\"sonar\"]\n[dependency-groups]\ntest = [\"probe\", {include-group = \"lint\"}]\nlint = [\"tidy\"]\nround = [{include-group = \"round\"}]\n",
		"dynamic.toml":   "[project]\nname = \"weir\"\ndynamic = [\"dependencies\"]\n",
		"pylock.toml":    "lock-version = \"1.0\"\nrequires-python = \">=3.9\"\n[[packages]]\nname = \"Tally\"\nversion = \"1.0\"\nmarker = \"sys_platform == 'linux'\"\n[[packages.wheels]]\nname = \"tally-1.0-py3-none-any.whl\"\nhashes = { sha256 = \"" + strings.Repeat("c", 64) + "\" }\n",
	}
	read := func(name string) ([]byte, error) { return []byte(files[name]), nil }
	var a Asks
	if err := a.AddRequirements("requirements.txt", read); err != nil {
		t.Fatal(err)
	}
	var wants []string
	for _, w := range a.Wants {
		wants = append(wants, w.From+" "+w.Requirement.String())
	}
	want := []string{"requirements.txt:1 tally >=2", `more/extra.txt:1 board[counts]; python_version >= "3"`, "requirements.txt:4 grid ==1.0"}
	if !slices.Equal(wants, want) || len(a.Constraints) != 1 || len(a.Hashes["grid 1.0"]) != 2 {
		t.Errorf("%q %v %v", wants, a.Constraints, a.Hashes)
	}
	for name, words := range map[string]string{
		"circle.txt": "name each other", "index.txt": "index.txt:1: --index-url names where packages come from", "url.txt": "an address of its own", "loose.txt": "no exact version",
		"odd.txt": "odd.txt:3:", "edit.txt": "an address of its own",
	} {
		if err := new(Asks).AddRequirements(name, read); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", name, err)
		}
	}
	var p Asks
	if err := p.AddProject("pyproject.toml", []byte(files["pyproject.toml"]), []string{"Test", "slow"}); err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, w := range p.Wants {
		names = append(names, w.Name)
	}
	if !slices.Equal(names, []string{"tally", "plots", "probe", "tidy", "sonar"}) || p.RequiresPython.String() != ">=3.9" {
		t.Errorf("%v %v", names, p.RequiresPython)
	}
	for groups, words := range map[string]string{"nosuch": "neither a dependency group nor an extra", "round": "include each other"} {
		if err := new(Asks).AddProject("pyproject.toml", []byte(files["pyproject.toml"]), []string{groups}); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", groups, err)
		}
	}
	if err := new(Asks).AddProject("dynamic.toml", []byte(files["dynamic.toml"]), nil); err == nil || !strings.Contains(err.Error(), "dynamic") {
		t.Error(err)
	}
	var l Asks
	if err := l.AddLocked("pylock.toml", []byte(files["pylock.toml"])); err != nil || len(l.Wants) != 1 || l.Wants[0].Requirement.String() != `tally ==1.0; sys_platform == "linux"` || len(l.Hashes["tally 1.0"]) != 1 {
		t.Errorf("%v %v %v", err, l.Wants, l.Hashes)
	}
}

func FuzzRequirement(f *testing.F) {
	for _, text := range []string{"name[a,b] >=1, <2; python_version < '3' and extra == 'x'", "a @ https://b ; os_name=='c'", "~=1", "'"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ParseRequirement(text)
		if err != nil {
			return
		}
		again, err := ParseRequirement(r.String())
		if err != nil || again.String() != r.String() {
			t.Errorf("%q is written as %q, which reads as %q %v", text, r, again, err)
		}
		r.Marker.Holds(map[string]string{"python_version": "3.13"}, "x")
		r.Specifiers.Allow("1.0")
	})
}
