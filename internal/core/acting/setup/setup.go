package setup

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/service"
)

// Setup is a checkout whose tools are fitted and that a person consented to, ready to run
// steps and services. It does not change; what moves a port gives another one.
type Setup struct {
	*Sight
	Given  approval.Given
	Ready  *environ.Ready // of steps, routines and the like
	inside *environ.Ready // of services: in a private network ports have their own numbers
}

// Of is the Setup of a plan that fit.Apply made.
func Of(g approval.Given, p *environ.Plan) (*Setup, error) {
	s := &Setup{Sight: &Sight{State: p.State, Plan: p, Services: service.Connect(p.State.Bay, p.State.Host)}, Given: g}
	var err error
	if s.Ready, err = p.Ready(g); err != nil {
		return nil, err
	}
	s.inside, err = p.ReadyInside(g)
	return s, err
}

// With is a Setup that only asks: of a checkout that is looked at, for what consent lets be
// asked of its tools. It makes nothing.
func With(g approval.Given, s *Sight) (*Setup, error) { return Of(g, s.Plan) }

// Alone waits until no other process sets this checkout up in this bay.
func (s *Setup) Alone(ctx context.Context) (unlock func(), err error) {
	return disk.Lock(ctx, setupLock(s.State.Bay))
}

// setupLock keeps two processes from setting one bay up at once.
func setupLock(b bay.Bay) string { return filepath.Join(b.Records, "setup.lock") }

// SecretRemarks say which files of secrets others could read: by their mode, or
// because version control would take them along.
func (s *Setup) SecretRemarks() []string {
	var out []string
	dir := s.State.Declaration.Dir
	for _, x := range s.State.Declaration.Secrets {
		path, ok := strings.CutPrefix(x.From, "file:")
		if !ok {
			continue
		}
		full := path
		if !filepath.IsAbs(full) {
			full = filepath.Join(dir, full)
		}
		info, err := os.Stat(full)
		if err != nil {
			continue
		}
		if info.Mode().Perm()&0o077 != 0 {
			out = append(out, fmt.Sprintf("The secret %s can be read by others: chmod 600 %s", x.Name, shell.Typed(path)))
		}
		below, err := filepath.Rel(dir, full)
		if err != nil || !filepath.IsLocal(below) {
			continue
		}
		if ignored, known := approval.Ignored(dir, filepath.ToSlash(below)); known && !ignored {
			out = append(out, fmt.Sprintf("The secret %s is not ignored by version control: add %s to .gitignore", x.Name, path))
		}
	}
	return out
}
