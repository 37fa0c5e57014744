package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/standin"
)

// The tests in this file have real interpreters and compilers from the Debian archive, and
// a stand-in for the index of packages. They run when TRAMMEL_LIVE=1.

const compiled = `#include <Python.h>
static PyObject *count(PyObject *self, PyObject *args) { long n; if (!PyArg_ParseTuple(args, "l", &n)) return NULL; return PyLong_FromLong(n * 7); }
static PyMethodDef methods[] = {{"count", count, METH_VARARGS, "Counts."}, {NULL, NULL, 0, NULL}};
static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "ladder", NULL, -1, methods};
PyMODINIT_FUNC PyInit_ladder(void) { return PyModule_Create(&module); }
`

func pythonSet(s *standin.Server, isolation, want string) string {
	return fmt.Sprintf(`format    = 1
project   = "heronweir"
isolation = %q

[source.trixie]
kind  = "debian"
suite = "trixie"

[source.shelf]
kind = "wheel"
url  = %q

[toolchain]
python      = "3.13"
gcc         = "14"
python3-dev = { version = "latest", from = "trixie", package = "python3-dev" }
setuptools  = { version = "latest", from = "trixie", package = "python3-setuptools" }
wheel       = { version = "latest", from = "trixie", package = "python3-wheel" }
%s`, isolation, s.Python("shelf"), want)
}

func TestLivePythonLibrariesWithCompiledCode(t *testing.T) {
	long(t)
	liveArchive(t)
	s := standin.New()
	defer s.Close()
	h := archiveHut(t, pythonSet(s, "sealed", ""))
	h.write("ladder.c", compiled)
	h.fitted()
	h.ok("run", "--", "sh", "-c", `gcc -shared -fPIC -O1 -I$(python -c 'import sysconfig; print(sysconfig.get_paths()["include"])') ladder.c -o ladder.so`)
	raw, err := os.ReadFile(filepath.Join(h.dir, "ladder.so"))
	if err != nil {
		t.Fatal(err)
	}
	machine := map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH]
	ladder := standin.Wheel{
		Name: "ladder", Version: "1.0", Tag: "cp313-cp313-manylinux_2_28_" + machine, Requires: []string{"tally"},
		Files: []standin.File{{Name: "ladder.cpython-313-" + machine + "-linux-gnu.so", Content: string(raw)}},
	}
	older := ladder
	older.Tag = "cp39-cp39-manylinux_2_28_" + machine // for another Python
	s.PutWheel("shelf", older)
	s.PutWheel("shelf", ladder)
	tally := module("tally", "1.0")
	tally.Scripts = "[console_scripts]\ntally-count = tally:main\n"
	tally.Files[0].Content += "def main():\n    import ladder\n    print('counted', ladder.count(6))\n"
	s.PutWheel("shelf", tally)
	// One that is had as source only, and is built here.
	sdist := standin.TarGz(
		standin.File{Name: "weirsrc-1.2/PKG-INFO", Content: "Metadata-Version: 2.2\nName: weirsrc\nVersion: 1.2\n\n"},
		standin.File{Name: "weirsrc-1.2/pyproject.toml", Content: "[build-system]\nrequires = [\"setuptools\"]\nbuild-backend = \"setuptools.build_meta\"\n[project]\nname = \"weirsrc\"\nversion = \"1.2\"\n[tool.setuptools]\npy-modules = [\"weirsrc\"]\n"},
		standin.File{Name: "weirsrc-1.2/weirsrc.py", Content: "import weirc\ndepth = weirc.depth()\n"},
		standin.File{Name: "weirsrc-1.2/setup.py", Content: "from setuptools import setup, Extension\nsetup(ext_modules=[Extension('weirc', ['weirc.c'])])\n"},
		standin.File{Name: "weirsrc-1.2/weirc.c", Content: "#include <Python.h>\nstatic PyObject *depth(PyObject *s, PyObject *a) { return PyLong_FromLong(12); }\nstatic PyMethodDef m[] = {{\"depth\", depth, METH_NOARGS, 0}, {0}};\nstatic struct PyModuleDef d = {PyModuleDef_HEAD_INIT, \"weirc\", 0, -1, m};\nPyMODINIT_FUNC PyInit_weirc(void) { return PyModule_Create(&d); }\n"},
	)
	s.PutWheel("shelf", standin.Wheel{Name: "weirsrc", Version: "1.2", Archive: sdist, File: "weirsrc-1.2.tar.gz", Hidden: true})
	ids := map[string]string{}
	for _, isolation := range []string{"sealed", "clean", "open"} {
		for _, who := range []string{"root", "ordinary"} {
			if who == "ordinary" && (os.Getuid() != 0 || isolation != "sealed") {
				continue
			}
			declaration := pythonSet(s, isolation, "\n[libraries.survey]\nkind  = \"python\"\nwant  = [\"ladder\", \"weirsrc\"]\nbuild = [\"weirsrc\"]\n")
			h := newHut(t, nil, declaration)
			if who == "root" {
				h = archiveHut(t, declaration)
			} else {
				asOrdinaryUser(t, h)
			}
			h.fitted()
			if got := h.ok("run", "--", "python", "-c", "import ladder, weirsrc, sys; print(ladder.count(6), weirsrc.depth, sys.version_info[:2])"); got != "42 12 (3, 13)\n" {
				t.Errorf("%s %s: %q", isolation, who, got)
			}
			if got := h.ok("run", "--", "tally-count"); got != "counted 42\n" {
				t.Errorf("%s %s: the console script says %q", isolation, who, got)
			}
			if got := h.ok("run", "--", "pip", "list"); !strings.Contains(got, "ladder") {
				t.Errorf("%s %s: pip does not list it:\n%s", isolation, who, got)
			}
			h.fails(1, []string{"trammel set survey/NAME=latest"}, "run", "--", "pip3", "install", "x")
			h.ok("verify", "--deep")
			lock := h.read("trammel.lock")
			sums := lock[strings.Index(lock, "[library.survey"):]
			sums = sums[:strings.Index(sums, "\n[root")]
			if ids[""] == "" {
				ids[""] = sums
			} else if sums != ids[""] {
				t.Errorf("%s %s: another lock of the set:\n%s\nand\n%s", isolation, who, sums, ids[""])
			}
		}
	}
}

