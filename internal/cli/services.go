package cli

import (
	"context"
	"fmt"
	"maps"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"app.example/trammel/internal/cli/ui"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/acting/ship"
	"app.example/trammel/internal/core/base/changes"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/gateway"
	"app.example/trammel/internal/core/running/logbook"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

func serviceNames(d *declare.Declaration) []string { return declare.Names(d.Services) }

func startCommand() *cli.Command {
	return &cli.Command{
		Name:        "start",
		Usage:       "start services and all they need, in order, until they are ready",
		ArgsUsage:   "[SERVICE…|LOCATOR]",
		Description: example("trammel start", "trammel start board", "trammel start git+https://git.example/heronweir.git#main"),
		Flags: append(paramFlags(),
			&cli.BoolFlag{Name: "attach", Usage: "stay, show the logs, and stop on Ctrl-C what this start brought up"},
			&cli.StringSliceFlag{Name: "again", Usage: "start the `SERVICE` anew though it runs, and what needs it"},
			&cli.BoolFlag{Name: "wanted-ports", Usage: "go back to the declared numbers of ports, where they can be had; data stays"},
			&cli.StringFlag{Name: "cluster", Usage: "have the bay's services run in Kubernetes, at `CONTEXT[/NAMESPACE]`; the bay remembers it"},
			&cli.StringFlag{Name: "registry", Usage: "push the image for the cluster to `REPOSITORY`, such as oci://registry.example/heronweir"},
			&cli.StringFlag{Name: "hand", Usage: "hand the image to the cluster by `COMMAND`, which gets an archive and a reference"},
			&cli.StringFlag{Name: "storage", Usage: "`SIZE` of what keeps data in the cluster; default 1Gi"},
			&cli.StringFlag{Name: "storage-class", Usage: "`CLASS` of that storage; none keeps data no longer than a pod"},
			&cli.BoolFlag{Name: "new", Usage: "of an address, begin another bay beside those that it has; --bay NAME gives it its name"},
			approveFlag(), noFitFlag(), jsonFlag()),
		ShellComplete: complete(serviceNames),
		Action:        startAction,
	}
}

func startAction(ctx context.Context, c *cli.Command) error {
	names := c.Args().Slice()
	if len(names) > 0 && isLocator(names[0]) {
		if err := locate(ctx, c, names[0]); err != nil {
			return err
		}
		names = names[1:]
	}
	p, err := openChosen(ctx, c)
	if err != nil {
		return err
	}
	s := screen(c)
	if d := p.Declaration; len(d.Services)+len(d.Steps)+len(d.Files)+len(d.Addons) == 0 {
		s.Say("%s declares no service. One is a table such as [service.ledger] with run and ports.", p.Declaration.Project)
		return nil
	}
	if p, err = settled(ctx, c, s, p); err != nil {
		return err
	}
	given, err := consent(ctx, c, s, p)
	if err != nil {
		return err
	}
	up, err := prepared(ctx, c, given)
	if err != nil {
		return err
	}
	before, err := up.Services.Status(ctx)
	if err != nil {
		return err
	}
	afar, err := afarOf(ctx, c, s, up, before)
	if err != nil {
		return err
	}
	order := ship.Order{Platforms: []platform.Platform{platform.Here()}, Project: true, Compression: "gzip"}
	if order.Fit, err = fitOptions(up.State, false); err != nil {
		return err
	}
	begun := time.Now()
	var done setup.Started
	stopShowing := func() {}
	if c.Bool("attach") {
		stopShowing = showSteps(ctx, c, s, up)
	}
	err = withProgress(ctx, s, func(ctx context.Context) error {
		if afar != nil {
			done.Statuses, done.Setup, err = afar.Start(ctx, up, order, setup.StartOrder{Names: names, Declared: c.Bool("wanted-ports")})
			return err
		}
		done, err = up.Start(ctx, setup.StartOrder{Names: names, Again: c.StringSlice("again"), Declared: c.Bool("wanted-ports")})
		return err
	})
	stopShowing()
	statuses := done.Statuses
	if done.Setup != nil {
		up = done.Setup
	}
	if c.Bool("json") {
		if jsonErr := tell(s, statusJSON(statuses)); jsonErr != nil {
			return jsonErr
		}
		return err
	}
	if err != nil {
		return err
	}
	s.Table(serviceRows(p, statuses, ""))
	if len(p.Declaration.Services)+len(done.Ran)+len(done.Added)+len(done.Rendered) == 0 {
		s.Print("nothing to do")
	}
	if done.Learnt {
		s.Say("What steps and add-ons left behind is in %s now; commit it.", lock.FileName)
	}
	if len(statuses) > 0 && gateway.RouterPort(p.Places.State) > 0 {
		address, taken := gateway.PageAddress(p.Bay)
		s.Say("Page: %s (to act there too: trammel open)", address)
		if taken {
			s.Say("Another checkout of a project %s runs and has that name; the addresses of this one end in a name of its own.", p.Declaration.Project)
		}
	}
	for _, remark := range openRemarks(statuses) {
		s.Say("%s", remark)
	}
	sayDue(s, up.Sight)
	if c.Bool("attach") {
		return attach(ctx, c, s, up, before, begun)
	}
	return nil
}

// showSteps prints what steps print, as they print it, until what it returns is called.
func showSteps(ctx context.Context, c *cli.Command, s *ui.Screen, up *setup.Setup) (stop func()) {
	var names []string
	for _, x := range up.State.Declaration.Steps {
		names = append(names, logbook.StepName(x.Name))
	}
	view := newLogView(s, names, c.Bool("json"))
	ctx, cancel := context.WithCancel(ctx)
	shown := make(chan struct{})
	go func() {
		defer close(shown)
		follow(ctx, up.State, names, 0, time.Now(), view.print)
	}()
	return func() { cancel(); <-shown }
}

// openRemarks say which services other machines reach.
func openRemarks(list []service.Status) (out []string) {
	for _, st := range list {
		if at := st.Exposed(); len(at) > 0 && st.Running() {
			out = append(out, fmt.Sprintf("%s is open to other machines too, at %s; bound to 127.0.0.1 it would be this machine's alone.", st.Name, strings.Join(at, " ")))
		}
	}
	return out
}

// attach shows the logs until Ctrl-C, and then stops what this start brought up.
func attach(ctx context.Context, c *cli.Command, s *ui.Screen, up *setup.Setup, before []service.Status, begun time.Time) error {
	after, err := up.Services.Status(ctx)
	if err != nil {
		return err
	}
	var own, logs []string
	for _, st := range after {
		if !st.Running() {
			continue
		}
		logs = append(logs, st.Name)
		if !slices.ContainsFunc(before, func(b service.Status) bool { return b.Name == st.Name && b.Running() }) {
			own = append(own, st.Name)
		}
	}
	if len(own) == 0 {
		s.Say("Everything ran already; Ctrl-C leaves it running.")
	} else {
		s.Say("Ctrl-C stops: %s", strings.Join(own, ", "))
	}
	s.Say("")
	view := newLogView(s, logs, c.Bool("json"))
	followFiles(ctx, s, up, after)
	follow(ctx, up.State, logs, 0, begun, view.print)
	if len(own) == 0 {
		return exitCode(130)
	}
	if _, err := up.Services.Stop(context.WithoutCancel(ctx), own); err != nil {
		return err
	}
	s.Say("stopped: %s", strings.Join(own, ", "))
	return exitCode(130)
}

// followFiles has services that run take on what they read when it changes, until ctx ends.
func followFiles(ctx context.Context, s *ui.Screen, up *setup.Setup, running []service.Status) {
	var turn sync.Mutex // one start at a time
	for _, x := range up.State.Declaration.Services {
		if len(x.Reads) == 0 || x.WhenChanged == declare.Unmoved || !slices.ContainsFunc(running, func(st service.Status) bool { return st.Service == x.Name && st.Running() }) {
			continue
		}
		seen, err := changes.Watch(ctx, up.State.Dir(), x.Reads)
		if err != nil {
			s.Say("The files of %s cannot be followed: %v", x.Name, err)
			continue
		}
		go func() {
			for range seen {
				turn.Lock()
				err := withProgress(ctx, s, func(ctx context.Context) error {
					now, err := up.Start(ctx, setup.StartOrder{Names: []string{x.Name}})
					if err == nil {
						up = now.Setup
					}
					return err
				})
				turn.Unlock()
				if err != nil && ctx.Err() == nil {
					s.Say("%s", fault.OneLine(err))
				}
			}
		}()
	}
}

// follow prints the lines of logs as they come, merged by time, until ctx ends.
func follow(ctx context.Context, p *checkout.State, names []string, count int, since time.Time, print func(logbook.Line)) {
	var tails []*logbook.Tail
	var lines []logbook.Line
	for _, name := range names {
		t := logbook.OpenTail(p.Bay.Logs(), name)
		defer t.Close()
		tails = append(tails, t)
		lines = append(lines, t.Last(count, since)...)
	}
	slices.SortStableFunc(lines, func(a, b logbook.Line) int { return a.At.Compare(b.At) })
	for _, l := range lines {
		print(l)
	}
	var wait sync.WaitGroup
	var mu sync.Mutex
	for _, t := range tails {
		wait.Go(func() {
			t.Follow(ctx, func(l logbook.Line) {
				mu.Lock()
				defer mu.Unlock()
				print(l)
			})
		})
	}
	wait.Wait()
}

// lineOut is the JSON of a line of a log: one object a line, since it may be read as it comes.
type lineOut struct {
	Format int `json:"format"`
	logbook.Line
}

// logView prints lines of logs, each service in a colour of its own.
type logView struct {
	s      *ui.Screen
	json   bool
	width  int
	styles map[string]ui.Style
}

func newLogView(s *ui.Screen, names []string, json bool) *logView {
	v := &logView{s: s, json: json, styles: map[string]ui.Style{}}
	for i, n := range names {
		v.width = max(v.width, len(n))
		v.styles[n] = ui.Hues[i%len(ui.Hues)]
	}
	return v
}

func (v *logView) print(l logbook.Line) {
	if v.json {
		_ = tellLine(v.s, lineOut{1, l})
		return
	}
	text := v.s.Log(l.Text)
	if l.Stream == "sup" {
		text = v.s.Paint(ui.Dim, "· "+l.Text)
	}
	v.s.Print("%s  %s  %s", v.s.Paint(ui.Dim, l.At.Local().Format("15:04:05.000")), v.s.Paint(v.styles[l.Name], fmt.Sprintf("%-*s", v.width, l.Name)), text)
}

func stopCommand() *cli.Command {
	return &cli.Command{
		Name:        "stop",
		Usage:       "stop services, those that need them first; all of them when none is named",
		ArgsUsage:   "[SERVICE…]",
		Description: example("trammel stop", "trammel stop lane", "trammel stop --signal HUP lane"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "signal", Usage: "send the `SIGNAL` to the services' programs, and stop nothing: " + strings.Join(service.SignalNames(), ", ")},
			&cli.BoolFlag{Name: "gone", Usage: "stop the services of checkouts that are not there any more"},
			jsonFlag(),
		},
		ShellComplete: complete(serviceNames),
		Action:        stopAction,
	}
}

