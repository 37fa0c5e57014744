package main

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"app.example/trammel/internal/standin"
)

// listener is somebody else's registry: it keeps all that it is told and answers nothing.
func listener(t *testing.T) (url string, told func() string) {
	t.Helper()
	var mu sync.Mutex
	var all strings.Builder
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		all.WriteString(r.Method + " " + r.Host + r.URL.String() + "\n")
		_ = r.Header.Write(&all)
		http.NotFound(w, r)
	}))
	t.Cleanup(s.Close)
	return s.URL, func() string {
		mu.Lock()
		defer mu.Unlock()
		return all.String()
	}
}

// A registry that a checkout names is told nothing of the person: nothing from the
// environment, no login of theirs, whatever file says so and wherever it lies.
func TestARegistryOfTheCheckoutLearnsNothing(t *testing.T) {
	t.Parallel()
	url, told := listener(t)
	host := strings.TrimPrefix(url, "http://")
	const secret = "hunter2-top-secret"
	netrc := "machine 127.0.0.1 login somebody password " + secret + "\ndefault login somebody password " + secret + "\n"
	cases := map[string]struct {
		files   map[string]string // of the checkout
		person  map[string]string // of the person's home
		declare string
		env     []string
	}{
		"a token from the environment":    {files: map[string]string{".npmrc": "registry=" + url + "/\n//" + host + "/:_authToken=${AWS_SECRET_ACCESS_KEY}\n"}},
		"a password from it":              {files: map[string]string{".npmrc": "registry=" + url + "/\n//" + host + "/:username=x\n//" + host + "/:_password=${AWS_SECRET_ACCESS_KEY}\n"}},
		"all of a login":                  {files: map[string]string{".npmrc": "registry=" + url + "/\n//" + host + "/:_auth=${AWS_SECRET_ACCESS_KEY}\n"}},
		"in the address":                  {files: map[string]string{".npmrc": "registry=" + url + "/${AWS_SECRET_ACCESS_KEY}/\n"}},
		"in the host's login":             {files: map[string]string{".npmrc": "registry=http://x:${AWS_SECRET_ACCESS_KEY}@" + host + "/\n"}},
		"a folder above":                  {files: map[string]string{"../.npmrc": "registry=" + url + "/\n//" + host + "/:_authToken=${AWS_SECRET_ACCESS_KEY}\n"}},
		"with a default":                  {files: map[string]string{".npmrc": "registry=" + url + "/\n//" + host + "/:_authToken=${AWS_SECRET_ACCESS_KEY-x}\n"}},
		"the person's token for the host": {files: map[string]string{".npmrc": "registry=" + url + "/\n"}, person: map[string]string{".npmrc": "//" + host + "/:_authToken=" + secret + "\n"}},
		"the person's netrc":              {files: map[string]string{".npmrc": "registry=" + url + "/\n"}, person: map[string]string{".netrc": netrc}},
		"a declared catalog, netrc":       {declare: "[source.c]\nkind = \"catalog\"\nurl = \"" + url + "/c\"\n", person: map[string]string{".netrc": netrc}},
		"a declared npm source, netrc":    {declare: "[source.npm]\nkind = \"npm\"\nurl = \"" + url + "\"\n", person: map[string]string{".netrc": netrc, ".npmrc": "//" + host + "/:_authToken=" + secret + "\n"}},
		"a declared module proxy, netrc":  {declare: "[source.g]\nkind = \"gomod\"\nurl = \"" + url + "\"\nsumdb = \"off\"\n", person: map[string]string{".netrc": netrc}},
		"a declared address that expands": {declare: "[source.c]\nkind = \"catalog\"\nurl = \"" + url + "/${AWS_SECRET_ACCESS_KEY}/$AWS_SECRET_ACCESS_KEY\"\n"},
		"a netrc of the checkout":         {files: map[string]string{".npmrc": "registry=" + url + "/\n", ".netrc": netrc}},
		"a script's variables of the npm": {files: map[string]string{".npmrc": "registry=" + url + "/\nuser-agent=${AWS_SECRET_ACCESS_KEY}\n"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			h := stranger(t, c.declare+"\n[toolchain]\nnode = \"22\"\n")
			h.env = append(h.env, "AWS_SECRET_ACCESS_KEY="+secret, "NPM_TOKEN="+secret)
			for file, text := range c.files {
				h.write(file, text)
			}
			for file, text := range c.person {
				if err := os.WriteFile(filepath.Join(filepath.Dir(h.home), file), []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			for _, args := range [][]string{{"lock"}, {"find", "node"}, {"sources"}} {
				if o := h.try(args...); strings.Contains(o.err, "goroutine ") {
					t.Errorf("trammel %s:\n%s", strings.Join(args, " "), o.err)
				}
			}
			if all := told(); strings.Contains(all, secret) || strings.Contains(all, "Authorization") {
				t.Fatalf("it was told:\n%s", all)
			}
		})
	}
	if told() == "" {
		t.Error("nobody asked it anything: the test shows nothing")
	}
}

// The address that a file of the checkout names stands in what is agreed to.
func TestApproveNamesTheRegistryOfAFile(t *testing.T) {
	t.Parallel()
	s := standin.New()
	t.Cleanup(s.Close)
	s.PutNode("22.12.0")
	h := stranger(t, "[toolchain]\nnode = \"22\"\n")
	h.write(".npmrc", "registry="+s.NPM()+"\n")
	h.ok("lock")
	if o := h.try("approve"); !strings.Contains(o.out, s.NPM()) || !strings.Contains(o.out, ".npmrc") {
		t.Errorf("%s%s", o.out, o.err)
	}
	h.ok("approve", "--yes")
	h.ok("fit")
	h.write(".npmrc", "registry=http://registry.elsewhere.example/\n")
	h.fails(4, []string{"changed since you approved it"}, "fit")
}

// An archive that goes back to an older signed release is not followed without a word:
// whoever stands between may hand out what was signed long ago.
func TestAnOlderReleaseIsRefusedUnlessAskedFor(t *testing.T) {
	t.Parallel()
	s, weir, oldweir := archives(t)
	h := sealedHut(t, s, weir, oldweir, "clean", "lure = { version = \"latest\", from = \"weir\", package = \"lure\" }\n")
	h.ok("lock")
	before := h.read("trammel.lock")
	weir.Put(toolDeb("lure", "1.5-1", ""))
	weir.At = weir.At.AddDate(0, -6, 0)
	weir.Publish()
	h.fails(5, []string{"older", "--older-release"}, "lock", "--renew")
	if h.read("trammel.lock") != before {
		t.Error("the lock was written")
	}
	h.ok("lock", "--renew", "--older-release")
	weir.Put(toolDeb("lure", "1.6-1", ""))
	weir.At = weir.At.AddDate(1, 0, 0)
	weir.Publish()
	h.ok("lock", "--renew")
}
