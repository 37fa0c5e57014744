// Package service says what a service of a bay is, and is how the supervisor of a bay is asked:
// specs, states, the control socket and both ends of what is said over it.
//
// A bay has at most one supervisor (package supervise); asking for something to start starts it.
// The socket is the user's alone: its mode says so, and each connection is asked for its user. A
// supervisor that does not answer within seconds is named with its pid, and does not do later what
// a person was told did not happen.
package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/written/declare"
)

// States of a service, in the words that people read.
const (
	Starting = "starting"
	Ready    = "ready"
	Failing  = "failing" // up, but its probe fails
	Stopped  = "stopped"
	Failed   = "failed"
	Done     = "done" // ended well and is not to be started again
)

// Spec is one copy of a service, complete.
//
// In a private network Ports are those inside, where every service has the number it
// wants, and Outer those of this machine that lead there.
type Spec struct {
	Name    string          `json:"name"`    // "lane" or "lane.2"
	Service string          `json:"service"` // "lane"
	Needs   []string        `json:"needs"`   // names of specs that must outlive this one
	Path    string          `json:"path"`    // file to run; "" looks Argv[0] up
	Argv    []string        `json:"argv"`
	Env     []string        `json:"env"`
	Dir     string          `json:"dir"`
	Ports   map[string]int  `json:"ports"`
	UDP     []string        `json:"udp"`     // names of those ports that take datagrams
	Network string          `json:"network"` // name of a private network's segment; "" is this machine's own
	Beside  []string        `json:"beside"`  // other segments that see this one and are seen by it
	Outer   map[string]int  `json:"outer"`
	Reach   []string        `json:"reach"` // hosts that a private network reaches, and no others; nil: every other machine
	Named   bool            `json:"named"` // programs in it may ask services by name
	Web     string          `json:"web"`   // name of the port that browsers are sent to, or ""
	Stale   []string        `json:"stale"` // files of an earlier run that would be in the way, below the bay's folder
	Ready   Probe           `json:"ready"`
	Restart declare.Restart `json:"restart"`
	Signal  string          `json:"signal"`
	Within  time.Duration   `json:"within"` // how long it may take to stop
	Config  string          `json:"config"` // digest of what decides its behaviour
	Build   string          `json:"build"`  // environment id that it runs
	Mask    []string        `json:"mask"`   // texts that its log must not have
	Again   bool            `json:"again"`  // start it though it runs just so
	Keeper  bool            `json:"keeper"` // stands here for what runs elsewhere: other ports that it opens are nothing to know of

	Inputs      map[string]string `json:"inputs"`       // digests of what it goes by while it runs
	WhenChanged string            `json:"when-changed"` // what a change of these does: "restart", "nothing" or a signal
	Reads       []string          `json:"reads"`        // globs of the files among them, below the checkout
}

// Fingerprint is a digest of what a service goes by while it runs.
func (s Spec) Fingerprint() string { return canon.Digest(s.Inputs) }

// Reached are the ports of a service as the rest of this machine sees them.
func (s Spec) Reached() map[string]int {
	if s.Network != "" {
		return s.Outer
	}
	return s.Ports
}

// Probe says how to find out that the service can be used. With nothing set the
// ports must be listened on; without ports it is ready once it runs.
type Probe struct {
	TCP     int           `json:"tcp,omitempty"`  // port number
	HTTP    string        `json:"http,omitempty"` // URL
	Status  int           `json:"status,omitempty"`
	Path    string        `json:"path,omitempty"` // of Command
	Command []string      `json:"command,omitempty"`
	Log     string        `json:"log,omitempty"`    // regular expression
	File    string        `json:"file,omitempty"`   // absolute: is there, and written since the start
	Notify  bool          `json:"notify,omitempty"` // says so itself, on NOTIFY_SOCKET
	Every   time.Duration `json:"every,omitempty"`
	Within  time.Duration `json:"within"`
}

