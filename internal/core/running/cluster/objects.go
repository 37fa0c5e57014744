// Package cluster has the services of a bay run in a Kubernetes cluster: it makes the objects of
// their API (v1, apps/v1, batch/v1, networking.k8s.io/v1; Kubernetes 1.30 or later), and asks for
// them through kubectl, with the contexts and the sign-in that a person has.
//
// Objects are pure: from a Stack they follow, and nothing else. Nothing in them is of this
// machine, so that everybody who starts the same bay asks for the same.
package cluster

import (
	"encoding/base64"
	"fmt"
	"path"
	"slices"
	"strings"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/running/inside"
)

// Object is one object of the API.
type Object map[string]any

// list and table are what objects are made of.
type (
	list  = []any
	table = map[string]any
)

// Stack is what runs in a cluster.
type Stack struct {
	Project     string
	Bay         string
	Namespace   string
	Own         bool   // the namespace is the bay's alone, and goes with it
	Environment string // environment id
	Lock        string // lock id
	Pull        string // when nodes fetch images: "IfNotPresent" and the like
	Storage     string // how much a claim asks for
	Class       string // of storage; "" the cluster's own, "none" keeps nothing beyond a pod
	Services    []Service
	Steps       []Step
	Secrets     map[string]string // made-up secrets: file name → value
	Files       []File
	Private     bool // services see only those of their segments
}

// Service is one of the stack's.
type Service struct {
	Name   string
	Copies int // 0: it is stopped
	Each   bool
	Keeps  bool
	Image  string
	Digest string // of what decides how it behaves
	Run    inside.Service
	Values map[string]string // variables that depend on where it runs
	Hidden map[string]string // those with a secret in them
	Sees   []string          // services that it is seen by, in a private network
}

// Step is a step that is done once for the bay.
type Step struct {
	Name   string
	Image  string
	Digest string
	Values map[string]string
	Hidden map[string]string
}

// File is a rendered one.
type File struct {
	Path   string // below the project's folder
	Text   string
	Secret bool // there is a secret in it
}

// Manager is the field manager of all objects.
const Manager = "trammel"

// What objects are known by.
const (
	labelBay    = "example.app.trammel/bay"
	labelName   = "app.kubernetes.io/name"
	labelPartOf = "app.kubernetes.io/part-of"
	labelBy     = "app.kubernetes.io/managed-by"
	markDigest  = "example.app.trammel/digest"
	markLock    = "example.app.trammel/lock"
	markEnv     = "example.app.trammel/environment"
)

// Selector is what all objects of the stack have.
func (s Stack) Selector() string {
	return fmt.Sprintf("%s=%s,%s=%s,%s=%s", labelBy, Manager, labelPartOf, s.Project, labelBay, s.Bay)
}

func (s Stack) labels(name string) table {
	out := table{labelBy: Manager, labelPartOf: s.Project, labelBay: s.Bay}
	if name != "" {
		out[labelName] = name
	}
	return out
}

func (s Stack) object(version, kind, name string, more table) Object {
	o := Object{"apiVersion": version, "kind": kind, "metadata": table{"name": name, "namespace": s.Namespace, "labels": s.labels("")}}
	for key, value := range more {
		o[key] = value
	}
	return o
}

// Name is a name as the API takes it.
func Name(words ...string) string { return strings.ReplaceAll(strings.Join(words, "-"), "_", "-") }

// CopyName is the name at which one copy of a service is reached, from 1.
func CopyName(service string, copy int) string { return Name(service, fmt.Sprint(copy)) }

// Group is the namespace's own object; nil where the namespace is somebody else's.
func (s Stack) Group() Object {
	if !s.Own {
		return nil
	}
	labels := s.labels("")
	labels["pod-security.kubernetes.io/enforce"] = "restricted"
	return Object{"apiVersion": "v1", "kind": "Namespace", "metadata": table{"name": s.Namespace, "labels": labels}}
}

// Common are the objects that workloads refer to.
func (s Stack) Common() []Object {
	var out []Object
	if len(s.Secrets) > 0 {
		out = append(out, s.secret("made-up", s.Secrets))
	}
	plain, hidden := table{}, map[string]string{}
	for i, f := range s.Files {
		if f.Secret {
			hidden[fmt.Sprintf("file-%d", i)] = f.Text
		} else {
			plain[fmt.Sprintf("file-%d", i)] = f.Text
		}
	}
	if len(plain) > 0 {
		out = append(out, s.object("v1", "ConfigMap", "files", table{"data": plain}))
	}
	if len(hidden) > 0 {
		out = append(out, s.secret("files", hidden))
	}
	for _, x := range s.Services {
		out = append(out, s.services(x)...)
		if s.Private {
			out = append(out, s.policy(x))
		}
	}
	return out
}

func (s Stack) secret(name string, values map[string]string) Object {
	data := table{}
	for key, value := range values {
		data[key] = base64.StdEncoding.EncodeToString([]byte(value))
	}
	return s.object("v1", "Secret", name, table{"type": "Opaque", "data": data})
}