func stopAction(ctx context.Context, c *cli.Command) error {
	if c.Bool("gone") {
		return stopGone(ctx, c)
	}
	s := screen(c)
	var known []string
	var b bay.Bay
	p, err := look(c)
	if err == nil {
		b, known = p.Bay, serviceNames(p.Declaration)
	} else if found, ok := checkout.BayBeside(asked(c)); ok {
		b = found // what runs must be stopped, whatever the declaration says by now
	} else {
		return err
	}
	services := service.Connect(b, hostNow())
	before, err := services.Status(ctx)
	if err != nil {
		return err
	}
	names := c.Args().Slice()
	declared := slices.Clone(known)
	for _, st := range before { // also what was declared when it was started
		known = append(known, st.Name, st.Service)
	}
	for _, n := range names {
		if !slices.Contains(known, n) {
			return fault.New(fault.ErrUsage, "no service is named %q", n).Advise("%s", fault.DidYouMean(n, declared))
		}
	}
	if name := c.String("signal"); name != "" {
		return signalServices(ctx, c, s, services, name, names)
	}
	if p != nil {
		afar, err := reachAfar(p)
		if err == nil && afar != nil {
			err = afar.Stop(ctx, &setup.Sight{State: p}, names)
		}
		if err != nil {
			return err
		}
	}
	after, err := services.Stop(ctx, names)
	if err != nil {
		return err
	}
	stopped := []string{}
	for _, was := range before {
		now := slices.IndexFunc(after, func(x service.Status) bool { return x.Name == was.Name })
		if was.State != service.Stopped && (now < 0 || after[now].State == service.Stopped) {
			stopped = append(stopped, was.Name)
		}
	}
	if c.Bool("json") {
		return tell(s, stoppedOut{1, stopped})
	}
	if len(stopped) == 0 {
		s.Print("nothing was running")
	} else {
		s.Print("stopped: %s", strings.Join(stopped, ", "))
	}
	return sayGone(ctx, s)
}

