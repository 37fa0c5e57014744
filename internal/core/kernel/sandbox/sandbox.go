// Package sandbox runs a command with the system of a root in place of the host's.
//
// In a closed view the command sees the root's /usr and /etc, both read-only, the
// folders that the view names, a /tmp and /run of its own, a minimal /dev, and no
// process but its own; when it ends, all that it started ends. In an open view it
// sees the host, except that /usr and /etc are the root's. Neither needs root:
// both are Linux namespaces (namespaces(7), user_namespaces(7)), entered as the
// caller's own user, and a caller who is root appears as user 1000, since servers
// refuse to run as 0. Where the kernel gives no namespaces Run says so and how to
// allow them; it never runs the command less isolated than asked for.
package sandbox

import (
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/kernel/within"
)

// View is what a command sees of this machine.
type View = within.View

// FrameAt is where a closed view shows its frame.
const FrameAt = within.FrameAt

// refusedBy is the kernel's no to namespaces, with what to do about it.
func refusedBy(reason error) error {
	return fault.New(fault.ErrFailed, "%s%v", within.Needs, reason).Advise("%s", within.Allow)
}
