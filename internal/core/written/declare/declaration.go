// Package declare turns trammel.toml into a Declaration.
//
// It promises to report every fault of a file in one go, each with its place,
// and that two files with the same meaning have the same digest, whatever their
// comments, order and layout. It reads no other file and reaches no network.
package declare

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/version"
)

// FileName is the name of a declaration.
const FileName = "trammel.toml"

// Format is the version of the file format that this program reads.
const Format = 1

// Isolation says how much of the host shows inside an environment.
type Isolation string

// The levels of isolation.
const (
	Open   Isolation = "open"
	Clean  Isolation = "clean"
	Sealed Isolation = "sealed"
)

// NetworkPrivate gives the services of each bay a network of their own.
const NetworkPrivate = "private"

// Declaration is a whole trammel.toml.
type Declaration struct {
	File       string // absolute path
	Dir        string // the project's folder, absolute
	Project    string
	About      string
	Platforms  []platform.Platform
	Isolation  Isolation
	Needs      version.Ask // of this program itself; zero where any will do
	Host       []string    // host commands that stay visible
	Data       []string    // globs of files that nothing runs: consent does not hold them to their bytes
	Network    string      // NetworkPrivate, or "" for this machine's own
	Reach      []string    // hosts that a private network reaches, and no others; nil: every other machine
	Named      bool        // programs in a sealed root and in a private network may ask services by name
	Depot      string      // where the team's machines copy trees from, or ""
	Sources    []Source
	Toolchains []Toolchain
	Variables  []Variable
	Steps      []Step
	Services   []Service
	Routines   []Routine
	Params     []Param
	Files      []File
	Secrets    []Secret
	Addons     []Addon
	Libraries  []Library
	Values     map[string]string // of params, where they are filled in

	Includes []Included // in the order that they were read in

	digest          string // of its meaning, as it was read
	statedIsolation bool
}

// Source is a declared package repository.
type Source struct {
	Name    string
	Kind    string // "npm", "gomod", "debian", "wheel", "r" or "catalog"
	URL     string // empty: the machine's own settings say where
	SumDB   string // gomod: a checksum database, as in GOSUMDB
	Debian  Debian
	Keys    []string // catalog: who may sign it, as lines of authorized_keys; none: nobody needs to
	Listing *Listing // of a source of kind listing, else nil
	Mix     bool     // wheel: a name is looked for in every index, and not in the first that has it
	Place   fault.Place
	URLRef  fault.Place
}

// Debian is what only a source of kind debian has.
type Debian struct {
	Suites     []string // "trixie", and perhaps "trixie-updates"
	Components []string // "main" when nothing is said
	Keyring    string   // file with the archive's keys; empty: the machine's own
	Docs       bool     // unpack manuals, documentation and translations too
	Expired    bool     // accept a release whose Valid-Until has passed

	Also []Elsewhere // suites of other addresses in the same root, such as security ones

	Snapshots string    // address of an archive that keeps every state, with @{stamp}
	State     time.Time // the moment whose state is looked at; zero: now. No file says so
	Since     time.Time // what is gone by now is looked for in the state of this moment; zero: it is not. No file says so
}

// Elsewhere is a suite that has an address of its own.
type Elsewhere struct {
	Suite     string
	URL       string // "" where apt's settings of the machine name it
	Snapshots string // as of the source itself
}

// All are the names of all suites, those of other addresses last.
func (d Debian) All() []string {
	out := slices.Clone(d.Suites)
	for _, x := range d.Also {
		out = append(out, x.Suite)
	}
	return out
}