// signalServices sends a signal to the programs of services.
func signalServices(ctx context.Context, c *cli.Command, s *ui.Screen, services *service.Client, signal string, names []string) error {
	signal = strings.TrimPrefix(strings.ToUpper(signal), "SIG")
	if !slices.Contains(service.SignalNames(), signal) {
		return fault.New(fault.ErrUsage, "no signal is named %q", signal).Advise("One of %s.", strings.Join(service.SignalNames(), ", "))
	}
	if len(names) == 0 {
		return fault.New(fault.ErrUsage, "say which service gets SIG%s", signal).Advise("trammel stop --signal %s SERVICE", shell.Typed(signal))
	}
	sent, err := services.Signal(ctx, service.Signal{Signal: signal, Names: names})
	if err != nil {
		return err
	}
	if sent == nil {
		sent = []service.Signalled{}
	}
	if c.Bool("json") {
		return tell(s, signalOut{1, signal, sent})
	}
	if len(sent) == 0 {
		return fault.New(fault.ErrNotReady, "%s does not run", strings.Join(names, ", ")).Advise("trammel start %s", shell.Words(names...))
	}
	for _, x := range sent {
		s.Print("SIG%s was sent to %s, process %d", signal, s.Paint(ui.Accent, x.Name), x.Pid)
	}
	return nil
}

