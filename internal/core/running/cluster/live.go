package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/checkout/bay"
)

// What a bay asked a cluster for is recorded, so that what is there can be compared with it, field by field as the
// server has it. Values of secrets are not recorded, only their digest.

// Applied is what a bay asked for.
type Applied struct {
	Environment string   `json:"environment"` // environment id that it was made from
	Objects     []Object `json:"objects"`
}

func appliedFile(b bay.Bay) string { return filepath.Join(b.Records, "cluster-objects.json") }

// AppliedOf is what a bay asked for last; nil where that is not known.
func AppliedOf(b bay.Bay) (*Applied, error) {
	raw, err := disk.Read(appliedFile(b), disk.MostLock)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	a := &Applied{}
	if err == nil {
		err = json.Unmarshal(raw, a)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", appliedFile(b), err)
	}
	return a, nil
}

// Keep records it.
func (a Applied) Keep(b bay.Bay) error {
	out := Applied{Environment: a.Environment}
	for _, o := range a.Objects {
		if _, known := o["data"].(string); o["kind"] == "Secret" && !known {
			hidden := Object{}
			for key, value := range o {
				hidden[key] = value
			}
			hidden["data"] = SumOf(o["data"])
			o = hidden
		}
		out.Objects = append(out.Objects, o)
	}
	raw, err := json.MarshalIndent(out, "", " ")
	if err != nil {
		return err
	}
	return disk.Write(appliedFile(b), raw, 0o600)
}

// Stopped notes that a service was asked to have no copies.
func (a *Applied) Stopped(kind, name string) {
	for _, o := range a.Objects {
		if o["kind"] == kind && nameOf(o) == name {
			if spec, ok := tableOf(o["spec"]); ok {
				spec["replicas"] = 0
			}
		}
	}
}

// SumOf is a digest of the data of a secret, which stands where its values do not.
func SumOf(data any) string {
	raw, err := json.Marshal(data)
	if err != nil {
		return ""
	}
	return canon.Digest(string(raw))
}

// Image is the image that was asked for a service; "" where none was.
func (a *Applied) Image(kind, name string) string {
	if a == nil {
		return ""
	}
	for _, o := range a.Objects {
		if o["kind"] == kind && nameOf(o) == name {
			return imageIn(o)
		}
	}
	return ""
}

func nameOf(o Object) string {
	m, _ := tableOf(o["metadata"])
	name, _ := m["name"].(string)
	return name
}

func imageIn(o Object) string {
	at := any(map[string]any(o))
	for _, key := range []string{"spec", "template", "spec", "containers"} {
		t, ok := tableOf(at)
		if !ok {
			return ""
		}
		at = t[key]
	}
	containers, _ := listOf(at)
	if len(containers) == 0 {
		return ""
	}
	c, _ := tableOf(containers[0])
	image, _ := c["image"].(string)
	return image
}

// tableOf and listOf read values as objects have them, made here or by the server.
func tableOf(v any) (map[string]any, bool) {
	switch v := v.(type) {
	case map[string]any:
		return v, true
	case Object:
		return v, true
	}
	return nil, false
}

func listOf(v any) ([]any, bool) {
	l, ok := v.([]any)
	return l, ok
}

// Drift is one thing of a cluster that is not what was asked for.
type Drift struct{ Thing, What string }

// Live compares everything that was asked for with what the cluster has: objects that are missing or have other
// fields, fields that somebody else set, pods that are too few, run another image, or are nobody's.
func (k *Kubectl) Live(ctx context.Context, s Stack, a *Applied) ([]Drift, error) {
	if there, _, err := k.Owner(ctx, s); err != nil {
		return nil, err
	} else if !there {
		return []Drift{{"namespace " + s.Namespace, "is not there"}}, nil
	}
	raw, err := k.Run(ctx, nil, "get", kinds, "--selector", s.Selector(), "--show-managed-fields", "-o", "json")
	if err != nil {
		return nil, err
	}
	var live struct {
		Items []Object `json:"items"`
	}
	if err := json.Unmarshal(raw, &live); err != nil {
		return nil, err
	}
	there := map[string]Object{}
	for _, o := range live.Items {
		there[fmt.Sprint(o["kind"])+"/"+nameOf(o)] = o
	}
	var out []Drift
	for _, want := range a.Objects {
		kind := fmt.Sprint(want["kind"])
		if kind == "Namespace" {
			continue
		}
		name := kind + "/" + nameOf(want)
		have, ok := there[name]
		if !ok {
			if kind != "Job" { // one that is done may be cleared away
				out = append(out, Drift{shownAs(name), "is not there"})
			}
			continue
		}
		for _, what := range Differs(want, have) {
			out = append(out, Drift{shownAs(name), what})
		}
	}
	pods, err := k.Get(ctx, "pods", "--selector", s.Selector())
	if err != nil {
		return nil, err
	}
	out = append(out, podsDrift(a, pods)...)
	slices.SortFunc(out, func(x, y Drift) int { return strings.Compare(x.Thing+x.What, y.Thing+y.What) })
	return slices.Compact(out), nil
}

