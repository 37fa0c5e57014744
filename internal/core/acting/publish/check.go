package publish

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/crypto/ssh"

	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/sshsig"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/card"
)

// Checked is what Check found.
type Checked struct {
	Tools, Releases, Files int
	Bytes                  int64
	Faults                 []string
	SignedBy               string // the fingerprint of a key, "" when it is not signed
}

// Check holds a catalog to itself: every page to its digest and form, every archive to its
// size and digest, and the signature to the first page.
func Check(ctx context.Context, folder string) (Checked, error) {
	var top first
	if err := read(folder, "catalog.toml", &top); err != nil {
		return Checked{}, none(folder, err)
	}
	c := checker{folder: folder, read: map[string]bool{}}
	for _, name := range slices.Sorted(maps.Keys(top.Tools)) {
		c.Tools++
		for _, r := range c.tool(name, top.Tools[name]) {
			c.Releases++
			if err := c.release(ctx, name, r); err != nil {
				return c.Checked, err
			}
		}
	}
	return c.Checked, c.signature()
}

// checker holds a catalog to itself, and notes what is wrong with it.
type checker struct {
	Checked
	folder string
	read   map[string]bool // archives that were: path and digest
}

func (c *checker) bad(format string, args ...any) {
	c.Faults = append(c.Faults, fmt.Sprintf(format, args...))
}

// page reads a page that the first one names; nil when it cannot be read.
func (c *checker) page(name, sum string) []byte {
	raw, err := disk.ReadWithin(c.folder, name, disk.MostText)
	if err != nil {
		c.bad("%s %s", name, disk.InWords(err))
	} else if fmt.Sprintf("%x", sha256.Sum256(raw)) != sum {
		c.bad("%s does not have the digest that catalog.toml states: trammel catalog add writes it anew", name)
	}
	return raw
}

// tool checks the pages of a tool, and returns what it has been released as.
func (c *checker) tool(name string, t tool) []release {
	if raw := c.page(t.Card, t.CardSHA); raw != nil {
		if _, err := card.Parse(t.Card, name, raw); err != nil {
			c.bad("%v", err)
		}
	}
	var list releases
	if raw := c.page(t.Releases, t.ReleasesSHA); raw != nil {
		if err := toml.Unmarshal(raw, &list); err != nil {
			c.bad("%s: %v", t.Releases, err)
		}
	}
	return list.Releases
}

// release checks the archives of one.
func (c *checker) release(ctx context.Context, name string, r release) error {
	at := map[string]bool{}
	for _, p := range r.Parts {
		if key := p.Name + " " + p.Platform; at[key] {
			c.bad("%s %s has two archives for %s", name, r.Version, p.Platform)
		} else {
			at[key] = true
		}
		if c.read[p.Path+p.SHA256] {
			continue
		}
		c.read[p.Path+p.SHA256] = true
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		c.archive(name+" "+r.Version, p)
	}
	return nil
}

// archive holds one to what its list states of it.
func (c *checker) archive(of string, p part) {
	f, err := disk.OpenWithin(c.folder, p.Path)
	if err != nil {
		c.bad("%s: %s %s", of, p.Path, disk.InWords(err))
		return
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	c.Files++
	c.Bytes += n
	switch {
	case err != nil:
		c.bad("%s: %v", p.Path, err)
	case p.Size != 0 && p.Size != n:
		c.bad("%s: %s has %d bytes, and the list states %d", of, p.Path, n, p.Size)
	case fmt.Sprintf("%x", h.Sum(nil)) != p.SHA256:
		c.bad("%s: %s has other bytes than the list states", of, p.Path)
	}
}

// signature holds that of the first page, when there is one, to the page.
func (c *checker) signature() error {
	raw, err := disk.ReadWithin(c.folder, "catalog.toml", disk.MostText)
	if err != nil {
		return err
	}
	signature, err := disk.ReadWithin(c.folder, source.CatalogSignature, 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	key, err := sshsig.Check(raw, signature, source.CatalogNamespace, "catalog")
	if err != nil {
		c.bad("%s: %v", source.CatalogSignature, err)
		return nil
	}
	c.SignedBy = ssh.FingerprintSHA256(key)
	return nil
}
