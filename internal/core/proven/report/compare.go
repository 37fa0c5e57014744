package report

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/proven/proof"
	"app.example/trammel/internal/core/written/lock"
)

// Loaded is a report with what its signature is worth.
type Loaded struct {
	File     string
	Report   *Statement
	SignedBy string // a name among the signers, or the key's fingerprint without any
	Unsigned string // why nobody is taken to have signed it, or ""
	At       time.Time
	Odd      string // what is wrong with its date, or ""

	Beside []Loaded // other reports that say they are of this machine: they are left out, and said
}

// trusted tells whether somebody is taken to have signed it.
func (x Loaded) trusted() bool { return x.Unsigned == "" && x.Odd == "" }

// mostReport and mostSignature are how large such files may be, in bytes.
const (
	mostReport    = 64 << 20
	mostSignature = 64 << 10
)

// skew is by how much clocks of two machines may differ.
const skew = 10 * time.Minute

// SignatureOf is where a report's signature lies.
func SignatureOf(file string) string { return file + ".sig" }

// Load reads reports from files and folders. With signers, only their signatures count, and
// only for the machines that they may speak for. now is the time here.
func Load(paths []string, signers *Signers, now time.Time) ([]Loaded, error) {
	var files []string
	for _, p := range paths {
		info, err := os.Stat(p)
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "the report cannot be read: %v", err).Advise("A machine writes its own: trammel verify --report %s", shell.Typed(p))
		}
		if !info.IsDir() {
			files = append(files, p)
			continue
		}
		in, _ := filepath.Glob(filepath.Join(p, "*.json"))
		if len(in) == 0 {
			return nil, fault.New(fault.ErrUsage, "%s holds no reports", p).Advise("A machine writes its own: trammel verify --report %s", shell.Typed(filepath.Join(p, "NAME.json")))
		}
		files = append(files, in...)
	}
	var out []Loaded
	for _, f := range files {
		raw, err := disk.ReadWithin(filepath.Dir(f), filepath.Base(f), mostReport)
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "the report %s %s", f, disk.InWords(err)).Advise("A report is a regular file of its own; take this one out of the folder.")
		}
		s, err := Read(raw)
		if err != nil {
			return nil, fault.New(fault.ErrUsage, "%s: %s", f, err.Error())
		}
		x := Loaded{File: f, Report: s}
		if x.At, err = time.Parse(time.RFC3339, s.Predicate.Made); err != nil {
			x.Odd = fmt.Sprintf("its date %q is none", s.Predicate.Made)
		} else if x.At.After(now.Add(skew)) {
			x.Odd = "it is dated in the future: " + s.Predicate.Made
		}
		armoured, err := disk.ReadWithin(filepath.Dir(f), SignatureOf(filepath.Base(f)), mostSignature)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			x.Unsigned = "not signed"
		case err != nil:
			x.Unsigned = "its signature " + disk.InWords(err)
		default:
			x.SignedBy, x.Unsigned = signedBy(raw, armoured, signers, s.Predicate.Machine, x.At, now)
		}
		out = append(out, x)
	}
	return newest(out), nil
}

// signedBy says whose a signature is: the machine's own, whose key may speak for it when the
// report says that it was made and today, or why it counts for nobody's.
func signedBy(raw, armoured []byte, signers *Signers, machine string, made, now time.Time) (who, unsigned string) {
	key, err := Check(raw, armoured)
	if err != nil {
		return "", err.Error()
	}
	if signers == nil {
		return fingerprint(key), ""
	}
	may, others := signers.MaySpeak(key, machine, made, now)
	switch {
	case may:
		return machine, ""
	case len(others) > 0:
		return "", fmt.Sprintf("signed by %s, whose key may not speak for %s now", strings.Join(others, " or "), machine)
	}
	return "", "signed by nobody that is allowed to: " + fingerprint(key)
}