// shownAs is what people call an object: deployment board.
func shownAs(name string) string {
	kind, rest, _ := strings.Cut(name, "/")
	return strings.ToLower(kind) + " " + rest
}

// Differs says what of an object is not as it was asked for: fields with other values, lists with more or fewer
// entries, and fields that another manager than this program set (Kubernetes API, metadata.managedFields).
func Differs(want, have Object) []string {
	var out []string
	for _, key := range sorted(want) {
		switch key {
		case "apiVersion", "kind":
		case "metadata":
			m, _ := tableOf(want[key])
			h, _ := tableOf(have[key])
			for _, marks := range []string{"labels", "annotations"} {
				if m[marks] != nil {
					out = append(out, within(marks, m[marks], h[marks])...)
				}
			}
		case "data":
			if text, ok := want[key].(string); ok { // of a secret, whose values are not recorded
				if text != SumOf(have[key]) {
					out = append(out, "has other values")
				}
				continue
			}
			out = append(out, within(key, want[key], have[key])...)
		default:
			out = append(out, within(key, want[key], have[key])...)
		}
	}
	return append(out, foreign(have)...)
}

// within compares a value that was asked for with the server's, which has more keys: those that it fills in itself.
func within(path string, want, have any) []string {
	if w, ok := tableOf(want); ok {
		h, _ := tableOf(have)
		var out []string
		for _, key := range sorted(w) {
			out = append(out, within(path+"."+key, w[key], h[key])...)
		}
		return out
	}
	if w, ok := listOf(want); ok {
		h, _ := listOf(have)
		if len(w) != len(h) {
			return []string{fmt.Sprintf("has %d entries in %s, and %d were asked for%s", len(h), path, len(w), extra(w, h))}
		}
		var out []string
		for i := range w {
			out = append(out, within(fmt.Sprintf("%s[%s]", path, entryName(w[i], i)), w[i], h[i])...)
		}
		return out
	}
	if text(want) != text(have) && !(have == nil && empty(want)) {
		return []string{fmt.Sprintf("has %s = %s, and %s was asked for", path, short(text(have)), short(text(want)))}
	}
	return nil
}

