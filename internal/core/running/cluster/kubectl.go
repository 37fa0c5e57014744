package cluster

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"app.example/trammel/internal/core/base/lazy"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/host"
	"app.example/trammel/internal/core/kernel/process"
)

// Target is where a bay is.
type Target struct {
	Context   string `json:"context"`
	Namespace string `json:"namespace"`
	Own       bool   `json:"own"` // the namespace was made for the bay
}

// Kubectl asks a cluster by the person's own program.
type Kubectl struct {
	Program string
	Host    host.Host
	Target  Target
}

// Find finds kubectl on the host.
func Find(h host.Host, t Target) (*Kubectl, error) {
	file, err := process.LookPath("kubectl", h.Environ, h.Dir)
	if err != nil {
		return nil, fault.New(fault.ErrFailed, "a bay in a cluster is reached through kubectl, and there is none here").
			Advise("Install it, or put its folder on PATH; the contexts and the sign-in that it has are used.")
	}
	return &Kubectl{file, h, t}, nil
}

// Args are the arguments that every command begins with.
func (k *Kubectl) Args(args ...string) []string {
	out := []string{"kubectl", "--context", k.Target.Context}
	if k.Target.Namespace != "" {
		out = append(out, "--namespace", k.Target.Namespace)
	}
	return append(out, args...)
}

// asking is how long a command may take that only asks.
const asking = 60 * time.Second

// Run runs kubectl with something on its standard input, and returns what it prints.
func (k *Kubectl) Run(ctx context.Context, in []byte, args ...string) ([]byte, error) {
	within, cancel := context.WithTimeout(ctx, asking)
	defer cancel()
	var out, remarks bytes.Buffer
	spec := process.Spec{Path: k.Program, Argv: k.Args(args...), Env: k.Host.Environ, Dir: k.Host.Dir}
	if len(in) > 0 {
		r, w, err := os.Pipe()
		if err != nil {
			return nil, err
		}
		go func() {
			_, _ = w.Write(in)
			w.Close()
		}()
		defer r.Close()
		spec.Stdin = r
	}
	exit, err := process.Read(within, spec, process.Reading{
		Out:     func(r io.Reader) { _, _ = io.Copy(&out, io.LimitReader(r, 256<<20)) },
		Remarks: func(r io.Reader) { _, _ = io.Copy(&remarks, io.LimitReader(r, 1<<20)) },
	})
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case within.Err() != nil:
		return nil, fault.New(fault.ErrSource, "the cluster of context %s did not answer within %s", k.Target.Context, asking).
			Advise("See whether it does: kubectl --context %s get --raw /readyz", k.Target.Context)
	case err != nil:
		return nil, err
	case !exit.OK():
		return nil, k.refused(remarks.String(), args)
	}
	return out.Bytes(), nil
}

// ErrNotThere is an object that the cluster does not have.
var ErrNotThere = fault.New(fault.ErrFailed, "it is not there")

// noise is what kubectl logs beside its message.
var noise = lazy.Regexp(`(?m)^[EWI]\d{4} .*\n?`)

// refused is an error of kubectl with what to do about it.
func (k *Kubectl) refused(text string, args []string) error {
	text = strings.TrimSpace(noise().ReplaceAllString(text, ""))
	first, _, _ := strings.Cut(text, "\n")
	first = strings.TrimPrefix(first, "error: ")
	switch {
	case strings.Contains(text, "(NotFound)"):
		return ErrNotThere
	case strings.Contains(text, "context") && (strings.Contains(text, "does not exist") || strings.Contains(text, "not found for specified context")):
		return fault.New(fault.ErrUsage, "kubectl knows no context %q", k.Target.Context).Advise("Those that it knows: kubectl config get-contexts")
	case strings.Contains(text, "exceeded quota"):
		return fault.New(fault.ErrNotReady, "the namespace %s has no more room: %s", k.Target.Namespace, first).Advise("Raise its quota, or have fewer copies.")
	case strings.Contains(text, "(Forbidden)"):
		return fault.New(fault.ErrFailed, "the cluster does not let you: %s", first).Advise("Whoever runs it can give you what is missing in namespace %s.", k.Target.Namespace)
	case strings.Contains(text, "refused") && strings.Contains(text, "connection"), strings.Contains(text, "Unable to connect"), strings.Contains(text, "no such host"), strings.Contains(text, "i/o timeout"), strings.Contains(text, "TLS handshake"):
		return fault.New(fault.ErrSource, "the cluster of context %s cannot be reached: %s", k.Target.Context, first).Advise("See whether it answers: kubectl --context %s get --raw /readyz", k.Target.Context)
	case strings.Contains(text, "unknown flag"), strings.Contains(text, "unknown command"):
		return fault.New(fault.ErrFailed, "this kubectl is too old: %s", first).Advise("Have version 1.28 or later.")
	}
	return fault.New(fault.ErrFailed, "kubectl %s: %s", args[0], first)
}

