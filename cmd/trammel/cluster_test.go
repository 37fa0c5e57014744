package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// The tests in this file use a real Kubernetes cluster, and the registries of this machine for
// what runs in it. They run when TRAMMEL_CLUSTER=1, kubectl has a current context, and
// TRAMMEL_CLUSTER_HAND is a command that takes an archive and a reference and makes that image
// known to the nodes, of which there is one: this machine.

const weirInACluster = `format    = 1
project   = "heronweir"
about     = "Counts fish passing the ladder at a weir"
isolation = "sealed"

[source.trixie]
kind  = "debian"
suite = "trixie"

[toolchain]
node       = "22.22"
postgresql = "17"
nginx      = "1"

[libraries.api]
kind  = "node"
files = ["api/package.json"]

[variables]
LEDGER_URL = "@{service.ledger.url}"
STATION    = "@{param.station}"

[secret.pass]
from = "file:pass.txt"

[param.lanes]
kind    = "integer"
default = 3

[param.station]
kind    = "text"
default = "weir one"

[file."api/station.json"]
template = "api/station.tmpl"

[service.ledger]
tool = "postgresql"

[step.migrate]
about = "Make the tables"
run   = "psql -q -v ON_ERROR_STOP=1 -f db/schema.sql \"$LEDGER_URL\""
needs = ["service.ledger"]
reads = ["db/schema.sql"]
per   = "bay"

[service.api]
run    = "node api/server.js @{port.http}"
needs  = ["step.migrate", "service.ledger"]
copies = "@{param.lanes}"
ports  = { http = 28600 }
ready  = { http = "/health" }
variables = { PASS = "@{secret.pass}" }

[service.board]
tool     = "nginx"
needs    = ["service.api"]
settings = { server = "location /counts { proxy_pass http://@{service.api.address}/; }" }
`

const laneAPI = `const http = require('http'), os = require('os'), fs = require('fs'), { Pool } = require('pg');
const pool = new Pool({ connectionString: process.env.LEDGER_URL });
pool.on('error', () => {});
const about = JSON.parse(fs.readFileSync(__dirname + '/station.json'));
console.log('counting at ' + about.station);
const server = http.createServer(async (q, r) => {
  try {
    if (q.url === '/health') { r.end('ok\n'); return; }
    if (q.url === '/pass') { r.end(process.env.PASS.trim() + '\n'); return; }
    if (q.method === 'POST') { await pool.query("insert into passings(species) values ('silverfin')"); }
    const n = await pool.query('select count(*) from passings');
    r.end(process.env.STATION + ': ' + n.rows[0].count + ' passings, from ' + os.hostname() + '\n');
  } catch (e) { r.statusCode = 500; r.end(String(e) + '\n'); }
});
server.listen(Number(process.argv[2]), '127.0.0.1');
process.on('SIGTERM', () => server.close(() => process.exit(0)));
`

type clusterHut struct {
	*hut
	context, namespace string
}

