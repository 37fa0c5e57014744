package cli

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/sshsig"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/approval"
	"app.example/trammel/internal/core/origins/locator"
	"app.example/trammel/internal/core/proven/proof"
	"app.example/trammel/internal/core/proven/report"
	"app.example/trammel/internal/core/written/lock"
)

func compareCommand() *cli.Command {
	return &cli.Command{
		Name:        "compare",
		Usage:       "compare the reports of several machines; exit 3 when one differs",
		ArgsUsage:   "REPORT|FOLDER|git+URL#BRANCH…",
		Description: example("trammel compare reports/", "trammel compare reports/ --signers allowed_signers --html machines.html"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "signers", Usage: "trust only reports that keys in `FILE` signed (OpenSSH's allowed_signers)"},
			&cli.StringFlag{Name: "html", Usage: "write a page into `FILE`, too"},
			offlineFlag(), jsonFlag(),
		},
		Action: compareAction,
	}
}

func compareAction(ctx context.Context, c *cli.Command) error {
	paths := c.Args().Slice()
	if len(paths) == 0 {
		return fault.New(fault.ErrUsage, "name the reports to compare").Advise("Each machine writes its own: trammel verify --report reports/NAME.json\nThen: trammel compare reports/")
	}
	var signers *report.Signers
	if file := c.String("signers"); file != "" {
		var err error
		if signers, err = report.ReadSigners(file); err != nil {
			return err
		}
	}
	for i, p := range paths {
		if !locator.Is(p) || !strings.HasPrefix(p, "git+") {
			continue
		}
		places, err := placesNow()
		if err != nil {
			return err
		}
		l, err := locator.Parse(p, hostNow().Dir)
		if err != nil {
			return err
		}
		if paths[i], _, err = fetchLocator(ctx, c, places, l, ""); err != nil {
			return err
		}
	}
	list, err := report.Load(paths, signers, time.Now())
	if err != nil {
		return err
	}
	// The lock of the project here is the one to hold them to, if they are of it.
	var held lock.ID
	if p, err := look(c); err == nil && p.Lock != nil && p.Lock.Declaration.Project == list[0].Report.Predicate.Project {
		held = p.Lock.ID()
	}
	result, err := report.Compare(list, held, signers != nil)
	if err != nil {
		return err
	}
	if file := c.String("html"); file != "" {
		page, err := comparisonPage(result)
		if err != nil {
			return err
		}
		if err := disk.Write(file, page, 0o644); err != nil {
			return fault.New(fault.ErrFailed, "the page cannot be written: %v", err)
		}
	}
	s := screen(c)
	if c.Bool("json") {
		err = tell(s, compareOut{1, result.OK(), result})
	} else {
		printComparison(s, result)
	}
	if err == nil && !result.OK() {
		err = said(fault.ErrDrift)
	}
	return err
}

// column is a machine, or several that are in one state.
type column struct {
	title string
	names []string
	index int // of the first
}

// columns are the machines each for itself, or, where they are many, the states that they are in.
func columns(r *report.Comparison, apart int) []column {
	var out []column
	if len(r.Machines) <= apart {
		for i, m := range r.Machines {
			out = append(out, column{m.Name, nil, i})
		}
		return out
	}
	for n, st := range r.States() {
		c := column{title: fmt.Sprintf("state %d", n+1), index: st.Machines[0]}
		for _, i := range st.Machines {
			c.names = append(c.names, r.Machines[i].Name)
		}
		out = append(out, c)
	}
	return out
}

