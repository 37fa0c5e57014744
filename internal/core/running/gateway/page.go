package gateway

import (
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"log/slog"
	"math"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/changes"
	"app.example/trammel/internal/core/base/foreign"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
)

//go:embed page.html
var pageText string

// Page is what a bay shows in a browser: how its services are, their logs, what is
// due, and the routines. What it shows of the project it asks this very program for,
// and what it does it does by the same commands that a person would type, so that
// consent and every other rule hold.
type Page struct {
	bay  bay.Bay
	told Told
	log  *slog.Logger
	ctx  context.Context // the supervisor's life
	text *template.Template
	let  *admission

	mu    sync.Mutex
	facts facts
	at    time.Time
	busy  bool

	looking *time.Timer // runs out when nobody has looked for a while; nil when it has
}

// Told is what a page is told of the services of its bay.
type Told struct {
	Status func() []service.Status    // how they are now, with what they use
	Reads  func() map[string][]string // by service, the globs of files that it is started anew for
}

// facts are what the declaration and the lock say, which only changes now and then.
type facts struct {
	Environment string    `json:"environment"`
	Due         []dueOut  `json:"due"`
	Routines    []routine `json:"routines"`
	Params      []param   `json:"params"`
	Dumps       []string  `json:"dumps"` // services whose data can be saved
	names       []string  // of declared services
}

type dueOut struct {
	Name string `json:"name"`
	Why  string `json:"why"`
}

type routine struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Run   string `json:"run"`
}

type param struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Value   string   `json:"value"`
	Allowed string   `json:"allowed"`
	Of      []string `json:"of"`
	About   string   `json:"about"`
}

// saving is how the folders begin in which data lies on its way to a browser.
const saving = ".save-"

// NewPage makes the page of a bay, for as long as ctx lasts.
func NewPage(ctx context.Context, b bay.Bay, told Told, log *slog.Logger) *Page {
	// A supervisor that was killed meanwhile left somebody's data lying.
	if left, err := filepath.Glob(filepath.Join(b.Records, saving+"*")); err == nil {
		for _, dir := range left {
			_ = os.RemoveAll(dir)
		}
	}
	return &Page{bay: b, told: told, log: log, ctx: ctx, let: newAdmission(filepath.Join(b.Records, "page-secret"))}
}

// Handle answers for the page below /page/, on the control socket that the router hands requests to.
func (p *Page) Handle(mux *http.ServeMux) {
	mux.HandleFunc("GET /page/{$}", p.show)
	mux.HandleFunc("GET /page/state", p.state)
	mux.HandleFunc("GET /page/logs", p.logs)
	mux.HandleFunc("POST /invite", p.invite)
	mux.HandleFunc("POST /page/act", p.act)
	mux.HandleFunc("POST /page/save", p.save)
}

