//go:build !linux

package sandbox

import (
	"context"

	"app.example/trammel/internal/core/base/fault"
)

func none() error {
	return fault.New(fault.ErrFailed, "sealed isolation and tools from a Debian archive need Linux").
		Advise("Use isolation = \"clean\" on this system, or work on a Linux machine.")
}

// Command refuses: there are no namespaces here.
func Command(View, string, string, []string) (string, []string, error) { return "", nil, none() }

// Run refuses: there are no namespaces here.
func Run(View, string, string, []string, []string) (int, error) { return 126, none() }

// Make refuses: there are no namespaces here.
func Make(context.Context, string, []string) error { return none() }

// Available tells why there are no sealed roots here.
func Available() error { return none() }