// Listing is what only a source of kind listing has. Texts may refer to @{version}, @{major},
// @{minor}, @{os} and @{arch}.
type Listing struct {
	Index    string // address of a page, text or JSON document that names the versions
	Versions string // where in it: a JSONPath (RFC 9535) or a regular expression
	Archive  string // address of an archive
	Sums     string // address of a file of checksums, or a JSONPath in the index; "" where none are stated

	Signature string            // address of a signature: of the checksums, or of the archive where there are none; "" where nothing is signed
	Keyring   string            // file with OpenPGP keys that may sign
	OS, Arch  map[string]string // the source's own words for systems and architectures
	Strip     int               // leading folders to drop
	Bin       []string          // globs of its commands
	Format    string            // of archives, where their name does not say it
}

// Lines are the suites with their components, as the lock has them: "trixie main".
func (d Debian) Lines() []string {
	var out []string
	for _, s := range d.All() {
		out = append(out, s+" "+strings.Join(d.Components, " "))
	}
	return out
}

// Toolchain is a wanted tool and the versions that will do.
type Toolchain struct {
	Name    string
	Ask     version.Ask
	From    string    // name of a source; empty: the first that has it
	Package string    // what no card describes: a Go command, or a package of npm
	Scripts []string  // npm: packages of its tree whose install scripts may run
	Varies  bool      // what its install scripts make comes out differently each time, which is accepted
	Tool    string    // the tool whose card says all of it, where this one has a name of its own
	Prefix  string    // stands before the names of its commands
	Shown   []Renamed // its commands that show, under what names; empty: all of them
	AsOf    time.Time // nothing that was published later counts; zero: everything does
	For     string    // the toolchain that it builds, and is there for alone; "" for one of the project's own
	Place   fault.Place
	AskAt   fault.Place
}

// BuilderOf is the name of the toolchain that is there to build a tool alone.
func BuilderOf(tool string) string { return tool + "-go" }

// Renamed is a command under a name of its own.
type Renamed struct{ Command, As string }

// CardName is the name of the tool's card.
func (t Toolchain) CardName() string {
	if t.Tool != "" {
		return t.Tool
	}
	return t.Name
}

// Variable is one environment variable; Value may hold references.
type Variable struct {
	Name  string
	Value string
	When  *Condition // decides the value instead, until params are filled in
	Unset bool       // what a card sets is not set; Value is ""
	Place fault.Place
}

// Text is the value as digests are taken of it.
func (v Variable) Text() string {
	if v.Unset {
		return "\x00unset" // which no value is: none has a NUL byte
	}
	if v.When != nil {
		return v.When.Text()
	}
	return v.Value
}

// Run is something to start: a POSIX script, a command without a shell, or a
// script for a named shell.
type Run struct {
	Script string
	Argv   []string
	Shell  []string // with Script: the shell and its options
}

// Empty tells whether nothing was written.
func (r Run) Empty() bool { return r.Script == "" && len(r.Argv) == 0 }

// String is the script, or the command in one line.
func (r Run) String() string {
	if r.Script != "" {
		return r.Script
	}
	line := ""
	for i, a := range r.Argv {
		if i > 0 {
			line += " "
		}
		line += a
	}
	return line
}

// Step is a setup step.
type Step struct {
	Name  string
	About string
	Run   Run
	Reads []string // globs below the project folder; one that starts with ! takes out
	Needs []string // "step.NAME" or "service.NAME"
	After []string // "step.NAME": comes after those, and is not due because of them

	Ignore   []string      // files in the format of .gitignore that reads go by
	Makes    []string      // globs of what it leaves behind; nothing there makes it due
	When     string        // "" when due, "always" at each fit, "shell" at each shell's start, "first" once in a bay's life
	Per      string        // "checkout" or "bay": what its marks belong to
	Within   time.Duration // 0: as long as it takes
	Retries  int           // tries after the first
	Evidence Run           // says in lines what the step left behind
	Place    fault.Place
}

// Restart says when a service that ended is started again.
type Restart string

// The restart rules.
const (
	RestartNever     Restart = "never"
	RestartOnFailure Restart = "on-failure"
	RestartAlways    Restart = "always"
)

