// Package within is what this program does inside of namespaces that it has just made: it sets
// up the view of a root, and it is the init of a process tree. These roles are started for every
// service, step and sealed command, and play before the program's libraries are initialised
// (internal/early). So the package imports nothing outside of the standard library, and of that
// nothing that is initialised late: neither os/exec nor os/signal, nor path/filepath. Signals
// come over a pipe instead, as numbers.
package within

// View is what a command sees of this machine. Its fields stand in JSON where a plan is kept.
type View struct {
	Root   string   `json:"root"`   // folder with usr and etc
	Closed bool     `json:"closed"` // nothing of the host but the folders below
	Read   []string `json:"read"`   // absolute folders that show read-only
	Write  []string `json:"write"`  // absolute folders that show as they are
	Hide   []string `json:"hide"`   // absolute folders that show empty, but for what is named within them
	Work   string   `json:"work"`   // folder to work in where the caller's own does not show
	Self   string   `json:"self"`   // this program's file, at a path that shows in the view
	Frame  string   `json:"frame"`  // absolute folder that shows as FrameAt, read-only; "" is none
}

// FrameAt is where a closed view shows its frame: the same path for everybody, however often the frame is another.
const FrameAt = "/run/trammel"

// Order is what a process that runs a command in a view is told.
type Order struct {
	View   View
	Dir    string
	Path   string // file to run; "" looks the command up in the PATH
	Making bool   // /usr and /etc may be written: a root is being made

	Terminal bool // the command is to be in the terminal's foreground
}

// ViewName is the argv[0] under which this program runs a command in a view: argv[1] is the Order,
// packed, and the rest is the command.
const ViewName = "trammel-view"

// InitName is the argv[0] under which this program is the init of namespaces, and AdoptName that
// of one where the kernel gives none: to that one signals may come from outside, for which main
// plays it.
const (
	InitName  = "trammel-init"
	AdoptName = "trammel-adopt"
)

// The descriptors of an init.
const (
	InitControl = 3 // signals come in; its end means: the starter is gone
	InitReport  = 4 // "ok", "error TEXT", "exit CODE SIGNAL LEFT" go out
	InitSpec    = 5 // what to run
)

// Spec is what an init is told. Env and Dir are the init's own.
type Spec struct {
	Path  string
	Argv  []string
	Mount bool // it is in namespaces of its own: give them a /proc
	Adopt bool // there is no namespace: take in and end what the command leaves
}

// KillAll on the control pipe ends everything that descends from an init.
const KillAll = 255

// Needs is what is said where the kernel gives no namespaces, and Allow what to do then.
const (
	Needs = "sealed isolation needs user namespaces, and this machine gives none: "
	Allow = "Whoever administers it can allow them:\n" +
		"  sysctl -w user.max_user_namespaces=15000\n" +
		"  sysctl -w kernel.unprivileged_userns_clone=1                 (older Debian kernels)\n" +
		"  sysctl -w kernel.apparmor_restrict_unprivileged_userns=0     (where AppArmor restricts them)\n" +
		"In a container, its runtime must allow them. Nothing was run less isolated instead."
)