// alone keeps a page to itself: nobody may frame it or read it from elsewhere. may is what it may
// do beside being shown, as directives of CSP.
func alone(w http.ResponseWriter, may string) {
	own(w, "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; "+may+"style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
}

// own keeps an answer of a page from other pages: no page of another origin gets it, and no browser
// takes it for something else than it is (fetch.spec.whatwg.org, "Cross-Origin-Resource-Policy header").
func own(w http.ResponseWriter, kind string) {
	h := w.Header()
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Referrer-Policy", "no-referrer")
}

func (p *Page) show(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	if p.text == nil {
		p.text = template.Must(template.New("").Parse(pageText))
	}
	p.mu.Unlock()
	if key := r.URL.Query().Get(invitation); key != "" {
		p.enter(w, r, key)
		return
	}
	alone(w, "connect-src 'self'; script-src 'unsafe-inline'; ")
	_ = p.text.Execute(w, struct{ Project, Bay string }{p.bay.Project, p.bay.Name})
}

// serviceOut is a service as the page shows it.
type serviceOut struct {
	Name     string    `json:"name"`
	Service  string    `json:"service"`
	State    string    `json:"state"`
	Reason   string    `json:"reason,omitempty"`
	Since    time.Time `json:"since"`
	Running  bool      `json:"running"`
	Restarts int       `json:"restarts"`
	Address  string    `json:"address,omitempty"`
	Ports    []string  `json:"ports"`
	More     []string  `json:"more"`
	Memory   int64     `json:"memory"` // bytes
	CPU      float64   `json:"cpu"`    // per cent of a core, since the last look
}

func (p *Page) state(w http.ResponseWriter, r *http.Request) {
	p.followFiles()
	list := p.told.Status()
	known := p.known()
	out := struct {
		facts
		Services []serviceOut `json:"services"`
		Logs     []string     `json:"logs"`
		May      bool         `json:"may"` // this browser may act
	}{facts: known, Services: []serviceOut{}, Logs: p.logNames(), May: p.let.may(r)}
	seen := map[string]bool{}
	for _, st := range list {
		x := serviceOut{Name: st.Name, Service: st.Service, State: st.State, Reason: foreign.Text(st.Reason), Since: st.Since, Running: st.Running(), Restarts: st.Restarts, Address: cmp.Or(st.Own, st.Address), Ports: []string{}, More: []string{}, Memory: st.Memory, CPU: math.Round(st.CPU * 100)}
		for _, at := range st.Where() {
			if !strings.HasPrefix(at, "http://") {
				x.Ports = append(x.Ports, at)
			}
		}
		for _, m := range st.More {
			x.More = append(x.More, m.At)
		}
		for _, at := range st.Exposed() {
			x.More = append(x.More, at+" is open to other machines")
		}
		seen[st.Service] = true
		out.Services = append(out.Services, x)
	}
	for _, name := range known.names {
		if !seen[name] {
			out.Services = append(out.Services, serviceOut{Name: name, Service: name, State: service.Stopped, Ports: []string{}, More: []string{}})
		}
	}
	slices.SortStableFunc(out.Services, func(a, b serviceOut) int { // as they are declared
		return slices.Index(known.names, a.Service) - slices.Index(known.names, b.Service)
	})
	own(w, "application/json")
	_ = json.NewEncoder(w).Encode(out)
}

// factsAge is how old what is known of the project may be before it is asked anew.
const factsAge = 5 * time.Second

// known gives the last facts, and has them asked for anew beside when they are old.
func (p *Page) known() facts {
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Since(p.at) > factsAge && !p.busy {
		p.busy = true
		ask := func() {
			f := p.ask()
			p.mu.Lock()
			p.facts, p.at, p.busy = f, time.Now(), false
			p.mu.Unlock()
		}
		if p.at.IsZero() { // the first time there is nothing to show meanwhile
			p.mu.Unlock()
			ask()
			p.mu.Lock()
		} else {
			go ask()
		}
	}
	return p.facts
}

// looked is how long after the last look at the page somebody still looks.
const looked = 10 * time.Second

// followFiles has services take on what they read when it changes, for as long as somebody
// looks at the page.
func (p *Page) followFiles() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.looking != nil {
		p.looking.Reset(looked)
		return
	}
	globs := p.told.Reads()
	if len(globs) == 0 {
		return
	}
	ctx, stop := context.WithCancel(p.ctx)
	p.looking = time.AfterFunc(looked, func() {
		stop()
		p.mu.Lock()
		p.looking = nil
		p.mu.Unlock()
	})
	for name, own := range globs {
		seen, err := changes.Watch(ctx, p.bay.Checkout, own)
		if err != nil {
			p.log.Warn("files cannot be followed", "service", name, "error", err)
			continue
		}
		go func() {
			for range seen {
				p.takeOn(ctx, name)
			}
		}()
	}
}

// takeOn starts a service that runs, which starts it anew where what it reads changed.
func (p *Page) takeOn(ctx context.Context, name string) {
	if !slices.ContainsFunc(p.told.Status(), func(st service.Status) bool { return st.Service == name && st.Running() }) {
		return
	}
	cmd, err := p.Self(ctx, "start", name)
	if err != nil {
		return
	}
	if out, err := cmd.CombinedOutput(); err != nil && ctx.Err() == nil {
		p.log.Warn("a service does not take on what changed", "service", name, "error", err, "said", foreign.Line(string(out)))
	}
}

// Self is this program, as a person would start it on this bay.
func (p *Page) Self(ctx context.Context, args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	all := append([]string{"--dir", p.bay.Checkout, "--bay", p.bay.Name, "--plain"}, args...)
	cmd := exec.CommandContext(ctx, self, all...)
	cmd.Dir = p.bay.Checkout
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 10 * time.Second
	return cmd, nil
}

