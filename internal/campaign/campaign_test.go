package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 4 && os.Args[1] == serveWord { // a service of the campaign
		fmt.Fprintln(os.Stderr, serve(os.Args[2:]))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// The short form of the campaign of changes: one of each kind.
func TestEachChangeIsNamedAndMended(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("it looks at processes through /proc")
	}
	t.Parallel()
	root, err := os.MkdirTemp("", "trammel-campaign-")
	if err != nil {
		t.Fatal(err)
	}
	defer removeAll(root)
	program, err := build(root)
	if err == nil {
		err = tamper(filepath.Join(root, "machine"), program, len(changes), 20261201, "", func(line string) { t.Log(line) })
	}
	if reason, skipped := err.(notHere); skipped {
		t.Skip(string(reason))
	}
	if err != nil {
		t.Fatal(err)
	}
}

// The short form of the campaign: one kill of each command, and every trouble.
func TestAShortCampaign(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("it looks at processes through /proc")
	}
	t.Parallel()
	root, err := os.MkdirTemp("", "trammel-campaign-") // an ordinary user must get there, too
	if err != nil {
		t.Fatal(err)
	}
	defer removeAll(root)
	rounds = 1
	if err := all(root, len(deeds), 20261123, func(line string) { t.Log(line) }); err != nil {
		t.Fatal(err)
	}
}
