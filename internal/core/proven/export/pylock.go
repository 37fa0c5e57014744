package export

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/python"
	"app.example/trammel/internal/core/base/version"
	"app.example/trammel/internal/core/written/lock"
)

// PyLock is a set of Python libraries as other installers read it (PEP 751). where gives
// the address of a file, which that format must state.
func PyLock(ctx context.Context, l *lock.Lock, name string, where func(context.Context, lock.LibraryOf) (string, error)) ([]byte, error) {
	x, ok := l.Libraries[name]
	if !ok || x.Kind != lock.Python {
		var names []string
		for _, n := range lock.Sorted(l.Libraries) {
			if l.Libraries[n].Kind == lock.Python {
				names = append(names, n)
			}
		}
		if name == "" {
			return nil, fault.New(fault.ErrUsage, "the lock has no Python libraries").Advise("Declare a set: [libraries.NAME] with kind = \"python\"; then: trammel lock")
		}
		return nil, fault.New(fault.ErrUsage, "there are no Python libraries named %q in the lock", name).Advise("%s", fault.DidYouMean(name, names))
	}
	type file struct {
		lock.LibraryOf
		on []string // platforms
	}
	packages := map[string][]*file{} // "NAME VERSION" → files
	interpreter := ""
	for _, on := range lock.Sorted(x.On) {
		if words := strings.Fields(x.On[on].For); len(words) > 1 {
			interpreter = words[1]
		}
		for _, p := range x.On[on].List() {
			key := p.Name + " " + p.Version
			i := slices.IndexFunc(packages[key], func(f *file) bool { return f.Path == p.Path })
			if i < 0 {
				packages[key] = append(packages[key], &file{LibraryOf: p})
				i = len(packages[key]) - 1
			}
			packages[key][i].on = append(packages[key][i].on, on)
		}
	}
	var b bytes.Buffer
	environments := []string{}
	for _, on := range lock.Sorted(x.On) {
		environments = append(environments, quoted(markerOf(on)))
	}
	fmt.Fprintf(&b, "lock-version = \"1.0\"\ncreated-by = \"trammel\"\nrequires-python = %s\nenvironments = [%s]\n", quoted(">="+version.Minor(interpreter)), strings.Join(environments, ", "))
	for _, key := range lock.Sorted(packages) {
		files := packages[key]
		seen := map[string]bool{}
		for _, f := range files {
			for _, on := range f.on {
				seen[on] = true
			}
		}
		fmt.Fprintf(&b, "\n[[packages]]\nname = %s\nversion = %s\n", quoted(files[0].Name), quoted(files[0].Version))
		if len(seen) < len(x.On) {
			var markers []string
			for _, on := range lock.Sorted(seen) {
				markers = append(markers, "("+markerOf(on)+")")
			}
			fmt.Fprintf(&b, "marker = %s\n", quoted(strings.Join(markers, " or ")))
		}
		slices.SortFunc(files, func(a, b *file) int { return strings.Compare(a.Path, b.Path) })
		for _, f := range files {
			at, err := where(ctx, f.LibraryOf)
			if err != nil {
				return nil, err
			}
			header := "[[packages.wheels]]"
			if !f.Wheel() {
				header = "[packages.sdist]"
			}
			algorithm, value := f.Digest.Cut()
			fmt.Fprintf(&b, "\n%s\nname = %s\nurl = %s\n", header, quoted(f.Path), quoted(at))
			if f.Size > 0 {
				fmt.Fprintf(&b, "size = %s\n", strconv.FormatInt(f.Size, 10))
			}
			fmt.Fprintf(&b, "hashes = { %s = %s }\n", algorithm, quoted(value))
		}
	}
	return b.Bytes(), nil
}

// markerOf is a platform as a marker (PEP 508).
func markerOf(on string) string {
	p, _ := platform.Parse(on)
	env := python.Target{Version: "3", Platform: p}.Environment()
	return fmt.Sprintf("sys_platform == '%s' and platform_machine == '%s'", env["sys_platform"], env["platform_machine"])
}

// quoted writes a TOML basic string of text without control characters.
func quoted(s string) string { return strconv.Quote(s) }
