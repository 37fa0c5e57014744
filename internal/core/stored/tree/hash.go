package tree

import (
	"encoding/hex"
	"io"
	"math/bits"

	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"
	"lukechampine.com/blake3/guts"

	"app.example/trammel/internal/core/base/disk"
)

// Hasher takes the BLAKE3-256 of one file after the other. Content up to wholeSize is
// collected and hashed in one step, since the library's hasher shares a file's parts
// among goroutines, which costs more than the hash of a file as small as most are.
type Hasher struct {
	buffer  []byte // room for wholeSize, and for wide bytes more
	n       int
	large   bool // the content went on to rest
	library *blake3.Hasher
}

// wholeSize is as much content as is hashed in one step, in bytes.
const wholeSize = 512 << 10

// wide is as much as the widest vector instructions hash at once, in bytes.
const wide = guts.MaxSIMD * guts.ChunkSize

// NewHasher returns a Hasher that had no content yet.
func NewHasher() *Hasher {
	return &Hasher{buffer: make([]byte, wholeSize+wide), library: blake3.New(32, nil)}
}

// Reset begins the next file.
func (h *Hasher) Reset() { h.n, h.large = 0, false }

// Write adds content; it never fails.
func (h *Hasher) Write(p []byte) (int, error) {
	if !h.large && h.n+len(p) <= wholeSize {
		h.n += copy(h.buffer[h.n:], p)
		return len(p), nil
	}
	h.spill()
	return h.library.Write(p)
}

// spill gives what was collected to the library's hasher.
func (h *Hasher) spill() {
	if !h.large {
		h.library.Reset()
		h.large = true
	}
	_, _ = h.library.Write(h.buffer[:h.n])
	h.n = 0
}

// readAll adds what is left of an open file. size is how much that is expected to be: it
// saves a call where it is true, and a file that grew meanwhile is read to its end.
func (h *Hasher) readAll(fd int, size int64) error {
	for total := int64(0); ; {
		n, err := unix.Read(fd, h.buffer[h.n:wholeSize])
		if err == unix.EINTR {
			continue
		}
		if err != nil || n == 0 {
			return err
		}
		h.n += n
		if total += int64(n); h.n == wholeSize {
			h.spill()
		} else if total == size {
			return nil
		}
	}
}

// Sum is the hash of what came since Reset, in hex.
func (h *Hasher) Sum() string {
	if h.large {
		h.spill()
		return hex.EncodeToString(h.library.Sum(nil))
	}
	node := subtree(h.buffer, h.n, 0)
	node.Flags |= guts.FlagRoot
	out := guts.WordsToBytes(guts.CompressNode(node))
	return hex.EncodeToString(out[:32])
}

// subtree is the node over n bytes that start with a certain chunk (BLAKE3, section
// 2.1: the left subtree is the largest power of two of chunks that leaves some).
func subtree(buffer []byte, n int, chunk uint64) guts.Node {
	if n <= wide {
		return guts.CompressBuffer((*[wide]byte)(buffer), n, &guts.IV, chunk, 0)
	}
	left := wide << (bits.Len(uint((n-1)/wide)) - 1)
	return guts.ParentNode(
		guts.ChainingValue(subtree(buffer, left, chunk)),
		guts.ChainingValue(subtree(buffer[left:], n-left, chunk+uint64(left/guts.ChunkSize))), &guts.IV, 0)
}

// SumOf is the digest of a regular file's content, as a manifest has it.
func SumOf(file string) (string, error) {
	f, err := disk.OpenRegular(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := blake3.New(32, nil)
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}