// services are the names at which a service is reached: that of all copies, and of each.
func (s Stack) services(x Service) []Object {
	ports := list{}
	for _, name := range sorted(x.Run.Ports) {
		n := x.Run.Ports[name]
		ports = append(ports, table{"name": portName(name), "port": n, "targetPort": n, "protocol": "TCP"})
	}
	if len(ports) == 0 {
		if !x.stateful() {
			return nil
		}
		return []Object{s.object("v1", "Service", Name(x.Name), table{"spec": table{"clusterIP": "None", "selector": s.labels(Name(x.Name))}})}
	}
	out := []Object{s.object("v1", "Service", Name(x.Name), table{"spec": table{"selector": s.labels(Name(x.Name)), "ports": ports}})}
	for copy := 1; x.Each && copy <= x.Copies; copy++ {
		selector := s.labels(Name(x.Name))
		selector["statefulset.kubernetes.io/pod-name"] = fmt.Sprintf("%s-%d", Name(x.Name), copy-1)
		// A copy is asked whether it is ready, too, so that it is reached as soon as it runs.
		out = append(out, s.object("v1", "Service", CopyName(x.Name, copy), table{"spec": table{"selector": selector, "ports": ports}}))
	}
	return out
}

// portName is a name of at most 15 characters (IANA_SVC_NAME).
func portName(name string) string {
	name = Name(name)
	return strings.Trim(name[:min(len(name), 15)], "-")
}

// policy lets only those reach a service that share a segment with it.
func (s Stack) policy(x Service) Object {
	from := list{}
	for _, name := range x.Sees {
		from = append(from, table{"podSelector": table{"matchLabels": s.labels(Name(name))}})
	}
	for _, step := range s.Steps { // which stand outside of the segments, as on one machine
		from = append(from, table{"podSelector": table{"matchLabels": s.labels(stepName(step))}})
	}
	return s.object("networking.k8s.io/v1", "NetworkPolicy", Name(x.Name), table{"spec": table{
		"podSelector": table{"matchLabels": s.labels(Name(x.Name))}, "policyTypes": list{"Ingress"}, "ingress": list{table{"from": from}},
	}})
}

// stateful tells whether its copies are told apart.
func (x Service) stateful() bool { return x.Each || x.Keeps }

// Kind is the kind of its workload.
func (x Service) Kind() string {
	if x.stateful() {
		return "StatefulSet"
	}
	return "Deployment"
}

// Workload are the objects that make a service run.
func (s Stack) Workload(x Service) []Object {
	var out []Object
	if len(x.Hidden) > 0 {
		out = append(out, s.secret(Name(x.Name, "variables"), x.Hidden))
	}
	grace := int(x.Run.Within.Seconds()) + 5
	pod := s.pod(x.Name, x.Image, list{"service", x.Name}, x.Values, x.Hidden, x.Keeps)
	container := pod["containers"].(list)[0].(table)
	ports := list{}
	for _, name := range sorted(x.Run.Ports) {
		ports = append(ports, table{"name": portName(name), "containerPort": x.Run.Ports[name], "protocol": "TCP"})
	}
	if len(ports) > 0 {
		container["ports"] = ports
	}
	if probe := x.probe(); probe != nil {
		container["readinessProbe"] = probe
	}
	pod["terminationGracePeriodSeconds"] = grace
	template := table{
		"metadata": table{"labels": s.labels(Name(x.Name)), "annotations": table{markDigest: x.Digest, "example.app.trammel/values": digest(x.Values, x.Hidden, s.Secrets, s.Files)}},
		"spec":     pod,
	}
	spec := table{"replicas": x.Copies, "selector": table{"matchLabels": s.labels(Name(x.Name))}, "template": template}
	o := s.object("apps/v1", x.Kind(), Name(x.Name), table{"spec": spec})
	o["metadata"].(table)["annotations"] = table{markLock: s.Lock, markEnv: s.Environment, markDigest: x.Digest}
	o["metadata"].(table)["labels"] = s.labels(Name(x.Name))
	if x.stateful() {
		spec["serviceName"] = Name(x.Name)
		spec["podManagementPolicy"] = "Parallel"
		if x.Keeps && s.Class != "none" {
			claim := table{"accessModes": list{"ReadWriteOnce"}, "resources": table{"requests": table{"storage": s.Storage}}}
			if s.Class != "" {
				claim["storageClassName"] = s.Class
			}
			spec["volumeClaimTemplates"] = list{table{"apiVersion": "v1", "kind": "PersistentVolumeClaim", "metadata": table{"name": "bay", "labels": s.labels(Name(x.Name))}, "spec": claim}}
			spec["persistentVolumeClaimRetentionPolicy"] = table{"whenDeleted": "Retain", "whenScaled": "Retain"}
		}
	}
	return append(out, o)
}