// kubectl asks the cluster, as a person would.
func (h *clusterHut) kubectl(args ...string) string {
	h.t.Helper()
	out, err := exec.Command("kubectl", append([]string{"--context", h.context}, args...)...).CombinedOutput()
	if err != nil {
		h.t.Fatalf("kubectl %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

func newClusterHut(t *testing.T) *clusterHut {
	t.Helper()
	if os.Getenv("TRAMMEL_CLUSTER") != "1" || os.Getenv("TRAMMEL_CLUSTER_HAND") == "" {
		t.Skip("set TRAMMEL_CLUSTER=1 and TRAMMEL_CLUSTER_HAND to use the cluster that kubectl knows")
	}
	linuxOnly(t)
	now, err := exec.Command("kubectl", "config", "current-context").Output()
	if err != nil {
		t.Fatal(err)
	}
	h := &clusterHut{newHut(t, nil, weirInACluster), strings.TrimSpace(string(now)), fmt.Sprintf("weir-%d", time.Now().UnixNano()%1e9)}
	h.env = append(ownMachine(), "TRAMMEL_HOME="+h.home)
	h.write("api/package.json", `{"name":"lane-api","private":true,"dependencies":{"pg":"8"}}`)
	h.write("api/server.js", laneAPI)
	h.write("api/station.tmpl", `{"station": "{{ .param.station }}"}`)
	h.write("db/schema.sql", "create table if not exists passings (id serial primary key, species text);\n")
	h.write("pass.txt", "mill trout\n")
	h.write(".gitignore", ".trammel/\npass.txt\nnode_modules/\napi/station.json\n")
	if err := os.Chmod(filepath.Join(h.dir, "pass.txt"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.git("init", "-q")
	h.ok("lock")
	return h
}

func (h *clusterHut) git(args ...string) {
	h.t.Helper()
	c := exec.Command("git", append([]string{"-c", "user.name=weir", "-c", "user.email=weir@weir.example"}, args...)...)
	c.Dir = h.dir
	if out, err := c.CombinedOutput(); err != nil {
		h.t.Fatalf("git %v: %s", args, out)
	}
}

func (h *clusterHut) commit() {
	h.t.Helper()
	h.git("add", "-A")
	h.git("commit", "-qm", "weir")
}

// volumes are some that claims find, as a cluster has them as a rule.
func (h *clusterHut) volumes(n int) {
	h.t.Helper()
	for i := range n {
		name := fmt.Sprintf("%s-%d-%d", h.namespace, i, time.Now().UnixNano()%1e9)
		dir := filepath.Join(h.t.TempDir(), name)
		if err := os.MkdirAll(dir, 0o777); err != nil {
			h.t.Fatal(err)
		}
		if err := os.Chmod(dir, 0o777); err != nil { // whatever the umask
			h.t.Fatal(err)
		}
		for up := filepath.Dir(dir); up != "/" && up != os.TempDir(); up = filepath.Dir(up) {
			_ = os.Chmod(up, 0o755)
		}
		c := exec.Command("kubectl", "--context", h.context, "apply", "-f", "-")
		c.Stdin = strings.NewReader(fmt.Sprintf(`{"apiVersion":"v1","kind":"PersistentVolume","metadata":{"name":%q},"spec":{"capacity":{"storage":"64Mi"},"accessModes":["ReadWriteOnce"],"persistentVolumeReclaimPolicy":"Retain","hostPath":{"path":%q}}}`, name, dir))
		if out, err := c.CombinedOutput(); err != nil {
			h.t.Fatalf("%s", out)
		}
		h.t.Cleanup(func() { h.kubectl("delete", "pv", name, "--ignore-not-found", "--wait=false") })
	}
}

// preview runs a command on the bay in the cluster.
func (h *clusterHut) preview(args ...string) string {
	h.t.Helper()
	return h.ok(append([]string{"--bay", "preview"}, args...)...)
}

// port is the number at which a copy is reached here.
func (h *clusterHut) port(name, port string) int {
	h.t.Helper()
	for _, st := range statusesIn(h.t, h.hut, "preview") {
		if st.Name == name {
			return st.Ports[port]
		}
	}
	h.t.Fatalf("no %s runs", name)
	return 0
}

func (h *clusterHut) ask(method, name, path string) string {
	h.t.Helper()
	url := fmt.Sprintf("http://127.0.0.1:%d%s", h.port(name, "http"), path)
	r, err := http.NewRequest(method, url, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	answer, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: time.Minute}).Do(r)
	if err != nil {
		h.t.Fatalf("%s: %v", url, err)
	}
	defer answer.Body.Close()
	raw, _ := io.ReadAll(answer.Body)
	return string(raw)
}

// begun are the times at which the pods of the bay began, by their names.
func (h *clusterHut) begun() map[string]string {
	var list struct {
		Items []struct {
			Metadata struct {
				Name, UID string
			}
		}
	}
	if err := json.Unmarshal([]byte(h.kubectl("-n", h.namespace, "get", "pods", "-o", "json")), &list); err != nil {
		h.t.Fatal(err)
	}
	out := map[string]string{}
	for _, x := range list.Items {
		out[x.Metadata.Name] = x.Metadata.UID
	}
	return out
}

func TestClusterHasAWholeStack(t *testing.T) {
	h := newClusterHut(t)
	h.ok("fit", "--approve")
	h.commit()
	h.volumes(4)
	h.fails(4, []string{"To the cluster", "the secrets in LEDGER_URL, PASS", "--approve"}, "--bay", "preview", "start", "--cluster", h.context+"/"+h.namespace, "--hand", os.Getenv("TRAMMEL_CLUSTER_HAND"))
	h.preview("start", "--cluster", h.context+"/"+h.namespace, "--hand", os.Getenv("TRAMMEL_CLUSTER_HAND"), "--storage", "64Mi", "--approve")
	if got := h.ask("GET", "board", "/counts"); !strings.HasPrefix(got, "weir one: 0 passings") {
		t.Errorf("the board answers %q", got)
	}
	h.ask("POST", "api.1", "/")
	if got := h.ask("GET", "api.3", "/pass"); got != "mill trout\n" {
		t.Errorf("the secret is %q", got)
	}
	if out := h.preview("show"); !strings.Contains(out, "in "+h.context+"/"+h.namespace) || strings.Contains(out, "kubectl") {
		t.Errorf("show:\n%s", out)
	}
	if out := h.preview("logs", "api"); !strings.Contains(out, "counting at weir one") {
		t.Errorf("the logs of pods are not here:\n%s", out)
	}
	if out := h.preview("run", "--", "sh", "-c", `psql -tAc "select count(*) from passings" "$LEDGER_URL"`); out != "1\n" {
		t.Errorf("a command here sees %q", out)
	}
	h.preview("verify")

	t.Run("a shell and the live view", func(t *testing.T) {
		shell := h.session("--bay", "preview", "shell", "--login", "/bin/bash")
		shell.say(`psql -tAc "select 'in the ' || 'cluster ' || count(*) from passings" "$LEDGER_URL"; exit`)
		shell.hears("in the cluster 1")
		_ = shell.cmd.Wait()
		view := h.session("--bay", "preview", "watch")
		view.hears("pod ledger-0")
		view.hears("board.preview.heronweir.localhost")
		if _, err := view.tty.Write([]byte("q")); err != nil {
			t.Fatal(err)
		}
		if err := view.cmd.Wait(); err != nil {
			t.Error(err)
		}
	})
	t.Run("objects for others to apply", func(t *testing.T) {
		h.preview("export", "kubernetes", "--image", "registry.example/heronweir@sha256:"+strings.Repeat("0", 64), "--namespace", h.namespace, "--storage", "64Mi", "-o", "weir.yaml", "--approve")
		if out := h.kubectl("apply", "--server-side", "--field-manager=others", "--force-conflicts", "--dry-run=server", "--validate=strict", "-f", filepath.Join(h.dir, "weir.yaml")); strings.Contains(out, "Warning") || strings.Count(out, "serverside-applied") < 12 {
			t.Errorf("the API says:\n%s", out)
		}
		if info, err := os.Stat(filepath.Join(h.dir, "weir.yaml")); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("a file with secrets is for others too: %v, %v", info.Mode(), err)
		}
		if err := os.Remove(filepath.Join(h.dir, "weir.yaml")); err != nil {
			t.Fatal(err)
		}
	})
	t.Run("what somebody changes is named, and start mends it", func(t *testing.T) {
		in := func(args ...string) func() {
			return func() { h.kubectl(append([]string{"-n", h.namespace}, args...)...) }
		}
		for name, c := range map[string]struct {
			change func()
			words  []string
		}{
			"an image":         {in("set", "image", "statefulset/board", "board=registry.example/miner:1"), []string{"statefulset board", "registry.example/miner:1"}},
			"a variable":       {in("set", "env", "statefulset/api", "EVIL=1"), []string{"statefulset api", "EVIL"}},
			"no copies":        {in("scale", "statefulset/board", "--replicas=0"), []string{"statefulset board", "replicas"}},
			"a field":          {in("patch", "statefulset", "board", "--type=merge", "-p", `{"spec":{"template":{"spec":{"nodeSelector":{"evil":"yes"}}}}}`), []string{"statefulset board", "nodeSelector"}},
			"a file":           {in("patch", "configmap", "files", "--type=merge", "-p", `{"data":{"file-0":"other"}}`), []string{"configmap files"}},
			"a file more":      {in("patch", "configmap", "files", "--type=merge", "-p", `{"data":{"evil":"other"}}`), []string{"configmap files", "evil"}},
			"a secret":         {in("patch", "secret", "api-variables", "--type=merge", "-p", `{"data":{"PASS":"ZXZpbA=="}}`), []string{"secret api-variables"}},
			"a port":           {in("patch", "service", "board", "--type=json", "-p", `[{"op":"replace","path":"/spec/ports/0/targetPort","value":9}]`), []string{"service board", "targetPort"}},
			"whom it leads to": {in("patch", "service", "board", "--type=merge", "-p", `{"spec":{"selector":{"evil":"yes"}}}`), []string{"service board", "selector"}},
			"a name gone":      {in("delete", "service", "board"), []string{"service board", "is not there"}},
			"a workload gone":  {in("delete", "statefulset", "board"), []string{"statefulset board", "is not there"}},
			"a pod of nobody": {func() {
				c := exec.Command("kubectl", "--context", h.context, "-n", h.namespace, "apply", "-f", "-")
				c.Stdin = strings.NewReader(fmt.Sprintf(`{"apiVersion":"v1","kind":"Pod","metadata":{"name":"evil","labels":{"app.kubernetes.io/managed-by":"trammel","app.kubernetes.io/part-of":"heronweir","example.app.trammel/bay":"preview","app.kubernetes.io/name":"board"}},"spec":{"securityContext":{"runAsNonRoot":true,"runAsUser":1000,"seccompProfile":{"type":"RuntimeDefault"}},"containers":[{"name":"evil","image":%q,"securityContext":{"allowPrivilegeEscalation":false,"capabilities":{"drop":["ALL"]}}}]}}`, "registry.example/miner:1"))
				if out, err := c.CombinedOutput(); err != nil {
					t.Fatalf("%s", out)
				}
			}, []string{"pod evil", "no workload of this bay made it"}},
		} {
			t.Run(name, func(t *testing.T) {
				c.change()
				h.fails(3, append(c.words, "services", "trammel --bay preview start"), "--bay", "preview", "verify")
				h.preview("start")
				h.preview("verify")
			})
		}
		h.kubectl("delete", "namespace", h.namespace, "--wait")
		h.fails(3, []string{"namespace " + h.namespace, "is not there"}, "--bay", "preview", "verify")
		h.volumes(4)
		h.preview("start")
		h.preview("verify")
		h.ask("POST", "api.1", "/")
	})
	t.Run("a pod that ends", func(t *testing.T) {
		h.kubectl("-n", h.namespace, "delete", "pod", "api-0") // what comes while the next one begins is waited for
		if got := h.ask("GET", "api.1", "/"); !strings.HasPrefix(got, "weir one: 1 passings, from api-0") {
			t.Errorf("%q", got)
		}
	})
	t.Run("a connection that breaks", func(t *testing.T) {
		for _, pid := range forwarders(t, h.hut, "api.2") {
			p, err := os.FindProcess(pid)
			if err == nil {
				_ = p.Kill()
			}
		}
		if got := h.ask("GET", "api.2", "/"); !strings.HasPrefix(got, "weir one: 1 passings") {
			t.Errorf("%q", got)
		}
	})
	t.Run("fewer copies", func(t *testing.T) {
		before := h.begun()
		h.preview("start", "--param", "lanes=2")
		after := h.begun()
		if after["api-2"] != "" || after["api-1"] != before["api-1"] || after["ledger-0"] != before["ledger-0"] {
			t.Errorf("before %v, after %v", before, after)
		}
	})
	t.Run("another lock", func(t *testing.T) {
		before := h.begun()
		h.write("trammel.toml", strings.Replace(weirInACluster, `"22.22"`, `"22.21"`, 1))
		h.ok("lock")
		h.ok("fit", "--approve")
		h.commit()
		h.fails(3, []string{"services", "was made from environment"}, "--bay", "preview", "verify")
		h.preview("start")
		after := h.begun()
		if after["ledger-0"] != before["ledger-0"] || after["board-0"] != before["board-0"] || after["api-0"] == before["api-0"] {
			t.Errorf("before %v, after %v", before, after)
		}
		h.preview("verify")
	})
	t.Run("data", func(t *testing.T) {
		h.preview("data", "save", "ledger", "passings.sql.gz")
		h.ok("start")
		h.ok("data", "load", "ledger", "passings.sql.gz")
		if out := h.ok("run", "--", "sh", "-c", `psql -tAc "select count(*) from passings" "$LEDGER_URL"`); out != "1\n" {
			t.Errorf("the data of the cluster came here as %q", out)
		}
		h.ok("run", "--", "sh", "-c", `psql -qc "insert into passings(species) values ('redgill')" "$LEDGER_URL"`)
		h.ok("data", "save", "ledger", "more.sql.gz")
		h.preview("data", "load", "ledger", "more.sql.gz")
		if out := h.preview("run", "--", "sh", "-c", `psql -tAc "select count(*) from passings" "$LEDGER_URL"`); out != "2\n" {
			t.Errorf("the data of this machine came there as %q", out)
		}
		h.ok("stop")
	})
	t.Run("stopped and started", func(t *testing.T) {
		h.preview("stop")
		if out := h.kubectl("-n", h.namespace, "get", "statefulset", "-o", "jsonpath={.items[*].spec.replicas}"); out != "0 0 0" {
			t.Errorf("copies after a stop: %s", out)
		}
		h.fails(6, []string{"does not run", "in a cluster"}, "--bay", "preview", "do", "ledger-console", "-c", "select 1")
		h.preview("start")
		if out := h.preview("run", "--", "sh", "-c", `psql -tAc "select count(*) from passings" "$LEDGER_URL"`); out != "2\n" {
			t.Errorf("after a stop and a start there is %q", out)
		}
	})
	t.Run("cleared", func(t *testing.T) {
		h.fails(2, []string{"what services of bay preview keep"}, "clear", "preview")
		h.preview("clear", "--yes", "preview")
		for _, kind := range strings.Fields(h.kubectl("api-resources", "--verbs=list", "--namespaced=false", "-o", "name") + h.kubectl("api-resources", "--verbs=list", "--namespaced", "-o", "name")) {
			if strings.HasPrefix(kind, "persistentvolumes") || strings.HasPrefix(kind, "events") {
				continue
			}
			if out := h.kubectl("get", kind, "-A", "--ignore-not-found", "--selector", "app.kubernetes.io/managed-by=trammel,example.app.trammel/bay=preview", "-o", "name"); slices.ContainsFunc(strings.Split(out, "\n"), func(line string) bool { return line != "" && !strings.HasPrefix(line, "Warning") }) {
				t.Errorf("left: %s", out)
			}
		}
		if out := h.kubectl("get", "namespace", h.namespace, "--ignore-not-found"); out != "" {
			t.Errorf("left: %s", out)
		}
	})
}

// forwarders are the processes through which a copy's ports come here.
func forwarders(t *testing.T, h *hut, name string) []int {
	t.Helper()
	var out []int
	for _, st := range statusesIn(t, h, "preview") {
		if st.Name != name {
			continue
		}
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", st.Pid, st.Pid))
		if err != nil {
			// Threads start children, too.
			raw = nil
		}
		tasks, _ := os.ReadDir(fmt.Sprintf("/proc/%d/task", st.Pid))
		for _, task := range tasks {
			more, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%s/children", st.Pid, task.Name()))
			raw = append(append(raw, ' '), more...)
		}
		for word := range strings.FieldsSeq(string(raw)) {
			if pid, err := strconv.Atoi(word); err == nil && !slices.Contains(out, pid) {
				line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
				if strings.Contains(string(line), "port-forward") {
					out = append(out, pid)
				}
			}
		}
	}
	if len(out) == 0 {
		t.Fatalf("nothing forwards to %s", name)
	}
	return out
}

// What a cluster refuses is said with what to do about it.
func TestClusterFaults(t *testing.T) {
	h := newClusterHut(t)
	h.write("station.txt", h.namespace) // an image that no node has yet
	h.ok("fit", "--approve")
	h.commit()
	hand := os.Getenv("TRAMMEL_CLUSTER_HAND")
	start := func(code int, words []string, more ...string) {
		t.Helper()
		h.fails(code, words, append([]string{"--bay", "preview", "start", "--approve", "--storage-class", "none"}, more...)...)
	}
	t.Run("context", func(t *testing.T) {
		start(2, []string{`knows no context "nowhere"`, "get-contexts"}, "--cluster", "nowhere", "--hand", hand)
	})
	t.Run("namespace of somebody else", func(t *testing.T) {
		h.kubectl("create", "namespace", "heronweir-preview")
		defer h.kubectl("delete", "namespace", "heronweir-preview")
		start(2, []string{"is not this bay's"}, "--cluster", h.context, "--hand", hand)
	})
	t.Run("names of somebody else", func(t *testing.T) {
		h.kubectl("create", "namespace", h.namespace)
		defer h.kubectl("delete", "namespace", h.namespace)
		h.kubectl("-n", h.namespace, "create", "secret", "generic", "made-up", "--from-literal=ledger-password=theirs")
		start(2, []string{"secret/made-up is in namespace", "not this bay's"}, "--cluster", h.context+"/"+h.namespace, "--hand", hand)
		if out := h.kubectl("-n", h.namespace, "get", "secret,service,statefulset", "-o", "name"); strings.TrimSpace(out) != "secret/made-up" {
			t.Errorf("something was made beside: %s", out)
		}
		h.preview("clear", "--yes", "preview")
	})
	t.Run("no way for the image", func(t *testing.T) {
		start(2, []string{"--registry", "--hand"}, "--cluster", h.context)
		h.preview("clear", "--yes", "preview")
	})
	t.Run("registry away", func(t *testing.T) {
		start(5, []string{"cannot be reached"}, "--cluster", h.context, "--registry", "oci://127.0.0.1:1/heronweir")
		h.preview("clear", "--yes", "preview")
	})
	t.Run("image missing", func(t *testing.T) {
		start(6, []string{"service ledger did not get ready", "pod/ledger-0", "get events"}, "--cluster", h.context, "--hand", "true")
		h.preview("clear", "--yes", "preview")
	})
	t.Run("quota", func(t *testing.T) {
		h.kubectl("create", "namespace", h.namespace)
		defer h.kubectl("delete", "namespace", h.namespace)
		h.kubectl("-n", h.namespace, "create", "quota", "few", "--hard=pods=0")
		start(6, []string{"service ledger", "quota"}, "--cluster", h.context+"/"+h.namespace, "--hand", hand)
		h.preview("clear", "--yes", "preview")
	})
	t.Run("kubectl", func(t *testing.T) {
		bin := t.TempDir()
		env := h.env
		defer func() { h.env = env }()
		h.env = append(slices.Clone(env), "PATH="+bin)
		start(1, []string{"there is none here"}, "--cluster", h.context, "--hand", hand)
		if err := os.WriteFile(filepath.Join(bin, "kubectl"), []byte("#!/bin/sh\necho 'error: unknown flag: --output-watch-events' >&2\nexit 1\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		start(1, []string{"too old"}, "--cluster", h.context, "--hand", hand)
	})
}
