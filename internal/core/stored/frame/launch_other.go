//go:build !linux

package frame

// startedAs is for Linux: there are no roots elsewhere.
func startedAs() (string, bool) { return "", false }
