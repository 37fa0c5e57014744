// Package service runs the services of a bay.
//
// A bay has at most one supervisor: a detached copy of this program that starts
// when the first service does and goes when the last one stops. It keeps each
// service in a process tree of its own, holds its ports, probes it, keeps its
// log, restarts it by its rule, and answers on a control socket. When the
// supervisor dies, by whatever cause, its services die with it.
//
// The supervisor knows nothing of declarations: it is given complete specs. The
// order of starting is the client's business (package setup).
package service

import (
	"time"

	"trammel.example/trammel/internal/core/canon"
	"trammel.example/trammel/internal/core/declare"
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
type Spec struct {
	Name    string          `json:"name"`    // "lane" or "lane.2"
	Service string          `json:"service"` // "lane"
	Needs   []string        `json:"needs"`   // names of specs that must outlive this one
	Path    string          `json:"path"`    // file to run; "" looks Argv[0] up
	Argv    []string        `json:"argv"`
	Env     []string        `json:"env"`
	Dir     string          `json:"dir"`
	Ports   map[string]int  `json:"ports"`
	Ready   Probe           `json:"ready"`
	Restart declare.Restart `json:"restart"`
	Signal  string          `json:"signal"`
	Within  time.Duration   `json:"within"` // how long it may take to stop
	Config  string          `json:"config"` // digest of what decides its behaviour
	Build   string          `json:"build"`  // environment id that it runs
	Mask    []string        `json:"mask"`   // texts that its log must not have
}

// Probe says how to find out that the service can be used. With nothing set the
// ports must accept; without ports it is ready once it runs.
type Probe struct {
	TCP     int           `json:"tcp,omitempty"`  // port number
	HTTP    string        `json:"http,omitempty"` // URL
	Status  int           `json:"status,omitempty"`
	Path    string        `json:"path,omitempty"` // of Command
	Command []string      `json:"command,omitempty"`
	Log     string        `json:"log,omitempty"` // regular expression
	Every   time.Duration `json:"every,omitempty"`
	Within  time.Duration `json:"within"`
}

// Digest is what a spec's Config is: a digest of what decides how it behaves.
// The host's own variables, which differ between terminals, do not count.
func (s Spec) Digest(variables []string) string {
	ports := canon.Map{}
	for name, n := range s.Ports {
		ports[name] = n
	}
	return canon.Digest(canon.Map{
		"argv": s.Argv, "dir": s.Dir, "variables": variables, "ports": ports, "restart": string(s.Restart),
		"signal": s.Signal, "within": int64(s.Within),
		"ready": canon.Map{
			"tcp": s.Ready.TCP, "http": s.Ready.HTTP, "status": s.Ready.Status, "command": s.Ready.Command,
			"log": s.Ready.Log, "every": int64(s.Ready.Every), "within": int64(s.Ready.Within),
		},
	})
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
	Config   string         `json:"config"`
	Build    string         `json:"build"`
	Weak     bool           `json:"weak,omitempty"` // runs without a namespace: clean-up is weaker
}
