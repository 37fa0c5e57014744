package ship

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"app.example/trammel/internal/core/acting/apart"
	"app.example/trammel/internal/core/acting/setup"
	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/kernel/process"
	"app.example/trammel/internal/core/running/cluster"
	"app.example/trammel/internal/core/running/image"
	"app.example/trammel/internal/core/running/service"
	"app.example/trammel/internal/core/written/declare"
	"app.example/trammel/internal/core/written/lock"
)

// Hosts are the names of a project's services in a cluster.
func Hosts(d *declare.Declaration) func(service string, copy int) string {
	return func(name string, copy int) string {
		if x, ok := d.Service(name); ok && copy > 0 && x.Copies > 1 {
			return cluster.CopyName(name, copy)
		}
		return cluster.Name(name)
	}
}

// Compose makes the stack of a checkout for a cluster: of services that an image was made for.
// reference is that image, and secrets what the bay made up.
func Compose(up *setup.Setup, r cluster.Record, made *Made, reference string, secrets map[string]string) (cluster.Stack, error) {
	d, a := up.State.Declaration, made.Apart
	s := cluster.Stack{
		Project: d.Project, Bay: up.State.Bay.Name, Namespace: r.Target.Namespace, Own: r.Target.Own, Environment: string(made.Environment), Lock: string(up.State.Lock.ID()),
		Pull: "IfNotPresent", Storage: r.Storage, Class: r.Class, Secrets: secrets, Private: d.Network == declare.NetworkPrivate,
	}
	var err error
	if s.Files, err = a.Rendered(up); err != nil {
		return s, err
	}
	steps, err := a.Digests()
	if err != nil {
		return s, err
	}
	reveal := up.Ready.Reveal
	for _, x := range d.Steps {
		if x.Per != "bay" {
			continue
		}
		plain, hidden := a.Values("", reveal)
		s.Steps = append(s.Steps, cluster.Step{Name: x.Name, Image: reference, Digest: steps[x.Name], Values: plain, Hidden: hidden})
	}
	names := map[string]string{}
	for _, x := range d.Services {
		for copy := 0; copy <= x.Copies && (copy == 0 || x.Copies > 1); copy++ {
			name := Hosts(d)(x.Name, copy)
			if other, taken := names[name]; taken && other != x.Name {
				return s, fault.New(fault.ErrUsage, "the services %s and %s would both be %s in a cluster", other, x.Name, name).Advise("Give one of them another name.")
			}
			names[name] = x.Name
		}
		if err := a.Lacks(up, x.Name); err != nil {
			return s, err
		}
		plain, hidden := a.Values(x.Name, reveal)
		one := cluster.Service{
			Name: x.Name, Copies: x.Copies, Each: x.Copies > 1 || x.CopiesOf != "", Keeps: a.Keeps[x.Name], Image: reference, Run: a.Plan.Services[x.Name], Values: plain, Hidden: hidden,
			Digest: decisive(a, x, made.Files),
		}
		for _, y := range d.Services {
			if y.Name != x.Name && y.Sees(x) {
				one.Sees = append(one.Sees, y.Name)
			}
		}
		s.Services = append(s.Services, one)
	}
	return s, nil
}

// decisive is a digest of what decides how a service behaves, besides the values that it is
// given: when it stays, the service is left as it is, though the image around it is another.
func decisive(a *apart.Environment, x declare.Service, files string) string {
	run := a.Plan.Services[x.Name]
	raw, err := json.Marshal(run)
	if err != nil {
		return ""
	}
	facts := canon.Map{"run": string(raw)}
	st := a.Sight.State
	for _, p := range st.AllParts() {
		// A server with a card needs its own toolchain and the root; anything else may run any of them.
		if x.Card == nil || p.Item == x.Tool || p.Format == lock.RootFormat {
			facts["part "+p.Label()] = string(p.Tree)
		}
	}
	if x.Card == nil {
		for _, p := range st.Store.Complete(st.Lock.SetsOn(st.Platform)) {
			facts["set "+p.Label()] = string(p.Tree)
		}
		for _, v := range a.Plan.Variables {
			if !v.Given {
				facts["$"+v.Name] = v.Value
			}
		}
	}
	if strings.Contains(string(raw), a.Plan.Dir) || x.Card == nil {
		facts["files"] = files
	}
	delete(facts, "$TRAMMEL_ENVIRONMENT")
	return canon.Digest(facts)
}

