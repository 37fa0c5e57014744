package setup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/mask"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/written/declare"
)

// dataOf finds a service whose card says how its data is saved or loaded.
func (s *Setup) dataOf(name, how string) (declare.Service, error) {
	x, ok := s.State.Declaration.Service(name)
	if !ok {
		return x, fault.New(fault.ErrUsage, "no service is named %q", name).
			Advise("%s", fault.DidYouMean(name, declare.Names(s.State.Declaration.Services)))
	}
	if x.Card["data."+how] == "" {
		var can []string
		for _, y := range s.State.Declaration.Services {
			if y.Card["data."+how] != "" {
				can = append(can, y.Name)
			}
		}
		e := fault.New(fault.ErrUsage, "nobody says how to %s the data of service %s", how, name)
		if len(can) > 0 {
			return x, e.Advise("It can be done for: %s.", strings.Join(can, ", "))
		}
		return x, e.Advise("It is the card of a tool that says so, such as that of postgresql: tool = \"postgresql\"")
	}
	if x.Copies != 1 {
		return x, fault.New(fault.ErrUsage, "service %s has %d copies, and their data is not one", name, x.Copies)
	}
	return x, nil
}

// Save writes a dump of a service's data to a file. A service that does not run is
// started for it.
func (s *Setup) Save(ctx context.Context, name string, to *os.File) error {
	x, err := s.dataOf(name, "save")
	if err != nil {
		return err
	}
	return s.with(ctx, x, func() error { return s.exchange(ctx, x, "save", nil, to) })
}

// Load reads a dump, a regular file, into a service. What needs the service is stopped and
// started again, and the service itself where its card says that it must not run meanwhile.
func (s *Setup) Load(ctx context.Context, name string, from *os.File) error {
	x, err := s.dataOf(name, "load")
	if err != nil {
		return err
	}
	if err := whole(from, x); err != nil {
		return err
	}
	before, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	// What needs the service would go on with what it knows of the old data.
	stopped := x.Card["data.stopped"] == "yes"
	at, err := s.Afar()
	if err != nil {
		return err
	}
	if at != nil && stopped {
		return fault.New(fault.ErrUsage, "%s takes data as files, while it is stopped, and bay %s is in a cluster", name, s.State.Bay.Name).
			Advise("Its own client may do it: trammel --bay %s run -- …", shell.Typed(s.State.Bay.Name))
	}
	var away []string
	for _, y := range s.NeededBy(name) {
		if running(before, y) && at == nil {
			away = append(away, y)
		}
	}
	if stopped && running(before, name) {
		away = append(away, name)
	}
	if stopped {
		if err := s.first(ctx, x); err != nil {
			return err
		}
	}
	if len(away) > 0 {
		event.Say(ctx, "stopped for it, and started again afterwards: "+strings.Join(away, ", "))
		if _, err := s.Services.Stop(ctx, away); err != nil {
			return err
		}
	}
	load := func() error { return s.exchange(ctx, x, "load", from, nil) }
	if stopped {
		err = load()
	} else {
		err = s.with(ctx, x, load)
	}
	var again []string
	for _, y := range away {
		again = append(again, "service."+y)
	}
	if len(again) > 0 { // after Ctrl-C, too: what was stopped for this runs again
		back, end := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer end()
		err = errors.Join(err, s.Bring(back, again))
	}
	return err
}

// NeededBy are the services that need one, directly or not.
func (s *Setup) NeededBy(name string) []string {
	var out []string
	for _, y := range s.State.Declaration.Services {
		if _, needs := s.closure([]string{"service." + y.Name})["service."+name]; needs && y.Name != name {
			out = append(out, y.Name)
		}
	}
	return out
}

// edge is how much of a dump's beginning and end is looked at, in bytes.
const edge = 4 << 10

// whole tells whether a dump ends as its kind does, before anything of the old data goes. A
// dump that begins as the tool's own do and does not end so was cut, which the tool itself may
// take for the end. from is left where it was.
func whole(from *os.File, x declare.Service) error {
	if x.Card["data.ends"] == "" {
		return nil
	}
	begins, err := regexp.Compile(x.Card["data.begins"])
	if err != nil {
		return err
	}
	ends, err := regexp.Compile(x.Card["data.ends"])
	if err != nil {
		return err
	}
	info, err := from.Stat()
	if err != nil {
		return err
	}
	head, tail := make([]byte, min(edge, info.Size())), make([]byte, min(edge, info.Size()))
	if _, err := from.ReadAt(head, 0); err != nil {
		return err
	}
	if _, err := from.ReadAt(tail, info.Size()-int64(len(tail))); err != nil {
		return err
	}
	if begins.MatchString(bytewise(head)) && !ends.MatchString(bytewise(tail)) {
		return fault.New(fault.ErrUsage, "the dump ends too early: it begins as one of %s and does not end as one", x.Tool).
			Advise("It was cut while it was copied or made. Nothing was changed. Take a whole one: trammel data save %s FILE", shell.Typed(x.Name))
	}
	return nil
}

// bytewise is a text with a character for each byte, for expressions over bytes.
func bytewise(b []byte) string {
	runes := make([]rune, len(b))
	for i, x := range b {
		runes[i] = rune(x)
	}
	return string(runes)
}

// with makes sure that a service runs while f does.
func (s *Setup) with(ctx context.Context, x declare.Service, f func() error) error {
	before, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	if err := s.Bring(ctx, []string{"service." + x.Name}); err != nil {
		return err
	}
	err = f()
	var extra []string
	for node := range s.closure([]string{"service." + x.Name}) {
		if name, ok := strings.CutPrefix(node, "service."); ok && !running(before, name) {
			extra = append(extra, name)
		}
	}
	if len(extra) > 0 {
		if _, stopErr := s.Services.Stop(context.WithoutCancel(ctx), extra); err == nil {
			err = stopErr
		}
	}
	return err
}

// exchange runs the card's script with a dump at its input or output.
func (s *Setup) exchange(ctx context.Context, x declare.Service, how string, from, to *os.File) error {
	dir := s.State.Dir()
	command, env, err := s.cardCommand(x, 1, x.Card["data."+how])
	if err != nil {
		return err
	}
	if to == nil {
		if to, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0); err != nil {
			return err
		}
		defer to.Close()
	}
	done := event.Task(ctx, how+" data of "+x.Name)
	var said strings.Builder
	spec := process.Spec{Path: command.Path, Argv: command.Argv, Env: env, Dir: dir, Stdin: from, Stdout: to}
	exit, err := process.Read(ctx, spec, process.Reading{Remarks: func(r io.Reader) {
		_, _ = io.Copy(&said, io.LimitReader(mask.Reader(r, s.Ready.Masks()), 64<<10))
	}})
	if err == nil && !exit.OK() {
		text := strings.TrimSpace(said.String())
		lines := strings.Split(text, "\n")
		err = fault.New(fault.ErrFailed, "the data of service %s cannot be %s: %s", x.Name, map[string]string{"save": "saved", "load": "loaded"}[how], exit).
			Advise("| %s", strings.Join(lines[max(0, len(lines)-8):], "\n| "))
	}
	done("", err)
	if err == nil && said.Len() > 0 {
		event.Say(ctx, fmt.Sprintf("%s says: %s", x.Name, strings.TrimSpace(said.String())))
	}
	return err
}
