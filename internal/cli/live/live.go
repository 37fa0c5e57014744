// Package live is the view that a person leaves open: the services of a bay as they
// are, and the logs of the chosen one.
//
// The model is a value that messages change and that draws itself as text of the
// terminal's size, so that it is tested without a terminal. What it wants done it asks
// of Do, by the commands that a person would type.
package live

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
)

// Keep is how many lines of logs stay to scroll back to.
const Keep = 5000

// Statuses is what the supervisor says now; nobody is there when it is nil.
type Statuses []service.Status

// Lines are new lines of logs.
type Lines []logbook.Line

// Said is what came of something that was done.
type Said struct {
	Text string
	Bad  bool
}

// Routine is one that can be run from here.
type Routine struct{ Name, About string }

// Model is the view.
type Model struct {
	Project, Bay, Environment, Page string
	Declared                        []string // services, in their order
	Routines                        []Routine
	Do                              func(args ...string) tea.Cmd // runs a command of this program
	Open                            func(address string) tea.Cmd
	Colour                          bool

	width, height int
	statuses      Statuses
	lines         []logbook.Line
	chosen        int
	all           bool // logs of all services
	back          int  // how many lines the logs are scrolled back
	search        string
	typing        bool
	menu          bool
	picked        int
	help          bool
	said          Said
}

// row is one line of the table.
type row struct {
	name, service string
	status        *service.Status
}

// rows are the services that run or ran, and those that are only declared.
func (m *Model) rows() []row {
	var out []row
	seen := map[string]bool{}
	add := func(name string) {
		for i := range m.statuses {
			if st := &m.statuses[i]; st.Service == name {
				out = append(out, row{st.Name, st.Service, st})
				seen[name] = true
			}
		}
		if !seen[name] {
			out = append(out, row{name: name, service: name})
			seen[name] = true
		}
	}
	for _, name := range m.Declared {
		add(name)
	}
	for _, st := range m.statuses {
		if !seen[st.Service] {
			add(st.Service)
		}
	}
	return out
}

func (m *Model) current() row {
	rows := m.rows()
	if len(rows) == 0 {
		return row{}
	}
	m.chosen = min(max(m.chosen, 0), len(rows)-1)
	return rows[m.chosen]
}

// Init has nothing to begin with.
func (m *Model) Init() tea.Cmd { return nil }

