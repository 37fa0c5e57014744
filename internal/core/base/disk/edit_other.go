//go:build !linux

package disk

import "errors"

// exchange is not to be had here.
func exchange(string, string) error { return errors.ErrUnsupported }