func TestLiveNothingElseIsOnThePathOfALanguage(t *testing.T) {
	liveArchive(t)
	h := archiveHut(t, `format    = 1
project   = "heronweir"
isolation = "clean"

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
python = "3.13"
`)
	h.fitted()
	h.ok("verify")
	site := strings.TrimSpace(h.ok("run", "--", "python", "-m", "site", "--user-site"))
	if !strings.HasPrefix(site, filepath.Join(h.home, "state/homes")+"/") {
		t.Fatalf("the user's own libraries would be in %s", site)
	}
	if err := os.MkdirAll(site, 0o755); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(site, "sneaked.py"), []byte("x = 1\n"), 0o644)
	h.fails(3, []string{"sneaked.py", "no set and no add-on brought it"}, "verify")
	// Another lock has another place, so that it is not found there.
	h.write("trammel.toml", strings.Replace(h.read("trammel.toml"), `python = "3.13"`, "python = \"3.13\"\nnode = \"22\"", 1))
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	h.fails(1, []string{"No module named 'sneaked'"}, "run", "--", "python", "-c", "import sneaked")
	h.ok("verify")
}

func TestLiveRLibrariesAreBuiltSealedAndTheSameEverywhere(t *testing.T) {
	long(t)
	liveArchive(t)
	s := standin.New()
	defer s.Close()
	s.PutR("cran",
		standin.RPackage{Name: "rtally", Version: "1.0", Exports: "export(total)", Files: []standin.File{{Name: "R/t.R", Content: "total <- function(x) sum(x)\n"}}},
		standin.RPackage{Name: "rtally", Version: "1.1", Exports: "export(total)", Files: []standin.File{{Name: "R/t.R", Content: "total <- function(x) sum(x) + 100\n"}}},
		standin.RPackage{Name: "rladder", Version: "0.2", Imports: "rtally", Compiled: true, Exports: "useDynLib(rladder)\nimportFrom(rtally, total)\nexport(times7)",
			Files: []standin.File{{Name: "R/l.R", Content: "times7 <- function(n) .Call('times7', total(n), PACKAGE = 'rladder')\n"}, {Name: "src/l.c", Content: "#include <Rinternals.h>\nSEXP times7(SEXP n) { return Rf_ScalarReal(Rf_asReal(n) * 7); }\n"}}},
	)
	declaration := fmt.Sprintf(`format    = 1
project   = "heronweir"
isolation = "sealed"

[source.trixie]
kind  = "debian"
suite = "trixie"

[source.cran]
kind = "r"
url  = %q

[toolchain]
r    = "4.5"
gcc  = "14"
make = { version = "latest", from = "trixie", package = "make" }

[libraries.rungs]
kind = "r"
want = ["rladder", "rtally == 1.0"]
`, s.R("cran"))
	h := archiveHut(t, declaration)
	if out := h.ok("lock"); !strings.Contains(out, "+ rungs: rladder 0.2") || !strings.Contains(out, "+ rungs: rtally 1.0") {
		t.Error(out)
	}
	h.fitted()
	if got := h.ok("run", "--", "Rscript", "-e", "library(rladder); cat(times7(6), '\\n')"); strings.TrimSpace(got) != "42" {
		t.Errorf("R says %q", got)
	}
	h.ok("verify", "--deep")
	// No other test that shares the home names a set or a package so: what is removed here is this
	// test's own. Built again, in another folder and at another time, they have the same bytes.
	before := h.read("trammel.lock")
	for _, glob := range []string{"*-rungs-r*", "*-rladder-0.2*", "*-rtally-1.0*", ".trees/*"} {
		built, _ := filepath.Glob(filepath.Join(sharedHome, "data/store", glob))
		for _, path := range built {
			if strings.HasPrefix(glob, ".trees") && !strings.Contains(path, "-rtally-") && !strings.Contains(path, "-rladder-") && !strings.Contains(path, "-rungs") {
				continue // what other tests know stays
			}
			writable(path)
			if err := os.RemoveAll(path); err != nil {
				t.Fatal(err)
			}
		}
	}
	other := archiveHut(t, declaration)
	other.write("trammel.lock", before)
	if out := other.ok("fit"); !strings.Contains(out, "libraries rungs") {
		t.Errorf("nothing was built again:\n%s", out)
	}
	other.ok("verify", "--deep")
	if other.read("trammel.lock") != before {
		t.Error("another lock")
	}
	if got := other.ok("run", "--", "Rscript", "-e", "cat(rladder::times7(6), '\\n')"); strings.TrimSpace(got) != "42" {
		t.Errorf("R says %q", got)
	}
	// One library moves alone, and back is exact.
	h.ok("set", "rungs/rtally==1.1")
	h.ok("approve", "--yes")
	h.ok("fit")
	if got := h.ok("run", "--", "Rscript", "-e", "cat(rladder::times7(6), '\\n')"); strings.TrimSpace(got) != "742" {
		t.Errorf("R says %q", got)
	}
	h.ok("recall", "1", "--declaration")
	h.ok("approve", "--yes")
	h.ok("fit")
	if got := h.ok("run", "--", "Rscript", "-e", "cat(rladder::times7(6), '\\n')"); strings.TrimSpace(got) != "42" {
		t.Errorf("after going back R says %q", got)
	}
	// The error of a build is shown, with its log.
	s.PutR("cran", standin.RPackage{Name: "broken", Version: "1.0", Compiled: true, Exports: "useDynLib(broken)", Files: []standin.File{{Name: "src/b.c", Content: "int x = ;\n"}}})
	h.ok("set", "rungs/broken=latest")
	h.ok("approve", "--yes")
	h.fails(1, []string{"broken 1.0 could not be built", "expected expression", "Log: "}, "fit")
	h.ok("unset", "rungs/broken")
	s.PutR("cran", standin.RPackage{Name: "weirtime", Version: "1.0", Exports: "export(at)", Files: []standin.File{{Name: "R/t.R", Content: "at <- as.numeric(Sys.time())\n"}}})
	h.ok("set", "rungs/weirtime=latest")
	h.ok("approve", "--yes")
	h.fails(1, []string{"weirtime 1.0 comes out differently each time it is built: weirtime/R/weirtime.rdb", `varies = ["weirtime"]`}, "fit")
}

