package cli

import (
	"app.example/trammel/internal/core/acting/setup"
	"reflect"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/proven/proof"
	"app.example/trammel/internal/core/proven/report"
	"app.example/trammel/internal/core/running/service"
)

// answer is what a command prints with --json. Each has a type of its own, of which the pages of
// docs/reference are made; within one format fields are only ever added.
type answer interface {
	// of names the commands that print it.
	of() string
}

// tell prints an answer. A list that is empty is an empty list, and never null.
func tell(s *ui.Screen, a answer) error {
	v := reflect.New(reflect.TypeOf(a)).Elem()
	v.Set(reflect.ValueOf(a))
	noNull(v)
	return s.JSON(v.Interface())
}

// tellLine prints an answer on a line, for commands that print many.
func tellLine(s *ui.Screen, a answer) error { return s.JSONLine(a) }

// noNull makes empty lists and objects of those that are nil, all the way down.
func noNull(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			noNull(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Field(i); f.CanSet() {
				noNull(f)
			}
		}
	case reflect.Map:
		if v.IsNil() {
			v.Set(reflect.MakeMap(v.Type()))
		}
	case reflect.Slice:
		if v.IsNil() {
			v.Set(reflect.MakeSlice(v.Type(), 0, 0))
		}
		for i := range v.Len() {
			noNull(v.Index(i))
		}
	}
}

func (approveOut) of() string    { return "approve" }
func (baysOut) of() string       { return "bays" }
func (clearOut) of() string      { return "clear" }
func (catalogOut) of() string    { return "catalog check" }
func (findOut) of() string       { return "find TOOL" }
func (knownToolsOut) of() string { return "find" }
func (newerOut) of() string      { return "newer" }
func (compareOut) of() string    { return "compare" }
func (dataOut) of() string       { return "data save, data load, data clear" }
func (statesOut) of() string     { return "data list, --as" }
func (copiedOut) of() string     { return "data copy" }
func (stockOut) of() string      { return "stock" }
func (sweepOut) of() string      { return "sweep" }
func (imageOut) of() string      { return "export oci" }
func (lockResult) of() string    { return "lock" }
func (paramsOut) of() string     { return "show params" }
func (recallOut) of() string     { return "recall --list" }
func (againstOut) of() string    { return "recall --against" }
func (routinesOut) of() string   { return "do" }
func (statusOut) of() string     { return "start" }
func (stoppedOut) of() string    { return "stop" }
func (signalOut) of() string     { return "stop --signal" }
func (lineOut) of() string       { return "logs" }
func (showOut) of() string       { return "show" }
func (thingsOut) of() string     { return "show NAME" }
func (sourcesOut) of() string    { return "sources" }
func (verifyOut) of() string     { return "verify" }

type baysOut struct {
	Format int      `json:"format"`
	Bays   []bayOut `json:"bays"`
}

type clearOut struct {
	Format  int          `json:"format"`
	Project string       `json:"project"`
	Cleared []clearedOut `json:"cleared"`
}

type catalogOut struct {
	Format   int      `json:"format"`
	Tools    int      `json:"tools"`
	Releases int      `json:"releases"`
	Files    int      `json:"files"`               // archives
	SignedBy string   `json:"signed_by,omitempty"` // fingerprint of the key
	Faults   []string `json:"faults"`              // what is not as the pages say
}

type findOut struct {
	Format int `json:"format"`
	offerOut
	More []offerOut `json:"more,omitempty"` // of further sources
}

type knownToolsOut struct {
	Format   int          `json:"format"`
	Tools    []knownOut   `json:"tools"`
	Packages []packageOut `json:"packages"` // of declared sources, where a word was looked for
}

type knownOut struct {
	Name   string `json:"name"`
	About  string `json:"about"`
	Source string `json:"source"`
}

type packageOut struct {
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	About   string `json:"about,omitempty"`
	Source  string `json:"source"`
	Do      string `json:"do"` // how to declare it
}

type newerOut struct {
	Format int          `json:"format"`
	Tools  []renewalOut `json:"tools"`
}

type compareOut struct {
	Format int  `json:"format"`
	OK     bool `json:"ok"` // all machines are alike
	*report.Comparison
}

type verifyOut struct {
	Format int  `json:"format"`
	OK     bool `json:"ok"` // everything holds
	*proof.Report
}

type dataOut struct {
	Format  int    `json:"format"`
	Service string `json:"service"`
	File    string `json:"file"`
	Bytes   int64  `json:"bytes,omitempty"` // of the file that was saved
}

type statesOut struct {
	Format int           `json:"format"`
	States []setup.State `json:"states"`
}

type copiedOut struct {
	Format   int      `json:"format"`
	From     string   `json:"from"` // the bay
	Services []string `json:"services"`
}

type stockOut struct {
	Format int      `json:"format"`
	Depot  string   `json:"depot"`
	Added  []string `json:"added"`
	Kept   int      `json:"kept"` // that were there
	Lock   bool     `json:"lock"` // tree digests were written into the lock
	Left   []string `json:"left"` // platforms of which a machine of theirs must make some
}

type sweepOut struct {
	Format int        `json:"format"`
	Freed  []freedOut `json:"freed"`
	Bytes  int64      `json:"bytes"`
	Kept   int        `json:"kept"`
}

type freedOut struct {
	Kind  string `json:"kind"` // "part", "frame", "archive", …
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

type imageOut struct {
	Format      int               `json:"format"`
	Digest      string            `json:"digest"`
	Where       string            `json:"where"` // folder, archive or reference
	Environment string            `json:"environment"`
	Platforms   []string          `json:"platforms"`
	Layers      int               `json:"layers"`
	Bytes       int64             `json:"bytes"`
	Labels      map[string]string `json:"labels"`
}

type paramsOut struct {
	Format int        `json:"format"`
	Params []paramOut `json:"params"`
}

type recallOut struct {
	Format    int           `json:"format"`
	Shallow   bool          `json:"shallow"` // version control has no more of the past here
	Revisions []revisionOut `json:"revisions"`
	Kept      []revisionOut `json:"kept"` // put aside here, and never committed
}

type againstOut struct {
	Format   int      `json:"format"`
	Revision string   `json:"revision"`
	Changes  []string `json:"changes"`
}

type routinesOut struct {
	Format   int          `json:"format"`
	Routines []routineOut `json:"routines"`
}

type routineOut struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Run   string `json:"run"`
}

type stoppedOut struct {
	Format  int      `json:"format"`
	Stopped []string `json:"stopped"` // copies of services
}

type signalOut struct {
	Format int                 `json:"format"`
	Signal string              `json:"signal"` // without SIG
	Sent   []service.Signalled `json:"sent"`
}

type thingsOut struct {
	Format int        `json:"format"`
	Things []thingOut `json:"things"`
}

type sourcesOut struct {
	Format  int         `json:"format"`
	Sources []sourceOut `json:"sources"`
}
