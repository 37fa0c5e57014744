package cluster

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"app.example/trammel/internal/core/running/inside"
)

// live is an object as a server has it: with what it fills in, and with who set what.
func live(t *testing.T, o Object, change func(spec map[string]any), managers ...string) Object {
	t.Helper()
	raw, err := json.Marshal(o)
	if err != nil {
		t.Fatal(err)
	}
	var out Object
	if err := json.Unmarshal(raw, &out); err != nil {
		t.Fatal(err)
	}
	m, _ := tableOf(out["metadata"])
	m["uid"], m["annotations"] = "1", with(m["annotations"], "deployment.kubernetes.io/revision", "1")
	managed := []any{map[string]any{"manager": Manager, "fieldsV1": map[string]any{"f:spec": map[string]any{"f:replicas": map[string]any{}}}},
		map[string]any{"manager": "kube-controller-manager", "subresource": "status", "fieldsV1": map[string]any{"f:status": map[string]any{}}}}
	for _, x := range managers {
		name, field, _ := strings.Cut(x, " ")
		managed = append(managed, map[string]any{"manager": name, "fieldsV1": map[string]any{"f:spec": map[string]any{"f:template": map[string]any{"f:spec": map[string]any{field: map[string]any{}}}}}})
	}
	m["managedFields"] = managed
	spec, _ := tableOf(out["spec"])
	if spec != nil {
		spec["progressDeadlineSeconds"] = 600 // which the server fills in
		if change != nil {
			change(spec)
		}
	}
	return out
}

func with(v any, key, value string) map[string]any {
	out, _ := tableOf(v)
	if out == nil {
		out = map[string]any{}
	}
	out[key] = value
	return out
}

func TestWhatALiveObjectHasOtherwiseIsNamed(t *testing.T) {
	s := Stack{Project: "heronweir", Bay: "preview", Namespace: "heronweir-preview"}
	x := Service{Name: "board", Copies: 2, Image: "registry.example/board@sha256:aa", Values: map[string]string{"SEASON": "spring"}, Run: inside.Service{Ports: map[string]int{"http": 8080}}}
	workload := s.Workload(x)[0]
	container := func(spec map[string]any) map[string]any {
		template, _ := tableOf(spec["template"])
		pod, _ := tableOf(template["spec"])
		list, _ := listOf(pod["containers"])
		c, _ := tableOf(list[0])
		return c
	}
	for name, c := range map[string]struct {
		change   func(spec map[string]any)
		managers []string
		want     string
	}{
		"all as asked":  {nil, nil, ""},
		"a restart":     {nil, []string{"kubectl-rollout f:kubectl.kubernetes.io/restartedAt"}, ""},
		"another image": {func(spec map[string]any) { container(spec)["image"] = "evil.example/miner" }, nil, "image = evil.example/miner, and registry.example/board@sha256:aa was asked for"},
		"no copies":     {func(spec map[string]any) { spec["replicas"] = 0 }, nil, "spec.replicas = 0, and 2 was asked for"},
		"a variable more": {func(spec map[string]any) {
			c := container(spec)
			c["env"] = append(c["env"].([]any), map[string]any{"name": "EVIL", "value": "1"})
		}, nil, "has 3 entries in spec.template.spec.containers[board].env, and 2 were asked for: EVIL"},
		"a variable's value": {func(spec map[string]any) { container(spec)["env"].([]any)[1].(map[string]any)["value"] = "autumn" }, nil, "env[SEASON].value = autumn, and spring was asked for"},
		"a port of its own":  {func(spec map[string]any) { container(spec)["ports"].([]any)[0].(map[string]any)["containerPort"] = 9 }, nil, "containerPort = 9, and 8080 was asked for"},
		"rights": {func(spec map[string]any) {
			container(spec)["securityContext"].(map[string]any)["allowPrivilegeEscalation"] = true
		}, nil, "allowPrivilegeEscalation = true, and false was asked for"},
		"a field of another": {nil, []string{"kubectl-edit f:hostNetwork"}, "has spec.template.spec.hostNetwork, which kubectl-edit set"},
		"of another's apply": {nil, []string{"deployer f:nodeSelector"}, "which deployer set"},
		"a sidecar container": {func(spec map[string]any) {
			template, _ := tableOf(spec["template"])
			pod, _ := tableOf(template["spec"])
			pod["containers"] = append(pod["containers"].([]any), map[string]any{"name": "sidecar", "image": "x"})
		}, nil, "has 2 entries in spec.template.spec.containers, and 1 were asked for: sidecar"},
	} {
		got := Differs(workload, live(t, workload, c.change, c.managers...))
		switch {
		case c.want == "" && len(got) > 0:
			t.Errorf("%s: %q", name, got)
		case c.want != "" && !slices.ContainsFunc(got, func(x string) bool { return strings.Contains(x, c.want) }):
			t.Errorf("%s: %q, not %q", name, got, c.want)
		}
	}
}

