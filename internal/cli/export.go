package cli

import (
	"context"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/fit"
	"app.example/trammel/internal/core/acting/supply"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/origins/resolve"
	"app.example/trammel/internal/core/proven/export"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

func exportCommand() *cli.Command {
	kind := func(name, usage string, action cli.ActionFunc, flags ...cli.Flag) *cli.Command {
		flags = append(flags, &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write into `FILE` instead of standard output"})
		return &cli.Command{Name: name, Usage: usage, Flags: flags, Action: action}
	}
	return &cli.Command{
		Name:        "export",
		Usage:       "write the environment in an open format",
		Description: example("trammel export cyclonedx --output bom.json", "trammel export dotenv"),
		Commands: []*cli.Command{
			kind("cyclonedx", "the bill of materials, as CycloneDX JSON", exportBill, &cli.StringFlag{Name: "platform", Usage: "of the `OS/ARCH`; default: this machine's"}),
			kind("bundle", "every archive of the lock in one file, for machines without network: trammel fit --bundle FILE", exportBundle,
				&cli.StringSliceFlag{Name: "platform", Usage: "for the `OS/ARCH`; default: all that are locked"}, offlineFlag()),
			kind("pylock", "a set of Python libraries as other installers read it, pylock.toml", exportPyLock, offlineFlag()),
			ociCommand(),
			objectsCommand(),
			badgeCommand(),
			kind("schema", "a JSON Schema of trammel.toml, for editors", func(_ context.Context, c *cli.Command) error { return emit(c, declare.Schema) }),
			kind("dotenv", "the variables, as NAME='value' lines; secrets are left out", exportDotenv),
		},
		Action: func(context.Context, *cli.Command) error {
			return fault.New(fault.ErrUsage, "say what to export").Advise("Known: badge, bundle, cyclonedx, dotenv, kubernetes, oci, pylock, schema.")
		},
	}
}

func exportBill(ctx context.Context, c *cli.Command) error {
	p, l, err := lookLocked(c)
	if err != nil {
		return err
	}
	on := p.Platform
	if text := c.String("platform"); text != "" {
		var ok bool
		if on, ok = platform.Parse(text); !ok || !l.Covers(on) {
			return fault.New(fault.ErrUsage, "this project is not locked for %q", text).Advise("Locked for: %s", strings.Join(l.Declaration.Platforms, ", "))
		}
	}
	text, err := export.CycloneDX(l, on)
	if err != nil {
		return err
	}
	return emit(c, text)
}

func exportBundle(ctx context.Context, c *cli.Command) error {
	file := c.String("output")
	if file == "" {
		return fault.New(fault.ErrUsage, "a bundle goes into a file").Advise("Write, for example: trammel export bundle --output heronweir.bundle")
	}
	p, l, err := lookLocked(c)
	if err != nil {
		return err
	}
	wanted := c.StringSlice("platform")
	if len(wanted) == 0 {
		wanted = l.Declaration.Platforms
	}
	var platforms []platform.Platform
	for _, text := range wanted {
		on, ok := platform.Parse(text)
		if !ok || !l.Covers(on) {
			return fault.New(fault.ErrUsage, "this project is not locked for %q", text).Advise("Locked for: %s", strings.Join(l.Declaration.Platforms, ", "))
		}
		platforms = append(platforms, on)
	}
	given, err := approval.Check(p) // what is fetched, and from where, is the declaration's to say
	if err != nil {
		return err
	}
	s := screen(c)
	var b *fit.Bundle
	size, err := writeWhole(file, 0o644, func(out *os.File) error {
		return withProgress(ctx, s, func(ctx context.Context) error {
			wants, unread := supply.Wanted(p, platforms)
			for _, why := range unread {
				event.Say(ctx, "not carried: "+why)
			}
			b, err = fit.WriteBundle(ctx, given, platforms, wants, fit.Options{Machine: machine(p), Client: client(p, c.Bool("offline"))}, out)
			return err
		})
	})
	if err != nil {
		return err
	}
	s.Print("%s   %d archives for %s, %s", s.Paint(ui.Accent, file), len(b.Archives), strings.Join(b.Platforms, ", "), ui.Bytes(size))
	if b.Supplies > 0 {
		s.Say("%d of them are npm packages and Go modules that steps will ask for.", b.Supplies)
	}
	for _, text := range b.Missing {
		s.Say("Not in it, though a step may ask for it: %s", text)
	}
	if len(b.Without) > 0 {
		s.Say("Not in it, since they are built from modules and that was not done here: %s.", strings.Join(b.Without, ", "))
	}
	return nil
}

func exportDotenv(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err == nil {
		err = p.Usable()
	}
	if err != nil {
		return err
	}
	if _, err := approval.Check(p); err != nil {
		return err
	}
	plan, err := environ.Decide(p)
	if err != nil {
		return err
	}
	text, secrets := export.Dotenv(plan.Environment)
	if len(secrets) > 0 {
		screen(c).Say("Left out, since they are secrets: %s", strings.Join(secrets, ", "))
	}
	return emit(c, text)
}

func exportPyLock(ctx context.Context, c *cli.Command) error {
	p, l, err := lookLocked(c)
	if err != nil {
		return err
	}
	name := c.Args().First()
	for _, n := range lock.Sorted(l.Libraries) {
		if name == "" && l.Libraries[n].Kind == lock.Python {
			name = n
		}
	}
	text, err := export.PyLock(ctx, l, name, resolve.Where(p.Written, l, name, machine(p), client(p, c.Bool("offline"))))
	if err != nil {
		return err
	}
	return emit(c, text)
}

func emit(c *cli.Command, text []byte) error {
	if file := c.String("output"); file != "" {
		if err := disk.Write(file, text, 0o644); err != nil {
			return fault.New(fault.ErrFailed, "it cannot be written: %v", err)
		}
		return nil
	}
	_, err := os.Stdout.Write(text)
	return err
}

// writeWhole writes a large file that takes its name when it is whole; an older one of
// that name stays till then. It returns its size in bytes.
func writeWhole(file string, mode os.FileMode, fill func(out *os.File) error) (size int64, err error) {
	out, err := disk.Create(file)
	if err != nil {
		return 0, fault.New(fault.ErrFailed, "%s cannot be written: %v", file, err)
	}
	defer out.Drop()
	if err := fill(out.File); err != nil {
		return 0, err
	}
	if err := out.Sync(); err != nil {
		return 0, err
	}
	info, err := out.Stat()
	if err != nil {
		return 0, err
	}
	if err := out.Commit(mode); err != nil {
		return 0, fault.New(fault.ErrFailed, "%s cannot be written: %v", file, err)
	}
	return info.Size(), nil
}
