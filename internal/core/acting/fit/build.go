package fit

import (
	"context"
	"debug/buildinfo"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// build makes a command from its Go module with the locked toolchain. Without
// cgo, with -trimpath and without version control's stamp the same module and
// toolchain give the same bytes in every folder, so the tree digest can be locked.
func build(ctx context.Context, s *checkout.State, from source.Source, w work) error {
	settings, ok := from.(source.GoBuilder)
	if !ok {
		return fault.New(fault.ErrUsage, "%s cannot be built from this source", w.part.Label())
	}
	golang, err := goCommand(s, w.part.Item)
	if err != nil {
		return err
	}
	_, err = s.Store.Make(ctx, w.part, w.mend, func(fresh string) error {
		return goInstall(ctx, s, w.part, golang, settings.GoSettings(), fresh)
	})
	return err
}

// goCommand is the go command that builds a tool, in the store: of the toolchain that is there
// for it alone, or of the project's own.
func goCommand(s *checkout.State, tool string) (string, error) {
	for _, by := range []string{declare.BuilderOf(tool), "go"} {
		for _, part := range s.Parts {
			if file, ok := part.Bin["go"]; ok && part.Item == by {
				return filepath.Join(s.Store.Path(part), file), nil
			}
		}
	}
	return "", fault.New(fault.ErrUsage, "the lock has no go toolchain to build with").Advise("Lock again: trammel lock")
}

func goInstall(ctx context.Context, s *checkout.State, part lock.PartOn, golang string, settings []string, fresh string) error {
	home, err := os.MkdirTemp("", "trammel-build-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	tools := s.Places.Builds()
	env := append([]string{
		"HOME=" + home, "PATH=" + filepath.Dir(golang) + ":/usr/bin:/bin", "TMPDIR=" + home,
		"GOPATH=" + filepath.Join(home, "go"), "GOBIN=" + filepath.Join(fresh, "bin"),
		"GOMODCACHE=" + filepath.Join(tools, "go-modules"), "GOCACHE=" + filepath.Join(tools, "go-build"),
		"GOTOOLCHAIN=local", "GOWORK=off", "GOFLAGS=-trimpath -buildvcs=false", "CGO_ENABLED=0",
	}, settings...)
	for _, name := range []string{"SSL_CERT_FILE", "SSL_CERT_DIR", "HTTPS_PROXY", "HTTP_PROXY", "NO_PROXY", "https_proxy", "http_proxy", "no_proxy"} {
		if v := s.Host.Getenv(name); v != "" {
			env = append(env, name+"="+v)
		}
	}
	said, err := os.CreateTemp(home, "said-")
	if err != nil {
		return err
	}
	defer said.Close()
	exit, err := process.Read(ctx, process.Spec{
		Path: golang, Argv: []string{"go", "install", part.Build + "@v" + part.Part.Version}, Env: env, Dir: home, Stdout: said, Stderr: said,
	}, process.Reading{})
	if err != nil {
		return err
	}
	if !exit.OK() {
		return fault.New(fault.ErrSource, "%s %s could not be built: %s", part.Label(), part.Part.Version, exit).Advise("| %s", lastLines(said.Name(), 8))
	}
	for _, file := range part.Bin {
		info, err := buildinfo.ReadFile(filepath.Join(fresh, file))
		if err != nil {
			return fmt.Errorf("%s was not built as %s: %w", part.Build, file, err)
		}
		if info.Main.Sum != string(part.Digest) {
			return fault.New(fault.ErrSource, "%s %s was built from other sources than those that are locked", part.Label(), part.Part.Version)
		}
	}
	return nil
}

// moduleSums lists the modules that went into a built part, with the checksums
// that the go command verified.
func moduleSums(s *checkout.State, part lock.PartOn) []string {
	if part.Build == "" || len(part.Packages) > 0 {
		return nil
	}
	var out []string
	for _, file := range part.Bin {
		info, err := buildinfo.ReadFile(filepath.Join(s.Store.Path(part), file))
		if err != nil {
			continue
		}
		for _, m := range info.Deps {
			if m.Replace != nil {
				m = m.Replace
			}
			out = append(out, strings.Join([]string{m.Path, m.Version, m.Sum}, " "))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