func (p *Page) ask() facts {
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	f := facts{Due: []dueOut{}, Routines: []routine{}, Params: []param{}, Dumps: []string{}}
	var shown struct {
		Environment string `json:"environment"`
		Declared    []string
		Data        []string `json:"data"`
		Steps       []struct {
			Name, State, Why string
		} `json:"steps"`
	}
	var listed struct {
		Routines []routine `json:"routines"`
	}
	var chosen struct {
		Params []param `json:"params"`
	}
	for command, into := range map[string]any{"show": &shown, "do": &listed, "show params": &chosen} {
		cmd, err := p.Self(ctx, append(strings.Fields(command), "--json")...)
		if err != nil {
			continue
		}
		if out, err := cmd.Output(); err == nil {
			_ = json.Unmarshal(out, into)
		}
	}
	if shown.Environment != "" {
		f.Environment = canon.Short(shown.Environment)
	}
	for _, s := range shown.Steps {
		if s.State == "due" {
			f.Due = append(f.Due, dueOut{s.Name, foreign.Line(s.Why)})
		}
	}
	f.names = shown.Declared
	if shown.Data != nil {
		f.Dumps = shown.Data
	}
	if chosen.Params != nil {
		f.Params = chosen.Params
		for i, x := range f.Params {
			f.Params[i].About, f.Params[i].Value = foreign.Line(x.About), foreign.Line(x.Value)
		}
	}
	if listed.Routines != nil {
		f.Routines = listed.Routines
		for i, r := range f.Routines {
			f.Routines[i].About, f.Routines[i].Run = foreign.Line(r.About), foreign.Text(r.Run)
		}
	}
	return f
}

// logNames are the services and routines that have a log.
func (p *Page) logNames() []string {
	out := []string{}
	files, _ := filepath.Glob(filepath.Join(p.bay.Logs(), "*.log"))
	for _, f := range files {
		if name := strings.TrimSuffix(filepath.Base(f), ".log"); !strings.HasPrefix(name, "step-") && !strings.HasPrefix(name, "card-") {
			out = append(out, name)
		}
	}
	slices.SortFunc(out, service.CompareNames)
	return out
}

// logs streams lines as server-sent events (WHATWG HTML, section 9.2): first the last
// ones, then what comes.
func (p *Page) logs(w http.ResponseWriter, r *http.Request) {
	names := p.logNames()
	if of := r.URL.Query().Get("of"); of != "" {
		if !slices.Contains(names, of) {
			http.Error(w, "no such log", http.StatusNotFound)
			return
		}
		names = []string{of}
	}
	names = slices.DeleteFunc(names, func(n string) bool { return len(names) > 1 && strings.HasPrefix(n, "routine-") })
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	stop := context.AfterFunc(p.ctx, cancel)
	defer stop()
	own(w, "text/event-stream")
	flush, _ := w.(http.Flusher)
	write := func(l logbook.Line) {
		if err := sendLine(w, l); err != nil {
			cancel()
		}
	}
	var before []logbook.Line
	lines := make(chan logbook.Line, 256)
	var tails []*logbook.Tail
	for _, name := range names {
		t := logbook.OpenTail(p.bay.Logs(), name)
		tails = append(tails, t)
		before = append(before, t.Last(100, time.Time{})...)
	}
	slices.SortStableFunc(before, func(a, b logbook.Line) int { return a.At.Compare(b.At) })
	for _, l := range before[max(0, len(before)-300):] {
		write(l)
	}
	if flush != nil {
		flush.Flush()
	}
	for _, t := range tails {
		go func() {
			defer t.Close()
			t.Follow(ctx, func(l logbook.Line) {
				select {
				case lines <- l:
				case <-ctx.Done():
				}
			})
		}()
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case l := <-lines:
			write(l)
			for more := true; more; {
				select {
				case l := <-lines:
					write(l)
				default:
					more = false
				}
			}
		case <-beat.C: // finds out that the browser has gone
			if _, err := io.WriteString(w, ": \n\n"); err != nil {
				return
			}
		}
		if flush != nil {
			flush.Flush()
		}
	}
}

// sendLine sends a line of a log as an event.
func sendLine(w io.Writer, l logbook.Line) error {
	text := ""
	for _, piece := range foreign.Log(l.Text) { // a page shows no colours of a log
		text += piece.Text
	}
	l.Text = text
	raw, err := json.Marshal(l)
	if err == nil {
		_, err = fmt.Fprintf(w, "data: %s\n\n", raw)
	}
	return err
}

// asked reads a question and tells whether the page itself asks it; otherwise it is answered.
func (p *Page) asked(w http.ResponseWriter, r *http.Request) (ask question, ok bool) {
	// The question is read before anything is answered: an answer to one that is still
	// being sent does not arrive.
	raw, readErr := io.ReadAll(io.LimitReader(r.Body, 64<<10))
	origin := r.Header.Get("Origin")
	site := r.Header.Get("Sec-Fetch-Site")
	if origin != "http://"+r.Host && origin != "https://"+r.Host || site != "" && site != "same-origin" || r.Host == "" {
		http.Error(w, "This is not asked for by the page itself. Load the page anew.", http.StatusForbidden)
		return ask, false
	}
	if !p.let.may(r) {
		http.Error(w, "This browser may look and not act. Open the page once by: trammel open", http.StatusForbidden)
		return ask, false
	}
	if readErr != nil || json.Unmarshal(raw, &ask) != nil || !isName(ask.Name) || len(ask.Value) > mostValue || strings.ContainsRune(ask.Value, 0) {
		http.Error(w, "it cannot be told what to do", http.StatusBadRequest)
		return ask, false
	}
	return ask, true
}