// Update takes a message.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case Statuses:
		name := m.current().name
		m.statuses = msg
		for i, r := range m.rows() { // the choice stays with its service
			if r.name == name {
				m.chosen = i
			}
		}
	case Lines:
		if m.back > 0 { // what is looked at stays where it is
			for _, l := range msg {
				if m.wanted(l) {
					m.back++
				}
			}
		}
		m.lines = append(m.lines, msg...)
		if n := len(m.lines) - Keep; n > 0 {
			m.lines = slices.Clone(m.lines[n:])
		}
	case Said:
		m.said = msg
	case tea.PasteMsg:
		if m.typing {
			m.search += strings.TrimSpace(msg.Content)
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

func (m *Model) key(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	if name == "ctrl+c" {
		return tea.Quit
	}
	switch {
	case m.typing:
		return m.type_(k, name)
	case m.menu:
		return m.pick(name)
	}
	m.help = m.help && name != "?" && name != "esc"
	current := m.current()
	page := max(1, m.height/2)
	switch name {
	case "q":
		return tea.Quit
	case "?":
		m.help = !m.help
	case "up", "k":
		m.chosen, m.back = max(0, m.chosen-1), 0
	case "down", "j":
		m.chosen, m.back = min(len(m.rows())-1, m.chosen+1), 0
	case "a":
		m.all, m.back = !m.all, 0
	case "pgup":
		m.back += page
	case "pgdown":
		m.back = max(0, m.back-page)
	case "home", "g":
		m.back = Keep
	case "end", "G":
		m.back = 0
	case "/":
		m.typing, m.search = true, ""
	case "esc":
		m.search, m.back, m.said = "", 0, Said{}
	case "r":
		return m.act("restart "+current.service, "start", "--again", current.service)
	case "s":
		if current.status != nil && current.status.Running() {
			return m.act("stop "+current.service, "stop", current.service)
		}
		return m.act("start "+current.service, "start", current.service)
	case "o":
		if current.status == nil || current.status.Address == "" {
			m.said = Said{current.name + " has no address that a browser opens", true}
			return nil
		}
		m.said = Said{Text: "opening " + current.status.Address}
		return m.Open(current.status.Address)
	case "p":
		m.said = Said{Text: "opening " + m.Page}
		return m.Open(m.Page)
	case "d":
		if len(m.Routines) == 0 {
			m.said = Said{"no routines are declared", true}
			return nil
		}
		m.menu = true
	}
	return nil
}

func (m *Model) act(words string, args ...string) tea.Cmd {
	if args[len(args)-1] == "" {
		return nil
	}
	m.said = Said{Text: words + " …"}
	return m.Do(args...)
}

func (m *Model) type_(k tea.KeyPressMsg, name string) tea.Cmd {
	switch name {
	case "enter":
		m.typing = false
	case "esc":
		m.typing, m.search = false, ""
	case "backspace":
		if r := []rune(m.search); len(r) > 0 {
			m.search = string(r[:len(r)-1])
		}
	default:
		m.search += k.Text
	}
	m.back = 0
	return nil
}

func (m *Model) pick(name string) tea.Cmd {
	switch name {
	case "up", "k":
		m.picked = max(0, m.picked-1)
	case "down", "j":
		m.picked = min(len(m.Routines)-1, m.picked+1)
	case "esc", "d", "q":
		m.menu = false
	case "enter":
		m.menu = false
		m.all = true
		return m.act("do "+m.Routines[m.picked].Name, "do", m.Routines[m.picked].Name)
	}
	return nil
}

// View draws it.
func (m *Model) View() tea.View {
	v := tea.NewView(m.Text())
	v.AltScreen = true
	v.WindowTitle = m.Project
	return v
}

// wanted tells whether a line belongs to the logs that are shown.
func (m *Model) wanted(l logbook.Line) bool {
	if !m.all && l.Name != m.current().name {
		return false
	}
	return m.search == "" || strings.Contains(strings.ToLower(l.Name+" "+l.Text), strings.ToLower(m.search))
}

// Text is the whole view, of the terminal's size.
func (m *Model) Text() string {
	if m.width == 0 || m.height == 0 {
		return ""
	}
	rows := m.rows()
	current := m.current()
	out := []string{m.head(rows), ""}
	table := m.table(rows)
	room := max(3, min(len(table), (m.height-6)*3/5))
	if len(table) > room { // the chosen one stays in sight
		from := min(max(0, m.chosen+1-room/2), len(table)-room)
		table = append(table[:1:1], table[max(1, from+1):from+room]...)
	}
	out = append(out, table...)
	title := "logs of " + current.name
	if m.all {
		title = "logs of all"
	}
	state := "following"
	if m.back > 0 {
		state = "scrolled back, end goes on"
	}
	if m.search != "" || m.typing {
		state += "   with " + m.search
		if m.typing {
			state += "▏"
		}
	}
	out = append(out, "", m.paint(ui.Bold, title)+"   "+m.paint(ui.Dim, state))
	body := m.height - len(out) - 2
	out = append(out, m.body(rows, body)...)
	for len(out) < m.height-2 {
		out = append(out, "")
	}
	said := clean(m.said.Text)
	if m.said.Bad {
		said = m.paint(ui.Red, said)
	}
	out = append(out[:min(len(out), m.height-2)], said, m.paint(ui.Dim, m.keys()))
	for i, line := range out {
		out[i] = fit(line, m.width)
	}
	return strings.Join(out, "\n")
}

func (m *Model) keys() string {
	switch {
	case m.typing:
		return "type to search   enter keep   esc clear"
	case m.menu:
		return "↑↓ choose   enter run   esc back"
	}
	all := []string{"↑↓ choose", "r restart", "s start/stop", "o open", "d routine", "/ search", "a all logs", "? keys", "q leave"}
	for len(all) > 3 && width(strings.Join(all, "   ")) > m.width { // the last two always show
		all = slices.Delete(all, len(all)-3, len(all)-2)
	}
	return strings.Join(all, "   ")
}

func (m *Model) head(rows []row) string {
	ready := 0
	for _, r := range rows {
		if r.status != nil && (r.status.State == service.Ready || r.status.State == service.Done) {
			ready++
		}
	}
	text := m.paint(ui.Accent, m.Project) + "   bay " + m.Bay + fmt.Sprintf("   %d of %d ready", ready, len(rows))
	if m.statuses == nil {
		text += "   " + m.paint(ui.Dim, "nothing runs")
	}
	for _, more := range []string{"environment " + m.Environment, m.Page} {
		if width(text)+3+width(more) <= m.width {
			text += "   " + m.paint(ui.Dim, more)
		}
	}
	return text
}

// columns of the table, of which the last ones go first where there is no room.
func (m *Model) table(rows []row) []string {
	cells := [][]string{{"  service", "state", "up", "again", "memory", "cpu", "where"}}
	for _, r := range rows {
		line := []string{"  " + r.name, service.Stopped, "", "", "", "", ""}
		if st := r.status; st != nil {
			line[1] = st.State
			if st.Running() {
				line[2] = ui.Ago(time.Since(st.Since))
				if st.Memory > 0 {
					line[4] = ui.Bytes(st.Memory)
				}
				line[5] = fmt.Sprintf("%.0f %%", st.CPU*100)
			}
			if st.Restarts > 0 {
				line[3] = fmt.Sprint(st.Restarts)
			}
			line[6] = where(*st)
		}
		cells = append(cells, line)
	}
	hide := map[int]bool{}
	hide[3] = !slices.ContainsFunc(cells[1:], func(c []string) bool { return c[3] != "" })
	if m.width < 70 {
		hide[4], hide[5] = true, true
	}
	widths := make([]int, 7)
	for _, line := range cells {
		for i, c := range line {
			widths[i] = max(widths[i], width(c))
		}
	}
	var out []string
	for n, line := range cells {
		var b strings.Builder
		for i, c := range line {
			if hide[i] {
				continue
			}
			text := c + strings.Repeat(" ", widths[i]-width(c)+2)
			if i == 4 || i == 5 { // numbers end at one edge
				text = strings.Repeat(" ", widths[i]-width(c)) + c + "  "
			}
			switch {
			case n == 0:
				text = m.paint(ui.Dim, text)
			case i == 1:
				text = m.paint(ui.StateStyle(c), text)
			case i == 0 && n-1 == m.chosen:
				text = m.paint(ui.Bold, "▸"+text[1:])
			}
			b.WriteString(text)
		}
		out = append(out, strings.TrimRight(b.String(), " "))
	}
	return out
}

func where(st service.Status) string {
	if st.Reason != "" {
		return clean(st.Reason)
	}
	if !st.Running() {
		return ""
	}
	var out []string
	for _, at := range st.Where() {
		if at = strings.TrimPrefix(at, "http://"); st.Address == "" || st.Name == st.Service || at != strings.TrimSuffix(strings.TrimPrefix(st.Address, "http://"), "/") {
			out = append(out, at) // copies share a name, and have a port each
		}
	}
	for _, at := range st.Open {
		out = append(out, at+" open to others")
	}
	for _, x := range st.More {
		out = append(out, "also "+x.At)
	}
	if st.Says != "" {
		out = append(out, clean(st.Says))
	}
	return strings.Join(out, "  ")
}

// body is what fills the lower part: logs, the routines, or the keys.
func (m *Model) body(rows []row, height int) []string {
	if height <= 0 {
		return nil
	}
	switch {
	case m.help:
		return clip([]string{
			"↑ ↓     choose a service            a       logs of all, or of the chosen one",
			"r       restart it                  /       lines with a text; esc ends it",
			"s       start or stop it            PgUp    scroll back; End follows again",
			"o       open its address            d       run a routine",
			"p       open the page of the bay    q       leave; everything goes on running",
		}, height)
	case m.menu:
		var out []string
		wide := 0
		for _, r := range m.Routines {
			wide = max(wide, width(r.Name))
		}
		for i, r := range m.Routines {
			mark := "  "
			if i == m.picked {
				mark = "▸ "
			}
			out = append(out, m.paint(ui.Bold, mark+r.Name)+strings.Repeat(" ", wide-width(r.Name)+2)+m.paint(ui.Dim, clean(r.About)))
		}
		from := min(max(0, m.picked-height/2), max(0, len(out)-height))
		return clip(out[from:], height)
	}
	var wanted []logbook.Line
	for _, l := range m.lines {
		if m.wanted(l) {
			wanted = append(wanted, l)
		}
	}
	m.back = min(m.back, max(0, len(wanted)-height))
	wanted = wanted[:len(wanted)-m.back]
	wanted = wanted[max(0, len(wanted)-height):]
	if len(wanted) == 0 {
		return []string{m.paint(ui.Dim, "no lines yet")}
	}
	wide := 0
	hue := map[string]ui.Style{}
	for i, r := range rows {
		wide = max(wide, width(r.name))
		hue[r.name] = ui.Hues[i%len(ui.Hues)]
	}
	var out []string
	for _, l := range wanted {
		text := clean(l.Text)
		if l.Stream == "sup" {
			text = m.paint(ui.Dim, "· "+text)
		}
		line := m.paint(ui.Dim, l.At.Local().Format("15:04:05")) + "  "
		if m.all {
			line += m.paint(hue[l.Name], l.Name) + strings.Repeat(" ", max(0, wide-width(l.Name))) + "  "
		}
		out = append(out, line+text)
	}
	return out
}

func clip(lines []string, height int) []string { return lines[:min(len(lines), height)] }

func (m *Model) paint(s ui.Style, text string) string { return ui.Paint(m.Colour, s, text) }
