package cli

import (
	"context"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"trammel.example/trammel/internal/core/disk"
	"trammel.example/trammel/internal/core/export"
	"trammel.example/trammel/internal/core/fault"
	"trammel.example/trammel/internal/core/platform"
	"trammel.example/trammel/internal/core/setup"
)

func exportCommand() *cli.Command {
	kind := func(name, usage string, action cli.ActionFunc, flags ...cli.Flag) *cli.Command {
		flags = append(flags, &cli.StringFlag{Name: "output", Usage: "write into `FILE` instead of standard output"})
		return &cli.Command{Name: name, Usage: usage, Flags: flags, Action: action}
	}
	return &cli.Command{
		Name:        "export",
		Usage:       "write the environment in an open format",
		Description: example("trammel export cyclonedx --output bom.json", "trammel export dotenv"),
		Commands: []*cli.Command{
			kind("cyclonedx", "the bill of materials, as CycloneDX JSON", exportBill, &cli.StringFlag{Name: "platform", Usage: "of the `OS/ARCH`; default: this machine's"}),
			kind("dotenv", "the variables, as NAME='value' lines; secrets are left out", exportDotenv),
		},
		Action: func(context.Context, *cli.Command) error {
			return fault.New(fault.Use, "say what to export").Advise("Known: cyclonedx, dotenv.")
		},
	}
}

func exportBill(ctx context.Context, c *cli.Command) error {
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	l, err := p.Lock()
	if err != nil {
		return err
	}
	on := p.Platform
	if text := c.String("platform"); text != "" {
		var ok bool
		if on, ok = platform.Parse(text); !ok || !l.Covers(on) {
			return fault.New(fault.Use, "this project is not locked for %q", text).Advise("Locked for: %s", strings.Join(l.Declaration.Platforms, ", "))
		}
	}
	text, err := export.CycloneDX(l, on)
	if err != nil {
		return err
	}
	return emit(c, text)
}

func exportDotenv(ctx context.Context, c *cli.Command) error {
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	l, err := p.Lock()
	if err != nil {
		return err
	}
	if err := p.Approved(l); err != nil {
		return err
	}
	up, err := setup.Prepare(ctx, p, l)
	if err != nil {
		return err
	}
	text, secrets := export.Dotenv(up.Environment)
	if len(secrets) > 0 {
		screen(c).Say("Left out, since they are secrets: %s", strings.Join(secrets, ", "))
	}
	return emit(c, text)
}

func emit(c *cli.Command, text []byte) error {
	if file := c.String("output"); file != "" {
		if err := disk.Write(file, text, 0o644); err != nil {
			return fault.New(fault.Failed, "it cannot be written: %v", err)
		}
		return nil
	}
	_, err := os.Stdout.Write(text)
	return err
}