// extra names the entries of a list that were not asked for.
func extra(want, have []any) string {
	var names []string
	for i, h := range have {
		name := entryName(h, i)
		if !slices.ContainsFunc(want, func(w any) bool { return entryName(w, i) == name }) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return ": " + strings.Join(names, ", ")
}

// entryName is the name of an entry of a list, or its place.
func entryName(v any, i int) string {
	t, _ := tableOf(v)
	for _, key := range []string{"name", "mountPath", "port"} {
		if t[key] != nil {
			return text(t[key])
		}
	}
	return fmt.Sprint(i)
}

// text writes a value as both sides have it: numbers come as they were made, or as JSON has them.
func text(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return strings.Trim(string(raw), `"`)
}

// mostShown is how much of a value is shown: a whole file may be one.
const mostShown = 80

func short(s string) string {
	if len(s) <= mostShown {
		return s
	}
	return strings.ToValidUTF8(s[:mostShown], "") + "…"
}

// empty tells whether a value is one that the server leaves out.
func empty(v any) bool {
	switch text(v) {
	case "", "null", "false", "0", "{}", "[]":
		return true
	}
	return false
}

// keptByCluster are managers of fields that belong to the cluster itself.
var keptByCluster = []string{Manager, "kube-controller-manager", "kube-scheduler", "kubelet", "kube-apiserver"}

// foreign lists what somebody else set in an object: fields of its spec, or of its data.
func foreign(have Object) (out []string) {
	m, _ := tableOf(have["metadata"])
	entries, _ := listOf(m["managedFields"])
	for _, e := range entries {
		entry, _ := tableOf(e)
		manager, _ := entry["manager"].(string)
		if slices.Contains(keptByCluster, manager) || entry["subresource"] != nil && entry["subresource"] != "scale" {
			continue
		}
		fields, _ := tableOf(entry["fieldsV1"])
		for _, top := range []string{"f:spec", "f:data"} {
			for _, path := range leaves(strings.TrimPrefix(top, "f:"), fields[top]) {
				// A restart changes nothing that runs, and the number of copies is compared by itself.
				if !strings.HasSuffix(path, "kubectl.kubernetes.io/restartedAt") && path != "spec.replicas" {
					out = append(out, fmt.Sprintf("has %s, which %s set", path, manager))
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// leaves are the paths of managed fields (FieldsV1 in the Kubernetes API: "f:" is a field, "k:" an entry by its keys).
func leaves(path string, v any) (out []string) {
	t, _ := tableOf(v)
	for _, key := range sorted(t) {
		switch name, isField := strings.CutPrefix(key, "f:"); {
		case isField:
			out = append(out, leaves(path+"."+name, t[key])...)
		case strings.HasPrefix(key, "k:"):
			out = append(out, leaves(path+"["+strings.Trim(key[2:], "{}")+"]", t[key])...)
		}
	}
	if len(out) == 0 && v != nil {
		return []string{path}
	}
	return out
}

// podsDrift compares pods with the workloads that were asked for.
func podsDrift(a *Applied, pods []Item) (out []Drift) {
	wanted := map[string]Object{} // service → workload
	for _, o := range a.Objects {
		if kind := o["kind"]; kind == "Deployment" || kind == "StatefulSet" {
			wanted[nameOf(o)] = o
		}
	}
	ready := map[string]int{}
	for _, p := range pods {
		service := p.Metadata.Labels[labelName]
		o, ok := wanted[service]
		switch {
		case strings.HasPrefix(service, "step-"), p.Metadata.Deleted != "":
			continue
		case !ok:
			out = append(out, Drift{"pod " + p.Metadata.Name, "has this bay's labels, and is of no service of it"})
			continue
		case len(p.Metadata.Owners) == 0:
			out = append(out, Drift{"pod " + p.Metadata.Name, "has the labels of " + service + ", and no workload of this bay made it"})
			continue
		}
		image := imageIn(o)
		if p.Image() != image {
			out = append(out, Drift{"pod " + p.Metadata.Name, fmt.Sprintf("runs image %s, and %s was asked for", p.Image(), image)})
		}
		up := len(p.Status.Containers) > 0
		for _, c := range p.Status.Containers {
			up = up && c.Ready
		}
		if up {
			ready[service]++
		}
	}
	for name, o := range wanted {
		spec, _ := tableOf(o["spec"])
		if want := text(spec["replicas"]); text(ready[name]) != want {
			out = append(out, Drift{"service " + name, fmt.Sprintf("has %d copies that are ready, and %s were asked for", ready[name], want)})
		}
	}
	return out
}

// Mend takes out of a cluster what others put into the objects of a stack, and the pods that are nobody's: applying
// them anew would leave both. What is missing comes with the next apply.
func (k *Kubectl) Mend(ctx context.Context, s Stack) error {
	raw, err := k.Run(ctx, nil, "get", kinds, "--selector", s.Selector(), "--show-managed-fields", "-o", "json")
	if err != nil {
		return err
	}
	var live struct {
		Items []Object `json:"items"`
	}
	if err := json.Unmarshal(raw, &live); err != nil {
		return err
	}
	wanted := map[string]Object{}
	for _, o := range s.All() {
		wanted[fmt.Sprint(o["kind"])+"/"+nameOf(o)] = o
	}
	var anew []Object
	for _, have := range live.Items {
		kind := fmt.Sprint(have["kind"])
		if want, ok := wanted[kind+"/"+nameOf(have)]; ok && kind != "Job" && len(foreign(have)) > 0 {
			anew = append(anew, want)
		}
	}
	if len(anew) > 0 {
		if err := k.Replace(ctx, anew...); err != nil {
			return err
		}
	}
	pods, err := k.Get(ctx, "pods", "--selector", s.Selector())
	if err != nil {
		return err
	}
	var strangers []string
	for _, p := range pods {
		if len(p.Metadata.Owners) == 0 {
			strangers = append(strangers, "pod/"+p.Metadata.Name)
		}
	}
	if len(strangers) > 0 {
		_, err = k.Run(ctx, nil, append([]string{"delete", "--ignore-not-found", "--wait=false"}, strangers...)...)
	}
	return err
}