// Port is a named port of a service and the number it would like.
type Port struct {
	Name   string
	Wanted int
	UDP    bool // it takes datagrams, and no connections
}

// Ready says how to find out that a service can be used. At most one probe is
// set; none means: each port accepts.
type Ready struct {
	File    string // path, with references
	Notify  bool   // the service says so itself, as in sd_notify(3)
	TCP     string // name of a port
	HTTP    string // path
	Port    string // HTTP: name of a port
	Status  int    // HTTP: the wanted status; 0 means any 2xx or 3xx
	Command Run
	Log     string // regular expression
	Every   time.Duration
	Within  time.Duration
}

// What a service does when what it reads changes, besides getting a signal.
const (
	Restarted = "restart"
	Unmoved   = "nothing"
)

// Stop says how a service is asked to end.
type Stop struct {
	Signal string // without SIG
	Within time.Duration
}

// Service is a long-running program.
type Service struct {
	Name      string
	About     string
	Run       Run
	Needs     []string
	Ports     []Port
	Ready     Ready
	Restart   Restart
	Stop      Stop
	Variables []Variable
	Copies    int
	CopiesOf  string // the param that says how many, or ""

	Tool        string               // runs as the card of this toolchain says
	Settings    map[string]string    // of the card
	Options     []string             // arguments for what the card runs
	Conditions  map[string]Condition // settings that depend on params
	Card        map[string]string    // what the lock has of the card, once completed
	StatedReady bool                 // ready stands in the declaration
	StatedStop  bool                 // and stop
	Auto        bool                 // started when nobody names a service
	Segments    []string             // parts of a private network that it is in; none is the common one
	Reads       []string             // globs below the project folder, as a step's
	Ignore      []string             // files in the format of .gitignore that reads go by
	WhenChanged string               // what a change of what it reads, or of a step that it needs, does: "restart", "nothing" or a signal
	Place       fault.Place
}

// Routine is a named command of the team.
type Routine struct {
	Name  string
	About string
	Run   Run
	Needs []string // "service.NAME" and "step.NAME"
	Of    string   // service whose card brings it, or "": its names mean what they mean there
	Place fault.Place
}

// Service finds a service by name.
func (d *Declaration) Service(name string) (Service, bool) {
	return first(d.Services, func(s *Service) bool { return s.Name == name }) // without copying each
}

// Step finds a step by name.
func (d *Declaration) Step(name string) (Step, bool) {
	return first(d.Steps, func(s *Step) bool { return s.Name == name })
}

// Routine finds a routine by name.
func (d *Declaration) Routine(name string) (Routine, bool) { return byName(d.Routines, name) }

// Source finds a declared source by name.
func (d *Declaration) Source(name string) (Source, bool) { return byName(d.Sources, name) }

type named interface{ name() string }

func (s Source) name() string    { return s.Name }
func (t Toolchain) name() string { return t.Name }
func (s Step) name() string      { return s.Name }
func (s Service) name() string   { return s.Name }
func (r Routine) name() string   { return r.Name }

func byName[T named](list []T, name string) (found T, ok bool) {
	return first(list, func(x *T) bool { return (*x).name() == name })
}

// first is the first of a list that is it.
func first[T any](list []T, is func(*T) bool) (found T, ok bool) {
	for i := range list {
		if is(&list[i]) {
			return list[i], true
		}
	}
	return found, false
}

// Names lists the names of sources, toolchains, steps, services or routines.
func Names[T named](list []T) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = x.name()
	}
	return out
}

// Digest is the digest of the declaration's meaning as it was read: what `lock` resolves
// and what runs. Comments, order of tables and the text about things do not count;
// neither does the address of a source, since digests decide and mirrors differ. It stays
// when params are filled in and cards have added what they say.
func (d *Declaration) Digest() string {
	if d.digest != "" {
		return d.digest
	}
	return d.meaning()
}

