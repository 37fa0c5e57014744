package early

import (
	"os"

	"app.example/trammel/internal/core/kernel/launch"
	"app.example/trammel/internal/core/kernel/peer"
	"app.example/trammel/internal/core/kernel/within"
)

// inside plays what runs in namespaces that were made for it, and the launcher of a root's
// command.
func inside(args []string) {
	switch args[0] {
	case within.InitName:
		within.Init(nil)
	case peer.HelperName:
		peer.Help(args)
	case within.ViewName:
		within.Named(args, os.Environ())
	}
	if code, err, launched := launch.Launch(args); launched {
		if err != nil {
			_, _ = os.Stderr.WriteString(base(args[0]) + ": " + err.Error() + "\n")
		}
		os.Exit(code)
	}
}

// sealed runs a command in the root of a plan and ends with it. It returns where the command was
// not started.
func sealed(packed, dir, file string, args, env []string) {
	o, err := within.Unpack(packed)
	if err != nil {
		return
	}
	o.Dir, o.Path = dir, file
	if code, err := within.Run(o, args, env); err == nil {
		os.Exit(code)
	}
}