// Digest is what a spec's Config is: a digest of what decides how it behaves. run and probe
// are what is run, as it was written with no references left, and variables what is set,
// with marks in place of secrets: so it can be had without consent to reveal any. The host's
// own variables, which differ between terminals, do not count.
func (s Spec) Digest(run, probe canon.Map, variables []string) string {
	ports := canon.Map{}
	for name, n := range s.Ports {
		ports[name] = n
	}
	facts := canon.Map{
		"run": run, "dir": s.Dir, "variables": variables, "ports": ports, "restart": string(s.Restart),
		"signal": s.Signal, "within": int64(s.Within), "network": s.Network,
		"ready": canon.Map{
			"tcp": s.Ready.TCP, "http": s.Ready.HTTP, "status": s.Ready.Status, "command": probe,
			"log": s.Ready.Log, "file": s.Ready.File, "notify": s.Ready.Notify, "every": int64(s.Ready.Every), "within": int64(s.Ready.Within),
		},
	}
	if s.Reach != nil {
		facts["reach"] = s.Reach
	}
	if s.Named {
		facts["named"] = true
	}
	if len(s.UDP) > 0 {
		facts["udp"] = s.UDP
	}
	return canon.Digest(facts)
}

// Status is what the supervisor says of one copy of a service.
type Status struct {
	Name     string         `json:"name"`
	Service  string         `json:"service"`
	State    string         `json:"state"`
	Reason   string         `json:"reason,omitempty"` // why it failed or is being started again
	Since    time.Time      `json:"since"`            // when it got into this state
	Pid      int            `json:"pid,omitempty"`
	Restarts int            `json:"restarts"`
	Ports    map[string]int `json:"ports,omitempty"`
	UDP      []string       `json:"udp,omitempty"`     // names of those ports that take datagrams
	Six      []string       `json:"only-v6,omitempty"` // names of those that are reached at ::1 alone
	Config   string         `json:"config"`
	Inputs   string         `json:"inputs,omitempty"` // digest of what it goes by while it runs, as it was when it began
	Why      string         `json:"why,omitempty"`    // why the present start was made though it ran; in the answer to a start alone
	Build    string         `json:"build"`
	Weak     bool           `json:"weak,omitempty"`    // runs without a namespace: clean-up is weaker
	Address  string         `json:"address,omitempty"` // URL by name, of one that browsers are sent to
	Secure   string         `json:"secure,omitempty"`  // the same over https, by this machine's own authority
	Own      string         `json:"own,omitempty"`     // URL of this copy, where there are several
	Open     []string       `json:"open,omitempty"`    // declared ports that other machines reach too, as address and port
	Taken    string         `json:"taken,omitempty"`   // name of the port that a stranger has, where that is why it failed
	Says     string         `json:"says,omitempty"`    // its own last word on how it is (STATUS= in sd_notify(3))

	// Only when asked for in full.
	More   []Listener `json:"more,omitempty"`   // ports it listens on that are not declared
	Memory int64      `json:"memory,omitempty"` // bytes
	CPU    float64    `json:"cpu,omitempty"`    // cores, since the last time somebody asked
}

// Where lists how the service is reached: by its name, where it has one, and at every port,
// with the name of the port where it has several.
func (st Status) Where() []string {
	var out []string
	if st.Address != "" {
		out = append(out, strings.TrimSuffix(st.Address, "/"))
	}
	return append(out, st.Numbers()...)
}

// Numbers are a service's ports with their addresses.
func (st Status) Numbers() []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(st.Ports)) {
		at := fmt.Sprintf("127.0.0.1:%d", st.Ports[name])
		switch {
		case slices.Contains(st.UDP, name):
			at += "/udp"
		case slices.Contains(st.Six, name):
			at = fmt.Sprintf("[::1]:%d", st.Ports[name])
		}
		if len(st.Ports) > 1 {
			at = name + " " + at
		}
		out = append(out, at)
	}
	return out
}

// Exposed are all ports that other machines reach, declared or not, as address and port.
func (st Status) Exposed() []string {
	out := slices.Clone(st.Open)
	for _, m := range st.More {
		if m.Open {
			out = append(out, m.At)
		}
	}
	return out
}

// Listener is a port that a service opened beyond those that are declared.
type Listener struct {
	At      string `json:"at"` // address and port
	Command string `json:"command"`
	Open    bool   `json:"open,omitempty"` // other machines reach it too
}

// Running tells whether something of the service runs or is about to.
func (s Status) Running() bool { return s.State == Starting || s.State == Ready || s.State == Failing }