// WithToolchains is the declaration with other asks, for a passing trial.
func (d *Declaration) WithToolchains(list []Toolchain) *Declaration {
	out := *d
	out.Toolchains = list
	out.digest = out.meaning()
	return &out
}

func (d *Declaration) meaning() string {
	platforms := make([]string, len(d.Platforms))
	for i, p := range d.Platforms {
		platforms[i] = p.String()
	}
	sources, tools := canon.Map{}, canon.Map{}
	for _, s := range d.Sources {
		sources[s.Name] = s.meaning()
	}
	for _, t := range d.Toolchains {
		tool := canon.Map{"ask": t.Ask.String(), "from": t.From}
		if t.Package != "" {
			tool["package"] = t.Package
		}
		if len(t.Scripts) > 0 {
			tool["scripts"] = t.Scripts
		}
		if t.Varies {
			tool["varies"] = true
		}
		if t.Tool != "" {
			tool["tool"] = t.Tool
		}
		if t.Prefix != "" {
			tool["prefix"] = t.Prefix
		}
		if len(t.Shown) > 0 {
			shown := canon.Map{}
			for _, x := range t.Shown {
				shown[x.Command] = x.As
			}
			tool["commands"] = shown
		}
		if t.For != "" {
			tool["for"] = t.For
		}
		if !t.AsOf.IsZero() {
			tool["as-of"] = t.AsOf.UTC().Format(time.RFC3339)
		}
		tools[t.Name] = tool
	}
	all := canon.Map{
		"project": d.Project, "platforms": platforms, "isolation": string(d.Isolation), "host": d.Host,
		"sources": sources, "toolchain": tools, "variables": variables(d.Variables),
		"steps": meanings(d.Steps), "services": meanings(d.Services), "routines": meanings(d.Routines),
	}
	if len(d.Data) > 0 {
		all["data"] = d.Data
	}
	if d.Network != "" {
		all["network"] = d.Network
	}
	if d.Reach != nil {
		all["reach"] = d.Reach
	}
	if d.Named {
		all["names"] = true
	}
	if len(d.Params) > 0 {
		all["params"] = meanings(d.Params)
	}
	if len(d.Files) > 0 {
		all["files"] = meanings(d.Files)
	}
	if len(d.Addons) > 0 {
		all["addons"] = meanings(d.Addons)
	}
	if len(d.Libraries) > 0 {
		all["libraries"] = meanings(d.Libraries)
	}
	if len(d.Secrets) > 0 {
		all["secrets"] = meanings(d.Secrets)
	}
	return canon.Digest(all)
}

// URLOf is the address of a suite as the declaration has it; "" where the machine's settings say.
func (s Source) URLOf(suite string) string {
	for _, x := range s.Debian.Also {
		if x.Suite == suite {
			return x.URL
		}
	}
	return s.URL
}

// meaning is all of a source that decides what is resolved.
func (s Source) meaning() canon.Map {
	m := canon.Map{"kind": s.Kind}
	if len(s.Keys) > 0 {
		m["keys"] = s.Keys
	}
	if l := s.Listing; l != nil {
		m["versions"], m["strip"], m["bin"], m["format"] = l.Versions, l.Strip, l.Bin, l.Format
		m["os"], m["arch"] = l.OS, l.Arch
		if l.Signature != "" {
			m["signed"] = true
		}
	}
	if s.Kind == "debian" {
		m["suites"], m["components"], m["docs"] = s.Debian.All(), s.Debian.Components, s.Debian.Docs
	}
	return m
}

// Base is the source of the root that sealed isolation shows as the system: the
// first of kind debian.
func (d *Declaration) Base() (Source, bool) {
	for _, s := range d.Sources {
		if s.Kind == "debian" {
			return s, true
		}
	}
	return Source{}, false
}

func meanings[T interface {
	named
	Meaning() canon.Map
}](list []T) canon.Map {
	out := canon.Map{}
	for _, x := range list {
		out[x.name()] = x.Meaning()
	}
	return out
}