// Apply asks for objects to be as they are given (server-side apply, with every field held to
// the API's schema).
func (k *Kubectl) Apply(ctx context.Context, objects ...Object) error {
	if len(objects) == 0 {
		return nil
	}
	var in bytes.Buffer
	for _, o := range objects {
		raw, err := json.Marshal(o)
		if err != nil {
			return err
		}
		in.Write(raw)
		in.WriteByte('\n')
	}
	_, err := k.Run(ctx, in.Bytes(), "apply", "--server-side", "--force-conflicts", "--field-manager", Manager, "--validate=strict", "-f", "-")
	return err
}

// Replace has objects be exactly as they are given: what others set in them goes.
func (k *Kubectl) Replace(ctx context.Context, objects ...Object) error {
	var in bytes.Buffer
	for _, o := range objects {
		raw, err := json.Marshal(o)
		if err != nil {
			return err
		}
		in.Write(raw)
		in.WriteByte('\n')
	}
	_, err := k.Run(ctx, in.Bytes(), "replace", "--field-manager", Manager, "--validate=strict", "-f", "-")
	return err
}

// Items are objects as the API has them, as far as they are looked at here.
type Items struct {
	Items []Item `json:"items"`
}

// Item is one.
type Item struct {
	Kind     string `json:"kind"`
	Metadata struct {
		Name        string            `json:"name"`
		Labels      map[string]string `json:"labels"`
		Annotations map[string]string `json:"annotations"`
		Generation  int64             `json:"generation"`
		Deleted     string            `json:"deletionTimestamp"`
		Owners      []struct {
			Kind string `json:"kind"`
			Name string `json:"name"`
		} `json:"ownerReferences"`
	} `json:"metadata"`
	Spec struct {
		Replicas *int `json:"replicas"`
		Template struct {
			Metadata struct {
				Annotations map[string]string `json:"annotations"`
			} `json:"metadata"`
			Spec struct {
				Containers []struct {
					Image string `json:"image"`
				} `json:"containers"`
			} `json:"spec"`
		} `json:"template"`
		Containers []struct {
			Image string `json:"image"`
		} `json:"containers"`
	} `json:"spec"`
	Status struct {
		Phase      string `json:"phase"`
		Observed   int64  `json:"observedGeneration"`
		Ready      int    `json:"readyReplicas"`
		Updated    int    `json:"updatedReplicas"`
		Replicas   int    `json:"replicas"`
		Succeeded  int    `json:"succeeded"`
		Failed     int    `json:"failed"`
		Reason     string `json:"reason"`
		Message    string `json:"message"`
		Conditions []struct {
			Type    string `json:"type"`
			Status  string `json:"status"`
			Reason  string `json:"reason"`
			Message string `json:"message"`
		} `json:"conditions"`
		Containers []struct {
			Ready    bool   `json:"ready"`
			Restarts int    `json:"restartCount"`
			ImageID  string `json:"imageID"`
			State    struct {
				Waiting *struct {
					Reason  string `json:"reason"`
					Message string `json:"message"`
				} `json:"waiting"`
				Terminated *struct {
					Reason string `json:"reason"`
					Code   int    `json:"exitCode"`
				} `json:"terminated"`
			} `json:"state"`
		} `json:"containerStatuses"`
	} `json:"status"`
	// Of events.
	Type    string `json:"type"`
	Reason  string `json:"reason"`
	Message string `json:"message"`
}