func TestSecretsAreComparedByADigest(t *testing.T) {
	s := Stack{Project: "heronweir", Bay: "preview", Namespace: "n", Secrets: map[string]string{"pass": "hush"}}
	secret := s.Common()[0]
	kept := Object{}
	for key, value := range secret {
		kept[key] = value
	}
	kept["data"] = SumOf(secret["data"])
	if raw, _ := json.Marshal(kept); strings.Contains(string(raw), "aHVzaA") {
		t.Errorf("the value is kept: %s", raw)
	}
	if got := Differs(kept, live(t, secret, nil)); len(got) > 0 {
		t.Errorf("%q", got)
	}
	other := live(t, secret, nil)
	other["data"].(map[string]any)["pass"] = "b3RoZXI="
	if got := Differs(kept, other); !slices.Equal(got, []string{"has other values"}) {
		t.Errorf("%q", got)
	}
}

func TestPodsAreThoseOfTheBay(t *testing.T) {
	s := Stack{Project: "heronweir", Bay: "preview", Namespace: "n"}
	x := Service{Name: "board", Copies: 1, Image: "registry.example/board@sha256:aa"}
	a := &Applied{Objects: s.Workload(x)}
	pod := func(name, service, image, ready string, owned bool) (p Item) {
		text := `{"kind": "Pod", "metadata": {"name": "` + name + `", "labels": {"` + labelName + `": "` + service + `"}`
		if owned {
			text += `, "ownerReferences": [{"kind": "ReplicaSet", "name": "r"}]`
		}
		text += `}, "spec": {"containers": [{"image": "` + image + `"}]}, "status": {"containerStatuses": [{"ready": ` + ready + `}]}}`
		if err := json.Unmarshal([]byte(text), &p); err != nil {
			t.Fatal(err)
		}
		return p
	}
	good := pod("board-1", "board", x.Image, "true", true)
	for name, c := range map[string]struct {
		pods []Item
		want []string
	}{
		"as asked":      {[]Item{good}, nil},
		"none":          {nil, []string{"service board has 0 copies that are ready, and 1 were asked for"}},
		"not ready":     {[]Item{pod("board-1", "board", x.Image, "false", true)}, []string{"service board has 0 copies that are ready, and 1 were asked for"}},
		"another image": {[]Item{pod("board-1", "board", "evil.example/x", "true", true)}, []string{"pod board-1 runs image evil.example/x, and registry.example/board@sha256:aa was asked for"}},
		"nobody's":      {[]Item{good, pod("evil", "board", x.Image, "true", false)}, []string{"pod evil has the labels of board, and no workload of this bay made it"}},
		"of no service": {[]Item{good, pod("evil", "gone", x.Image, "true", true)}, []string{"pod evil has this bay's labels, and is of no service of it"}},
		"of a step":     {[]Item{good, pod("step-x", "step-migrate-1", x.Image, "false", true)}, nil},
	} {
		var got []string
		for _, d := range podsDrift(a, c.pods) {
			got = append(got, d.Thing+" "+d.What)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, not %q", name, got, c.want)
		}
	}
}
