// Package host holds what a command was told of the machine and of the person: the
// environment, the folder it was given in, this program's file.
//
// Nothing below the command line asks the process for these. A value that is handed on
// gives the same answer in every thread and at every moment, and tests make their own.
package host

import (
	"os"
	"path/filepath"
	"strings"
)

// Host is a machine and a person as one command found them.
type Host struct {
	Environ []string // NAME=VALUE, as in environ(7)
	Dir     string   // the folder that the command was given in, absolute
	Program string   // the file of this program, absolute
}

// Now is the host of this process.
func Now() (Host, error) {
	dir, err := os.Getwd()
	if err != nil {
		return Host{}, err
	}
	program, err := os.Executable()
	return Host{os.Environ(), dir, program}, err
}

// Getenv is the value of a variable, "" where it is not set.
func (h Host) Getenv(name string) string {
	value, _ := h.LookupEnv(name)
	return value
}

// LookupEnv is the value of a variable; ok is false where it is not set.
func (h Host) LookupEnv(name string) (value string, ok bool) {
	for _, line := range h.Environ {
		if n, v, found := strings.Cut(line, "="); found && n == name {
			value, ok = v, true // the last one counts, as for the shells
		}
	}
	return value, ok
}

// Abs is a path as it is meant where the command was given.
func (h Host) Abs(path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(h.Dir, path)
}