// Deliver brings an image to where the nodes of a cluster find it, and returns its reference.
func Deliver(ctx context.Context, up *setup.Setup, r *cluster.Record, made *Made) (reference string, err error) {
	short := strings.TrimPrefix(made.Digest, "sha256:")[:12]
	switch {
	case r.Registry != "":
		reference = strings.TrimPrefix(r.Registry, image.Scheme) + "@" + made.Digest
		if r.Handed == reference {
			return reference, nil
		}
		done := event.Task(ctx, "push "+r.Registry)
		reference, err = image.ToRegistry(ctx, r.Registry+":"+short, made.Index, nil)
		done("", err)
	case r.Hand != "":
		reference = "registry.example/" + up.State.Declaration.Project + ":" + short
		if r.Handed == reference {
			return reference, nil
		}
		done := event.Task(ctx, "hand over the image")
		err = hand(ctx, up, r.Hand, made.Index, reference)
		done("", err)
	default:
		return "", fault.New(fault.ErrUsage, "the nodes of the cluster must get the image from somewhere").
			Advise("Name a repository that they fetch from: --registry oci://registry.example/%s\nOr a command that takes an archive and a reference: --hand \"COMMAND\"", up.State.Declaration.Project)
	}
	if err != nil {
		return "", err
	}
	r.Handed = reference
	return reference, r.Keep(up.State.Bay)
}

// hand gives an archive of the image to a command.
func hand(ctx context.Context, up *setup.Setup, command string, index v1.ImageIndex, reference string) error {
	scratch := up.State.Places.Layers()
	f, err := os.CreateTemp(scratch, ".new-*.tar")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = image.ToArchive(f, scratch, index, reference)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	var last lastWords
	spec := process.Spec{Path: "/bin/sh", Argv: []string{"sh", "-c", command + ` "$@"`, "sh", f.Name(), reference}, Env: up.State.Host.Environ, Dir: up.State.Dir()}
	exit, err := process.Read(ctx, spec, process.Reading{Out: last.read, Remarks: last.read})
	if err == nil && !exit.OK() {
		err = fault.New(fault.ErrFailed, "the command that takes the image ended with %s", exit).Advise("%s\nIt was: %s %s %s", last.text(), command, f.Name(), reference)
	}
	return err
}

// Afar has a bay's services run in a cluster.
type Afar struct {
	Record cluster.Record
	Kube   *cluster.Kubectl

	begun time.Time
}

// Reach prepares to ask the cluster of a record.
func Reach(up *setup.Sight, r cluster.Record) (*Afar, error) {
	k, err := cluster.Find(up.State.Host, r.Target)
	return &Afar{r, k, time.Now()}, err
}

// stack is as much of one as names its objects.
func (f *Afar) stack(up *setup.Sight) cluster.Stack {
	return cluster.Stack{Project: up.State.Declaration.Project, Bay: up.State.Bay.Name, Namespace: f.Record.Target.Namespace, Own: f.Record.Target.Own}
}

// Settle makes sure of the namespace: that it is the bay's, or may be made.
func (f *Afar) Settle(ctx context.Context, up *setup.Sight) error {
	s := f.stack(up)
	there, ours, err := f.Kube.Owner(ctx, s)
	switch {
	case err != nil:
		return err
	case there && f.Record.Target.Own && !ours:
		return fault.New(fault.ErrUsage, "the namespace %s is there, and it is not this bay's", s.Namespace).
			Advise("Name it outright if the bay belongs there: --cluster %s/%s. Or choose another.", f.Record.Target.Context, s.Namespace)
	case !there:
		s.Own, f.Record.Target.Own = true, true
		plain := *f.Kube
		plain.Target.Namespace = ""
		return plain.Apply(ctx, s.Group())
	}
	return nil
}

