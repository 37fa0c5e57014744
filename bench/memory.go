package main

import (
	"os"
	"os/exec"
	"strconv"
	"strings"
)

// memory is a row of how much a command has at most, as the kernel counts it, against so many MB.
// The command runs in a project with a home of Trammel's; before makes ready, and is not counted.
func (b *workshop) memory(what string, megabytes int, home, project string, before func() error, args ...string) row {
	name := what + ": memory at most"
	b.figures[name] = func() (float64, error) {
		if before != nil {
			if err := before(); err != nil {
				return 0, err
			}
		}
		self, err := os.Executable()
		if err != nil {
			return 0, err
		}
		cmd := exec.Command(self, append([]string{"-peak", b.program, "--dir", project, "--quiet"}, args...)...)
		cmd.Env = append(os.Environ(), "TRAMMEL_HOME="+home, "TRAMMEL_APPROVE=")
		cmd.Stderr = os.Stderr
		said, err := cmd.Output()
		if err != nil {
			return 0, err
		}
		kib, err := strconv.Atoi(strings.TrimSpace(string(said)))
		return float64(kib) / float64(megabytes<<10), err
	}
	return compare(name, strconv.Itoa(megabytes)+" MB", 1, 1, nil, nil)
}
