package live

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
)

// view is a model with five services, at a size, and what it asked to be done.
func view(t *testing.T, width, height int) (m *Model, asked *[]string) {
	t.Helper()
	asked = &[]string{}
	m = &Model{
		Project: "heronweir", Bay: "main", Environment: "5be0 91c4", Page: "http://heronweir.localhost:4280/", Declared: []string{"ledger", "lane", "board", "desk"},
		Routines: []Routine{{"count", "Totals"}, {"test", "Unit tests"}},
		Do:       func(args ...string) tea.Cmd { *asked = append(*asked, strings.Join(args, " ")); return nil },
		Open:     func(address string) tea.Cmd { *asked = append(*asked, "open "+address); return nil },
	}
	m.Update(tea.WindowSizeMsg{Width: width, Height: height})
	list := Statuses{
		{Name: "ledger", Service: "ledger", State: service.Ready, Since: time.Now().Add(-2 * time.Hour), Ports: map[string]int{"main": 54017}, Memory: 42 << 20, CPU: 0.03},
		{Name: "lane.1", Service: "lane", State: service.Ready, Since: time.Now(), Ports: map[string]int{"http": 8600}, Restarts: 3},
		{Name: "lane.2", Service: "lane", State: service.Failing, Since: time.Now(), Reason: "http://127.0.0.1:8601/health answers 500"},
		{Name: "board", Service: "board", State: service.Ready, Since: time.Now(), Address: "http://board.heronweir.localhost:4280/", More: []service.Listener{{At: "127.0.0.1:9229"}}},
	}
	m.Update(list)
	return m, asked
}

func press(m *Model, keys ...string) {
	named := map[string]rune{"up": tea.KeyUp, "down": tea.KeyDown, "enter": tea.KeyEnter, "esc": tea.KeyEscape, "pgup": tea.KeyPgUp, "end": tea.KeyEnd, "backspace": tea.KeyBackspace}
	for _, k := range keys {
		if code, ok := named[k]; ok {
			m.Update(tea.KeyPressMsg{Code: code})
		} else {
			m.Update(tea.KeyPressMsg{Code: []rune(k)[0], Text: k})
		}
	}
}

func said(n int, name string) Lines {
	var out Lines
	for i := range n {
		out = append(out, logbook.Line{At: time.Now(), Name: name, Stream: "out", Text: fmt.Sprintf("passing %d \x1b[31mred\x1b[0m\x1b[2J\tlong %s", i, strings.Repeat("x", 300))})
	}
	return out
}

func TestItFitsEveryTerminal(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {126, 39}, {40, 10}, {300, 100}, {20, 8}, {81, 7}} {
		for _, keys := range [][]string{{}, {"?"}, {"d"}, {"a"}, {"/", "x"}, {"pgup"}} {
			m, _ := view(t, size[0], size[1])
			m.Colour = true
			m.Update(said(200, "lane.2"))
			press(m, keys...)
			lines := strings.Split(m.Text(), "\n")
			if len(lines) > size[1] {
				t.Errorf("%v, %v: %d lines", size, keys, len(lines))
			}
			for _, line := range lines {
				if width(line) > size[0] || strings.Contains(line, "\x1b[2J") || strings.Contains(line, "\t") {
					t.Errorf("%v, %v: %q", size, keys, line)
				}
			}
			if !strings.Contains(lines[0], "heronweir") {
				t.Errorf("%v: %q", size, lines[0])
			}
		}
	}
	m, _ := view(t, 120, 24)
	text := m.Text()
	for _, want := range []string{"3 of 5 ready", "board.heronweir.localhost:4280", "also 127.0.0.1:9229", "42 MiB", "3 %", "failing", "answers 500", "desk", "stopped", "q leave", "no lines yet"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
}

func TestKeysAskForWhatTheySay(t *testing.T) {
	m, asked := view(t, 80, 24)
	press(m, "r", "down", "s", "down", "down", "o", "down", "s", "p", "d", "down", "enter")
	want := []string{"start --again ledger", "stop lane", "open http://board.heronweir.localhost:4280/", "start desk", "open http://heronweir.localhost:4280/", "do test"}
	if !slices.Equal(*asked, want) {
		t.Errorf("%q", *asked)
	}
	m.Update(Said{"do test: done", false})
	if !strings.Contains(m.Text(), "do test: done") {
		t.Error(m.Text())
	}
	press(m, "up", "up", "up", "up", "o")
	if !strings.Contains(m.Text(), "ledger has no address") {
		t.Error(m.Text())
	}
}

func TestLogsAreThoseOfTheChosenOneAndCanBeSearched(t *testing.T) {
	m, _ := view(t, 80, 30)
	m.Update(Lines{{At: time.Now(), Name: "ledger", Text: "silverfin counted"}, {At: time.Now(), Name: "lane.1", Text: "redgill counted"}, {At: time.Now(), Name: "ledger", Text: "mill trout counted"}})
	has := func(want ...string) {
		t.Helper()
		text := m.Text()
		for _, x := range []string{"silverfin", "redgill", "mill trout"} {
			if strings.Contains(text, x) != slices.Contains(want, x) {
				t.Errorf("%q:\n%s", x, text)
			}
		}
	}
	has("silverfin", "mill trout")
	press(m, "down")
	has("redgill")
	press(m, "a")
	has("silverfin", "redgill", "mill trout")
	press(m, "/", "T", "R", "O", "x", "backspace", "enter")
	has("mill trout")
	press(m, "esc")
	has("silverfin", "redgill", "mill trout")
	// Scrolled back, what is looked at stays while lines come; the end follows again.
	m, _ = view(t, 80, 24)
	m.Update(said(100, "ledger"))
	press(m, "pgup")
	before := m.Text()
	m.Update(said(5, "ledger"))
	if m.Text() != before || !strings.Contains(before, "scrolled back") {
		t.Error("the view moved")
	}
	press(m, "end")
	if !strings.Contains(m.Text(), "passing 4 red") {
		t.Error(m.Text())
	}
	m.Update(said(3*Keep, "ledger"))
	if len(m.lines) != Keep {
		t.Errorf("%d lines are kept", len(m.lines))
	}
}

func TestTheChoiceStaysWithItsService(t *testing.T) {
	m, _ := view(t, 80, 24)
	press(m, "down", "down", "down")
	if m.current().name != "board" {
		t.Fatal(m.current().name)
	}
	m.Update(Statuses{{Name: "lane", Service: "lane", State: service.Ready, Since: time.Now()}, {Name: "board", Service: "board", State: service.Stopped}})
	if m.current().name != "board" {
		t.Error(m.current().name)
	}
	m.Update(Statuses(nil))
	if !strings.Contains(m.Text(), "nothing runs") {
		t.Error(m.Text())
	}
}