// question is what the page asks for.
type question struct {
	What  string // "start", "stop", "restart", "do", "fit", "param" or "save"
	Name  string
	Value string // of a param
}

// mostValue is how long the value of a param may be that is chosen on the page, in bytes.
const mostValue = 4096

// act starts, stops or restarts a service, runs a routine or what is due, or chooses a param. It
// answers when that is done, with what the command said when it failed.
func (p *Page) act(w http.ResponseWriter, r *http.Request) {
	ask, ok := p.asked(w, r)
	if !ok {
		return
	}
	args := map[string][]string{
		"start": {"start", ask.Name}, "stop": {"stop", ask.Name}, "do": {"do", ask.Name},
		"restart": {"start", "--again", ask.Name}, "fit": {"fit"}, "param": p.choose(ask),
	}[ask.What]
	if args == nil {
		http.Error(w, "it cannot be told what to do", http.StatusBadRequest)
		return
	}
	// What was begun is carried through, also when the browser goes.
	cmd, err := p.Self(p.ctx, args...)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	var out []byte
	switch ask.What {
	case "do":
		err = p.runLogged(cmd, "routine-"+ask.Name)
	case "fit": // its name has a sign that no service's has
		err = p.runLogged(cmd, fitLog)
	default:
		out, err = cmd.CombinedOutput()
	}
	p.mu.Lock()
	p.at = time.Time{}
	p.mu.Unlock()
	if err != nil {
		text := foreign.Text(strings.TrimSpace(string(out)))
		if text == "" {
			text = fmt.Sprintf("%s ended with %v; its log has more", ask.Name, err)
		}
		http.Error(w, text[max(0, len(text)-2000):], http.StatusConflict)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// fitLog is the log of what the page had fitted.
const fitLog = "page.fit"

// choose is the command that chooses a param: what runs takes it on, and nothing else is started.
func (p *Page) choose(ask question) []string {
	args := []string{"fit", "--param=" + ask.Name + "=" + ask.Value}
	var running []string
	for _, st := range p.told.Status() {
		if st.Running() && !slices.Contains(running, st.Service) {
			running = append(running, st.Service)
		}
	}
	if len(running) > 0 {
		args[0] = "start"
	}
	return append(args, running...)
}

// save sends a service's data as a file.
func (p *Page) save(w http.ResponseWriter, r *http.Request) {
	ask, ok := p.asked(w, r)
	if !ok {
		return
	}
	dir, err := os.MkdirTemp(p.bay.Records, saving)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "dump.gz")
	cmd, err := p.Self(p.ctx, "data", "save", ask.Name, file)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		text := foreign.Text(strings.TrimSpace(string(out)))
		http.Error(w, text[max(0, len(text)-2000):], http.StatusConflict)
		return
	}
	in, err := os.Open(file)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer in.Close()
	own(w, "application/gzip")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", ask.Name+"-"+time.Now().Format("2006-01-02-1504")+".gz"))
	_, _ = io.Copy(w, in)
}

// isName tells whether a text can be the name of a service, a copy of one, or a routine:
// it becomes an argument and the name of a log.
func isName(text string) bool {
	if text == "" || len(text) > 100 || text[0] < 'a' || text[0] > 'z' || strings.Contains(text, "..") {
		return false
	}
	return strings.Trim(text, "abcdefghijklmnopqrstuvwxyz0123456789_-.") == ""
}

// runLogged runs a command whose output goes into a log of its own.
func (p *Page) runLogged(cmd *exec.Cmd, name string) error {
	log, err := logbook.Open(logbook.Path(p.bay.Logs(), name))
	if err != nil {
		return err
	}
	defer log.Close()
	log.Say("sup", []byte("started from the page"))
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer read.Close()
	cmd.Stdout, cmd.Stderr = write, write
	err = cmd.Start()
	write.Close()
	if err != nil {
		return err
	}
	kept := make(chan struct{})
	go func() { defer close(kept); log.Keep("out", read) }()
	err = cmd.Wait()
	_ = read.SetReadDeadline(time.Now().Add(time.Second))
	<-kept
	end := "done"
	if err != nil {
		end = err.Error()
	}
	log.Say("sup", []byte(end))
	return err
}
