package fetch

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
)

// Download is an archive to get.
type Download struct {
	Name   string // for people: "go 1.24.6"
	From   Address
	Size   int64  // bytes as the source declares them; 0 when it does not
	Digest Digest // what the bytes must have, never empty; an h1 digest is not checked here
	Said   string // who says the digest, in words; "": the lock
}

// maxUndeclared bounds an archive whose size no source declares.
const maxUndeclared = 4 << 30

// Archive gets the archive into folder and returns its path. An archive that is
// there already is not fetched again; a partial one is carried on. Two processes
// that want the same archive take turns.
func (c *Client) Archive(ctx context.Context, folder string, d Download) (string, error) {
	path := filepath.Join(folder, ArchiveName(d.Digest))
	if intact(path, d) {
		return path, nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	unlock, err := disk.Lock(ctx, path+".lock")
	if err != nil {
		return "", err
	}
	defer unlock()
	if intact(path, d) {
		return path, nil
	}
	os.Remove(path)
	if local, ok := strings.CutPrefix(d.From.URL, "file://"); ok {
		return path, c.copyLocal(ctx, local, path, d)
	}
	if c.offline {
		return "", errOffline(d.From)
	}
	release, err := c.slot(ctx, hostOf(d.From))
	if err != nil {
		return "", err
	}
	defer release()
	done := event.Task(ctx, "fetch "+d.Name)
	err = c.fetchPartial(ctx, path+".partial", d, true)
	if err == nil {
		err = os.Rename(path+".partial", path)
	} else if ctx.Err() == nil {
		err = sourceError(d.From, err)
	}
	done("", err)
	return path, err
}

// ArchiveName is the name of an archive's file in the cache. It is made of the
// digest, so that the cache needs no index.
func ArchiveName(d Digest) string {
	algorithm, value := d.Cut()
	if _, ofBytes := d.Hasher(); !ofBytes {
		value = strings.TrimPrefix(canon.Digest(value), "sha256:")
	}
	return algorithm + "-" + value[:min(len(value), 64)]
}

// intact tells whether a whole archive is there. Its bytes were checked before
// it got its name, and what is unpacked is checked against the lock again; the
// size finds what a full disk or a crash may have cut.
func intact(path string, d Download) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular() && (d.Size == 0 || info.Size() == d.Size)
}

// Forget drops a cached archive whose bytes turned out to be wrong.
func Forget(path string) { os.Remove(path) }

// copyLocal takes an archive from a folder of this machine.
func (c *Client) copyLocal(ctx context.Context, from, path string, d Download) (err error) {
	in, err := disk.OpenRegular(from)
	if err != nil {
		return fault.New(fault.ErrSource, "the catalog lacks an archive that it lists: %v", err)
	}
	defer in.Close()
	out, err := disk.Create(path)
	if err != nil {
		return err
	}
	defer out.Drop()
	h, ofBytes := d.Digest.Hasher()
	var to io.Writer = out
	if ofBytes {
		to = io.MultiWriter(out, h)
	}
	n, err := io.Copy(to, readerFunc(func(b []byte) (int, error) {
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		return in.Read(b)
	}))
	if err != nil {
		return fmt.Errorf("copying %s: %w", from, err)
	}
	if err := d.check(n, h); err != nil {
		return sourceError(d.From, err)
	}
	return out.Commit(0o600)
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }

// check compares what came with what was declared.
func (d Download) check(n int64, h hash.Hash) error {
	if d.Size > 0 && n != d.Size {
		return &errLies{fmt.Sprintf("%s has %d bytes, and the source declares %d", d.From, n, d.Size)}
	}
	if h == nil {
		return nil
	}
	algorithm, want := d.Digest.Cut()
	if got := hex.EncodeToString(h.Sum(nil)); got != want {
		said := cmp.Or(d.Said, "the lock")
		e := fault.New(fault.ErrSource, "%s has the wrong bytes: %s is %s… and %s has %s…", d.From, algorithm, got[:16], said, want[:16])
		if d.Said != "" {
			return e.Advise("Nothing of it was kept. The archive contradicts itself, perhaps because it is being renewed: try again later, or another mirror.")
		}
		return e.Advise("The source serves something else than what was locked. Nothing of it was kept.\nIf the change is meant, lock again; otherwise try another mirror.")
	}
	return nil
}

// partial is a download that is not whole yet.
type partial struct {
	Download
	path      string
	file      *os.File
	hash      hash.Hash // nil where the digest is not of the bytes
	have      int64     // bytes of the file, which hash has seen
	limit     int64     // bytes that it may have
	resume    bool      // carry on where an earlier try or process left off
	validator string    // what tells the server which bytes those are
	pieced    bool      // the bytes come from more than one answer
}