// statusOut is the JSON of services.
type statusOut struct {
	Format   int              `json:"format"`
	Services []service.Status `json:"services"`
}

func statusJSON(list []service.Status) statusOut {
	if list == nil {
		list = []service.Status{}
	}
	return statusOut{1, list}
}

// serviceRows are the rows of services: those that the supervisor knows, and, where rest is a state,
// in that state those that are declared only. The copies of one service share a row while they are
// in one state.
func serviceRows(p *checkout.State, statuses []service.Status, rest string) [][]ui.Cell {
	var rows [][]ui.Cell
	of := map[string][]service.Status{}
	for _, st := range statuses {
		of[st.Service] = append(of[st.Service], st)
	}
	declared := map[string]bool{}
	for _, x := range p.Declaration.Services {
		declared[x.Name] = true
		if own := of[x.Name]; len(own) > 0 {
			rows = append(rows, rowsOf(x, own)...)
		} else if rest != "" {
			rows = append(rows, serviceRow(x.Name, service.Status{State: rest}, ""))
		}
	}
	for _, st := range statuses { // declared when it was started, and no more
		if !declared[st.Service] {
			rows = append(rows, serviceRow(st.Name, st, "not declared any more"))
		}
	}
	return rows
}

func rowsOf(x declare.Service, own []service.Status) [][]ui.Cell {
	same := !slices.ContainsFunc(own, func(st service.Status) bool { return st.State != own[0].State })
	if same && len(own) > 1 {
		text := fmt.Sprintf("%d copies", len(own))
		if own[0].Address != "" { // one name leads to all of them
			text += "  " + strings.TrimSuffix(own[0].Address, "/")
		}
		text += portsOfCopies(own)
		return [][]ui.Cell{serviceRow(x.Name, own[0], text)}
	}
	var rows [][]ui.Cell
	for _, st := range own {
		rows = append(rows, serviceRow(st.Name, st, strings.Join(addresses(st), "  ")))
	}
	return rows
}

// portsOfCopies lists the ports of several copies, a list for each name of a port; a long one
// is told in full of the service alone.
func portsOfCopies(own []service.Status) string {
	const most = 12
	text := ""
	for _, name := range slices.Sorted(maps.Keys(own[0].Ports)) {
		var numbers []string
		for _, st := range own {
			numbers = append(numbers, strconv.Itoa(st.Ports[name]))
		}
		more := ""
		if len(numbers) > most {
			more = fmt.Sprintf(" and %d more: trammel show %s", len(numbers)-most, shell.Typed(own[0].Service))
			numbers = numbers[:most]
		}
		text += "  "
		if len(own[0].Ports) > 1 {
			text += name + " "
		}
		text += "127.0.0.1:" + strings.Join(numbers, ",") + more
	}
	for _, st := range own {
		for _, m := range moreOf(st) {
			text += "  " + m
		}
	}
	return text
}

func addresses(st service.Status) []string {
	return append(st.Where(), moreOf(st)...)
}

// moreOf are the ports that a service opened and nobody declared.
func moreOf(st service.Status) []string {
	var out []string
	for _, m := range st.More {
		out = append(out, fmt.Sprintf("also %s (%s)", m.At, m.Command))
	}
	return out
}

