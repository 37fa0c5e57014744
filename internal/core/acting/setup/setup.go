package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"trammel.example/trammel/internal/core/base/canon"
	"trammel.example/trammel/internal/core/base/disk"
	"trammel.example/trammel/internal/core/base/event"
	"trammel.example/trammel/internal/core/base/fault"
	"trammel.example/trammel/internal/core/checkout"
	"trammel.example/trammel/internal/core/checkout/bay"
	"trammel.example/trammel/internal/core/running/environ"
	"trammel.example/trammel/internal/core/running/render"
	"trammel.example/trammel/internal/core/running/script"
	"trammel.example/trammel/internal/core/running/service"
	"trammel.example/trammel/internal/core/running/step"
	"trammel.example/trammel/internal/core/written/declare"
	"trammel.example/trammel/internal/core/written/lock"
	"trammel.example/trammel/internal/core/written/ref"
)

// Setup is a checkout whose tools are fitted, ready to run steps and services.
type Setup struct {
	Project     *checkout.Project
	Lock        *lock.Lock
	Parts       []lock.PartOn
	Inputs      environ.Inputs
	Environment *environ.Environment
	Services    *service.Client

	// What services see: in a private network ports have their own numbers.
	inside            environ.Inputs
	insideEnvironment *environ.Environment

	mu   sync.Mutex
	ran  []string // steps that were run
	anew []string // services to start though they run
}

// Prepare computes the environment of a fitted checkout.
func Prepare(ctx context.Context, p *checkout.Project, l *lock.Lock) (*Setup, error) {
	parts, err := p.Parts(l)
	if err != nil {
		return nil, err
	}
	in, err := p.Inputs(ctx, l)
	if err != nil {
		return nil, err
	}
	s := &Setup{Project: p, Lock: l, Parts: parts, Inputs: in, Services: service.Connect(p.Bay)}
	return s, s.compute()
}

func (s *Setup) compute() (err error) {
	s.Environment, err = environ.Compute(s.Inputs)
	if err != nil {
		return fault.New(fault.Use, "%v", err)
	}
	s.inside, s.insideEnvironment = s.Inputs, s.Environment
	if s.Inputs.Declaration.Network != declare.NetworkPrivate {
		return nil
	}
	s.inside.Ports = bay.Ports{}
	for _, x := range s.Inputs.Declaration.Services {
		for copy := 1; copy <= x.Copies; copy++ {
			for _, p := range x.Ports {
				s.inside.Ports[bay.PortKey(x.Name, copy, p.Name)] = p.Wanted + copy - 1
			}
		}
	}
	if s.insideEnvironment, err = environ.Compute(s.inside); err != nil {
		return fault.New(fault.Use, "%v", err)
	}
	return nil
}

// Marks are the folders of marks of the steps here.
func (s *Setup) Marks() step.Marks {
	return step.MarksIn(checkout.Local(s.Project.Declaration.Dir), s.Project.Bay.Dir)
}

// Runner runs the steps of this checkout.
func (s *Setup) Runner() *step.Runner {
	return &step.Runner{Environment: s.Environment, Look: s.Inputs.Lookup("", 0), Dir: s.Project.Declaration.Dir, Logs: s.Project.Bay.Logs()}
}

// Files says how the rendered files are.
func (s *Setup) Files() ([]render.Status, error) {
	return render.Plan(render.Of(s.Inputs, s.Environment))
}

// Render renders the files that are due, and says what it kept of a person's
// changes. It returns the paths.
func (s *Setup) Render(ctx context.Context) ([]string, error) {
	written, kept, err := render.Write(render.Of(s.Inputs, s.Environment))
	for _, text := range kept {
		event.Say(ctx, text)
	}
	return written, err
}

// Steps says which steps are due, and why.
func (s *Setup) Steps() ([]step.Status, error) {
	files, err := s.Files()
	if err != nil {
		return nil, err
	}
	digests := map[string]string{}
	for _, f := range files {
		digests[f.File.Path] = f.Digest()
	}
	return step.Plan(s.Project.Declaration, s.Lock, s.Parts, s.Environment, s.Marks(), digests)
}

// Choice says which steps to run: those that are due, or of those only some, and
// some though they are not due.
type Choice struct {
	Only  []string // empty: all
	None  bool
	Again []string
	Shell bool // those that run at each shell's start
}

func (c Choice) takes(st step.Status) bool {
	due := (st.Due || st.Step.When == step.AtEachFit) && !c.None && (len(c.Only) == 0 || slices.Contains(c.Only, st.Step.Name))
	return due || c.Shell && st.Step.When == step.AtEachShell || slices.Contains(c.Again, st.Step.Name)
}

