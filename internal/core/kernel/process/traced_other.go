//go:build !linux

package process

import "errors"

// Executed is a program that a process became.
type Executed struct {
	File      string
	Started   string
	Elsewhere bool
}

// Traced is for Linux.
func Traced(Spec, func(Executed)) (Exit, error) {
	return Exit{}, errors.New("what a command executes cannot be watched on this system")
}
