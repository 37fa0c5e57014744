package main

import (
	"os"
	"runtime"
	"testing"
)

// The short form of the campaign: one kill of each command, and every trouble.
func TestAShortCampaign(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("it looks at processes through /proc")
	}
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
