//go:build !linux

package disk

import (
	"errors"
	"os"
)

func unlinked(string) *os.File { return nil }

func link(*os.File, string) error { return errors.ErrUnsupported }

// heldPath is for Linux: elsewhere a folder has no path but its name.
func heldPath(*os.File) (string, bool) { return "", false }
