package launch

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
)

// startedAs is the path by which the kernel was asked to start this process, which
// argv[0] need not be: the entry AT_EXECFN of the auxiliary vector (getauxval(3))
// is the address of it in this process's memory.
func startedAs() (string, bool) {
	const (
		word   = 8 // bytes; all platforms of this program have 64 bits
		execFn = 31
	)
	vector, err := os.ReadFile("/proc/self/auxv")
	if err != nil {
		return "", false
	}
	for ; len(vector) >= 2*word; vector = vector[2*word:] {
		if binary.NativeEndian.Uint64(vector) != execFn {
			continue
		}
		memory, err := os.Open("/proc/self/mem")
		if err != nil {
			return "", false
		}
		defer memory.Close()
		text := make([]byte, 4096) // PATH_MAX
		n, _ := memory.ReadAt(text, int64(binary.NativeEndian.Uint64(vector[word:])))
		end := bytes.IndexByte(text[:n], 0)
		if end <= 0 {
			return "", false
		}
		path, err := filepath.Abs(string(text[:end]))
		return path, err == nil
	}
	return "", false
}
