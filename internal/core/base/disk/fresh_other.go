//go:build !linux

package disk

import (
	"errors"
	"os"
)

func nameless(string) *os.File { return nil }

func link(*os.File, string) error { return errors.ErrUnsupported }
