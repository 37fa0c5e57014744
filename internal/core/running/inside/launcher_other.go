//go:build !linux

package inside

// Main is for Linux, which is what images hold.
func Main([]string) int { return 126 }
