package cli

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

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
		return fault.New(fault.Use, "name the reports to compare").Advise("Each machine writes its own: trammel verify --report reports/NAME.json\nThen: trammel compare reports/")
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
			return fault.New(fault.Failed, "the page cannot be written: %v", err)
		}
	}
	s := screen(c)
	if c.Bool("json") {
		err = s.JSON(struct {
			Format int  `json:"format"`
			OK     bool `json:"ok"`
			*report.Comparison
		}{1, result.OK(), result})
	} else {
		printComparison(s, result)
	}
	if err == nil && !result.OK() {
		err = said(fault.Drift)
	}
	return err
}

// column is a machine, or several that are alike in everything.
type column struct {
	names []string
	index int // of the first
}

func (c column) title() string {
	if len(c.names) == 1 {
		return c.names[0]
	}
	return fmt.Sprintf("%d machines", len(c.names))
}

// columns are the machines each for itself, or, where they are many, those that are
// alike together, the larger groups first.
func columns(r *report.Comparison, apart int) []column {
	var out []column
	groups := map[string]int{}
	for i, m := range r.Machines {
		key := fmt.Sprint(i)
		if len(r.Machines) > apart {
			key = fmt.Sprint(m.Platform, m.Stale, m.Unsigned)
			for _, row := range r.Rows {
				key += "|" + row.Cells[i].Value
			}
		}
		if at, ok := groups[key]; ok {
			out[at].names = append(out[at].names, m.Name)
			continue
		}
		groups[key] = len(out)
		out = append(out, column{[]string{m.Name}, i})
	}
	if len(r.Machines) > apart {
		slices.SortStableFunc(out, func(a, b column) int { return len(b.names) - len(a.names) })
	}
	return out
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

func printComparison(s *ui.Screen, r *report.Comparison) {
	cols := columns(r, 5)
	head := []ui.Cell{{Text: s.Paint(ui.Accent, r.Project) + "   lock " + canon.Short(r.Lock)}}
	width := len(r.Project) + len("   lock ") + len(canon.Short(r.Lock))
	rows := [][]ui.Cell{}
	for _, c := range cols {
		head = append(head, ui.Cell{Text: c.title()})
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
		text := signature(m)
		if len(c.names) > 1 && m.Unsigned == "" {
			text = "each its own"
		}
		signed = append(signed, ui.Cell{Text: text, Style: ui.Dim})
		made := m.Made.Local().Format("2 Jan 15:04")
		if m.Stale {
			made = "stale: lock " + canon.Short(m.Lock)
		}
		age = append(age, ui.Cell{Text: made, Style: ui.Dim})
	}
	// The first cell is painted, so that its width is given by hand.
	head[0] = ui.Cell{Text: r.Project + "   lock " + canon.Short(r.Lock), Style: ui.Accent}
	s.Table(append(append([][]ui.Cell{head}, rows...), signed, age))
	if len(cols) < len(r.Machines) {
		s.Print("")
		for _, c := range cols {
			if len(c.names) > 1 {
				s.Print("%s: %s", c.title(), strings.Join(c.names, ", "))
			}
		}
	}
	s.Print("")
	for _, d := range r.Differences {
		there := ""
		if d.There != "" {
			there = " There: " + d.There
		}
		s.Print("%s  %s: %s.%s", s.Paint(ui.Accent, d.Machine), d.Item, strings.TrimSuffix(d.What, "."), there)
	}
	stale := 0
	for _, m := range r.Machines {
		if m.Stale {
			stale++
		}
	}
	switch same := len(r.Machines) - stale; {
	case !r.OK():
	case same == 1 && stale == 0:
		s.Print("One machine, and it holds what is locked%s.", butFor(r.ByName))
	default:
		s.Print("%d machines hold the identical environment%s.", same, butFor(r.ByName))
	}
	if stale > 0 {
		s.Print("%d of %d reports are of another lock and say nothing of this one.", stale, len(r.Machines))
	}
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
	type head struct{ Title, Names, Platform, Signed, Made string }
	data := struct {
		*report.Comparison
		But   string
		Short string
		Heads []head
		Lines []line
		Count int
		Made  string
	}{Comparison: r, But: butFor(r.ByName), Short: canon.Short(r.Lock), Count: len(r.Machines), Made: time.Now().UTC().Format("2 Jan 2006 15:04 UTC")}
	cols := columns(r, 8)
	for _, c := range cols {
		m := r.Machines[c.index]
		h := head{Title: c.title(), Platform: m.Platform, Signed: signature(m), Made: m.Made.UTC().Format("2 Jan 15:04")}
		if len(c.names) > 1 {
			h.Names = strings.Join(c.names, ", ")
			if m.Unsigned == "" {
				h.Signed = "each its own"
			}
		}
		if m.Stale {
			h.Made = "stale: lock " + canon.Short(m.Lock)
		}
		data.Heads = append(data.Heads, h)
	}
	for _, row := range r.Rows {
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
	file := c.String("report")
	facts, err := hostFacts(c, p, given)
	if err != nil {
		return err
	}
	raw, err := report.Make(r, facts)
	if err != nil {
		return err
	}
	if err := disk.Write(file, raw, 0o644); err != nil {
		return fault.New(fault.Failed, "the report cannot be written: %v", err)
	}
	key := c.String("sign")
	if key == "" {
		// An older signature beside it would not be of this report.
		if err := os.Remove(report.SignatureOf(file)); err != nil && !os.IsNotExist(err) {
			return err
		}
		s.Say("Report: %s", shown(file))
		return nil
	}
	signer, done, err := sshsig.Signer(key, p.Host)
	if err != nil {
		return err
	}
	defer done()
	signature, err := report.Sign(raw, signer)
	if err != nil {
		return fault.New(fault.Failed, "%v", err)
	}
	if err := disk.Write(report.SignatureOf(file), signature, 0o644); err != nil {
		return fault.New(fault.Failed, "the signature cannot be written: %v", err)
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
