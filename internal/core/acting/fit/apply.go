package fit

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
)

// Apply makes what a consented State needs on this machine besides its parts, which must
// be here: the checkout's own folder, the record of chosen params and of the numbers of
// ports, made-up secrets, the frame with its links, and the links to host commands. It is
// the one place where these are written; what is right already stays as it is.
//
// It returns the plan, and consent for the State that knows the numbers.
func Apply(ctx context.Context, g approval.Given) (approval.Given, *environ.Plan, error) {
	s, err := g.State().MakeLocal()
	if err != nil {
		return g, nil, err
	}
	if name := s.Bay.Name; name != bay.Main && slices.Contains(declare.Names(s.Declaration.Services), name) {
		return g, nil, fault.New(fault.ErrUsage, "a bay and a service cannot both be called %s: each is %s.%s.localhost", name, name, s.Declaration.Project).
			Advise("Take another name for the bay: trammel --bay NAME …\nRemove this one, if it is there: trammel clear %s", shell.Typed(name))
	}
	s.SayAside(ctx)
	p, err := environ.Decide(s)
	if err != nil {
		return g, nil, err
	}
	if err := s.Remember(); err != nil {
		return g, nil, err
	}
	for _, folder := range []string{s.Bay.Dir, s.Bay.Records} {
		if err := disk.Private(folder); err != nil {
			return g, nil, err
		}
	}
	if s.Declaration.Named {
		if err := s.Bay.MakeDoor(); err != nil {
			return g, nil, err
		}
	}
	if err := records(ctx, s); err != nil {
		return g, nil, err
	}
	ports := s.Ports
	if !p.Recorded || len(s.Broken) > 0 {
		if ports, err = s.Bay.AssignPorts(ctx, s.Declaration); err != nil {
			return g, nil, err
		}
	}
	s = s.Refreshed(ports)
	if p, err = p.WithState(s); err != nil {
		return g, nil, err
	}
	if err := makeUp(s); err != nil {
		return g, nil, err
	}
	if err := makeFrame(p); err != nil {
		return g, nil, err
	}
	if err := p.Frame.Point(ctx, checkout.Local(s.Dir()), environ.PathScript(s)); err != nil {
		return g, nil, err
	}
	if err := p.Folders.Make(s.Declaration.Isolation); err != nil {
		return g, nil, err
	}
	if err := os.MkdirAll(checkout.Clock(s.Dir()), 0o755); err != nil {
		return g, nil, err
	}
	for _, m := range p.Modules {
		if err := m.Make(); err != nil {
			return g, nil, err
		}
	}
	return g.For(s), p, nil
}

// makeFrame puts the frame on disk, this program for its launchers, and the links to host
// commands.
func makeFrame(p *environ.Plan) error {
	s := p.State
	if len(p.Frame.Roots) > 0 {
		if _, err := s.Places.KeepProgram(s.Host.Program, p.Frame.Interpreters()...); err != nil {
			return err
		}
	}
	if err := p.Frame.Make(); err != nil {
		return err
	}
	if s.Declaration.Isolation == declare.Clean {
		return p.Links.Make()
	}
	return nil
}

// records writes what was chosen for the bay, and puts what cannot be read aside.
func records(ctx context.Context, s *checkout.State) error {
	for _, broken := range s.Broken {
		if broken.Path == s.Bay.ParamsFile() {
			if err := broken.PutAside(ctx, "params have their defaults again"); err != nil {
				return err
			}
		}
	}
	if s.Chose {
		return s.Bay.SaveParams(s.Chosen)
	}
	return nil
}

// makeUp writes the secrets that a bay makes up for its services, each once, and those
// that the declaration states where the card's scripts read them.
func makeUp(s *checkout.State) error {
	secrets, stated := environ.MadeUp(s.Declaration, s.Bay)
	for _, x := range secrets {
		file := strings.TrimPrefix(x.From, "file:")
		if _, err := os.Lstat(file); err == nil {
			continue
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		raw := make([]byte, 12)
		if _, err := rand.Read(raw); err != nil {
			return err
		}
		stated[file] = hex.EncodeToString(raw)
	}
	for file, value := range stated {
		below, err := filepath.Rel(s.Bay.Dir, file)
		if err != nil {
			return err
		}
		if old, err := disk.ReadWithin(s.Bay.Dir, below, 1<<20); err == nil && string(old) == value {
			continue
		}
		if err := disk.WriteWithin(s.Bay.Dir, below, []byte(value), 0o600); err != nil {
			return err
		}
	}
	return nil
}
