// Package inside is what an image holds of an environment, and the launcher that starts
// something of it by name: a service, a step, a routine, a command.
//
// The launcher is the first process of a container, and does what is that one's to do: it passes
// signals on, waits for every process that is left behind, and ends with the code of what it
// started. Everything that it goes by is in one file, written when the image was made, so that
// nothing of a declaration is read, resolved or fetched where the image runs.
//
// A container's environment gives values only to those variables that depend on where it runs
// (addresses of services, params, secrets); what the lock fixes stays as it is locked.
package inside

import (
	"encoding/json"
	"fmt"
	"time"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/written/declare"
)

// Where things are in an image.
const (
	Program = "/opt/trammel/trammel"
	File    = "/opt/trammel/image.json"
	Store   = "/opt/trammel/store"
	Frame   = "/opt/trammel/frame"
	Cache   = "/var/cache/trammel"
	Bay     = "/var/lib/trammel/bay" // what changes: data, made-up secrets, rendered files
	Home    = "/var/lib/trammel/home"
	Ready   = "/run/trammel" // marks of services that said so themselves
)

// User is who programs in an image are: servers refuse to be root.
const User = 1000

// Project is the folder of a project's files.
func Project(name string) string { return "/srv/" + name }

// DataFolder is the folder of the data of a service's copies; volumes belong there.
const DataFolder = Bay + "/data"

// SecretsFolder is where a bay's made-up secrets are.
const SecretsFolder = Bay + "/secrets"

// Plan is what the launcher goes by.
type Plan struct {
	Format      int        `json:"format"`
	Project     string     `json:"project"`
	Environment string     `json:"environment"` // environment id
	Lock        string     `json:"lock"`        // lock id
	Dir         string     `json:"dir"`
	Path        []string   `json:"path"`
	Variables   []Variable `json:"variables"` // in their order

	Services map[string]Service     `json:"services"`
	Steps    map[string]Step        `json:"steps"`
	Routines map[string]declare.Run `json:"routines"`
}

// Format of the file.
const Format = 1

// Variable is one that is set. The container's environment may give a Given one another value.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Given bool   `json:"given,omitempty"`
	Needs bool   `json:"needs,omitempty"` // has no value of its own: a secret is in it
}

// Service is how one is run.
type Service struct {
	Run       declare.Run    `json:"run"`
	Variables []Variable     `json:"variables"`
	Commands  string         `json:"commands,omitempty"` // folder of its toolchain's commands by their own names
	Steps     []string       `json:"steps"`              // done in the project's folder before it, in order
	Waits     []string       `json:"waits"`              // addresses that must answer before it
	Ports     map[string]int `json:"ports"`
	Data      string         `json:"data,omitempty"`    // folder that it keeps data in
	MadeUp    []string       `json:"made_up,omitempty"` // files of secrets that a bay makes up
	Once      string         `json:"once,omitempty"`    // script that makes the data
	Settle    string         `json:"settle,omitempty"`  // script that has it take on settings
	Stale     []string       `json:"stale,omitempty"`   // files of an earlier run, below Bay
	Ready     Probe          `json:"ready"`
	Signal    string         `json:"signal"`
	Within    time.Duration  `json:"within"` // how long it may take to stop
}

// Probe says how it is found out that a service can be used.
type Probe struct {
	TCP     int           `json:"tcp,omitempty"`
	HTTP    string        `json:"http,omitempty"` // path
	Port    int           `json:"port,omitempty"` // of HTTP
	Status  int           `json:"status,omitempty"`
	Command declare.Run   `json:"command"`
	Log     string        `json:"log,omitempty"`
	File    string        `json:"file,omitempty"`
	Notify  bool          `json:"notify,omitempty"`
	Within  time.Duration `json:"within"`
}

// Step is one setup step, and those of the project's folder that come before it.
type Step struct {
	Run   declare.Run `json:"run"`
	Steps []string    `json:"steps"`
	Waits []string    `json:"waits"`
}

// Read reads the plan of an image.
func Read(file string) (*Plan, error) {
	raw, err := disk.Read(file, disk.MostLock)
	if err != nil {
		return nil, fmt.Errorf("this is for images that trammel export made: %w", err)
	}
	p := &Plan{}
	if err := json.Unmarshal(raw, p); err != nil || p.Format != Format {
		return nil, fmt.Errorf("%s is not a plan that this program can read", file)
	}
	return p, nil
}
