package cluster

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/fault"
)

// pace is how often a cluster is asked while something is waited for.
const pace = 500 * time.Millisecond

// hopeless are states of a container that a longer wait does not mend.
var hopeless = []string{"ImagePullBackOff", "ErrImageNeverPull", "InvalidImageName", "CreateContainerConfigError", "CrashLoopBackOff"}

// Await waits until all copies of a service are ready. The time that it is given counts while
// its containers run: fetching an image takes as long as it takes.
func (k *Kubectl) Await(ctx context.Context, s Stack, x Service) error {
	var running time.Time
	begun := time.Now()
	selector := s.Selector() + "," + labelName + "=" + Name(x.Name)
	for {
		items, err := k.Get(ctx, strings.ToLower(x.Kind()), Name(x.Name))
		if err != nil {
			return err
		}
		if len(items) == 1 {
			st, gen := items[0].Status, items[0].Metadata.Generation
			if st.Observed >= gen && st.Ready >= x.Copies && st.Updated >= x.Copies && st.Replicas == x.Copies {
				return nil
			}
			for _, c := range st.Conditions {
				if c.Type == "ReplicaFailure" && c.Status == "True" {
					return k.notReady(ctx, selector, x.Name, c.Message)
				}
			}
		}
		pods, err := k.Get(ctx, "pods", "--selector", selector)
		if err != nil {
			return err
		}
		started := len(pods) > 0
		for _, p := range pods {
			for _, c := range p.Status.Containers {
				if w := c.State.Waiting; w != nil {
					started = false
					if slices.Contains(hopeless, w.Reason) && (w.Reason != "CrashLoopBackOff" || c.Restarts > 2) {
						return k.notReady(ctx, selector, x.Name, w.Reason+": "+w.Message)
					}
				}
			}
			started = started && p.Status.Phase == "Running"
		}
		if len(pods) == 0 && x.Copies > 0 && time.Since(begun) > 10*time.Second {
			if why := k.events(ctx, strings.ToLower(x.Kind()), Name(x.Name)); why != "" {
				return k.notReady(ctx, selector, x.Name, why)
			}
		}
		if started && running.IsZero() {
			running = time.Now()
		}
		if !running.IsZero() && time.Since(running) > x.Run.Ready.Within {
			return k.notReady(ctx, selector, x.Name, fmt.Sprintf("not ready within %s", x.Run.Ready.Within))
		}
		if running.IsZero() && time.Since(begun) > 10*time.Minute {
			return k.notReady(ctx, selector, x.Name, "its containers did not start within 10 minutes")
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(pace):
		}
	}
}

// notReady is the error of a service, with the object, its events and its last lines.
func (k *Kubectl) notReady(ctx context.Context, selector, name, why string) error {
	e := fault.New(fault.ErrNotReady, "service %s did not get ready in namespace %s: %s", name, k.Target.Namespace, strings.TrimSpace(why))
	return e.Advise("%s", k.told(ctx, selector))
}

// told is what the cluster says of pods that are not well.
func (k *Kubectl) told(ctx context.Context, selector string) string {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	var out strings.Builder
	pods, _ := k.Get(ctx, "pods", "--selector", selector)
	for _, p := range pods {
		ready := len(p.Status.Containers) > 0
		state := p.Status.Phase
		for _, c := range p.Status.Containers {
			ready = ready && c.Ready
			switch {
			case c.State.Waiting != nil:
				state = c.State.Waiting.Reason
			case c.State.Terminated != nil:
				state = fmt.Sprintf("ended with code %d", c.State.Terminated.Code)
			}
		}
		if ready {
			continue
		}
		fmt.Fprintf(&out, "pod/%s: %s\n", p.Metadata.Name, state)
		if text := k.events(ctx, "pod", p.Metadata.Name); text != "" {
			fmt.Fprintf(&out, "| %s\n", text)
		}
		for _, previous := range []string{"--previous=true", "--previous=false"} {
			raw, err := k.Run(ctx, nil, "logs", p.Metadata.Name, "--tail=8", previous)
			if err == nil && len(raw) > 0 {
				for line := range strings.Lines(string(raw)) {
					out.WriteString("| " + strings.TrimRight(line, "\n") + "\n")
				}
				break
			}
		}
	}
	fmt.Fprintf(&out, "See: kubectl --context %s --namespace %s get events", k.Target.Context, k.Target.Namespace)
	return out.String()
}

// events are the warnings about an object, the last one first.
func (k *Kubectl) events(ctx context.Context, kind, name string) string {
	items, err := k.Get(ctx, "events", "--field-selector", "type=Warning,involvedObject.name="+name, "--sort-by=.lastTimestamp")
	if err != nil || len(items) == 0 {
		return ""
	}
	last := items[len(items)-1]
	return last.Reason + ": " + strings.TrimSpace(last.Message)
}

// Done tells whether a step was done in this bay, by whoever it was.
func (k *Kubectl) Done(ctx context.Context, x Step) (bool, error) {
	items, err := k.Get(ctx, "job", stepName(x))
	return err == nil && len(items) == 1 && items[0].Status.Succeeded > 0, err
}

// Do does a step: its job is made anew, and waited for.
func (k *Kubectl) Do(ctx context.Context, s Stack, x Step, within time.Duration) error {
	name := stepName(x)
	if _, err := k.Run(ctx, nil, "delete", "job", name, "--ignore-not-found", "--timeout=50s"); err != nil {
		return err
	}
	if err := k.Apply(ctx, s.Job(x)...); err != nil {
		return err
	}
	selector := s.Selector() + "," + labelName + "=" + name
	begun := time.Now()
	for {
		items, err := k.Get(ctx, "job", name)
		if err != nil {
			return err
		}
		if len(items) == 1 {
			st := items[0].Status
			if st.Succeeded > 0 {
				return nil
			}
			if st.Failed > 0 || within > 0 && time.Since(begun) > within {
				e := fault.New(fault.ErrFailed, "step %s failed in namespace %s", x.Name, k.Target.Namespace)
				return e.Advise("%s", k.told(ctx, selector))
			}
		}
		pods, err := k.Get(ctx, "pods", "--selector", selector)
		if err != nil {
			return err
		}
		for _, p := range pods {
			for _, c := range p.Status.Containers {
				if w := c.State.Waiting; w != nil && slices.Contains(hopeless, w.Reason) {
					return fault.New(fault.ErrFailed, "step %s cannot start in namespace %s: %s: %s", x.Name, k.Target.Namespace, w.Reason, w.Message).Advise("%s", k.told(ctx, selector))
				}
			}
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(pace):
		}
	}
}

// Workloads are the live ones of the stack, by the names of their services.
func (k *Kubectl) Workloads(ctx context.Context, s Stack) (map[string]Item, error) {
	items, err := k.Get(ctx, "deployment,statefulset", "--selector", s.Selector())
	out := map[string]Item{}
	for _, x := range items {
		out[x.Metadata.Labels[labelName]] = x
	}
	return out, err
}

// Digest is the mark on a live workload of what it was made of, and Image what it runs.
func (x Item) Digest() string { return x.Spec.Template.Metadata.Annotations[markDigest] }

// Image is what a live workload's container runs.
func (x Item) Image() string {
	if c := x.Spec.Template.Spec.Containers; len(c) > 0 {
		return c[0].Image
	}
	if c := x.Spec.Containers; len(c) > 0 {
		return c[0].Image
	}
	return ""
}

// Marked are the lock and environment that a live object was made from.
func (x Item) Marked() (lock, environment string) {
	return x.Metadata.Annotations[markLock], x.Metadata.Annotations[markEnv]
}
