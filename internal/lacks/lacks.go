// Package lacks is how tests say that a machine has not what they need.
package lacks

import (
	"os"
	"testing"
)

// Program skips a test that needs a program of a name, and notes the name in the file that
// TRAMMEL_LACKING names, so that a gate that could have installed it does not pass without it.
func Program(t testing.TB, name string) {
	t.Helper()
	if file := os.Getenv("TRAMMEL_LACKING"); file != "" {
		f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o666)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(name + " for " + t.Name() + "\n"); err != nil {
			t.Fatal(err)
		}
	}
	t.Skip(name + " is not installed")
}
