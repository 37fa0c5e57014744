package main

import (
	"runtime"
	"testing"
)

// The short form of the campaign: one kill of each command, and every trouble.
func TestAShortCampaign(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("it looks at processes through /proc")
	}
	if err := all(t.TempDir(), len(deeds), 20261123, func(line string) { t.Log(line) }); err != nil {
		t.Fatal(err)
	}
}