// Start brings up services in the cluster and all they need, in order, and has their ports here.
func (f *Afar) Start(ctx context.Context, up *setup.Setup, order Order, o setup.StartOrder) ([]service.Status, *setup.Setup, error) {
	unlock, err := up.Alone(ctx)
	if err != nil {
		return nil, up, err
	}
	defer unlock()
	nodes, err := up.Order(o.Names)
	if err != nil {
		return nil, up, err
	}
	if err := f.Settle(ctx, up.Sight); err != nil {
		return nil, up, err
	}
	if err := f.Record.Keep(up.State.Bay); err != nil {
		return nil, up, err
	}
	secrets, err := f.secrets(ctx, up)
	if err != nil {
		return nil, up, err
	}
	if up, err = up.Claim(ctx, nodes, service.Order{Declared: o.Declared}); err != nil {
		return nil, up, err
	}
	if _, err := up.Render(ctx); err != nil { // for what runs here, with the ports as they are now
		return nil, up, err
	}
	order.Hosts = Hosts(up.State.Declaration)
	made, err := Image(ctx, up.Given, order)
	if err != nil {
		return nil, up, err
	}
	// Nothing leaves this machine for a namespace in which somebody else has the names.
	names, err := Compose(up, f.Record, made, made.Digest, secrets)
	if err == nil {
		err = f.Kube.Free(ctx, names)
	}
	if err != nil {
		return nil, up, err
	}
	reference, err := Deliver(ctx, up, &f.Record, made)
	if err != nil {
		return nil, up, err
	}
	stack, err := Compose(up, f.Record, made, reference, secrets)
	if err != nil {
		return nil, up, err
	}
	live, err := f.Kube.Workloads(ctx, stack)
	if err != nil {
		return nil, up, err
	}
	before, err := cluster.AppliedOf(up.State.Bay)
	if err != nil {
		return nil, up, err
	}
	// What did not change keeps the image that it has, where that is one which this bay asked for.
	for i, x := range stack.Services {
		was, ok := live[cluster.Name(x.Name)]
		if asked := before.Image(x.Kind(), cluster.Name(x.Name)); ok && was.Digest() == x.Digest && asked != "" && was.Image() == asked {
			stack.Services[i].Image = asked
		}
	}
	if err := f.Kube.Mend(ctx, stack); err != nil {
		return nil, up, err
	}
	applied := cluster.Applied{Environment: string(made.Environment), Objects: stack.All()}
	if err := applied.Keep(up.State.Bay); err != nil { // before anything of it is there
		return nil, up, err
	}
	if err := f.Kube.Apply(ctx, stack.Common()...); err != nil {
		return nil, up, err
	}
	if err := f.Kube.Prune(ctx, stack); err != nil {
		return nil, up, err
	}
	err = nodes.Walk(ctx, func(ctx context.Context, node string) error { return f.bring(ctx, up, stack, node) })
	after, statusErr := up.Services.Status(context.WithoutCancel(ctx))
	if err == nil {
		err = statusErr
	}
	return after, up, err
}

// secrets are the values that the bay makes up, those that the cluster has before any made here.
func (f *Afar) secrets(ctx context.Context, up *setup.Setup) (map[string]string, error) {
	// Only the bay's own: another's of that name is told where names are looked at.
	there, err := f.Kube.Run(ctx, nil, "get", "secret", "--selector", f.stack(up.Sight).Selector(), "--field-selector", "metadata.name=made-up", "-o", "json")
	if err != nil {
		return nil, err
	}
	var list struct {
		Items []struct {
			Data map[string]string `json:"data"`
		} `json:"items"`
	}
	if json.Unmarshal(there, &list) == nil && len(list.Items) == 1 {
		values := map[string]string{}
		for name, text := range list.Items[0].Data {
			if raw, err := base64.StdEncoding.DecodeString(text); err == nil {
				values[name] = string(raw)
			}
		}
		if err := up.Adopt(values); err != nil {
			return nil, err
		}
	}
	return up.Secrets()
}