func serviceRow(name string, st service.Status, where string) []ui.Cell {
	up := ""
	switch st.State {
	case service.Ready, service.Starting, service.Failing:
		up = "up " + since(st.Since)
		if st.Restarts > 0 {
			up += fmt.Sprintf(", started %d times", st.Restarts+1)
		}
	case service.Failed:
		where = st.Reason
	case service.Stopped:
		where = ""
	}
	return []ui.Cell{{Text: name, Style: ui.Accent}, {Text: st.State, Style: ui.StateStyle(st.State)}, {Text: where}, {Text: up, Style: ui.Dim}}
}

func logsCommand() *cli.Command {
	return &cli.Command{
		Name:        "logs",
		Usage:       "read what services and steps printed",
		ArgsUsage:   "[SERVICE|STEP…]",
		Description: example("trammel logs lane --lines 50", "trammel logs modules        # of a step", "trammel logs --since \"2026-08-01 09:30\""),
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "go on with what comes, until Ctrl-C"},
			&cli.IntFlag{Name: "lines", Aliases: []string{"n"}, Usage: "print the last `N` lines of each service", Value: 20},
			&cli.StringFlag{Name: "since", Usage: "print only what is not older than `TIME`: a while such as 10m, a time of today such as 09:30, a date, or both"},
			jsonFlag(),
		},
		ShellComplete: complete(func(d *declare.Declaration) []string { return append(serviceNames(d), declare.Names(d.Steps)...) }),
		Action:        logsAction,
	}
}

func logsAction(ctx context.Context, c *cli.Command) error {
	p, err := look(c)
	if err != nil {
		return err
	}
	s := screen(c)
	services, err := logNames(p, c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Int("lines") < 0 {
		return fault.New(fault.ErrUsage, "--lines must not be negative")
	}
	since, count := time.Time{}, c.Int("lines")
	if text := c.String("since"); text != "" {
		if since, err = moment(text, time.Now()); err != nil {
			return err
		}
		if !c.IsSet("lines") {
			count = 0
		}
	}
	view := newLogView(s, services, c.Bool("json"))
	if c.Bool("follow") {
		ctx, stop := signal.NotifyContext(ctx, endings()...)
		defer stop()
		follow(ctx, p, services, count, since, view.print)
		return exitCode(130)
	}
	var lines []logbook.Line
	for _, name := range services {
		lines = append(lines, logbook.Read(p.Bay.Logs(), name, count, since)...)
	}
	slices.SortStableFunc(lines, func(a, b logbook.Line) int { return a.At.Compare(b.At) })
	for _, l := range lines {
		view.print(l)
	}
	if len(lines) == 0 {
		s.Say("Nothing has been printed yet.")
	}
	return nil
}

// moment reads a time that is past: how long ago, a time of today, a date, or both, on this machine's clock; or RFC 3339.
func moment(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02T15:04:05", "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return t, nil
		}
	}
	for _, form := range []string{time.TimeOnly, "15:04"} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			y, m, d := now.Date()
			return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), 0, now.Location()), nil
		}
	}
	return now, fault.New(fault.ErrUsage, "--since %q is no time", text).Advise("Write 10m, 09:30, 2026-08-01 or \"2026-08-01 09:30\".")
}

// logNames are the copies of the named services, or all that are declared or have
// a log.
func logNames(p *checkout.State, names []string) ([]string, error) {
	var out []string
	add := func(n string) {
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	for _, x := range p.Declaration.Services {
		for i := 1; i <= x.Copies; i++ {
			if copy := x.CopyName(i); len(names) == 0 || slices.Contains(names, x.Name) || slices.Contains(names, copy) {
				add(copy)
			}
		}
	}
	files, _ := filepath.Glob(filepath.Join(p.Bay.Logs(), "*.log"))
	for _, f := range files {
		name := strings.TrimSuffix(filepath.Base(f), ".log")
		if len(names) == 0 && !strings.HasPrefix(name, "step-") && !strings.HasPrefix(name, "card-") || slices.Contains(names, name) {
			add(name)
		}
	}
	for _, n := range names {
		if slices.ContainsFunc(out, func(x string) bool { return x == n || strings.HasPrefix(x, n+".") }) {
			continue
		}
		if _, ok := p.Declaration.Step(strings.TrimPrefix(n, "step.")); ok {
			add(logbook.StepName(strings.TrimPrefix(n, "step.")))
			continue
		}
		return nil, fault.New(fault.ErrUsage, "no service or step is named %q", n).
			Advise("%s", fault.DidYouMean(n, append(serviceNames(p.Declaration), declare.Names(p.Declaration.Steps)...)))
	}
	return out, nil
}