// pod is what runs of an image.
func (s Stack) pod(name, image string, args list, values, hidden map[string]string, keeps bool) table {
	env := list{table{"name": "TRAMMEL_WAIT", "value": "1"}}
	for _, key := range sorted(values) {
		env = append(env, table{"name": key, "value": strings.ReplaceAll(values[key], "$(", "$$(")})
	}
	for _, key := range sorted(hidden) {
		env = append(env, table{"name": key, "valueFrom": table{"secretKeyRef": table{"name": Name(name, "variables"), "key": key}}})
	}
	container := table{
		"name": Name(name), "image": image, "args": args, "env": env, "imagePullPolicy": s.Pull,
		"securityContext": table{"allowPrivilegeEscalation": false, "capabilities": table{"drop": list{"ALL"}}},
	}
	volumes, mounts := list{}, list{}
	if keeps {
		mounts = append(mounts, table{"name": "bay", "mountPath": inside.Bay})
		if s.Class == "none" {
			volumes = append(volumes, table{"name": "bay", "emptyDir": table{}})
		}
	}
	if len(s.Secrets) > 0 {
		volumes = append(volumes, table{"name": "made-up", "secret": table{"secretName": "made-up", "defaultMode": 0o440}})
		mounts = append(mounts, table{"name": "made-up", "mountPath": inside.SecretsFolder, "readOnly": true})
	}
	for _, kind := range []bool{false, true} {
		if !slices.ContainsFunc(s.Files, func(f File) bool { return f.Secret == kind }) {
			continue
		}
		volume := "files"
		source := table{"name": "files", "configMap": table{"name": "files"}}
		if kind {
			volume, source = "secret-files", table{"name": "secret-files", "secret": table{"secretName": "files", "defaultMode": 0o440}}
		}
		volumes = append(volumes, source)
		for i, f := range s.Files {
			if f.Secret == kind {
				mounts = append(mounts, table{"name": volume, "mountPath": path.Join(inside.Project(s.Project), f.Path), "subPath": fmt.Sprintf("file-%d", i), "readOnly": true})
			}
		}
	}
	if len(mounts) > 0 {
		container["volumeMounts"] = mounts
	}
	pod := table{
		"automountServiceAccountToken": false, "enableServiceLinks": false, "containers": list{container},
		"securityContext": table{
			"runAsNonRoot": true, "runAsUser": inside.User, "runAsGroup": inside.User, "fsGroup": inside.User, "fsGroupChangePolicy": "OnRootMismatch",
			"seccompProfile": table{"type": "RuntimeDefault"},
		},
	}
	if len(volumes) > 0 {
		pod["volumes"] = volumes
	}
	return pod
}

// probe is how the cluster finds out that a service can be used.
func (x Service) probe() table {
	r := x.Run.Ready
	every := table{"periodSeconds": 2, "timeoutSeconds": 5, "failureThreshold": 3}
	with := func(kind string, how table) table {
		every[kind] = how
		return every
	}
	switch {
	case r.HTTP != "" && r.Status == 0:
		return with("httpGet", table{"path": r.HTTP, "port": r.Port, "scheme": "HTTP"})
	case r.TCP != 0:
		return with("tcpSocket", table{"port": r.TCP})
	case r.HTTP != "", r.Log != "", r.File != "", r.Notify, !r.Command.Empty():
		return with("exec", table{"command": list{inside.Program, "inside", "ready", x.Name}})
	}
	if names := sorted(x.Run.Ports); len(names) > 0 {
		return with("tcpSocket", table{"port": x.Run.Ports[names[0]]})
	}
	return nil
}

func stepName(x Step) string {
	return Name("step", x.Name, strings.TrimPrefix(x.Digest, "sha256:")[:8])
}

// Job is the object that does a step. Its name says what it is made of, so that one that is
// done need not be done again, whoever asks.
func (s Stack) Job(x Step) []Object {
	var out []Object
	name := stepName(x)
	if len(x.Hidden) > 0 {
		out = append(out, s.secret(Name(name, "variables"), x.Hidden))
	}
	pod := s.pod(name, x.Image, list{"step", x.Name}, x.Values, x.Hidden, false)
	pod["restartPolicy"] = "Never"
	o := s.object("batch/v1", "Job", name, table{"spec": table{
		"backoffLimit": 0, "template": table{"metadata": table{"labels": s.labels(name)}, "spec": pod},
	}})
	o["metadata"].(table)["labels"] = s.labels(name)
	o["metadata"].(table)["annotations"] = table{markDigest: x.Digest, markLock: s.Lock}
	return append(out, o)
}

// All are the objects of the whole stack, in an order in which they can be applied.
func (s Stack) All() []Object {
	var out []Object
	if o := s.Group(); o != nil {
		out = append(out, o)
	}
	out = append(out, s.Common()...)
	for _, x := range s.Steps {
		out = append(out, s.Job(x)...)
	}
	for _, x := range s.Services {
		out = append(out, s.Workload(x)...)
	}
	return out
}

func digest(values ...any) string {
	all := canon.List{}
	for _, v := range values {
		all = append(all, fmt.Sprint(v))
	}
	return canon.Digest(all)
}

func sorted[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