func (f *Afar) bring(ctx context.Context, up *setup.Setup, stack cluster.Stack, node string) error {
	kind, name, _ := strings.Cut(node, ".")
	if kind == "step" {
		i := slices.IndexFunc(stack.Steps, func(x cluster.Step) bool { return x.Name == name })
		declared, _ := up.State.Declaration.Step(name)
		if did, err := f.Kube.Done(ctx, stack.Steps[i]); did || err != nil {
			return err
		}
		done := event.Task(ctx, "step "+name)
		err := f.Kube.Do(ctx, stack, stack.Steps[i], declared.Within)
		done("", err)
		return err
	}
	x := stack.Services[slices.IndexFunc(stack.Services, func(x cluster.Service) bool { return x.Name == name })]
	done := event.Task(ctx, "service "+name)
	err := f.Kube.Apply(ctx, stack.Workload(x)...)
	if err == nil {
		err = f.Kube.Await(ctx, stack, x)
	}
	if err == nil {
		err = f.keep(ctx, up, stack, x)
	}
	done(fmt.Sprintf("ready in %s", stack.Namespace), err)
	return err
}

// keep has keepers stand here for a service's copies.
func (f *Afar) keep(ctx context.Context, up *setup.Setup, stack cluster.Stack, x cluster.Service) error {
	declared, _ := up.State.Declaration.Service(x.Name)
	// A supervisor without a service does not stay while a cluster takes its time: the numbers
	// that were claimed at first are claimed again, from whichever is there now.
	up, err := up.Claim(ctx, setup.Graph{"service." + x.Name: nil}, service.Order{})
	if err != nil {
		return err
	}
	running, err := up.Services.Status(ctx)
	if err != nil {
		return err
	}
	var surplus []string
	for _, st := range running {
		wanted := false
		for copy := 1; copy <= x.Copies; copy++ {
			wanted = wanted || st.Name == declared.CopyName(copy)
		}
		if st.Service == x.Name && !wanted {
			surplus = append(surplus, st.Name)
		}
	}
	if len(surplus) > 0 {
		if err := up.Services.Drop(ctx, service.Surplus{Names: surplus}); err != nil {
			return err
		}
	}
	for copy := 1; copy <= x.Copies; copy++ {
		w, err := up.Wanted(declared, copy)
		if err != nil {
			return err
		}
		o := cluster.Order{
			Program: f.Kube.Program, Args: f.Kube.Args(), Selector: stack.Selector() + ",app.kubernetes.io/name=" + cluster.Name(x.Name),
			Ports: w.Spec.Reached(), Inside: x.Run.Ports,
		}
		same, err := json.Marshal(o)
		if err != nil {
			return err
		}
		o.Since = f.begun
		if x.Copies > 1 {
			o.Pod = fmt.Sprintf("%s-%d", cluster.Name(x.Name), copy-1)
		}
		raw, err := json.Marshal(o)
		if err != nil {
			return err
		}
		spec := w.Spec
		spec.Path, spec.Argv, spec.Env = up.State.Host.Program, []string{cluster.KeeperName, string(raw)}, up.State.Host.Environ
		spec.Ports, spec.Network, spec.Outer, spec.Beside = o.Ports, "", nil, nil
		spec.Ready = service.Probe{Notify: true, Within: time.Minute}
		spec.Keeper = true
		spec.Restart, spec.Signal, spec.Within = declare.RestartAlways, "TERM", 5*time.Second
		spec.Config = canon.Digest(string(same))
		spec.Inputs, spec.Reads, spec.Stale = nil, nil, nil
		status, err := up.Services.Start(ctx, up.Given, spec)
		if err != nil {
			return err
		}
		if status.State != service.Ready {
			return fault.New(fault.ErrNotReady, "service %s runs in %s, and its ports do not come here: %s", x.Name, stack.Namespace, status.Reason)
		}
	}
	return nil
}

