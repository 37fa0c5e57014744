//go:build !linux

package kept

// Columns is for Linux: elsewhere no answers are kept.
func Columns(int) int { return -1 }
