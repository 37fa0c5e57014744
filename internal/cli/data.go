package cli

import (
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/written/declare"
)

func dataCommand() *cli.Command {
	one := func(name, usage, args string, action cli.ActionFunc) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: args, Action: action, Flags: []cli.Flag{approveFlag(), jsonFlag()},
			ShellComplete: complete(func(d *declare.Declaration) []string { return serviceNames(d) }),
		}
	}
	return &cli.Command{
		Name:        "data",
		Usage:       "save a service's data to a dump, or load one",
		Description: example("trammel data save ledger passings.sql.gz", "trammel --bay trial data load ledger passings.sql.gz"),
		Commands: []*cli.Command{
			one("save", "write a dump; a name that ends in .gz is compressed, - is standard output", "SERVICE FILE", saveAction),
			one("load", "read a dump, compressed or not; - is standard input", "SERVICE FILE", loadAction),
		},
		Action: func(context.Context, *cli.Command) error {
			return fault.New(fault.ErrUsage, "say whether to save or to load").Advise("trammel data save SERVICE FILE, or trammel data load SERVICE FILE")
		},
	}
}

// dataFor prepares a checkout for an exchange of data.
func dataFor(ctx context.Context, c *cli.Command) (s *ui.Screen, up *setup.Setup, name, file string, err error) {
	if c.Args().Len() != 2 {
		return nil, nil, "", "", fault.New(fault.ErrUsage, "name a service and a file").Advise("trammel data %s ledger passings.sql.gz", shell.Typed(c.Name))
	}
	p, err := open(ctx, c)
	if err != nil {
		return nil, nil, "", "", err
	}
	s = screen(c)
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return nil, nil, "", "", err
	}
	up, err = prepared(ctx, c, given)
	return s, up, c.Args().Get(0), c.Args().Get(1), err
}

func saveAction(ctx context.Context, c *cli.Command) error {
	s, up, name, file, err := dataFor(ctx, c)
	if err != nil {
		return err
	}
	if file == "-" {
		return withProgress(ctx, s, func(ctx context.Context) error { return up.Save(ctx, name, os.Stdout) })
	}
	size, err := writeWhole(file, 0o600, func(out *os.File) error { return saveInto(ctx, s, up, name, file, out) })
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, dataOut{1, name, file, size})
	}
	s.Print("saved %s to %s, %s", s.Paint(ui.Accent, name), file, ui.Bytes(size))
	return nil
}

// saveInto saves into a file that is open, compressed when its name says so.
func saveInto(ctx context.Context, s *ui.Screen, up *setup.Setup, name, file string, out *os.File) error {
	return withProgress(ctx, s, func(ctx context.Context) error {
		if !strings.HasSuffix(file, ".gz") {
			return up.Save(ctx, name, out)
		}
		read, write, err := os.Pipe()
		if err != nil {
			return err
		}
		defer read.Close()
		packed := make(chan error, 1)
		go func() {
			z := gzip.NewWriter(out)
			_, err := io.Copy(z, read)
			packed <- errors.Join(err, z.Close())
			_, _ = io.Copy(io.Discard, read) // a full disk must not block the tool
		}()
		err = up.Save(ctx, name, write)
		write.Close()
		return errors.Join(err, <-packed)
	})
}

func loadAction(ctx context.Context, c *cli.Command) error {
	s, up, name, file, err := dataFor(ctx, c)
	if err != nil {
		return err
	}
	in := os.Stdin
	if file != "-" {
		if in, err = disk.OpenRegular(file); err != nil {
			return fault.New(fault.ErrUsage, "the dump cannot be read: %v", err)
		}
		defer in.Close()
	}
	plain, err := unpacked(ctx, in, up.State.Bay.Dir)
	if err != nil {
		return err
	}
	defer plain.Close()
	err = withProgress(ctx, s, func(ctx context.Context) error {
		if err := up.Load(ctx, name, plain); err != nil {
			return err
		}
		afar, err := reachAfar(up.State)
		if afar == nil || err != nil {
			return err
		}
		return afar.Renew(ctx, up.Sight, up.NeededBy(name))
	})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, dataOut{Format: 1, Service: name, File: file})
	}
	s.Print("loaded %s into %s", file, s.Paint(ui.Accent, name))
	return nil
}

// unpacked is a dump as a regular file without its compression (RFC 1952), which is told by
// its first bytes. What is compressed or comes in a stream is copied into a folder first: a
// dump is loaded only when all of it is there. The copy has no name.
func unpacked(ctx context.Context, in *os.File, folder string) (plain *os.File, err error) {
	buffered := bufio.NewReader(in)
	head, _ := buffered.Peek(2)
	packed := len(head) == 2 && head[0] == 0x1f && head[1] == 0x8b
	if info, err := in.Stat(); err == nil && info.Mode().IsRegular() && !packed {
		_, err = in.Seek(0, io.SeekStart)
		return in, err
	}
	var from io.Reader = buffered
	if packed {
		if from, err = gzip.NewReader(buffered); err != nil {
			return nil, fault.New(fault.ErrUsage, "the dump cannot be unpacked: %v", err).Advise("Nothing was changed.")
		}
	}
	if plain, err = os.CreateTemp(folder, ".dump-"); err != nil {
		return nil, err
	}
	_ = os.Remove(plain.Name())
	stop := context.AfterFunc(ctx, func() { _ = in.Close() })
	defer stop()
	_, err = io.Copy(plain, from)
	if err == nil {
		_, err = plain.Seek(0, io.SeekStart)
	}
	if err != nil {
		plain.Close()
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fault.New(fault.ErrUsage, "the dump cannot be read to its end: %v", err).Advise("Nothing was changed.")
	}
	return plain, nil
}