// some is a list of names, cut where nobody would read on.
func some(names []string) string {
	const most = 8
	if len(names) <= most+1 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

func machines(n int) string { return counted(n, "machine") }

// counted is a number of things in words.
func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// shownCell is a cell's text beside the first of its platform.
func shownCell(r *report.Comparison, row report.Line, cols []column, n int) string {
	i := cols[n].index
	for k := range n {
		j := cols[k].index
		if r.Machines[j].Platform == r.Machines[i].Platform && row.Cells[j] == row.Cells[i] && row.Name != "environment" && !r.Machines[i].Stale {
			return "same"
		}
	}
	return row.Cells[i].Value
}

// signature is whose a report is, in a word or two; what is wrong with it stands below
// the table.
func signature(m report.Machine) string {
	switch {
	case m.Unsigned == "not signed":
		return m.Unsigned
	case m.Unsigned != "":
		return "not trusted"
	}
	if short, ok := strings.CutPrefix(m.SignedBy, "SHA256:"); ok { // nobody gave it a name
		return "key " + short[:8]
	}
	return m.SignedBy
}

// mostColumns is how many machines have a column each; more are told by the states that they
// are in.
const mostColumns = 5

func printComparison(s *ui.Screen, r *report.Comparison) {
	if len(r.Machines) <= mostColumns {
		printMachines(s, r)
	} else {
		printStates(s, r)
	}
	s.Print("")
	for _, d := range r.Shared() {
		there := ""
		if d.There != "" {
			there = " There: " + d.There
		}
		s.Print("%s  %s: %s.%s", s.Paint(ui.Accent, some(d.Machines)), d.Item, strings.TrimSuffix(d.What, "."), there)
	}
	for _, x := range r.LeftOut {
		s.Print("%s  left out, as a report of %s: %s", s.Paint(ui.Dim, filepath.Base(x.File)), x.Machine, x.Why)
	}
	stale := 0
	for _, m := range r.Machines {
		if m.Stale {
			stale++
		}
	}
	switch same := len(r.Machines) - stale; {
	case same == 0:
		s.Print("No report is of this lock, so that nothing is proven. On each machine: trammel verify --report FILE")
	case !r.OK():
	case same == 1 && stale == 0:
		s.Print("One machine, and it holds what is locked%s.", butFor(r.ByName))
	default:
		s.Print("%s hold the identical environment%s.", machines(same), butFor(r.ByName))
	}
	if stale > 0 {
		s.Print("%d of %d reports are of another lock and say nothing of this one.", stale, len(r.Machines))
	}
}

// printMachines draws a column for each machine.
func printMachines(s *ui.Screen, r *report.Comparison) {
	cols := columns(r, mostColumns)
	width := len(r.Project) + len("   lock ") + len(canon.Short(r.Lock))
	// The first cell is painted, so that its width is given by hand.
	head := []ui.Cell{{Text: r.Project + "   lock " + canon.Short(r.Lock), Style: ui.Accent}}
	rows := [][]ui.Cell{}
	for _, c := range cols {
		head = append(head, ui.Cell{Text: c.title})
	}
	for _, row := range r.Rows {
		name := "  " + row.Name
		if row.Name == "environment" {
			name = row.Name
		}
		line := []ui.Cell{{Text: fmt.Sprintf("%-*s", width, name)}}
		odd := false
		for n, c := range cols {
			cell := row.Cells[c.index]
			style := ui.Plain
			switch {
			case r.Machines[c.index].Stale:
				style = ui.Dim
			case !cell.Same:
				style, odd = ui.Red, true
			}
			line = append(line, ui.Cell{Text: shownCell(r, row, cols, n), Style: style})
		}
		if odd {
			line = append(line, ui.Cell{Text: "←", Style: ui.Red})
		}
		rows = append(rows, line)
	}
	signed := []ui.Cell{{Text: "signed by"}}
	age := []ui.Cell{{Text: "made"}}
	for _, c := range cols {
		m := r.Machines[c.index]
		signed = append(signed, ui.Cell{Text: signature(m), Style: ui.Dim})
		made := m.Made.Local().Format("2 Jan 15:04")
		if m.Stale {
			made = "stale: lock " + canon.Short(m.Lock)
		}
		age = append(age, ui.Cell{Text: made, Style: ui.Dim})
	}
	s.Table(append(append([][]ui.Cell{head}, rows...), signed, age))
}

// printStates tells of many machines in which states they are: what all have alike in one line,
// and of each state what it has otherwise.
func printStates(s *ui.Screen, r *report.Comparison) {
	states := r.States()
	s.Print("%s   %s in %s", s.Paint(ui.Accent, r.Project+"   lock "+canon.Short(r.Lock)), machines(len(r.Machines)), counted(len(states), "state"))
	apart, alike := r.Apart()
	if len(alike) > 0 {
		s.Print("%s: %s", s.Paint(ui.Dim, "alike on all"), some(alike))
	}
	rows := [][]ui.Cell{}
	for n, st := range states {
		m := r.Machines[st.Machines[0]]
		var names []string
		for _, i := range st.Machines {
			names = append(names, r.Machines[i].Name)
		}
		var has []ui.Cell
		switch {
		case m.Stale:
			has = []ui.Cell{{Text: "stale: lock " + canon.Short(m.Lock), Style: ui.Dim}}
		default:
			for _, row := range apart {
				if x := row.Cells[st.Machines[0]]; !x.Same {
					has = append(has, ui.Cell{Text: row.Name + "  " + x.Value, Style: ui.Red})
				}
			}
			if len(has) == 0 {
				has = []ui.Cell{{Text: "as most have it"}}
			}
			if m.Unsigned != "" {
				has = append(has, ui.Cell{Text: signature(m), Style: ui.Amber})
			}
		}
		for i, cell := range has {
			first, count, on := "", "", ""
			if i == 0 {
				first, count, on = fmt.Sprintf("state %d", n+1), machines(len(st.Machines)), m.Platform
			}
			rows = append(rows, []ui.Cell{{Text: first}, {Text: count}, {Text: on, Style: ui.Dim}, cell})
		}
		rows = append(rows, []ui.Cell{{Text: ""}, {Text: ""}, {Text: ""}, {Text: some(names), Style: ui.Dim}})
	}
	s.Print("")
	s.Table(rows)
}

//go:embed compare.html
var comparisonText string

func comparisonPage(r *report.Comparison) ([]byte, error) {
	type cell struct{ Text, Class string }
	type line struct {
		Name  string
		Cells []cell
		Odd   bool
	}
	type told struct {
		Who string
		report.Difference
	}
	type head struct{ Title, Names, Platform, Signed, Made string }
	data := struct {
		*report.Comparison
		But   string
		Short string
		Heads []head
		Lines []line
		Count int
		Made  string
		Alike string
		Told  []told
	}{Comparison: r, But: butFor(r.ByName), Short: canon.Short(r.Lock), Count: len(r.Machines), Made: time.Now().UTC().Format("2 Jan 2006 15:04 UTC")}
	cols, lines := columns(r, 8), r.Rows
	if len(r.Machines) > 8 {
		var alike []string
		lines, alike = r.Apart()
		data.Alike = strings.Join(alike, ", ")
	}
	for _, d := range r.Shared() {
		data.Told = append(data.Told, told{some(d.Machines), d.Difference})
	}
	for _, c := range cols {
		m := r.Machines[c.index]
		h := head{Title: c.title, Platform: m.Platform, Signed: signature(m), Made: m.Made.UTC().Format("2 Jan 15:04")}
		if len(c.names) > 0 {
			h.Title += " · " + machines(len(c.names))
			h.Names = some(c.names)
			if len(c.names) > 1 && m.Unsigned == "" {
				h.Signed = "each its own"
			}
		}
		if m.Stale {
			h.Made = "stale: lock " + canon.Short(m.Lock)
		}
		data.Heads = append(data.Heads, h)
	}
	for _, row := range lines {
		l := line{Name: row.Name}
		for n, c := range cols {
			x := cell{Text: shownCell(r, row, cols, n)}
			switch {
			case r.Machines[c.index].Stale:
				x.Class = "stale"
			case !row.Cells[c.index].Same:
				x.Class, l.Odd = "odd", true
			case x.Text == "same":
				x.Class = "same"
			}
			l.Cells = append(l.Cells, x)
		}
		data.Lines = append(data.Lines, l)
	}
	t, err := template.New("").Parse(comparisonText)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = t.Execute(&b, data)
	return b.Bytes(), err
}

// writeReport writes what verify found, and its signature.
func writeReport(c *cli.Command, s *ui.Screen, p *checkout.State, given approval.Given, r *proof.Report) error {
	file, key := c.String("report"), c.String("sign")
	var signer ssh.Signer
	var public ssh.PublicKey
	if key != "" {
		var done func()
		var err error
		if signer, done, err = sshsig.Signer(key, p.Host); err != nil {
			return err
		}
		defer done()
		public = signer.PublicKey()
	}
	if err := p.Policies.Report(public); err != nil {
		return err
	}
	facts, err := hostFacts(c, p, given)
	if err != nil {
		return err
	}
	raw, err := report.Make(r, facts)
	if err != nil {
		return err
	}
	if err := disk.Write(file, raw, 0o644); err != nil {
		return fault.New(fault.ErrFailed, "the report cannot be written: %v", err)
	}
	if key == "" {
		// An older signature beside it would not be of this report.
		if err := os.Remove(report.SignatureOf(file)); err != nil && !os.IsNotExist(err) {
			return err
		}
		s.Say("Report: %s", shown(file))
		return nil
	}
	signature, err := report.Sign(raw, signer)
	if err != nil {
		return fault.New(fault.ErrFailed, "%v", err)
	}
	if err := disk.Write(report.SignatureOf(file), signature, 0o644); err != nil {
		return fault.New(fault.ErrFailed, "the signature cannot be written: %v", err)
	}
	s.Say("Report: %s, signed in %s", shown(file), shown(filepath.Base(report.SignatureOf(file))))
	return nil
}

// butFor names the checks that rest on names and versions, of which bytes are not known.
func butFor(checks []string) string {
	if len(checks) == 0 {
		return ""
	}
	return ", but for " + strings.Join(checks, " and ") + ", known by name and version only"
}
