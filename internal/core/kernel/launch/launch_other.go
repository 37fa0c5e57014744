//go:build !linux

package launch

// startedAs is for Linux: there are no roots elsewhere.
func startedAs() (string, bool) { return "", false }