func variables(list []Variable) canon.Map {
	out := canon.Map{}
	for _, v := range list {
		out[v.Name] = v.Text()
	}
	return out
}

// Meaning is all of a run that decides what happens.
func (r Run) Meaning() canon.Map {
	return canon.Map{"script": r.Script, "argv": r.Argv, "shell": r.Shell}
}

// Meaning is all of a step that decides what happens.
func (s Step) Meaning() canon.Map {
	m := canon.Map{"run": s.Run.Meaning(), "reads": s.Reads, "needs": s.Needs}
	for key, list := range map[string][]string{"ignore": s.Ignore, "makes": s.Makes, "after": s.After} {
		if len(list) > 0 {
			m[key] = list
		}
	}
	for key, text := range map[string]string{"when": s.When, "per": s.Per} {
		if text != "" && text != "due" && text != "checkout" {
			m[key] = text
		}
	}
	if s.Within > 0 {
		m["within"] = s.Within.String()
	}
	if s.Retries > 0 {
		m["retries"] = s.Retries
	}
	if !s.Evidence.Empty() {
		m["evidence"] = s.Evidence.Meaning()
	}
	return m
}

// Meaning is all of a service that decides what happens.
func (s Service) Meaning() canon.Map {
	ports := canon.Map{}
	for _, p := range s.Ports {
		ports[p.Name] = p.Wanted
	}
	tool := canon.Map{}
	if s.Tool != "" {
		tool["tool"] = s.Tool
		settings := canon.Map{}
		for name, value := range s.Settings {
			settings[name] = value
		}
		for name, c := range s.Conditions {
			settings[name] = c.Text()
		}
		tool["settings"] = settings
		if len(s.Options) > 0 {
			tool["options"] = s.Options
		}
	}
	var copies any = s.Copies
	if s.CopiesOf != "" {
		copies = "param " + s.CopiesOf
	}
	all := canon.Map{
		"run": s.Run.Meaning(), "needs": s.Needs, "ports": ports, "copies": copies, "auto": s.Auto,
		"variables": variables(s.Variables), "restart": string(s.Restart),
		"stop": canon.Map{"signal": s.Stop.Signal, "within": s.Stop.Within.String()},
		"ready": canon.Map{
			"tcp": s.Ready.TCP, "http": s.Ready.HTTP, "port": s.Ready.Port, "status": s.Ready.Status,
			"command": s.Ready.Command.Meaning(), "log": s.Ready.Log,
			"every": s.Ready.Every.String(), "within": s.Ready.Within.String(),
		},
	}
	maps.Copy(all, tool)
	if len(s.Segments) > 0 {
		all["segment"] = strings.Join(s.Segments, " ")
	}
	if len(s.Reads) > 0 {
		all["reads"], all["ignore"] = s.Reads, s.Ignore
	}
	if s.WhenChanged != Restarted {
		all["when-changed"] = s.WhenChanged
	}
	if s.Ready.File != "" || s.Ready.Notify {
		ready := all["ready"].(canon.Map)
		ready["file"], ready["notify"] = s.Ready.File, s.Ready.Notify
	}
	return all
}

// Completed is the declaration with services that know what their cards say, and the
// routines that cards bring along.
func (d *Declaration) Completed(services []Service, routines []Routine) *Declaration {
	out := *d
	out.Services, out.Routines = services, routines
	return &out
}

// Meaning is all of a routine that decides what happens.
func (r Routine) Meaning() canon.Map {
	m := canon.Map{"run": r.Run.Meaning()}
	if len(r.Needs) > 0 {
		m["needs"] = r.Needs
	}
	return m
}

// CopyName is the name of one copy of a service: "lane" when there is just one,
// else "lane.2" (counting from 1).
func (s Service) CopyName(copy int) string {
	if s.Copies == 1 {
		return s.Name
	}
	return s.Name + "." + strconv.Itoa(copy)
}
