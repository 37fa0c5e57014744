package fit

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/stored/unpack"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// npmPackage is one package of a locked tree: "PLACE PATH DIGEST".
type npmPackage struct {
	place, path string
	digest      fetch.Digest
}

func packagesOf(part lock.PartOn) ([]npmPackage, error) {
	var out []npmPackage
	for _, line := range part.Packages {
		f := strings.Fields(line)
		if len(f) != 3 || !filepath.IsLocal(f[0]) || !strings.HasPrefix(f[0], "node_modules/") || fetch.Digest(f[2]).Check() != nil {
			return nil, fault.New(fault.ErrUsage, "the lock of %s has a faulty package %q", part.Item, line).Advise("Write the lock anew: trammel lock")
		}
		out = append(out, npmPackage{f[0], f[1], fetch.Digest(f[2])})
	}
	// A package before those that lie in it.
	slices.SortFunc(out, func(a, b npmPackage) int { return strings.Compare(a.place, b.place) })
	return out, nil
}

// buildTree makes a tool of npm packages: each is fetched, held to its integrity
// and unpacked in its place. Install scripts run only where the declaration allows
// them by name.
func (b bringing) buildTree(ctx context.Context, w work) error {
	packages, err := packagesOf(w.part)
	if err != nil {
		return err
	}
	build := func(fresh string) error {
		err := b.placePackages(ctx, w.part, packages, fresh, func(place string) (executable []string) {
			if place == "node_modules/"+strings.TrimPrefix(w.part.Build, "npm:") {
				for _, file := range w.part.Bin {
					executable = append(executable, strings.TrimPrefix(file, place+"/"))
				}
			}
			return executable
		})
		if err != nil {
			return err
		}
		return installScripts(ctx, b.state, w.part, packages, fresh)
	}
	if strings.HasPrefix(w.part.Builder, "scripts ") {
		i := slices.IndexFunc(b.state.Declaration.Toolchains, func(t declare.Toolchain) bool { return t.Name == w.part.Item })
		build = twice(w.part, w.part.Label()+" "+w.part.Part.Version, i >= 0 && b.state.Declaration.Toolchains[i].Varies, "varies = true in its line under [toolchain]", build)
	}
	_, err = b.state.Store.Make(ctx, w.part, w.mend, build)
	return err
}

// placePackages fetches packages and unpacks each in its place. executable names the files of
// one that must be.
func (b bringing) placePackages(ctx context.Context, part lock.PartOn, packages []npmPackage, fresh string, executable func(place string) []string) error {
	archives, err := b.fetchAll(ctx, part.Label(), packages)
	if err != nil {
		return err
	}
	for i, x := range packages {
		err := placeFor(fresh, x.place)
		if err == nil {
			_, err = unpack.Archive(ctx, archives[i], "tar.gz", filepath.Join(fresh, filepath.FromSlash(x.place)), unpack.Rules{Strip: 1, Open: true, Executable: executable(x.place)})
		}
		if errors.Is(err, context.Canceled) {
			return err
		}
		if err != nil {
			return fault.New(fault.ErrSource, "%s: %s: %v", part.Label(), x.place, err)
		}
	}
	return nil
}

// placeFor makes the folder of a package in a tree. Another package may have a link in its
// way, which would put the one into the other or elsewhere.
func placeFor(fresh, place string) error {
	if err := disk.MkdirWithin(fresh, place, 0o755); err != nil {
		return err
	}
	for at := place; at != "."; at = path.Dir(at) {
		if info, err := os.Lstat(filepath.Join(fresh, filepath.FromSlash(at))); err != nil {
			return err
		} else if !info.IsDir() {
			return fmt.Errorf("another package has %s in the place of a folder", at)
		}
	}
	return nil
}

// fetchAll gets the archives of a tree, as many at once as a host is asked. They count as one
// task.
func (b bringing) fetchAll(ctx context.Context, label string, packages []npmPackage) (_ []string, err error) {
	task := fmt.Sprintf("fetch %d packages of %s", len(packages), label)
	done := event.Task(ctx, task)
	defer func() { done("", err) }()
	told := event.Within(ctx, task)
	var have atomic.Int64
	ctx, cancel := context.WithCancelCause(event.With(ctx, func(event.Event) {}))
	defer cancel(nil)
	archives := make([]string, len(packages))
	slots := make(chan struct{}, 8)
	var wait sync.WaitGroup
	for i, x := range packages {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			if ctx.Err() != nil {
				return
			}
			addresses, err := b.from.Where(lock.Part{Path: x.path})
			if err == nil {
				archives[i], err = b.client.Archive(ctx, b.state.Places.Archives(), fetch.Download{
					Name: strings.TrimPrefix(x.place, "node_modules/"), From: addresses[0], Digest: x.digest,
				})
			}
			if err != nil {
				cancel(err)
				return
			}
			event.Advance(told, event.Items, have.Add(1), int64(len(packages)))
		})
	}
	wait.Wait()
	return archives, context.Cause(ctx)
}

// installScripts runs the scripts that npm would run on installing, of the
// packages that the declaration allows.
func installScripts(ctx context.Context, s *checkout.State, part lock.PartOn, packages []npmPackage, fresh string) error {
	var allowed []string
	if list, ok := strings.CutPrefix(part.Builder, "scripts "); ok {
		allowed = strings.Fields(list)
	}
	for _, x := range packages {
		name := x.place[strings.LastIndex(x.place, "node_modules/")+len("node_modules/"):]
		if !slices.Contains(allowed, name) {
			continue
		}
		dir := filepath.Join(fresh, filepath.FromSlash(x.place))
		raw, err := disk.Read(filepath.Join(dir, "package.json"), disk.MostState)
		if err != nil {
			return err
		}
		var described struct {
			Scripts map[string]string `json:"scripts"`
		}
		if err := json.Unmarshal(raw, &described); err != nil {
			return fault.New(fault.ErrSource, "%s: its package.json is not JSON", x.place)
		}
		for _, phase := range []string{"preinstall", "install", "postinstall"} {
			if script := described.Scripts[phase]; script != "" {
				if err := runInstallScript(ctx, s, dir, name+" "+phase, script); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func runInstallScript(ctx context.Context, s *checkout.State, dir, what, script string) error {
	home, err := os.MkdirTemp("", "trammel-build-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	path := "/usr/bin:/bin"
	for _, part := range s.Parts {
		if file, ok := part.Bin["node"]; ok {
			path = filepath.Dir(filepath.Join(s.Store.Path(part), file)) + ":" + path
		}
	}
	said, err := os.CreateTemp(home, "said-")
	if err != nil {
		return err
	}
	defer said.Close()
	exit, err := process.Read(ctx, process.Spec{
		Argv: []string{"sh", "-c", script}, Dir: dir, Env: []string{"HOME=" + home, "TMPDIR=" + home, "PATH=" + path},
		Stdout: said, Stderr: said,
	}, process.Reading{})
	if err != nil {
		return err
	}
	if !exit.OK() {
		return fault.New(fault.ErrFailed, "the install script of %s: %s", what, exit).Advise("| %s", lastLines(said.Name(), 8))
	}
	return nil
}

// lastLines are the last few lines of a file, each behind a bar but the first.
func lastLines(file string, count int) string {
	text, err := disk.Read(file, disk.MostState)
	if err != nil {
		return fmt.Sprint(err)
	}
	lines := bytes.Split(bytes.TrimSpace(text), []byte("\n"))
	return string(bytes.Join(lines[max(0, len(lines)-count):], []byte("\n| ")))
}
