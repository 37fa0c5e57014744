package cli

import (
	"context"
	"runtime"
	"runtime/debug"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/release"
)

func versionCommand() *cli.Command {
	return &cli.Command{
		Name:        "version",
		Usage:       "say which release of Trammel this is, and what it was built from",
		Description: example("trammel version"),
		Flags:       []cli.Flag{jsonFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			out := versionOut{Format: 1, Version: release.Version, Platform: platform.Here().String(), Go: runtime.Version(), File: hostNow().Program}
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, x := range info.Settings {
					if x.Key == "vcs.revision" {
						out.Revision = x.Value
					}
				}
			}
			s := screen(c)
			if c.Bool("json") {
				return tell(s, out)
			}
			s.Print("trammel version %s   %s", s.Paint(ui.Accent, out.Version), out.Platform)
			built := "built with " + out.Go
			if out.Revision != "" {
				built += " from " + out.Revision
			}
			s.Print("%s", s.Paint(ui.Dim, built))
			s.Print("%s", s.Paint(ui.Dim, out.File))
			return nil
		},
	}
}

// versionOut is what `version --json` prints.
type versionOut struct {
	Format   int    `json:"format"`
	Version  string `json:"version"`
	Platform string `json:"platform"`
	Revision string `json:"revision,omitempty"` // of the source, where the build knew it
	Go       string `json:"go"`
	File     string `json:"file"` // of the program
}

func (versionOut) of() string { return "version" }