// openPartial opens the file of a download, with what is in it already.
func openPartial(path string, d Download, resume bool) (*partial, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	p := &partial{Download: d, path: path, file: f, limit: maxUndeclared, resume: resume, validator: readValidator(path)}
	if d.Size > 0 {
		p.limit = d.Size
	}
	if h, ofBytes := d.Digest.Hasher(); ofBytes {
		p.hash = h
		p.have, err = io.Copy(h, f)
	} else {
		p.have, err = f.Seek(0, io.SeekEnd)
	}
	if err == nil && p.have > 0 && (!resume || p.validator == "" || d.Size > 0 && p.have > d.Size) {
		err = p.restart()
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	p.pieced = p.have > 0
	return p, nil
}

// restart begins again with nothing.
func (p *partial) restart() error {
	p.have = 0
	if p.hash != nil {
		p.hash.Reset()
	}
	if err := p.file.Truncate(0); err != nil {
		return err
	}
	_, err := p.file.Seek(0, io.SeekStart)
	return err
}

// fetchPartial downloads into a partial file, carrying on where an earlier try or
// process left off when resume is set.
func (c *Client) fetchPartial(ctx context.Context, path string, d Download, resume bool) error {
	p, err := openPartial(path, d, resume)
	if err != nil {
		return err
	}
	defer p.file.Close()
	err = c.retry(ctx, func() (int64, error) {
		err := c.carryOn(ctx, p)
		return p.have, err
	})
	if errors.Is(err, context.Canceled) {
		return err
	}
	if err == nil {
		err = d.check(p.have, p.hash)
	}
	if err == nil {
		os.Remove(path + ".validator")
		return p.file.Sync()
	}
	// What cannot become right by carrying on is dropped; what was merely cut stays.
	var lies *errLies
	var wrong *fault.Error
	if errors.As(err, &lies) || errors.As(err, &wrong) {
		os.Remove(path)
		os.Remove(path + ".validator")
		if errors.As(err, &wrong) && p.pieced && resume {
			// One of the pieces may be wrong: once more, in one piece.
			return c.fetchPartial(ctx, path, d, false)
		}
	}
	return err
}

// carryOn asks once for what a download has not yet, and takes it.
func (c *Client) carryOn(ctx context.Context, p *partial) error {
	if p.Size > 0 && p.have == p.Size {
		return nil
	}
	header := http.Header{}
	if p.have > 0 && p.resume {
		header.Set("Range", "bytes="+strconv.FormatInt(p.have, 10)+"-")
		header.Set("If-Range", p.validator)
	}
	resp, err := c.request(ctx, p.From, header)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	total, err := p.begins(resp)
	if err != nil {
		return err
	}
	body := c.watch(io.LimitReader(resp.Body, p.limit-p.have+1), resp.Body)
	buffer := make([]byte, 128<<10)
	for {
		n, err := body.Read(buffer)
		if n > 0 {
			if p.have += int64(n); p.have > p.limit {
				return &errLies{fmt.Sprintf("%s goes on after the %d bytes that it should have", p.From, p.limit)}
			}
			if _, err := p.file.Write(buffer[:n]); err != nil {
				return fmt.Errorf("keeping the download: %w", err)
			}
			if p.hash != nil {
				p.hash.Write(buffer[:n])
			}
			event.Send(ctx, event.Event{Phase: event.Progress, Task: "fetch " + p.Name, Unit: event.Bytes, Current: p.have, Total: total})
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	if total > 0 && p.have < total {
		return io.ErrUnexpectedEOF
	}
	return nil
}

// begins looks at how an answer begins: whether it goes on where the file ends, or is the whole
// again (RFC 9110, 14 and 15.3.7). It returns how many bytes there will be; 0: nobody says.
func (p *partial) begins(resp *http.Response) (total int64, err error) {
	total = p.Size
	switch resp.StatusCode {
	case http.StatusPartialContent:
		at, whole, ok := contentRange(resp.Header.Get("Content-Range"))
		if !ok || at != p.have || p.Size > 0 && whole > 0 && whole != p.Size {
			// A server that lies about ranges is asked for the whole.
			if err := p.restart(); err != nil {
				return 0, err
			}
			writeValidator(p.path, "")
			p.validator = ""
			return 0, io.ErrUnexpectedEOF
		}
		p.pieced = true
		if total == 0 {
			total = whole
		}
	case http.StatusRequestedRangeNotSatisfiable:
		if err := p.restart(); err != nil {
			return 0, err
		}
		return 0, io.ErrUnexpectedEOF
	case http.StatusOK:
		if err := p.restart(); err != nil {
			return 0, err
		}
		if resp.ContentLength > 0 {
			if p.Size > 0 && resp.ContentLength != p.Size {
				return 0, &errLies{fmt.Sprintf("%s has %d bytes, and the source declares %d", p.From, resp.ContentLength, p.Size)}
			}
			total = resp.ContentLength
		}
		p.validator = rangeValidator(resp.Header)
		writeValidator(p.path, p.validator)
	default:
		return 0, &errLies{fmt.Sprintf("%s answered %d", p.From, resp.StatusCode)}
	}
	return total, nil
}

// rangeValidator is what If-Range needs: a strong entity tag or a date (RFC
// 9110, 13.1.5). Without either an interrupted download starts again.
func rangeValidator(h http.Header) string {
	if tag := h.Get("ETag"); tag != "" && !strings.HasPrefix(tag, "W/") {
		return tag
	}
	return h.Get("Last-Modified")
}

func readValidator(partial string) string {
	b, _ := disk.Read(partial+".validator", disk.MostState)
	return string(b)
}

func writeValidator(partial, validator string) {
	if validator == "" {
		os.Remove(partial + ".validator")
		return
	}
	_ = os.WriteFile(partial+".validator", []byte(validator), 0o600)
}

// contentRange reads "bytes 5-9/10" (RFC 9110, 14.4); whole is 0 for "*".
func contentRange(s string) (start, whole int64, ok bool) {
	s, ok = strings.CutPrefix(s, "bytes ")
	if !ok {
		return 0, 0, false
	}
	span, size, _ := strings.Cut(s, "/")
	first, _, _ := strings.Cut(span, "-")
	start, err := strconv.ParseInt(first, 10, 64)
	if err != nil {
		return 0, 0, false
	}
	whole, _ = strconv.ParseInt(size, 10, 64)
	return start, whole, true
}
