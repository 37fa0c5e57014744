package cli

import (
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/written/declare"
)

func dataCommand() *cli.Command {
	one := func(name, usage, args string, action cli.ActionFunc, more ...cli.Flag) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: args, Action: action, Flags: append(more, approveFlag(), jsonFlag()),
			ShellComplete: complete(func(d *declare.Declaration) []string { return serviceNames(d) }),
		}
	}
	return &cli.Command{
		Name:        "data",
		Usage:       "save, load, copy and clear the data of services: as a dump, or as a named state",
		Description: example("trammel data save ledger passings.sql.gz", "trammel --bay trial data load ledger passings.sql.gz", "trammel data save ledger --as seeded   # all its files, in the bay; load brings them back", "trammel --bay trial data copy main     # begin with the data of another bay"),
		Commands: []*cli.Command{
			one("save", "write a dump; a name that ends in .gz is compressed, - is standard output. With --as, keep all files of its data", "SERVICE [FILE]", saveAction, asFlag()),
			one("load", "read a dump, compressed or not; - is standard input. With --as, bring back a named state", "SERVICE [FILE]", loadAction, asFlag()),
			one("list", "list the named states of this bay", "[SERVICE]", listAction),
			one("drop", "remove a named state", "SERVICE", dropAction, asFlag()),
			one("clear", "remove the data of one service; its next start begins anew", "SERVICE", clearDataAction, &cli.BoolFlag{Name: "yes", Usage: "do not ask"}),
			one("copy", "begin with the data of another bay of this checkout: of all services, or of those that are named", "BAY [SERVICE…]", copyAction),
		},
		Action: func(context.Context, *cli.Command) error {
			return fault.New(fault.ErrUsage, "say what to do with the data").Advise("trammel data save SERVICE FILE, for example. All of it: trammel help data")
		},
	}
}

func asFlag() cli.Flag {
	return &cli.StringFlag{Name: "as", Usage: "the `NAME` of a state that is kept in the bay"}
}

// dataFor prepares a checkout for an exchange of data, by least to most words.
func dataFor(ctx context.Context, c *cli.Command, least, most int) (s *ui.Screen, up *setup.Setup, words []string, err error) {
	if n := c.Args().Len(); n < least || n > most {
		what := "name a service"
		if least == 2 {
			what = "name a service and a file"
		}
		return nil, nil, nil, fault.New(fault.ErrUsage, "%s", what).Advise("For example: trammel data save ledger passings.sql.gz. All of it: trammel help data")
	}
	p, err := open(ctx, c)
	if err != nil {
		return nil, nil, nil, err
	}
	s = screen(c)
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return nil, nil, nil, err
	}
	up, err = prepared(ctx, c, given)
	return s, up, c.Args().Slice(), err
}

// wordsOf is how many words save and load take: with a state's name, the service alone.
func wordsOf(c *cli.Command) int {
	if c.String("as") != "" {
		return 1
	}
	return 2
}

// keptAs says what became of a named state.
func keptAs(s *ui.Screen, c *cli.Command, word string, st setup.State) error {
	if c.Bool("json") {
		return tell(s, statesOut{1, []setup.State{st}})
	}
	s.Print("%s data of %s as %s", word, s.Paint(ui.Accent, st.Service), s.Paint(ui.Accent, st.Name))
	return nil
}

func listAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	list := []setup.State{}
	for _, st := range setup.States(p.Bay) {
		if c.Args().Len() == 0 || slices.Contains(c.Args().Slice(), st.Service) {
			list = append(list, st)
		}
	}
	if c.Bool("json") {
		return tell(s, statesOut{1, list})
	}
	if len(list) == 0 {
		s.Say("No state has a name in bay %s. Keep one: trammel data save SERVICE --as NAME", p.Bay.Name)
		return nil
	}
	var rows [][]ui.Cell
	for _, st := range list {
		rows = append(rows, []ui.Cell{{Text: st.Service, Style: ui.Accent}, {Text: st.Name}, {Text: st.Saved.Local().Format("2006-01-02 15:04")}, {Text: ui.Bytes(st.Bytes)}, {Text: strings.TrimSpace(st.Tool + " " + st.Version), Style: ui.Dim}})
	}
	s.Table(rows)
	return nil
}

func dropAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	if c.Args().Len() != 1 || c.String("as") == "" {
		return fault.New(fault.ErrUsage, "name a service and a state").Advise("trammel data drop ledger --as seeded. Those that are there: trammel data list")
	}
	st := setup.State{Service: c.Args().First(), Name: c.String("as")}
	if err := setup.DropState(p.Bay, st.Service, st.Name); err != nil {
		return err
	}
	return keptAs(screen(c), c, "removed", st)
}

func clearDataAction(ctx context.Context, c *cli.Command) error {
	s, up, words, err := dataFor(ctx, c, 1, 1)
	if err != nil {
		return err
	}
	name := words[0]
	if !c.Bool("yes") && slices.Contains(up.WithData(), name) { // else there is nothing to ask about
		question := fmt.Sprintf("Remove all data of %s in bay %s? [y/N] ", name, up.State.Bay.Name)
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return fault.New(fault.ErrUsage, "the data of %s would be gone, and there is no terminal to ask on", name).
				Advise("If you want that: trammel data clear %s --yes. To keep it first: trammel data save %s --as NAME", shell.Typed(name), shell.Typed(name))
		}
		yes, err := answeredYes(ctx, s, question)
		if err != nil {
			return err
		}
		if !yes {
			s.Print("nothing was removed")
			return nil
		}
	}
	var bytes int64
	err = withProgress(ctx, s, func(ctx context.Context) error {
		bytes, err = up.ClearData(ctx, name)
		return err
	})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, dataOut{1, name, "", bytes})
	}
	s.Print("removed the data of %s, %s", s.Paint(ui.Accent, name), ui.Bytes(bytes))
	return nil
}

func copyAction(ctx context.Context, c *cli.Command) error {
	s, up, words, err := dataFor(ctx, c, 1, 1000)
	if err != nil {
		return err
	}
	if words[0] == up.State.Bay.Name {
		return fault.New(fault.ErrUsage, "this is bay %s itself", words[0]).Advise("Name the bay that is to have the data: trammel --bay trial data copy %s", shell.Typed(words[0]))
	}
	if _, ok := bay.Find(up.State.Places, up.State.Dir(), words[0]); !ok {
		var names []string
		for _, b := range bay.All(up.State.Places) {
			if filepath.Dir(b.Records) == filepath.Dir(up.State.Bay.Records) {
				names = append(names, b.Name)
			}
		}
		return fault.New(fault.ErrUsage, "there is no bay %q of this checkout", words[0]).Advise("%s", fault.DidYouMean(words[0], names))
	}
	other, err := checkout.Open(checkout.Asked{Host: up.State.Host, Dir: up.State.Dir(), Bay: words[0]}, checkout.Locate{})
	if err != nil {
		return err
	}
	given, err := consent(ctx, c, s, other)
	if err != nil {
		return err
	}
	from, err := prepared(ctx, c, given)
	if err != nil {
		return err
	}
	names := words[1:]
	if len(names) == 0 {
		names = from.WithData()
	}
	var done []string
	err = withProgress(ctx, s, func(ctx context.Context) error {
		done, err = up.CopyData(ctx, from, names)
		return err
	})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return tell(s, copiedOut{1, words[0], append([]string{}, done...)})
	}
	if len(done) == 0 {
		s.Print("bay %s has no data", words[0])
		return nil
	}
	s.Print("copied from bay %s: %s", words[0], strings.Join(done, ", "))
	return nil
}

func saveAction(ctx context.Context, c *cli.Command) error {
	s, up, words, err := dataFor(ctx, c, wordsOf(c), wordsOf(c))
	if err != nil {
		return err
	}
	name := words[0]
	if as := c.String("as"); as != "" {
		var st setup.State
		err := withProgress(ctx, s, func(ctx context.Context) error {
			st, err = up.SaveAs(ctx, name, as)
			return err
		})
		if err != nil {
			return err
		}
		return keptAs(s, c, "saved", st)
	}
	file := words[1]
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
	s, up, words, err := dataFor(ctx, c, wordsOf(c), wordsOf(c))
	if err != nil {
		return err
	}
	name := words[0]
	if as := c.String("as"); as != "" {
		if err := withProgress(ctx, s, func(ctx context.Context) error { return up.LoadAs(ctx, name, as) }); err != nil {
			return err
		}
		return keptAs(s, c, "loaded", setup.State{Service: name, Name: as})
	}
	file := words[1]
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
