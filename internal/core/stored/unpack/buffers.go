package unpack

import (
	"bufio"
	"context"
	"io"
	"runtime"
	"sync"

	"github.com/therootcompany/xz"
	"golang.org/x/sync/semaphore"

	"app.example/trammel/internal/core/stored/tree"
)

// What archives are read and written with is used again by the next one, and what lies between
// reading and writing is bounded for all archives that this process unpacks together: a
// closure of packages is hundreds of them, several at once.

// mostWaiting is how many bytes of content may wait to be written, of all archives at once.
const mostWaiting = 8 << 20

var waiting = semaphore.NewWeighted(mostWaiting)

// chunkSizes are those of the pieces that content waits in: most files are small, and a piece is
// not larger than its file by much.
var chunkSizes = [...]int{4 << 10, 32 << 10, 256 << 10}

// chunkSize is the largest of them.
const chunkSize = 256 << 10

var chunkPools [len(chunkSizes)]sync.Pool

// chunkOf gives a piece for so many bytes, or for as many as the largest holds. It waits where too many
// wait to be written. Each piece belongs to the file that its archive is being read for, or to one
// that was read whole: those are written without anything more being read, so that the wait ends.
func chunkOf(ctx context.Context, bytes int64) ([]byte, error) {
	class := 0
	for class < len(chunkSizes)-1 && bytes > int64(chunkSizes[class]) {
		class++
	}
	if err := waiting.Acquire(ctx, int64(chunkSizes[class])); err != nil {
		return nil, context.Cause(ctx)
	}
	if c, ok := chunkPools[class].Get().(*[]byte); ok {
		return (*c)[:min(bytes, int64(len(*c)))], nil
	}
	return make([]byte, chunkSizes[class])[:min(bytes, int64(chunkSizes[class]))], nil
}

// recycle gives a piece back.
func recycle(c []byte) {
	c = c[:cap(c)]
	for class, size := range chunkSizes {
		if len(c) == size {
			chunkPools[class].Put(&c)
			waiting.Release(int64(size))
		}
	}
}

// kit is what a worker writes files with.
type kit struct {
	h      *tree.Hasher
	buffer []byte
}

var kits = sync.Pool{New: func() any { return &kit{tree.NewHasher(), make([]byte, chunkSize)} }}

var readers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, chunkSize) }}

// buffered reads ahead; done is called when no more is read.
func buffered(from io.Reader) (r *bufio.Reader, done func()) {
	r = readers.Get().(*bufio.Reader)
	r.Reset(from)
	return r, func() {
		r.Reset(nil)
		readers.Put(r)
	}
}

// windows are decoders of xz that are done: each has a window of some megabytes, which the next archive
// need not clear and have brought in once more. No more of them than cores are of any use.
var (
	windows  sync.Pool
	decoding = make(chan struct{}, runtime.GOMAXPROCS(0))
)

// plainOf reads what is compressed with xz; done is called when no more is read.
func plainOf(packed io.Reader) (plain io.Reader, done func(), err error) {
	decoding <- struct{}{}
	z, used := windows.Get().(*xz.Reader)
	if used {
		err = z.Reset(packed)
	} else {
		z, err = xz.NewReader(packed, xz.DefaultDictMax)
	}
	if err != nil {
		<-decoding
		return nil, func() {}, err
	}
	return z, func() { windows.Put(z); <-decoding }, nil
}