// newest keeps one report of each machine, in the order of their names: the last of those
// that somebody signed who may, and only where there is none the last of the others.
func newest(list []Loaded) []Loaded {
	slices.SortStableFunc(list, func(a, b Loaded) int {
		if c := strings.Compare(a.Report.Predicate.Machine, b.Report.Predicate.Machine); c != 0 {
			return c
		}
		if a.trusted() != b.trusted() {
			if a.trusted() {
				return -1
			}
			return 1
		}
		if (a.Odd == "") != (b.Odd == "") {
			return strings.Compare(a.Odd, b.Odd)
		}
		return b.At.Compare(a.At)
	})
	var out []Loaded
	for _, x := range list {
		if last := len(out) - 1; last >= 0 && out[last].Report.Predicate.Machine == x.Report.Predicate.Machine {
			out[last].Beside = append(out[last].Beside, x)
			continue
		}
		out = append(out, x)
	}
	return out
}

// LeftOut is a report that does not count, and why.
type LeftOut struct {
	File    string `json:"file"`
	Machine string `json:"machine"`
	Why     string `json:"why"`
}

// besides says of each report that is left out why. One that somebody made for another machine, or
// dated so that it would count, is a difference: whoever looks over a team wants to know of it, also where
// the machine's own report is there.
func (m *matrix) besides(i int, x Loaded, mustSign bool) {
	for _, b := range x.Beside {
		why := "older than " + filepath.Base(x.File)
		switch {
		case b.Odd != "":
			why = b.Odd
			m.differ(i, "report "+filepath.Base(b.File), b.Odd+"; it does not count", "")
		case b.Unsigned != "" && x.Unsigned == "":
			why = b.Unsigned
			if mustSign {
				m.differ(i, "report "+filepath.Base(b.File), "says it is of "+b.Report.Predicate.Machine+" and is "+strings.TrimPrefix(b.Unsigned, "is ")+"; it does not count", "")
			}
		case !b.At.Before(x.At):
			why = "of the same moment as " + filepath.Base(x.File)
		}
		m.LeftOut = append(m.LeftOut, LeftOut{b.File, b.Report.Predicate.Machine, why})
	}
}

// Comparison is a matrix of machines against items.
type Comparison struct {
	Project     string       `json:"project"`
	Lock        lock.ID      `json:"lock"` // that the machines are held to
	Machines    []Machine    `json:"machines"`
	Rows        []Line       `json:"rows"`
	Differences []Difference `json:"differences"`
	LeftOut     []LeftOut    `json:"left_out,omitempty"`
	ByName      []string     `json:"by_name,omitempty"` // checks that rest on names and versions, not on bytes
}

// Machine is a column.
type Machine struct {
	Name     string    `json:"name"`
	Platform string    `json:"platform"`
	Lock     lock.ID   `json:"lock"`
	Made     time.Time `json:"made"`
	SignedBy string    `json:"signed_by"`
	Unsigned string    `json:"unsigned,omitempty"`
	Stale    bool      `json:"stale"` // its report is of another lock: no drift, no proof
}

// Line is an item, with what each machine has of it.
type Line struct {
	Name  string `json:"name"`
	Cells []Cell `json:"cells"`
}

// Cell is what a machine has: Same as the others of its kind, or what differs.
type Cell struct {
	Value string `json:"value"`
	Same  bool   `json:"same"`
}

// Difference is one thing that one machine has otherwise.
type Difference struct {
	Machine string `json:"machine"`
	Item    string `json:"item"`
	What    string `json:"what"`
	There   string `json:"there"` // the command to run there, or ""
}

// OK tells whether some report is of this lock, and no machine differs. A report of another lock proves nothing.
func (c *Comparison) OK() bool {
	return len(c.Differences) == 0 && slices.ContainsFunc(c.Machines, func(m Machine) bool { return !m.Stale })
}

