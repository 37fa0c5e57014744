// Package bay holds the changeable state of an environment: data, ports, logs and
// step marks, under a name. The bay that is always there is called main.
package bay

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"trammel.example/trammel/internal/core/base/canon"
	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/base/place"
	"trammel.example/trammel/internal/core/written/declare"
)

// Main is the name of the bay that needs no naming.
const Main = "main"

// Bay is one bay of one checkout.
type Bay struct {
	Name     string `json:"name"`
	Project  string `json:"project"`
	Checkout string `json:"checkout"` // folder of the declaration
	Dir      string `json:"dir"`      // of the bay itself, absolute
	State    string `json:"state"`    // what all bays of the user share
}

// Open names a bay; nothing is made on disk.
func Open(p place.Places, d *declare.Declaration, name string) (Bay, error) {
	if !regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`).MatchString(name) {
		return Bay{}, fault.New(fault.Use, "%q cannot name a bay", name).
			Advise("Use a-z, 0-9 and -, starting with a letter, at most 40 characters.")
	}
	checkout := checkoutID(d.Dir)
	return Bay{
		Name: name, Project: d.Project, Checkout: d.Dir, State: p.State,
		Dir: filepath.Join(p.Bays(), d.Project+"-"+checkout, name),
	}, nil
}

func checkoutID(dir string) string { return strings.TrimPrefix(canon.Digest(dir), "sha256:")[:8] }

// Find finds a bay of a checkout without its declaration, if it is there.
func Find(p place.Places, dir, name string) (Bay, bool) {
	found, _ := filepath.Glob(filepath.Join(p.Bays(), "*-"+checkoutID(dir), name))
	if len(found) != 1 {
		return Bay{}, false
	}
	project := strings.TrimSuffix(filepath.Base(filepath.Dir(found[0])), "-"+checkoutID(dir))
	return Bay{Name: name, Project: project, Checkout: dir, Dir: found[0], State: p.State}, true
}

// Logs is the folder of what services and steps printed.
func (b Bay) Logs() string { return filepath.Join(b.Dir, "logs") }

// PortsFile is where the numbers of ports are kept.
func (b Bay) PortsFile() string { return filepath.Join(b.Dir, "ports.json") }

// PortLocks is the folder of locks that keep two bays of one user from claiming
// one port.
func (b Bay) PortLocks() string { return filepath.Join(b.State, "ports") }

// Routes is the folder in which the supervisors of all bays say what they route.
func (b Bay) Routes() string { return filepath.Join(b.State, "routes") }

// WantedFile is where the services are noted that somebody wants to run, so that a
// start after a crash brings them back.
func (b Bay) WantedFile() string { return filepath.Join(b.Dir, "wanted.json") }

// Socket is the control socket of the bay's supervisor.
func (b Bay) Socket() string { return filepath.Join(b.Dir, "control") }

// Ports are the numbers of a bay's ports by "SERVICE.COPY/PORT".
type Ports map[string]int

// PortKey names a port of one copy of a service.
func PortKey(service string, copy int, port string) string {
	return service + "." + strconv.Itoa(copy) + "/" + port
}

// ReadPorts reads the recorded numbers; none yet is an empty table.
func (b Bay) ReadPorts() (Ports, error) {
	raw, err := os.ReadFile(b.PortsFile())
	if errors.Is(err, fs.ErrNotExist) {
		return Ports{}, nil
	}
	ports := Ports{}
	if err == nil {
		err = json.Unmarshal(raw, &ports)
	}
	if err != nil {
		return nil, fmt.Errorf("the record of ports of bay %s: %w", b.Name, err)
	}
	return ports, nil
}

// SavePorts records the numbers. A record that is the same is not written again.
func (b Bay) SavePorts(ports Ports) error {
	raw, err := json.MarshalIndent(ports, "", "  ")
	if err != nil {
		return err
	}
	if old, err := os.ReadFile(b.PortsFile()); err == nil && string(old) == string(raw) {
		return nil
	}
	return disk.Write(b.PortsFile(), raw, 0o644)
}

// PortName is a port's key as people say it: "port http of lane, copy 2".
func PortName(key string) string {
	who, port, _ := strings.Cut(key, "/")
	i := strings.LastIndexByte(who, '.')
	if i < 0 {
		return key
	}
	if who[i+1:] == "1" {
		return "port " + port + " of " + who[:i]
	}
	return "port " + port + " of " + who[:i] + ", copy " + who[i+1:]
}

// AssignPorts gives every declared port a number that stays: the recorded one,
// else the wanted one when it is free, else one derived from project, bay,
// service and port.
func (b Bay) AssignPorts(ctx context.Context, d *declare.Declaration) (Ports, error) {
	ports, err := b.ReadPorts()
	if err != nil || complete(ports, d) {
		return ports, err
	}
	unlock, err := disk.Lock(ctx, b.PortsFile()+".lock")
	if err != nil {
		return nil, err
	}
	defer unlock()
	if ports, err = b.ReadPorts(); err != nil {
		return nil, err
	}
	for _, s := range d.Services {
		for copy := 1; copy <= s.Copies; copy++ {
			for _, p := range s.Ports {
				key := PortKey(s.Name, copy, p.Name)
				if ports[key] == 0 {
					ports[key] = b.Choose(ports, key, p.Wanted+copy-1)
				}
			}
		}
	}
	return ports, b.SavePorts(ports)
}

func complete(ports Ports, d *declare.Declaration) bool {
	for _, s := range d.Services {
		for copy := 1; copy <= s.Copies; copy++ {
			for _, p := range s.Ports {
				if ports[PortKey(s.Name, copy, p.Name)] == 0 {
					return false
				}
			}
		}
	}
	return true
}

// Derived ports lie below the range from which systems take ports for outgoing
// connections (32768 on Linux, 49152 on macOS).
const (
	derivedFrom = 20000
	derivedSize = 12000
)

// Choose picks a free number for a port: the wanted one, or the first free one
// from a place that project, bay and port decide.
func (b Bay) Choose(ports Ports, key string, wanted int) int {
	used := map[int]bool{}
	for k, n := range ports {
		if k != key {
			used[n] = true
		}
	}
	if wanted > 0 && wanted < 65536 && !used[wanted] && b.free(wanted) {
		return wanted
	}
	h := fnv.New32a()
	fmt.Fprintf(h, "%s\x00%s\x00%s", b.Dir, b.Name, key)
	start := int(h.Sum32() % derivedSize)
	for i := range derivedSize {
		n := derivedFrom + (start+i)%derivedSize
		if !used[n] && b.free(n) {
			return n
		}
	}
	return wanted
}

// free tells whether the number could be claimed at this moment.
func (b Bay) free(n int) bool {
	claim, err := b.Claim(n)
	if err != nil {
		return false
	}
	claim.Release()
	return true
}

// OwnsPort tells whether a port key is one of a service's.
func OwnsPort(service, key string) bool { return strings.HasPrefix(key, service+".") }