// Get lists objects.
func (k *Kubectl) Get(ctx context.Context, args ...string) ([]Item, error) {
	raw, err := k.Run(ctx, nil, append([]string{"get", "-o", "json", "--ignore-not-found"}, args...)...)
	if err != nil || len(bytes.TrimSpace(raw)) == 0 {
		return nil, err
	}
	var l Items
	if err := json.Unmarshal(raw, &l); err != nil {
		return nil, err
	}
	if l.Items == nil {
		var one Item
		if err := json.Unmarshal(raw, &one); err == nil && one.Metadata.Name != "" {
			l.Items = []Item{one}
		}
	}
	return l.Items, nil
}

// Owner says of a namespace whose it is: nobody's, since it is not there; this bay's; or
// somebody else's.
func (k *Kubectl) Owner(ctx context.Context, s Stack) (there, ours bool, err error) {
	plain := *k
	plain.Target.Namespace = ""
	items, err := plain.Get(ctx, "namespace", s.Namespace)
	if err != nil || len(items) == 0 {
		return false, false, err
	}
	l := items[0].Metadata.Labels
	return true, l[labelBy] == Manager && l[labelPartOf] == s.Project && l[labelBay] == s.Bay, nil
}

// Free makes sure that no object which the stack would have is somebody else's, or another bay's:
// in a namespace that was there before, names are taken by whoever came first.
func (k *Kubectl) Free(ctx context.Context, s Stack) error {
	wanted := map[string]bool{}
	for _, o := range s.All() {
		wanted[strings.ToLower(o["kind"].(string))+"/"+o["metadata"].(table)["name"].(string)] = true
	}
	items, err := k.Get(ctx, kinds)
	if err != nil {
		return err
	}
	for _, x := range items {
		l, name := x.Metadata.Labels, strings.ToLower(x.Kind)+"/"+x.Metadata.Name
		if wanted[name] && (l[labelBy] != Manager || l[labelPartOf] != s.Project || l[labelBay] != s.Bay) {
			return fault.New(fault.ErrUsage, "%s is in namespace %s already, and it is not this bay's", name, s.Namespace).
				Advise("Nothing was changed. Choose another namespace, or none, and the bay gets one of its own.")
		}
	}
	return nil
}

// kinds are those of the objects that a bay has.
const kinds = "deployment,statefulset,job,service,configmap,secret,networkpolicy"

// Prune removes what the bay has and the stack no longer names.
func (k *Kubectl) Prune(ctx context.Context, s Stack) error {
	keep := map[string]bool{}
	for _, o := range s.All() {
		keep[strings.ToLower(o["kind"].(string))+"/"+o["metadata"].(table)["name"].(string)] = true
	}
	items, err := k.Get(ctx, kinds, "--selector", s.Selector())
	if err != nil {
		return err
	}
	var gone []string
	for _, x := range items {
		name := strings.ToLower(x.Kind) + "/" + x.Metadata.Name
		if x.Kind == "Job" || strings.HasPrefix(x.Metadata.Name, "step-") { // what was done is remembered
			continue
		}
		if !keep[name] {
			gone = append(gone, name)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	_, err = k.Run(ctx, nil, append([]string{"delete", "--ignore-not-found", "--wait=false"}, gone...)...)
	return err
}

// Scale stops a service's copies, or has them run.
func (k *Kubectl) Scale(ctx context.Context, x Service, copies int) error {
	_, err := k.Run(ctx, nil, "scale", strings.ToLower(x.Kind())+"/"+Name(x.Name), fmt.Sprintf("--replicas=%d", copies))
	if err == ErrNotThere {
		return nil
	}
	return err
}

// Clear removes all that the bay has in the cluster, data too, and waits until it is gone.
func (k *Kubectl) Clear(ctx context.Context, s Stack) error {
	if s.Own {
		there, ours, err := k.Owner(ctx, s)
		if err != nil || !there {
			return err
		}
		if !ours {
			return fault.New(fault.ErrUsage, "the namespace %s is not this bay's", s.Namespace).Advise("Nothing was removed.")
		}
		plain := *k
		plain.Target.Namespace = ""
		_, err = plain.Run(ctx, nil, "delete", "namespace", s.Namespace, "--ignore-not-found", "--timeout=50s")
		return err
	}
	_, err := k.Run(ctx, nil, "delete", kinds+",persistentvolumeclaim", "--selector", s.Selector(), "--ignore-not-found", "--timeout=50s")
	return err
}