// The walks of the guide, from an empty folder to a figure, with real interpreters; made-up
// packages stand for what a reader would use.
func TestLiveTheWalksOfTheGuide(t *testing.T) {
	long(t)
	liveArchive(t)
	s := standin.New()
	defer s.Close()
	smoothed := func(more string) []standin.File {
		return []standin.File{
			{Name: "R/s.R", Content: "smoothed <- function(x) .Call('smoothed', as.numeric(x), PACKAGE = 'weirstats')\n"},
			{Name: "src/s.c", Content: "#include <Rinternals.h>\nSEXP smoothed(SEXP x) { R_xlen_t n = Rf_xlength(x); SEXP y = PROTECT(Rf_allocVector(REALSXP, n)); for (R_xlen_t i = 0; i < n; i++) REAL(y)[i] = (REAL(x)[i > 0 ? i - 1 : i] + REAL(x)[i]) / 2" + more + "; UNPROTECT(1); return y; }\n"},
		}
	}
	s.PutR("cran",
		standin.RPackage{Name: "weirstats", Version: "1.0", Compiled: true, Exports: "useDynLib(weirstats)\nexport(smoothed)", Files: smoothed("")},
		standin.RPackage{Name: "weirstats", Version: "1.1", Compiled: true, Exports: "useDynLib(weirstats)\nexport(smoothed)", Files: smoothed(" + 0")})
	plot := standin.Wheel{Name: "weirplot", Version: "2.0", Requires: []string{"paints; extra == 'colour'"}, Extras: []string{"colour"}, Files: []standin.File{{Name: "weirplot.py", Content: "import paints\ndef bars(file, rows):\n    out = ''.join(f'<rect x=\"{20 * i}\" y=\"{100 - 20 * n}\" width=\"15\" height=\"{20 * n}\" fill=\"{paints.deep}\"/>' for i, (_, n) in enumerate(sorted(rows.items())))\n    open(file, 'w').write(f'<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"200\" height=\"100\">{out}</svg>')\n"}}}
	s.PutWheel("shelf", plot)
	s.PutWheel("shelf", standin.Wheel{Name: "paints", Version: "0.3", Files: []standin.File{{Name: "paints.py", Content: "deep = '#246'\n"}}})
	for _, v := range []string{"1.0", "1.1"} {
		s.PutWheel("shelf", standin.Wheel{Name: "tally", Version: v, Files: []standin.File{{Name: "tally.py", Content: "def hours(list):\n    return {h: list.count(h) for h in list}\n"}}})
	}
	all := pages(t)
	for _, page := range walks {
		t.Run(strings.ReplaceAll(page, "/", "-"), func(t *testing.T) {
			h := archiveHut(t, "")
			root := t.TempDir()
			if err := os.WriteFile(filepath.Join(root, ".Rprofile"), []byte(fmt.Sprintf("options(repos = c(CRAN = %q))\n", s.R("cran"))), 0o644); err != nil {
				t.Fatal(err)
			}
			h.env = append(h.env, "PIP_INDEX_URL="+s.Python("shelf"))
			_, out, err := runPage(t, h, root, root, "", all[page], 12*time.Minute)
			if err != nil {
				t.Errorf("%v\n%s", err, out[max(0, len(out)-3000):])
			}
		})
	}
}