// Stop has services stop in the cluster; data stays. None named are all.
func (f *Afar) Stop(ctx context.Context, up *setup.Sight, names []string) error {
	live, err := f.Kube.Workloads(ctx, f.stack(up))
	if err != nil {
		return err
	}
	applied, err := cluster.AppliedOf(up.State.Bay)
	if err != nil {
		return err
	}
	for _, x := range live {
		if name := x.Metadata.Labels["app.kubernetes.io/name"]; len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool { return cluster.Name(n) == name }) {
			continue
		}
		kind := cluster.Service{Name: x.Metadata.Name, Each: x.Kind == "StatefulSet"}
		if applied != nil {
			applied.Stopped(x.Kind, x.Metadata.Name)
			if err := applied.Keep(up.State.Bay); err != nil {
				return err
			}
		}
		if err := f.Kube.Scale(ctx, kind, 0); err != nil {
			return err
		}
	}
	return nil
}

// Renew has services begin anew, one pod after the other, as after other data was loaded into
// one that they need.
func (f *Afar) Renew(ctx context.Context, up *setup.Sight, names []string) error {
	live, err := f.Kube.Workloads(ctx, f.stack(up))
	if err != nil {
		return err
	}
	for _, name := range names {
		if x, ok := live[cluster.Name(name)]; ok {
			if _, err := f.Kube.Run(ctx, nil, "rollout", "restart", strings.ToLower(x.Kind)+"/"+x.Metadata.Name); err != nil {
				return err
			}
		}
	}
	return nil
}

// Where is the context and the namespace.
func (f *Afar) Where() string { return f.Record.Target.Context + "/" + f.Record.Target.Namespace }

// Clear removes the bay from the cluster.
func (f *Afar) Clear(ctx context.Context, up *setup.Sight) error {
	return f.Kube.Clear(ctx, f.stack(up))
}

// Holds says what of the bay in the cluster is not what is locked and was asked for.
// Errors: the cluster does not answer, or it is not known what was asked for.
func (f *Afar) Holds(ctx context.Context, up *setup.Sight) ([]cluster.Drift, error) {
	applied, err := cluster.AppliedOf(up.State.Bay)
	if err != nil {
		return nil, err
	}
	if applied == nil {
		return nil, fault.New(fault.ErrFailed, "it is not known what this bay asked the cluster for: an earlier release did")
	}
	found, err := f.Kube.Live(ctx, f.stack(up), applied)
	if id := string(up.State.Lock.EnvironmentID(platform.Here())); err == nil && applied.Environment != id {
		found = append([]cluster.Drift{{Thing: "all of it", What: fmt.Sprintf("was made from environment %s", canon.Short(applied.Environment))}}, found...)
	}
	return found, err
}

// ExportStack are the objects of the bay for people who apply them by other ways. The image is
// the one that a reference names.
func ExportStack(ctx context.Context, up *setup.Setup, order Order, reference, namespace string, r cluster.Record) ([]cluster.Object, error) {
	order.Hosts = Hosts(up.State.Declaration)
	made, err := Image(ctx, up.Given, order)
	if err != nil {
		return nil, err
	}
	if reference == "" {
		return nil, fault.New(fault.ErrUsage, "say which image the objects name").Advise("Push it first, then name it: trammel export kubernetes --image registry.example/%s@%s", shell.Typed(up.State.Declaration.Project), shell.Typed(made.Digest))
	}
	r.Target = cluster.Target{Namespace: namespace, Own: true}
	secrets, err := up.Secrets()
	if err != nil {
		return nil, err
	}
	s, err := Compose(up, r, made, reference, secrets)
	if err != nil {
		return nil, err
	}
	// A Job cannot be changed, and nobody who applies these removes one: with another image it is
	// another Job. One that runs once in a bay's life keeps its name, so as not to run again.
	for i, x := range s.Steps {
		if declared, ok := up.State.Declaration.Step(x.Name); ok && declared.When != "first" {
			s.Steps[i].Digest = canon.Digest(canon.List{x.Digest, reference})
		}
	}
	return s.All(), nil
}
