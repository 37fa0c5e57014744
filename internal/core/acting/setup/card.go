package setup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/mask"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/running/script"
	"app.example/trammel/internal/core/written/declare"
)

// cardCommand is what runs a script of a service's card outside of the service, and the
// environment of its process.
func (s *Setup) cardCommand(x declare.Service, copy int, text string) (script.Command, []string, error) {
	expanded, err := environ.Expand(declare.Run{Script: text}, s.Plan.Lookup(x.Name, copy))
	if err != nil {
		return script.Command{}, nil, err
	}
	settings, err := s.Plan.SettingVariables(x, copy)
	if err != nil {
		return script.Command{}, nil, err
	}
	e := s.Ready.With(settings)
	return script.Of(e.Using(s.Plan.CommandsOf(x.Tool, e.Isolation)), expanded, s.State.Dir())
}

// runCard runs a script of a service's card to its end, and keeps what it prints in a log.
// failed says of a service what it is that did not come about.
func (s *Setup) runCard(ctx context.Context, x declare.Service, copy int, what, failed, text string) error {
	command, env, err := s.cardCommand(x, copy, text)
	if err != nil {
		return err
	}
	path := filepath.Join(s.State.Bay.Logs(), "card-"+x.CopyName(copy)+"-"+what+".log")
	if err := disk.Private(s.State.Bay.Logs()); err != nil {
		return err
	}
	log, err := disk.CreateOwn(path)
	if err != nil {
		return err
	}
	defer log.Close()
	var last tail
	within, cancel := context.WithTimeout(ctx, cardTime)
	defer cancel()
	spec := process.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: s.State.Dir()}
	exit, err := process.Read(within, spec, process.Reading{Out: func(r io.Reader) {
		_, _ = io.Copy(io.MultiWriter(log, &last), io.LimitReader(mask.Reader(r, s.Ready.Masks()), mostCardLog))
	}})
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case within.Err() != nil:
		err = fault.New(fault.ErrFailed, failed+": it did not end within %s", x.Name, cardTime)
	case err == nil && !exit.OK():
		err = fault.New(fault.ErrFailed, failed+": %s", x.Name, exit)
	default:
		return err
	}
	return err.(*fault.Error).Advise("%sLog: %s", last.bars(8), path)
}

// How long a script of a card may take, and how many bytes of what it prints are kept.
const (
	cardTime    = 10 * time.Minute
	mostCardLog = 16 << 20
)

// tail is the end of what was written to it.
type tail struct{ b []byte }

func (t *tail) Write(p []byte) (int, error) {
	t.b = append(t.b, p...)
	if len(t.b) > 16<<10 {
		t.b = append(t.b[:0], t.b[len(t.b)-8<<10:]...)
	}
	return len(p), nil
}

// bars are the last lines, each behind a bar.
func (t *tail) bars(n int) string {
	text := strings.TrimSpace(string(t.b))
	if text == "" {
		return ""
	}
	lines := strings.Split(text, "\n")
	return "| " + strings.Join(lines[max(0, len(lines)-n):], "\n| ") + "\n"
}

// first makes the data folders of a service that has none yet, as its card says. A folder
// that is not finished, because that was killed, is made anew; what lies there is never
// removed but put aside, and told, since a mark may be lost where data is not.
func (s *Setup) first(ctx context.Context, x declare.Service) error {
	once := x.Card["once"]
	for copy := 1; x.Card != nil && copy <= x.Copies; copy++ {
		data := environ.DataFolder(s.State.Bay, x, copy)
		made := filepath.Join(s.State.Bay.Records, "made", x.CopyName(copy))
		begun := made + ".begun"
		if _, err := os.Lstat(made); err == nil {
			continue
		} else if !errors.Is(err, os.ErrNotExist) {
			return fault.New(fault.ErrFailed, "it cannot be told whether the data of service %s is there: %v", x.Name, err).
				Advise("Nothing of it was touched. See that %s can be read.", filepath.Dir(made))
		}
		if err := s.clearAway(ctx, x.CopyName(copy), data, begun); err != nil {
			return err
		}
		if err := disk.Write(begun, nil, 0o600); err != nil {
			return err
		}
		if err := disk.MkdirWithin(s.State.Bay.Dir, filepath.Join("data", x.CopyName(copy)), 0o700); err != nil {
			return err
		}
		if once != "" {
			done := event.Task(ctx, "data of "+x.CopyName(copy))
			err := s.runCard(ctx, x, copy, "data", "the data of service %s cannot be made", once)
			done("", err)
			if err != nil {
				return err
			}
		}
		if err := disk.Write(made, nil, 0o600); err != nil {
			return err
		}
		_ = os.Remove(begun)
	}
	return nil
}

// settle has a service that can be used take on settings which its data does not have yet.
func (s *Setup) settle(ctx context.Context, x declare.Service, copy int) error {
	text := x.Card["settle"]
	if text == "" {
		return nil
	}
	settings, err := s.Plan.SettingVariables(x, copy)
	if err != nil {
		return err
	}
	all := canon.Map{"settle": text}
	for _, v := range settings {
		all[v.Name] = v.Value
	}
	file, now := filepath.Join(s.State.Bay.Records, "made", x.CopyName(copy)+".settled"), canon.Digest(all)
	if was, err := disk.Read(file, 128); err == nil && string(was) == now {
		return nil
	}
	done := event.Task(ctx, "settings of "+x.CopyName(copy))
	err = s.runCard(ctx, x, copy, "settings", "the settings of service %s cannot be taken on", text)
	if err == nil {
		err = disk.Write(file, []byte(now), 0o600)
	}
	done("", err)
	return err
}

// clearAway makes room for new data. What a making that was killed left goes; anything
// else is a person's, and is kept under another name.
func (s *Setup) clearAway(ctx context.Context, name, data, begun string) error {
	_, err := os.Lstat(data)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if _, err := os.Lstat(begun); err == nil {
		return disk.RemoveAll(data)
	}
	entries, err := os.ReadDir(data)
	if err == nil && len(entries) == 0 {
		return os.Remove(data)
	}
	aside := data + ".aside-" + time.Now().Format("20060102-150405")
	if err := os.Rename(data, aside); err != nil {
		return err
	}
	event.Say(ctx, fmt.Sprintf("There was data of %s without a record that it is whole; it is kept as %s, and new data is made.", name, aside))
	return nil
}