// An add-on of R's own installer goes back as well: what the repository moved into its Archive
// is had from there.
func TestLiveAnAddonOfRGoesBack(t *testing.T) {
	long(t)
	liveArchive(t)
	s := standin.New()
	defer s.Close()
	for _, v := range []string{"1.0", "1.1"} {
		s.PutR("cran", standin.RPackage{Name: "tally", Version: v, Exports: "export(v)", Files: []standin.File{{Name: "R/t.R", Content: "v <- function() '" + v + "'\n"}}})
	}
	h := archiveHut(t, `format    = 1
project   = "heronweir"
isolation = "sealed"

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
r = "4.5"

[variables]
R_PROFILE_USER = "@{project.dir}/site.R"

[addon.cran]
kind = "r"
want = ["tally@1.0"]
`)
	h.write("site.R", fmt.Sprintf("options(repos = c(CRAN = %q))\n", s.R("cran")))
	h.ok("lock")
	h.fitted()
	says := func(want string) {
		t.Helper()
		if got := h.ok("run", "--", "Rscript", "-e", "cat(tally::v())"); got != want {
			t.Errorf("R says %q, not %s", got, want)
		}
		h.ok("verify")
	}
	says("1.0")
	h.change("tally@1.0", "tally@1.1")
	h.ok("lock")
	h.ok("approve", "--yes")
	h.ok("fit")
	says("1.1")
	h.ok("recall", "1", "--declaration")
	h.ok("approve", "--yes")
	h.ok("fit")
	says("1.0")
	h.change("tally@1.0", "tally@9.0")
	h.ok("lock")
	h.ok("approve", "--yes")
	h.fails(1, []string{"the repository has no tally 9.0", "Log: "}, "fit")
}
