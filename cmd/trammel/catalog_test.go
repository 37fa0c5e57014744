package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"app.example/trammel/internal/lacks"

	"app.example/trammel/internal/standin"
)

func TestACatalogIsMadeSignedCheckedAndHeldToItsKeys(t *testing.T) {
	t.Parallel()
	h := newHut(t, nil, "format = 1\nproject = \"heronweir\"\n")
	here := runtime.GOOS + "-" + map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH]
	archive := func(name, says string) string {
		h.write("dist/"+name, string(standin.TarGz(standin.File{Name: "sluice/bin/sluice", Content: "#!/bin/sh\necho sluice " + says + "\n", Mode: 0o755}, standin.File{Name: "sluice/README.md", Content: "words"})))
		return "dist/" + name
	}
	out := h.ok("catalog", "add", "tools", archive("sluice-1.4.2-"+here+".tar.gz", "1.4.2"), archive("sluice_v1.5.0_"+strings.ReplaceAll(here, "-", "_")+".tgz", "1.5.0"))
	if !strings.Contains(out, "sluice 1.4.2   "+runtime.GOOS+"/"+runtime.GOARCH+"   added") || !strings.Contains(out, "sluice 1.5.0") {
		t.Error(out)
	}
	if out := h.ok("catalog", "check", "tools"); !strings.Contains(out, "1 tools, 2 releases, 2 archives") || !strings.Contains(out, "not signed") {
		t.Error(out)
	}
	// The same again changes nothing; other bytes under one version are refused.
	if out := h.ok("catalog", "add", "tools", "dist/sluice-1.4.2-"+here+".tar.gz"); !strings.Contains(out, "was there") {
		t.Error(out)
	}
	h.write("other/sluice-1.4.2-"+here+".tar.gz", string(standin.TarGz(standin.File{Name: "bin/sluice", Mode: 0o755})))
	h.fails(2, []string{"1.4.2", "already, with other bytes", "under a new version"}, "catalog", "add", "tools", "other/sluice-1.4.2-"+here+".tar.gz")
	for name, words := range map[string]string{"nothing.tar.gz": "states no version", "sluice-1.0-linux.tar.gz": "a system or a machine, and not both", "sluice-1.0.exe": "is no archive that a catalog can have"} {
		h.fails(2, []string{words}, "catalog", "add", "tools", archive(name, "x"))
	}
	h.write("dist/empty-1.0.tar.gz", string(standin.TarGz(standin.File{Name: "empty/README.md"})))
	h.fails(2, []string{"has no command", "cards/empty.toml"}, "catalog", "add", "tools", "dist/empty-1.0.tar.gz")
	for _, args := range [][]string{{"add", "nowhere"}, {"check", "nowhere"}} {
		h.fails(2, []string{"there is no catalog in", "trammel catalog add"}, append([]string{"catalog"}, args...)...)
	}
	if _, err := os.Stat(filepath.Join(h.dir, "nowhere")); err == nil {
		t.Error("a folder was made for no catalog")
	}
	// Signed, and used by a declaration that says by whom.
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		lacks.Program(t, "ssh-keygen")
	}
	for _, key := range []string{"key", "stranger"} {
		if raw, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", filepath.Join(h.dir, key)).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, raw)
		}
	}
	h.ok("catalog", "sign", "tools", "--key", "key")
	if out := h.ok("catalog", "check", "tools"); !strings.Contains(out, "signed by SHA256:") {
		t.Error(out)
	}
	// The real ssh-keygen takes the signature.
	h.write("signers", "hut "+h.read("key.pub"))
	verify := exec.Command("ssh-keygen", "-Y", "verify", "-f", filepath.Join(h.dir, "signers"), "-I", "hut", "-n", "trammel-catalog", "-s", filepath.Join(h.dir, "tools/catalog.toml.sig"))
	verify.Stdin = strings.NewReader(h.read("tools/catalog.toml"))
	if raw, err := verify.CombinedOutput(); err != nil {
		t.Errorf("%v %s", err, raw)
	}
	keys := func(name string) string {
		return "format = 1\nproject = \"heronweir\"\n\n[source.c]\nkind = \"catalog\"\nurl  = \"tools\"\nkeys = [\"" + strings.TrimSpace(h.read(name+".pub")) + "\"]\n\n[toolchain]\nsluice = \"1\"\n"
	}
	h.write("trammel.toml", keys("key"))
	h.ok("lock")
	h.fitted()
	if got := h.ok("run", "--", "sluice"); got != "sluice 1.5.0\n" {
		t.Errorf("%q", got)
	}
	if out := h.ok("approve", "--json"); !strings.Contains(out, "signed by ssh-ed25519 ") {
		t.Error("what a source is held to is not on the list of effects")
	}
	h.write("trammel.toml", keys("stranger"))
	h.fails(5, []string{"is signed by SHA256:", "which the declaration does not name"}, "lock", "--renew")
	h.write("trammel.toml", keys("key"))
	// A page that was changed after it was signed is not looked into; adding takes the signature away.
	index := h.read("tools/catalog.toml")
	h.write("tools/catalog.toml", index+"\n# and more\n")
	h.fails(5, []string{"the signature is not of this catalog"}, "lock", "--renew")
	h.fails(3, []string{"the signature is not of this catalog"}, "catalog", "check", "tools")
	h.write("tools/catalog.toml", index)
	older := map[string]string{}
	for _, name := range []string{"tools/catalog.toml", "tools/catalog.toml.sig", "tools/releases/sluice.toml"} {
		older[name] = h.read(name)
	}
	h.ok("catalog", "add", "tools", archive("sluice-1.6.0-"+here+".tar.gz", "1.6.0"))
	h.fails(5, []string{"is not signed", "trammel catalog sign FOLDER"}, "lock", "--renew")
	h.ok("catalog", "sign", "tools", "--key", "key")
	h.ok("lock", "--renew")
	h.ok("approve", "--yes")
	h.ok("fit")
	// An older state that was signed once is refused, unless a person says that it is meant.
	newer := map[string]string{}
	for name, text := range older {
		newer[name] = h.read(name)
		h.write(name, text)
	}
	locked := h.read("trammel.lock")
	h.fails(5, []string{"gives its state number", "--older-release"}, "lock", "--renew")
	if h.read("trammel.lock") != locked {
		t.Error("an older state moved the lock")
	}
	// Nor is it believed that there is nothing newer, where the older state has the same versions.
	h.write("tools/catalog.toml", regexp.MustCompile(`(?m)^serial = .*$`).ReplaceAllString(newer["tools/catalog.toml"], "serial = 7"))
	h.write("tools/releases/sluice.toml", newer["tools/releases/sluice.toml"])
	h.ok("catalog", "sign", "tools", "--key", "key")
	h.fails(5, []string{"gives its state number 7,", "--older-release"}, "lock", "--renew", "sluice")
	h.ok("lock") // which asks for nothing new
	for name, text := range older {
		h.write(name, text)
	}
	if out := h.ok("lock", "--renew", "--older-release"); !strings.Contains(out, "sluice 1.6.0 → 1.5.0") {
		t.Error(out)
	}
	for name, text := range newer {
		h.write(name, text)
	}
	h.ok("lock", "--renew")
	h.ok("approve", "--yes")
	h.ok("fit")
	// A page that was written by hand gets its number when it is signed, and keeps its words.
	h.write("tools/catalog.toml", "# by hand\n"+regexp.MustCompile(`(?m)^serial.*\n`).ReplaceAllString(newer["tools/catalog.toml"], ""))
	h.ok("catalog", "sign", "tools", "--key", "key")
	if page := h.read("tools/catalog.toml"); !strings.HasPrefix(page, "serial = ") || !strings.Contains(page, "# by hand") {
		t.Error(page)
	}
	// One changed byte in an archive is named.
	file := filepath.Join(h.dir, "tools/files/sluice-1.6.0-"+here+".tar.gz")
	raw, _ := os.ReadFile(file)
	raw[len(raw)/2] ^= 1
	os.WriteFile(file, raw, 0o644)
	h.fails(3, []string{"sluice 1.6.0: files/sluice-1.6.0-", "has other bytes"}, "catalog", "check", "tools")
}
