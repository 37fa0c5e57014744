// Package seal runs a command with the system of a root in place of the host's.
//
// In a closed view the command sees the root's /usr and /etc, both read-only, the
// folders that the view names, a /tmp and /run of its own, a minimal /dev, and no
// process but its own; when it ends, all that it started ends. In an open view it
// sees the host, except that /usr and /etc are the root's. Neither needs root:
// both are Linux namespaces (namespaces(7), user_namespaces(7)), entered as the
// caller's own user, and a caller who is root appears as user 1000, since servers
// refuse to run as 0. Where the kernel gives no namespaces Run says so and how to
// allow them; it never runs the command less isolated than asked for.
package seal

import (
	"app.example/trammel/internal/core/base/fault"
)

// Name is the argv[0] under which this program enters a view and runs a command in
// it: argv[1] is the order as JSON, and the rest is the command.
const Name = "trammel-seal"

// insideName is the argv[0] of the process that sets a view up.
const insideName = "trammel-sealed"

// View is what a command sees of this machine.
type View struct {
	Root   string   `json:"root"`   // folder with usr and etc
	Closed bool     `json:"closed"` // nothing of the host but the folders below
	Read   []string `json:"read"`   // absolute folders that show read-only
	Write  []string `json:"write"`  // absolute folders that show as they are
	Hide   []string `json:"hide"`   // absolute folders that show empty, but for what is named within them
	Work   string   `json:"work"`   // folder to work in where the caller's own does not show
	Self   string   `json:"self"`   // this program's file, at a path that shows in the view

	making bool // /usr and /etc may be written: a root is being made
}

// order is what a process that enters a view is told.
type order struct {
	View   View   `json:"view"`
	Dir    string `json:"dir"`
	Path   string `json:"path"` // file to run; "" looks the command up in the PATH
	Making bool   `json:"making"`

	Terminal bool `json:"terminal"` // the command is to be in the terminal's foreground
}

// refusedBy is the kernel's no to namespaces, with what to do about it.
func refusedBy(reason error) error {
	return fault.New(fault.Failed, "sealed isolation needs user namespaces, and this machine gives none: %v", reason).
		Advise("Whoever administers it can allow them:\n" +
			"  sysctl -w user.max_user_namespaces=15000\n" +
			"  sysctl -w kernel.unprivileged_userns_clone=1                 (older Debian kernels)\n" +
			"  sysctl -w kernel.apparmor_restrict_unprivileged_userns=0     (where AppArmor restricts them)\n" +
			"In a container, its runtime must allow them. Nothing was run less isolated instead.")
}
