package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/publish"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/base/sshsig"
)

func catalogCommand() *cli.Command {
	return &cli.Command{
		Name:        "catalog",
		Usage:       "make, sign and check a catalog of what your team publishes itself",
		Description: example("trammel catalog add catalog sluice-1.4.2-linux-amd64.tar.gz", "trammel catalog sign catalog --key ~/.ssh/id_ed25519", "trammel catalog check catalog"),
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "put archives into the catalog of a folder, with their digests, and draft a card for a new tool", ArgsUsage: "FOLDER [ARCHIVE…]",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "tool", Usage: "the tool's `NAME`; default: as the archive's name says"},
					&cli.StringFlag{Name: "version", Usage: "its `VERSION`"},
					&cli.StringFlag{Name: "platform", Usage: "its `OS/ARCH`, or any"},
				},
				Action: catalogAdd,
			},
			{
				Name: "sign", Usage: "sign the first page with an SSH key; declarations name who may (keys)", ArgsUsage: "FOLDER",
				Flags:  []cli.Flag{&cli.StringFlag{Name: "key", Usage: "the SSH `KEY`: a private key's file, or a public one's that the agent holds", Required: true}},
				Action: catalogSign,
			},
			{Name: "check", Usage: "hold every page and archive to its digest", ArgsUsage: "FOLDER", Flags: []cli.Flag{jsonFlag()}, Action: catalogCheck},
		},
		Action: func(context.Context, *cli.Command) error {
			return fault.New(fault.ErrUsage, "say what to do with a catalog").Advise("Known: add, sign, check.")
		},
	}
}

func catalogFolder(c *cli.Command) (string, error) {
	if c.Args().Len() == 0 {
		return "", fault.New(fault.ErrUsage, "say in which folder the catalog is").Advise("Write, for example: trammel catalog %s catalog", shell.Typed(c.Name))
	}
	return hostNow().Abs(c.Args().First()), nil
}

func catalogAdd(ctx context.Context, c *cli.Command) error {
	folder, err := catalogFolder(c)
	if err != nil {
		return err
	}
	s := screen(c)
	given := publish.Named{Tool: c.String("tool"), Version: c.String("version"), Platform: c.String("platform")}
	if given.Platform != "" && given.Platform != "any" {
		if _, ok := platform.Parse(given.Platform); !ok {
			return fault.New(fault.ErrUsage, "%q is not a platform", given.Platform).Advise("%s", fault.DidYouMean(given.Platform, append(platform.Known, "any")))
		}
	}
	archives := c.Args().Slice()[1:]
	if len(archives) == 0 { // cards or lists were edited by hand
		if err := publish.Renew(ctx, folder); err != nil {
			return err
		}
		s.Print("%s has the digests of its pages again. Sign it anew, if it was signed.", shown(folder))
		return nil
	}
	for _, archive := range archives {
		a, err := publish.Add(ctx, folder, hostNow().Abs(archive), given)
		if err != nil {
			return err
		}
		what := "added"
		if a.Same {
			what = "was there"
		}
		s.Print("%s %s   %s   %s", s.Paint(ui.Accent, a.Tool), a.Version, a.Platform, what)
		if a.Drafted {
			s.Say("Its card is drafted: read cards/%s.toml, then: trammel catalog add %s", a.Tool, shell.Typed(shown(folder)))
		}
	}
	return nil
}

func catalogSign(_ context.Context, c *cli.Command) error {
	folder, err := catalogFolder(c)
	if err != nil {
		return err
	}
	signer, done, err := sshsig.Signer(c.String("key"), hostNow())
	if err != nil {
		return err
	}
	defer done()
	if err := publish.Sign(folder, signer); err != nil {
		return err
	}
	line := strings.TrimSpace(string(sshsig.Line(signer.PublicKey())))
	screen(c).Print("%s is signed. Declarations that hold it to that:\n  keys = [%q]", shown(folder), line)
	return nil
}

func catalogCheck(ctx context.Context, c *cli.Command) error {
	folder, err := catalogFolder(c)
	if err != nil {
		return err
	}
	found, err := publish.Check(ctx, folder)
	if err != nil {
		return err
	}
	s := screen(c)
	if c.Bool("json") {
		if err := tell(s, catalogOut{1, found.Tools, found.Releases, found.Files, found.SignedBy, append([]string{}, found.Faults...)}); err != nil {
			return err
		}
	} else {
		signed := "not signed"
		if found.SignedBy != "" {
			signed = "signed by " + found.SignedBy
		}
		s.Print("%d tools, %d releases, %d archives, %s; %s", found.Tools, found.Releases, found.Files, ui.Bytes(found.Bytes), signed)
	}
	if len(found.Faults) > 0 {
		return fault.New(fault.ErrDrift, "the catalog is not as its pages say").Advise("%s", strings.Join(found.Faults, "\n"))
	}
	return nil
}
