package unpack

import (
	"io"
	"sync"

	"github.com/therootcompany/xz"
)

// windows are decoders of xz that are done: each has a window of some megabytes, which the next archive
// need not clear and have brought in once more.
var windows sync.Pool

// plainOf reads what is compressed with xz; done is called when no more is read.
func plainOf(packed io.Reader) (plain io.Reader, done func(), err error) {
	z, used := windows.Get().(*xz.Reader)
	if used {
		err = z.Reset(packed)
	} else {
		z, err = xz.NewReader(packed, xz.DefaultDictMax)
	}
	return z, func() { windows.Put(z) }, err
}
