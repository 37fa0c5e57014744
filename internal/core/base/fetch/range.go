package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
)

// ErrWhole is that a server gives whole files only.
var ErrWhole = errors.New("the server gives no ranges")

// Range reads a part of what an address has (RFC 9110, section 14): length bytes from an
// offset, or with a negative offset its last -offset bytes. It gives how large the whole is.
func (c *Client) Range(ctx context.Context, a Address, offset, length int64) (part []byte, whole int64, err error) {
	if c.offline {
		return nil, 0, errOffline(a)
	}
	if strings.HasPrefix(a.URL, "file://") {
		return nil, 0, ErrWhole
	}
	release, err := c.slot(ctx, hostOf(a))
	if err != nil {
		return nil, 0, err
	}
	defer release()
	asked := fmt.Sprintf("bytes=%d-%d", offset, offset+length-1)
	if offset < 0 {
		asked, length = fmt.Sprintf("bytes=%d", offset), -offset
	}
	err = c.retry(ctx, func() (int64, error) {
		resp, err := c.request(ctx, a, http.Header{"Range": {asked}})
		if err != nil {
			return 0, err
		}
		defer resp.Body.Close()
		start, size, ok := contentRange(resp.Header.Get("Content-Range"))
		if resp.StatusCode != http.StatusPartialContent || !ok || offset >= 0 && start != offset || offset < 0 && start != max(0, size+offset) {
			return 0, &errLies{ErrWhole.Error()}
		}
		whole = size
		part, err = io.ReadAll(c.watch(io.LimitReader(resp.Body, length+1), resp.Body))
		if err == nil && int64(len(part)) > length {
			err = &errLies{"it sent more than it was asked for"}
		}
		return int64(len(part)), err
	})
	var lies *errLies
	if errors.As(err, &lies) && lies.what == ErrWhole.Error() {
		return nil, 0, ErrWhole
	}
	if err != nil {
		return nil, 0, sourceError(a, err)
	}
	return part, whole, nil
}

// blockSize is how much of a file is read at once by its ranges.
const blockSize = 64 << 10

// Ranged reads a file by ranges, a block at a time.
type Ranged struct {
	ctx    context.Context
	client *Client
	from   Address
	Size   int64
	blocks map[int64][]byte
}

// Ranges opens a file for reading by ranges. An error that is ErrWhole says that the server
// does not give them.
func (c *Client) Ranges(ctx context.Context, a Address) (*Ranged, error) {
	tail, size, err := c.Range(ctx, a, -blockSize, 0)
	if err != nil {
		return nil, err
	}
	r := &Ranged{ctx: ctx, client: c, from: a, Size: size, blocks: map[int64][]byte{}}
	start := size - int64(len(tail))
	for at := (start + blockSize - 1) / blockSize * blockSize; at < size; at += blockSize {
		r.blocks[at] = tail[at-start : min(at-start+blockSize, int64(len(tail)))]
	}
	return r, nil
}

// ReadAt is io.ReaderAt.
func (r *Ranged) ReadAt(b []byte, offset int64) (n int, err error) {
	for n < len(b) && offset < r.Size {
		at := offset / blockSize * blockSize
		block, ok := r.blocks[at]
		if !ok {
			if block, _, err = r.client.Range(r.ctx, r.from, at, min(blockSize, r.Size-at)); err != nil {
				return n, err
			}
			r.blocks[at] = block
		}
		if int64(len(block)) <= offset-at {
			return n, io.ErrUnexpectedEOF
		}
		copied := copy(b[n:], block[offset-at:])
		n, offset = n+copied, offset+int64(copied)
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}
