package cli

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/ship"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/running/image"
)

func ociCommand() *cli.Command {
	return &cli.Command{
		Name:      "oci",
		Usage:     "the environment as an OCI image: a layout folder, an archive (.tar) or a registry (oci://)",
		ArgsUsage: "DESTINATION",
		Description: example("trammel export oci heronweir.tar --project", "trammel export oci oci://registry.example/heronweir:v1 --project",
			"trammel export oci image/ --platform linux/amd64 --platform linux/arm64 --program ./trammel-arm64"),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "project", Usage: "with the project's files, as they are committed"},
			&cli.StringSliceFlag{Name: "platform", Usage: "for the `OS/ARCH`; default: this machine's. Several make an index"},
			&cli.StringSliceFlag{Name: "program", Usage: "this program's `FILE` for another platform, which is the image's launcher there"},
			&cli.StringFlag{Name: "compression", Value: "gzip", Usage: "of layers: gzip, zstd or none"},
			&cli.StringFlag{Name: "tag", Usage: "`NAME` of the image in a layout; default: that of the project"},
			offlineFlag(), approveFlag(), jsonFlag(),
		},
		Action: exportImage,
	}
}

func exportImage(ctx context.Context, c *cli.Command) error {
	to := c.Args().First()
	if to == "" {
		return fault.New(fault.ErrUsage, "say where the image goes").Advise("A folder, a file that ends in .tar, or a registry: trammel export oci oci://registry.example/heronweir:v1")
	}
	p, err := open(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	order := ship.Order{Project: c.Bool("project"), Compression: c.String("compression"), Programs: c.StringSlice("program")}
	if order.Fit, err = fitOptions(p, c.Bool("offline")); err != nil {
		return err
	}
	switch order.Compression {
	case "gzip", "zstd", "none":
	default:
		return fault.New(fault.ErrUsage, "no compression is named %q", order.Compression).Advise("Known: %s", strings.Join(image.Compressions, ", "))
	}
	for _, text := range c.StringSlice("platform") {
		on, ok := platform.Parse(text)
		if !ok || p.Lock != nil && !p.Lock.Covers(on) || on.OS != "linux" {
			return fault.New(fault.ErrUsage, "there is no image of this project for %q", text).Advise("Images are for Linux, and for the platforms that are locked.")
		}
		order.Platforms = append(order.Platforms, on)
	}
	if len(order.Platforms) == 0 {
		order.Platforms = []platform.Platform{platform.Here()}
	}
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return err
	}
	var made *ship.Made
	where := to
	err = withProgress(ctx, s, func(ctx context.Context) error {
		if made, err = ship.Image(ctx, given, order); err != nil {
			return err
		}
		name := c.String("tag")
		if name == "" {
			name = p.Declaration.Project
		}
		switch {
		case strings.HasPrefix(to, image.Scheme):
			where, err = image.ToRegistry(ctx, to, made.Index, nil)
			return err
		case strings.HasSuffix(to, ".tar"):
			_, err := writeWhole(to, 0o644, func(out *os.File) error { return image.ToArchive(io.Writer(out), filepath.Dir(to), made.Index, name) })
			return err
		}
		return image.ToFolder(to, made.Index, name)
	})
	if err != nil {
		return err
	}
	if c.Bool("json") {
		var platforms []string
		for _, on := range order.Platforms {
			platforms = append(platforms, on.String())
		}
		return tell(s, imageOut{1, made.Digest, where, string(made.Environment), platforms, made.Layers, made.Size, made.Labels})
	}
	s.Print("%s   image %s   environment %s", s.Paint(ui.Accent, where), canon.Short(made.Digest), canon.Short(string(made.Environment)))
	s.Print("  %d layers, %s; %s", made.Layers, ui.Bytes(made.Size), made.Digest)
	return nil
}