// Compare compares reports of one project. held is the lock to hold them to; "" is that
// of the newest report.
func Compare(list []Loaded, held lock.ID, mustSign bool) (*Comparison, error) {
	if len(list) == 0 {
		return nil, fault.New(fault.ErrUsage, "there is nothing to compare")
	}
	c := &Comparison{Project: list[0].Report.Predicate.Project, Lock: held}
	latest := list[0]
	for _, x := range list {
		if p := x.Report.Predicate.Project; p != c.Project {
			return nil, fault.New(fault.ErrUsage, "%s is of project %s, and %s of %s", list[0].File, c.Project, x.File, p)
		}
		if x.trusted() && !latest.trusted() || x.trusted() == latest.trusted() && x.Odd == "" && (latest.Odd != "" || x.At.After(latest.At)) {
			latest = x
		}
	}
	if c.Lock == "" {
		c.Lock = latest.Report.Predicate.Lock
	}
	m := &matrix{Comparison: c, list: list}
	for _, x := range list {
		p := x.Report.Predicate
		c.Machines = append(c.Machines, Machine{p.Machine, p.Platform, p.Lock, x.At, x.SignedBy, x.Unsigned, p.Lock != c.Lock})
	}
	m.row("environment", func(p Predicate) (string, string) { return p.Platform, canon.Short(p.Environment) })
	m.parts()
	m.variables()
	m.checks()
	for i, x := range list {
		if x.Odd != "" {
			m.differ(i, "date", x.Odd, "trammel verify --report FILE")
		}
		if mustSign && x.Unsigned != "" { // a forged one is told whatever it is of
			m.differ(i, "signature", x.Unsigned, "trammel verify --report FILE --sign KEY")
		}
		m.besides(i, x, mustSign)
	}
	return c, nil
}

type matrix struct {
	*Comparison
	list []Loaded
}

func (m *matrix) differ(machine int, item, what, there string) {
	m.Differences = append(m.Differences, Difference{m.Machines[machine].Name, item, what, there})
}

// row compares one value within each kind of machine: what most of them have is what
// the others are held to. It tells which machines differ.
func (m *matrix) row(name string, value func(Predicate) (kind, value string)) (odd []int) {
	counts := map[string]map[string]int{}
	for i, x := range m.list {
		if m.Machines[i].Stale {
			continue
		}
		kind, v := value(x.Report.Predicate)
		if counts[kind] == nil {
			counts[kind] = map[string]int{}
		}
		counts[kind][v]++
	}
	most := map[string]string{}
	for kind, all := range counts {
		for v, n := range all {
			if best, ok := most[kind]; !ok || n > all[best] || n == all[best] && v < best {
				most[kind] = v
			}
		}
	}
	line := Line{Name: name}
	for i, x := range m.list {
		kind, v := value(x.Report.Predicate)
		same := m.Machines[i].Stale || v == most[kind]
		line.Cells = append(line.Cells, Cell{v, same})
		if !same {
			odd = append(odd, i)
		}
	}
	m.Rows = append(m.Rows, line)
	return odd
}

// parts compares tools: by version between all, by tree among machines of one platform.
func (m *matrix) parts() {
	var labels []string
	for _, x := range m.list {
		for _, p := range x.Report.Predicate.Parts {
			if !slices.Contains(labels, p.Label) {
				labels = append(labels, p.Label)
			}
		}
	}
	slices.Sort(labels)
	for _, label := range labels {
		find := func(p Predicate) (proof.Part, bool) {
			i := slices.IndexFunc(p.Parts, func(x proof.Part) bool { return x.Label == label })
			if i < 0 {
				return proof.Part{}, false
			}
			return p.Parts[i], true
		}
		trees := m.trees(find)
		m.row(label, func(p Predicate) (string, string) {
			part, ok := find(p)
			switch {
			case !ok:
				return p.Platform, "none"
			case part.State != proof.OK:
				return p.Platform, part.State
			case trees[p.Platform] != "" && part.Tree != trees[p.Platform]:
				return p.Platform, part.Version + " of another tree"
			}
			return p.Platform, part.Version
		})
		for i, x := range m.list { // also where all differ from the lock alike
			part, ok := find(x.Report.Predicate)
			if m.Machines[i].Stale || !ok || part.State == proof.OK && part.Tree == trees[x.Report.Predicate.Platform] {
				continue
			}
			what := part.State
			switch n := len(part.Differs); {
			case n > 0 && n <= 3:
				what = strings.Join(part.Differs, ", ")
			case n > 3:
				what = fmt.Sprintf("%s and %d more", strings.Join(part.Differs[:3], ", "), n-3)
			case part.State == proof.OK:
				what = "its tree is another: " + canon.Short(part.Tree)
			}
			there := "trammel fit " + shell.Typed(part.Item)
			if strings.HasPrefix(part.Label, "root ") {
				there = "trammel fit"
			}
			last := &m.Rows[len(m.Rows)-1]
			last.Cells[i].Same = false
			m.differ(i, strings.TrimSpace(label+" "+part.Version), what, there)
		}
	}
}

