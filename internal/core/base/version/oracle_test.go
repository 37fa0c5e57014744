package version

import (
	"math/rand/v2"
	"os/exec"
	"strconv"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"
)

// random makes a version out of pieces that are likely to be compared wrongly.
func random(r *rand.Rand, start, pieces []string) string {
	v := start[r.IntN(len(start))]
	for range r.IntN(6) {
		v += pieces[r.IntN(len(pieces))]
	}
	return v
}

func TestDebianOrderIsThatOfDpkg(t *testing.T) {
	dpkg, err := exec.LookPath("dpkg")
	if err != nil {
		lacks.Program(t, "dpkg")
	}
	r := rand.New(rand.NewPCG(3, 4))
	start := []string{"1", "0", "1:1", "2:0", "10", "1.0"}
	pieces := []string{".", "0", "1", "09", "~", "~rc", "a", "b", "Z", "+", "+b1", "-1", "-", ".10"}
	for range 400 {
		a, b := random(r, start, pieces), random(r, start, pieces)
		if !Debian.Valid(a) || !Debian.Valid(b) {
			continue
		}
		c := Debian.Compare(a, b)
		for op, holds := range map[string]bool{"lt": c < 0, "eq": c == 0, "gt": c > 0} {
			err := exec.Command(dpkg, "--compare-versions", a, op, b).Run()
			if (err == nil) != holds {
				t.Errorf("%s %s %s: we say %v", a, op, b, holds)
			}
		}
	}
}

func TestPEP440OrderIsThatOfPackaging(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		lacks.Program(t, "python3")
	}
	const program = `
import sys
try:
    from packaging.version import Version, InvalidVersion
except ImportError:
    from pip._vendor.packaging.version import Version, InvalidVersion
for line in sys.stdin:
    a, b = line.rstrip("\n").split("\t")
    try:
        x, y = Version(a), Version(b)
        print((x > y) - (x < y), x.is_prerelease)
    except InvalidVersion:
        print("invalid")
`
	r := rand.New(rand.NewPCG(5, 6))
	start := []string{"1", "1.0", "0.9", "1!1", "v1.2", "10", "1.0.0"}
	pieces := []string{".0", ".1", ".10", "a", "a1", "b2", "rc1", "c3", ".post1", "-1", ".dev2", "dev", "+abc", "+1.x", ".post", "alpha_4", "-r5"}
	var pairs [][2]string
	var in strings.Builder
	for range 3000 {
		p := [2]string{random(r, start, pieces), random(r, start, pieces)}
		pairs = append(pairs, p)
		in.WriteString(p[0] + "\t" + p[1] + "\n")
	}
	cmd := exec.Command(python, "-c", program)
	cmd.Stdin = strings.NewReader(in.String())
	out, err := cmd.Output()
	if err != nil {
		t.Skip("python3 has no packaging")
	}
	compared := 0
	for i, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		a, b := pairs[i][0], pairs[i][1]
		if line == "invalid" {
			if PEP440.Valid(a) && PEP440.Valid(b) {
				t.Errorf("%s and %s are both taken as valid", a, b)
			}
			continue
		}
		compared++
		want, pre, _ := strings.Cut(line, " ")
		if got := strconv.Itoa(PEP440.Compare(a, b)); got != want {
			t.Errorf("%s against %s is %s, and packaging says %s", a, b, got, want)
		}
		if PEP440.Prerelease(a) != (pre == "True") {
			t.Errorf("%s is a pre-release: %s", a, pre)
		}
	}
	if compared < 300 {
		t.Errorf("only %d pairs were compared", compared)
	}
}
