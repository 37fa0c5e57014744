package fetch

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"app.example/trammel/internal/core/base/event"
)

// Seen gets an archive whose digest no source states, into folder, and gives the digest of
// what came: what is locked is then what was seen first.
func (c *Client) Seen(ctx context.Context, folder string, from Address) (file string, digest Digest, size int64, err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", "", 0, err
	}
	f, err := os.CreateTemp(folder, ".seen-")
	if err != nil {
		return "", "", 0, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	done := event.Task(ctx, "fetch "+filepath.Base(from.URL))
	err = c.Copy(ctx, from, f, maxUndeclared)
	done("", err)
	if err != nil {
		return "", "", 0, err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", "", 0, err
	}
	h := sha256.New()
	if size, err = io.Copy(h, f); err != nil {
		return "", "", 0, err
	}
	digest = Digest(fmt.Sprintf("sha256:%x", h.Sum(nil)))
	file = filepath.Join(folder, ArchiveName(digest))
	return file, digest, size, os.Rename(f.Name(), file)
}
