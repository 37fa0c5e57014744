//go:build !linux

package early

// inside is for Linux: there are no namespaces elsewhere.
func inside([]string) {}

// sealed is for Linux.
func sealed(string, string, string, []string, []string) {}
