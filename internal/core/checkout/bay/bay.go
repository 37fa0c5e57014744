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
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/place"
	"app.example/trammel/internal/core/written/declare"
)

// Main is the name of the bay that needs no naming.
const Main = "main"

// Bay is one bay of one checkout.
type Bay struct {
	Name     string `json:"name"`
	Project  string `json:"project"`
	Checkout string `json:"checkout"` // folder of the declaration
	Dir      string `json:"dir"`      // what its programs see and write: data, rendered files, made-up secrets; absolute
	Records  string `json:"records"`  // what Trammel itself goes by: ports, params, marks, logs, the control socket
	State    string `json:"state"`    // what all bays of the user share
}

// Open names a bay; nothing is made on disk.
func Open(p place.Places, d *declare.Declaration, name string) (Bay, error) {
	if err := CheckName(name); err != nil {
		return Bay{}, err
	}
	return named(p, d.Project, d.Dir, name), nil
}

// CheckName is an error where a text cannot name a bay.
func CheckName(name string) error {
	if regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`).MatchString(name) {
		return nil
	}
	return fault.New(fault.ErrUsage, "%q cannot name a bay", name).
		Advise("Use a-z, 0-9 and -, starting with a letter, at most 40 characters.")
}

func named(p place.Places, project, dir, name string) Bay {
	below := filepath.Join(project+"-"+CheckoutID(dir), name)
	return Bay{
		Name: name, Project: project, Checkout: dir, State: p.State,
		Dir: filepath.Join(p.Bays(), below), Records: filepath.Join(p.Records(), below),
	}
}

// All are the bays of every checkout of the account that have records. Which checkout one is
// of is not among what their names tell, so that Checkout is "".
func All(p place.Places) []Bay {
	found, _ := filepath.Glob(filepath.Join(p.Records(), "*", "[a-z]*"))
	var out []Bay
	for _, records := range found {
		project := filepath.Base(filepath.Dir(records))
		if len(project) <= 9 {
			continue
		}
		b := named(p, project[:len(project)-9], "", filepath.Base(records))
		b.Dir, b.Records, b.Checkout = filepath.Join(p.Bays(), project, b.Name), records, ""
		out = append(out, b)
	}
	return out
}

// Made tells whether anything of the bay is on disk.
func (b Bay) Made() bool {
	for _, dir := range []string{b.Records, b.Dir} {
		if _, err := os.Lstat(dir); err == nil {
			return true
		}
	}
	return false
}

// CheckoutID names a checkout by its folder, in names of files.
func CheckoutID(dir string) string { return strings.TrimPrefix(canon.Digest(dir), "sha256:")[:8] }

// Find finds a bay of a checkout without its declaration, if it is there.
func Find(p place.Places, dir, name string) (Bay, bool) {
	found, _ := filepath.Glob(filepath.Join(p.Records(), "*-"+CheckoutID(dir), name))
	if len(found) != 1 {
		return Bay{}, false
	}
	project := strings.TrimSuffix(filepath.Base(filepath.Dir(found[0])), "-"+CheckoutID(dir))
	return named(p, project, dir, name), true
}

// Logs is the folder of what services and steps printed.
func (b Bay) Logs() string { return filepath.Join(b.Records, "logs") }

// PortsFile is where the numbers of ports are kept.
func (b Bay) PortsFile() string { return filepath.Join(b.Records, "ports.json") }

// Routes is the folder in which the supervisors of all bays say what they route.
func (b Bay) Routes() string { return filepath.Join(b.State, "routes") }

// Door is the file that views show whose programs may ask for names (package peer).
func (b Bay) Door() string { return filepath.Join(b.State, "routes", "door") }

// MakeDoor makes that file where there is none. It has nothing in it: that it shows is what counts.
func (b Bay) MakeDoor() error {
	if err := disk.Private(b.Routes()); err != nil {
		return err
	}
	f, err := disk.AppendOwn(b.Door())
	if err != nil {
		return err
	}
	return f.Close()
}

// WantedFile is where the services are noted that somebody wants to run, so that a
// start after a crash brings them back.
func (b Bay) WantedFile() string { return filepath.Join(b.Records, "wanted.json") }

// Socket is the control socket of the bay's supervisor.
func (b Bay) Socket() string { return filepath.Join(b.Records, "control") }

// OwnLabel is a name for the router that no other checkout has: the project's, with what its
// folder decides behind it.
func (b Bay) OwnLabel() string { return b.Project + "-" + CheckoutID(b.Checkout)[:6] }

// SupervisorLock is held by the bay's supervisor for as long as it lives.
func (b Bay) SupervisorLock() string { return filepath.Join(b.Records, "supervisor.lock") }

// SupervisorLog is what the supervisor says of itself.
func (b Bay) SupervisorLog() string { return filepath.Join(b.Records, "supervisor.log") }

// Ports are the numbers of a bay's ports by "SERVICE.COPY/PORT".
type Ports map[string]int

// PortKey names a port of one copy of a service.
func PortKey(service string, copy int, port string) string {
	return service + "." + strconv.Itoa(copy) + "/" + port
}

// ReadPorts reads the recorded numbers; none yet is an empty table.
func (b Bay) ReadPorts() (Ports, error) {
	ports := Ports{}
	if err := readRecord(b.PortsFile(), &ports); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Ports{}, err
	}
	return ports, nil
}

// SavePorts records the numbers. A record that is the same is not written again.
func (b Bay) SavePorts(ports Ports) error {
	raw, err := json.MarshalIndent(ports, "", "  ")
	if err != nil {
		return err
	}
	if old, err := disk.Read(b.PortsFile(), disk.MostState); err == nil && string(old) == string(raw) {
		return nil
	}
	return disk.Write(b.PortsFile(), raw, 0o600)
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
	unlock, err := disk.Lock(ctx, b.PortsFile()+".lock")
	if err != nil {
		return nil, err
	}
	defer unlock()
	ports, err := b.ReadPorts()
	if err != nil {
		var broken *Broken
		if !errors.As(err, &broken) {
			return nil, err
		}
		if err := broken.PutAside(ctx, "numbers of ports are chosen anew"); err != nil {
			return nil, err
		}
		ports = Ports{}
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

// Expected are the numbers that ports have or would like to have: the recorded ones, and
// the wanted ones where nothing is recorded yet. Nothing is written, and nobody is asked.
func (p Ports) Expected(d *declare.Declaration) (ports Ports, recorded bool) {
	out := maps.Clone(p)
	if out == nil {
		out = Ports{}
	}
	recorded = true
	for _, s := range d.Services {
		for copy := 1; copy <= s.Copies; copy++ {
			for _, x := range s.Ports {
				if key := PortKey(s.Name, copy, x.Name); out[key] == 0 {
					out[key], recorded = x.Wanted+copy-1, false
				}
			}
		}
	}
	return out, recorded
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
	if wanted > 0 && wanted < 65536 && !used[wanted] && free(wanted) {
		return wanted
	}
	h := fnv.New32a()
	fmt.Fprintf(h, "%s\x00%s\x00%s", b.Dir, b.Name, key)
	start := int(h.Sum32() % derivedSize)
	for i := range derivedSize {
		n := derivedFrom + (start+i)%derivedSize
		if !used[n] && free(n) {
			return n
		}
	}
	return wanted
}

// free tells whether the number could be claimed at this moment.
func free(n int) bool {
	claim, err := Take(n)
	if err != nil {
		return false
	}
	claim.Release()
	return true
}
