//go:build !linux

package disk

import (
	"errors"
	"os"
)

// clone is not tried here.
func clone(*os.File, *os.File) error { return errors.ErrUnsupported }
