package cli

import (
	"bytes"
	"context"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/core/acting/ship"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/running/cluster"
)

func objectsCommand() *cli.Command {
	return &cli.Command{
		Name:        "kubernetes",
		Usage:       "the objects that start --cluster would apply, as YAML, for who applies them by other ways",
		Description: example("trammel export kubernetes --image registry.example/heronweir@sha256:… --namespace heronweir --output heronweir.yaml"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "image", Usage: "`REFERENCE` of the image, as trammel export oci pushed it"},
			&cli.StringFlag{Name: "namespace", Usage: "`NAME` of the namespace; default: project and bay"},
			&cli.StringFlag{Name: "storage", Value: "1Gi", Usage: "`SIZE` of what keeps data"},
			&cli.StringFlag{Name: "storage-class", Usage: "`CLASS` of that storage; none keeps data no longer than a pod"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write into `FILE` instead of standard output"},
			offlineFlag(), approveFlag(),
		},
		Action: exportObjects,
	}
}

func exportObjects(ctx context.Context, c *cli.Command) error {
	p, err := openChosen(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return err
	}
	up, err := prepared(ctx, c, given)
	if err != nil {
		return err
	}
	namespace := c.String("namespace")
	if namespace == "" {
		namespace = cluster.Name(p.Declaration.Project, p.Bay.Name)
	}
	order := ship.Order{
		Platforms: []platform.Platform{platform.Here()}, Project: true, Compression: "gzip",
	}
	if order.Fit, err = fitOptions(p, c.Bool("offline")); err != nil {
		return err
	}
	var objects []cluster.Object
	err = withProgress(ctx, s, func(ctx context.Context) error {
		objects, err = ship.ExportStack(ctx, up, order, c.String("image"), namespace, cluster.Record{Storage: c.String("storage"), Class: c.String("storage-class")})
		return err
	})
	if err != nil {
		return err
	}
	var out bytes.Buffer
	secret := false
	for _, o := range objects {
		secret = secret || o["kind"] == "Secret"
		raw, err := yaml.MarshalWithOptions(map[string]any(o), yaml.Indent(2), yaml.UseLiteralStyleIfMultiline(true))
		if err != nil {
			return err
		}
		out.WriteString("---\n")
		out.Write(raw)
	}
	if secret {
		s.Say("Objects of kind Secret hold the values themselves: keep this where secrets are kept.")
	}
	file := c.String("output")
	if !secret || file == "" {
		return emit(c, out.Bytes())
	}
	if err := disk.Write(file, out.Bytes(), 0o600); err != nil { // nobody else on this machine reads it
		return fault.New(fault.ErrFailed, "it cannot be written: %v", err)
	}
	return nil
}