// trees are what most machines of each platform have of a part, among those that are
// whole.
func (m *matrix) trees(find func(Predicate) (proof.Part, bool)) map[string]string {
	counts := map[string]map[string]int{}
	out := map[string]string{}
	for i, x := range m.list {
		part, ok := find(x.Report.Predicate)
		if !ok || part.State != proof.OK || m.Machines[i].Stale {
			continue
		}
		on := x.Report.Predicate.Platform
		if counts[on] == nil {
			counts[on] = map[string]int{}
		}
		counts[on][part.Tree]++
		if best, n := out[on], counts[on][part.Tree]; best == "" || n > counts[on][best] || n == counts[on][best] && part.Tree < best {
			out[on] = part.Tree
		}
	}
	return out
}

func (m *matrix) variables() {
	odd := m.row("variables", func(p Predicate) (string, string) {
		return p.Platform, fmt.Sprintf("%d, %s", len(p.Variables), canon.Short(canon.Digest(canon.Table(p.Variables))))
	})
	for _, i := range odd {
		var names []string
		own := m.list[i].Report.Predicate.Variables
		for j, x := range m.list { // against one that is as most are
			if j == i || slices.Contains(odd, j) || m.Machines[j].Stale || x.Report.Predicate.Platform != m.Machines[i].Platform {
				continue
			}
			for name, v := range x.Report.Predicate.Variables {
				if own[name] != v {
					names = append(names, name)
				}
			}
			for name := range own {
				if _, ok := x.Report.Predicate.Variables[name]; !ok {
					names = append(names, name)
				}
			}
			break
		}
		slices.Sort(names)
		m.differ(i, "variables", strings.Join(names, ", "), "trammel show")
	}
}

// checks adds the rest of what verify looks at; those of parts are there already.
func (m *matrix) checks() {
	var names []string
	for _, x := range m.list {
		for _, row := range x.Report.Predicate.Checks {
			if !slices.Contains(names, row.Check) && row.Check != "store" && row.Check != "variables" {
				names = append(names, row.Check)
			}
		}
	}
	for _, name := range names {
		find := func(p Predicate) proof.Row {
			i := slices.IndexFunc(p.Checks, func(r proof.Row) bool { return r.Check == name })
			if i < 0 {
				return proof.Row{State: "none"}
			}
			return p.Checks[i]
		}
		m.row(proof.Named(name), func(p Predicate) (string, string) { return "", find(p).State })
		for i, x := range m.list {
			row := find(x.Report.Predicate)
			if shown := proof.Named(name); row.ByName && !m.Machines[i].Stale && !slices.Contains(m.ByName, shown) {
				m.ByName = append(m.ByName, shown)
			}
			if m.Machines[i].Stale || row.State == proof.OK || row.State == "none" {
				continue
			}
			m.Rows[len(m.Rows)-1].Cells[i].Same = false
			what := row.Text
			if len(row.Details) > 0 {
				what += ": " + row.Details[0].Thing + " " + row.Details[0].What
			}
			m.differ(i, proof.Named(name), strings.TrimSpace(what), map[string]string{"lock": "trammel lock", "steps": "trammel fit", "frame": "trammel fit", "files": "trammel fit", "services": "trammel start"}[name])
		}
	}
}