// RunSteps runs steps, and starts and stops the services that they need and that
// did not run already. It returns what it ran.
func (s *Setup) RunSteps(ctx context.Context, c Choice) (ran []string, err error) {
	statuses, err := s.Steps()
	if err != nil {
		return nil, err
	}
	var wanted []string
	for _, st := range statuses {
		if c.takes(st) {
			wanted = append(wanted, "step."+st.Step.Name)
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	again := c.Again
	for _, st := range statuses {
		if c.takes(st) && !st.Due {
			again = append(again, st.Step.Name)
		}
	}
	_, err = s.bring(ctx, wanted, again)
	// What ran only for the steps goes again, also after a failure or Ctrl-C.
	var extra []string
	for node := range s.closure(wanted) {
		if name, ok := strings.CutPrefix(node, "service."); ok && !running(before, name) {
			extra = append(extra, name)
		}
	}
	if len(extra) > 0 {
		if _, stopErr := s.Services.Stop(context.WithoutCancel(ctx), extra); err == nil {
			err = stopErr
		}
	}
	for _, st := range statuses { // in the order of the declaration
		if slices.Contains(s.ran, st.Step.Name) {
			ran = append(ran, st.Step.Name)
		}
	}
	return ran, err
}

// alone waits until no other process sets this checkout up in this bay.
func (s *Setup) alone(ctx context.Context) (unlock func(), err error) {
	return disk.Lock(ctx, filepath.Join(checkout.Local(s.Project.Declaration.Dir), "setup-"+s.Project.Bay.Name+".lock"))
}

func running(list []service.Status, name string) bool {
	return slices.ContainsFunc(list, func(st service.Status) bool { return st.Service == name && st.Running() })
}

// Start brings up services and all they need, in order, and returns when each is
// ready. With no names it brings up all that start by themselves, and those that ran
// when nobody had stopped them. Those in again are started anew though they run. On
// Ctrl-C what this call started is stopped again.
func (s *Setup) Start(ctx context.Context, names, again []string) ([]service.Status, error) {
	var wanted []string
	before, err := s.Services.Status(ctx)
	if err != nil {
		return nil, err
	}
	ran := service.Wanted(s.Project.Bay)
	names = append(slices.Clone(names), again...)
	for _, x := range s.Project.Declaration.Services {
		if slices.Contains(names, x.Name) || len(names) == 0 && (x.Auto || slices.Contains(ran, x.Name)) {
			wanted = append(wanted, "service."+x.Name)
		}
	}
	for _, name := range names {
		if _, ok := s.Project.Declaration.Service(name); !ok {
			return nil, fault.New(fault.Use, "no service is named %q", name).
				Advise("%s", fault.DidYouMean(name, declare.Names(s.Project.Declaration.Services)))
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	s.anew = again
	after, err := s.bring(ctx, wanted, nil)
	if ctx.Err() != nil {
		var extra []string
		for node := range s.closure(wanted) {
			if name, ok := strings.CutPrefix(node, "service."); ok && !running(before, name) {
				extra = append(extra, name)
			}
		}
		if _, stopErr := s.Services.Stop(context.WithoutCancel(ctx), extra); stopErr != nil {
			err = errors.Join(err, stopErr)
		}
	}
	return after, err
}

// Bring does nodes, "step.NAME" and "service.NAME", and all they need: what a
// routine wants before it runs.
func (s *Setup) Bring(ctx context.Context, nodes []string) error {
	_, err := s.bring(ctx, nodes, nil)
	return err
}

// closure is the graph of nodes and all they need.
func (s *Setup) closure(nodes []string) graph {
	g := graph{}
	var add func(node string)
	add = func(node string) {
		if _, ok := g[node]; ok {
			return
		}
		kind, name, _ := strings.Cut(node, ".")
		if kind == "step" {
			x, _ := s.Project.Declaration.Step(name)
			g[node] = x.Needs
		} else {
			x, _ := s.Project.Declaration.Service(name)
			g[node] = x.Needs
		}
		for _, n := range g[node] {
			add(n)
		}
	}
	for _, n := range nodes {
		add(n)
	}
	return g
}

// bring does nodes and all they need: services that do not run, steps that are
// due. A service that only a finished step needs is left alone.
func (s *Setup) bring(ctx context.Context, nodes, again []string) ([]service.Status, error) {
	unlock, err := s.alone(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	statuses, err := s.Steps() // another process may have done some meanwhile
	if err != nil {
		return nil, err
	}
	due := map[string]step.Status{}
	for _, st := range statuses {
		if st.Due || slices.Contains(again, st.Step.Name) {
			due["step."+st.Step.Name] = st
		}
	}
	if _, err := s.Render(ctx); err != nil {
		return nil, err
	}
	g := s.closure(nodes)
	s.prune(g, nodes, due)
	if err := s.claim(ctx, g); err != nil {
		return nil, err
	}
	runner := s.Runner()
	err = g.walk(ctx, func(ctx context.Context, node string) error {
		if st, ok := due[node]; ok {
			if err := runner.Run(ctx, st); err != nil {
				return err
			}
			s.mu.Lock()
			s.ran = append(s.ran, st.Step.Name)
			s.mu.Unlock()
			return nil
		}
		if name, ok := strings.CutPrefix(node, "service."); ok {
			x, _ := s.Project.Declaration.Service(name)
			return s.startService(ctx, x)
		}
		return nil
	})
	after, statusErr := s.Services.Status(context.WithoutCancel(ctx))
	if err == nil {
		err = statusErr
	}
	return after, err
}

// prune takes out of a graph what only steps that are not due need.
func (s *Setup) prune(g graph, wanted []string, due map[string]step.Status) {
	keep := map[string]bool{}
	var mark func(node string)
	mark = func(node string) {
		if keep[node] {
			return
		}
		keep[node] = true
		if _, isDue := due[node]; strings.HasPrefix(node, "step.") && !isDue {
			return
		}
		for _, n := range g[node] {
			mark(n)
		}
	}
	for _, n := range wanted {
		mark(n)
	}
	maps.DeleteFunc(g, func(node string, _ []string) bool { return !keep[node] })
}

// claim takes the ports of all services of a graph before anything is expanded,
// since addresses go into variables. A port that had to move is told.
func (s *Setup) claim(ctx context.Context, g graph) error {
	wanted := bay.Ports{}
	any := false
	for node := range g {
		name, ok := strings.CutPrefix(node, "service.")
		if !ok {
			continue
		}
		any = true
		x, _ := s.Project.Declaration.Service(name)
		for copy := 1; copy <= x.Copies; copy++ {
			for _, p := range x.Ports {
				wanted[bay.PortKey(name, copy, p.Name)] = p.Wanted + copy - 1
			}
		}
	}
	if !any {
		return nil
	}
	claimed, err := s.Services.Claim(ctx, wanted)
	if err != nil {
		return err
	}
	for _, m := range claimed.Moved {
		event.Say(ctx, m)
	}
	moved := false
	for key, n := range claimed.Ports {
		moved = moved || s.Inputs.Ports[key] != n
	}
	if !moved {
		return nil
	}
	s.Inputs.Ports = maps.Clone(s.Inputs.Ports)
	maps.Copy(s.Inputs.Ports, claimed.Ports)
	return s.compute()
}

// startService starts all copies of a service at once.
func (s *Setup) startService(ctx context.Context, x declare.Service) (err error) {
	if err := s.first(ctx, x); err != nil {
		return err
	}
	specs, err := s.Specs(x)
	if err != nil {
		return err
	}
	if err := s.stopOthers(ctx, x, specs); err != nil {
		return err
	}
	g := graph{}
	byName := map[string]service.Spec{}
	for _, spec := range specs {
		g[spec.Name], byName[spec.Name] = nil, spec
	}
	return g.walk(ctx, func(ctx context.Context, name string) error {
		done := event.Task(ctx, "service "+name)
		spec := byName[name]
		spec.Again = slices.Contains(s.anew, x.Name)
		status, err := s.Services.Start(ctx, spec)
		if err == nil && status.State != service.Ready && status.State != service.Done {
			err = s.notReady(status)
		}
		done(describe(status), err)
		return err
	})
}

// stopOthers stops copies of a service that are not declared any more: with another
// count of copies they have other names.
func (s *Setup) stopOthers(ctx context.Context, x declare.Service, specs []service.Spec) error {
	statuses, err := s.Services.Status(ctx)
	if err != nil {
		return err
	}
	var others []string
	for _, st := range statuses {
		if st.Service == x.Name && st.Running() && !slices.ContainsFunc(specs, func(spec service.Spec) bool { return spec.Name == st.Name }) {
			others = append(others, st.Name)
		}
	}
	if len(others) == 0 {
		return nil
	}
	_, err = s.Services.Stop(ctx, others)
	return err
}

// describe is a state with where the service is reached.
func describe(st service.Status) string {
	if !st.Running() {
		return ""
	}
	var ports []string
	for _, name := range slices.Sorted(maps.Keys(st.Ports)) {
		ports = append(ports, fmt.Sprintf("127.0.0.1:%d", st.Ports[name]))
	}
	return strings.TrimSpace(st.State + " " + strings.Join(ports, " "))
}

func (s *Setup) notReady(st service.Status) error {
	e := fault.New(fault.NotReady, "service %s did not get ready: %s", st.Name, st.Reason)
	var do strings.Builder
	lines := service.ReadLog(s.Project.Bay.Logs(), st.Name, 0, st.Since.Add(-s.longest(st.Service)))
	own := slices.DeleteFunc(lines, func(l service.Line) bool { return l.Stream == "sup" })
	for _, l := range own[max(0, len(own)-8):] {
		do.WriteString("| " + l.Text + "\n")
	}
	fmt.Fprintf(&do, "Log: %s (trammel logs %s)", service.LogPath(s.Project.Bay.Logs(), st.Name), st.Service)
	return e.Advise("%s", do.String())
}

// Specs makes the complete specs of a service's copies.
func (s *Setup) Specs(x declare.Service) ([]service.Spec, error) {
	var out []service.Spec
	for copy := 1; copy <= x.Copies; copy++ {
		spec, err := s.spec(x, copy)
		if err != nil {
			return nil, fault.New(fault.Use, "service %s: %v", x.Name, err)
		}
		out = append(out, spec)
	}
	return out, nil
}

func (s *Setup) spec(x declare.Service, copy int) (service.Spec, error) {
	look := s.inside.Lookup(x.Name, copy)
	dir := s.Project.Declaration.Dir
	var own []environ.Variable
	for _, v := range x.Variables {
		expanded, err := ref.Expand(v.Value, look)
		if err != nil {
			return service.Spec{}, err
		}
		own = append(own, environ.Variable{Name: v.Name, Value: expanded, From: "service " + x.Name})
	}
	e := s.insideEnvironment.With(own)
	if err := e.Missing(); err != nil {
		return service.Spec{}, err
	}
	env := e.Environ(os.Environ(), dir)
	command, err := s.command(e, x.Run, look, env)
	if err != nil {
		return service.Spec{}, err
	}
	spec := service.Spec{
		Name: x.CopyName(copy), Service: x.Name, Path: command.Path, Argv: command.Argv, Env: env, Dir: dir,
		Ports: map[string]int{}, Restart: x.Restart, Signal: x.Stop.Signal, Within: x.Stop.Within,
		Build: s.build(), Mask: e.Masks(),
		Ready: service.Probe{
			Status: x.Ready.Status, Log: x.Ready.Log, Every: x.Ready.Every, Within: x.Ready.Within, Notify: x.Ready.Notify,
		},
	}
	for _, p := range x.Ports {
		key := bay.PortKey(x.Name, copy, p.Name)
		spec.Ports[p.Name] = s.inside.Ports[key]
		if s.Project.Declaration.Network == declare.NetworkPrivate {
			if spec.Outer == nil {
				spec.Outer = map[string]int{}
			}
			spec.Outer[p.Name] = s.Inputs.Ports[key]
		}
	}
	if s.Project.Declaration.Network == declare.NetworkPrivate {
		spec.Network = cmp.Or(x.Segment, "common")
	}
	spec.Web = webPort(x)
	if x.Ready.File != "" {
		file, err := ref.Expand(x.Ready.File, look)
		if err != nil {
			return service.Spec{}, err
		}
		if !filepath.IsAbs(file) {
			file = filepath.Join(dir, file)
		}
		spec.Ready.File = file
	}
	if stale := x.Card["stale"]; stale != "" {
		for name := range strings.FieldsSeq(stale) {
			spec.Stale = append(spec.Stale, filepath.Join(environ.DataFolder(s.Project.Bay, x, copy), name))
		}
	}
	spec.Ready.TCP = spec.Ports[x.Ready.TCP]
	if x.Ready.HTTP != "" {
		spec.Ready.HTTP = fmt.Sprintf("http://127.0.0.1:%d%s", spec.Ports[x.Ready.Port], x.Ready.HTTP)
	}
	if !x.Ready.Command.Empty() {
		probe, err := s.command(e, x.Ready.Command, look, env)
		if err != nil {
			return service.Spec{}, err
		}
		spec.Ready.Path, spec.Ready.Command = probe.Path, probe.Argv
	}
	for _, n := range x.Needs {
		if name, ok := strings.CutPrefix(n, "service."); ok {
			needed, _ := s.Project.Declaration.Service(name)
			for i := 1; i <= needed.Copies; i++ {
				spec.Needs = append(spec.Needs, needed.CopyName(i))
			}
		}
	}
	var decisive []string
	for _, v := range e.Variables {
		if v.Name != "TRAMMEL_ENVIRONMENT" { // which another service's change changes
			decisive = append(decisive, v.Name+"="+v.Value)
		}
	}
	files, err := s.Files()
	if err != nil {
		return service.Spec{}, err
	}
	for _, f := range files {
		if slices.Contains(x.Needs, "file."+f.File.Path) {
			decisive = append(decisive, "file "+f.Digest())
		}
	}
	spec.Config = spec.Digest(append(decisive, strings.Join(e.Path, string(filepath.ListSeparator))))
	return spec, nil
}

// build is what services run: the tools of the frame and the root that is seen. The
// environment id says more than that, and would start all anew when one changed.
func (s *Setup) build() string {
	root := ""
	if s.Inputs.View != nil {
		root = s.Inputs.View.Root
	}
	return canon.Digest(canon.List{s.Inputs.Frame, root})
}

// webPort is the port of a service that a browser can be sent to: the one that an HTTP
// probe asks, or one of that name.
func webPort(x declare.Service) string {
	if x.Ready.HTTP != "" {
		return x.Ready.Port
	}
	for _, p := range x.Ports {
		if p.Name == "http" || p.Name == "web" {
			return p.Name
		}
	}
	return ""
}

func (s *Setup) command(e *environ.Environment, run declare.Run, look func(string) (string, error), env []string) (script.Command, error) {
	expanded, err := script.Expand(run, look)
	if err != nil {
		return script.Command{}, err
	}
	c, err := script.CommandOf(expanded, env)
	if err != nil {
		return c, err
	}
	return script.In(e, s.Project.Declaration.Dir, c)
}

// longest is how far back the log of a failed start may reach.
func (s *Setup) longest(name string) time.Duration {
	x, _ := s.Project.Declaration.Service(name)
	return x.Ready.Within + x.Stop.Within + time.Minute
}

// SecretRemarks say which files of secrets others could read: by their mode, or
// because version control would take them along.
func (s *Setup) SecretRemarks(ctx context.Context) []string {
	var out []string
	dir := s.Project.Declaration.Dir
	for _, x := range s.Project.Declaration.Secrets {
		path, ok := strings.CutPrefix(x.From, "file:")
		if !ok {
			continue
		}
		full := path
		if !filepath.IsAbs(full) {
			full = filepath.Join(dir, full)
		}
		info, err := os.Stat(full)
		if err != nil {
			continue
		}
		if info.Mode().Perm()&0o077 != 0 {
			out = append(out, fmt.Sprintf("The secret %s can be read by others: chmod 600 %s", x.Name, path))
		}
		git, err := exec.LookPath("git")
		if err != nil || !strings.HasPrefix(full, dir+string(filepath.Separator)) {
			continue
		}
		// git check-ignore(1): 0 is ignored, 1 is not, 128 is no repository.
		cmd := exec.CommandContext(ctx, git, "-C", dir, "check-ignore", "--quiet", full)
		var exit *exec.ExitError
		if err := cmd.Run(); errors.As(err, &exit) && exit.ExitCode() == 1 {
			out = append(out, fmt.Sprintf("The secret %s is not ignored by version control: add %s to .gitignore", x.Name, path))
		}
	}
	return out
}

// first makes the data folders of a service that has none yet, as its card says. A
// folder that is not finished, because that was killed, is made anew.
func (s *Setup) first(ctx context.Context, x declare.Service) error {
	once := x.Card["once"]
	for copy := 1; x.Card != nil && copy <= x.Copies; copy++ {
		data := environ.DataFolder(s.Project.Bay, x, copy)
		made := data + ".made"
		if _, err := os.Stat(made); err == nil {
			continue
		}
		if err := os.RemoveAll(data); err != nil {
			return err
		}
		if err := os.MkdirAll(data, 0o700); err != nil {
			return err
		}
		if once != "" {
			done := event.Task(ctx, "data of "+x.CopyName(copy))
			o, err := s.output(ctx, declare.Run{Script: once}, s.Inputs.Lookup(x.Name, copy), 10*time.Minute)
			if err == nil && !o.Exit.OK() {
				err = fault.New(fault.Failed, "the data of service %s cannot be made: %s", x.Name, o.Exit).Advise("| %s", strings.ReplaceAll(o.Last(8), "\n", "\n| "))
			}
			done("", err)
			if err != nil {
				return err
			}
		}
		if err := disk.Write(made, nil, 0o600); err != nil {
			return err
		}
	}
	return nil
}
