package fit

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/checkout"
	"app.example/trammel/internal/core/origins/source"
	"app.example/trammel/internal/core/written/lock"
)

// Expected is what a fit is about to fetch.
type Expected struct {
	Things  []string // "go 1.24.6", "61 packages of trixie"
	Archive int      // how many archives that are
	Bytes   int64    // of those whose size is known
	Unknown int      // archives whose sources do not say how large they are
}

// expect says what is to be fetched for the work that is to be done. What is in the cache is not
// fetched, and what a depot has may come from there.
func expect(ctx context.Context, s *checkout.State, o Options, todo []work) Expected {
	var out Expected
	var unsized []lock.PartOn
	cached := map[string]int64{}
	entries, _ := os.ReadDir(s.Places.Archives())
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			cached[e.Name()] = info.Size()
		}
	}
	count := func(d fetch.Digest, size int64) bool {
		if have, ok := cached[fetch.ArchiveName(d)]; ok && (size == 0 || size == have) {
			return false
		}
		out.Archive++
		out.Bytes += size
		if size == 0 {
			out.Unknown++
		}
		return true
	}
	several := func(n int, of string) {
		switch n {
		case 0:
		case 1:
			out.Things = append(out.Things, "1 package of "+of)
		default:
			out.Things = append(out.Things, fmt.Sprintf("%d packages of %s", n, of))
		}
	}
	for _, w := range todo {
		if ctx.Err() != nil {
			return out
		}
		n := 0
		switch {
		case w.part.Format == lock.RootFormat || w.part.Format == lock.SetFormat:
			for _, line := range w.part.Packages {
				if l, err := lock.ParseLibrary(line); w.part.Format == lock.SetFormat {
					if err == nil && count(l.Digest, l.Size) {
						n++
					}
				} else if q, err := lock.ParsePackage(line); err == nil {
					d := q.Part(w.part.Docs)
					d.Tree = s.Store.Tree(d)
					if (d.Tree == "" || !s.Store.Has(d)) && count(d.Digest, d.Size) {
						n++
					}
				}
			}
			several(n, w.part.Name)
		case len(w.part.Packages) > 0 && w.part.Build != "":
			if list, err := packagesOf(w.part); err == nil {
				for _, x := range list {
					if count(x.digest, 0) {
						n++
					}
				}
			}
			several(n, w.part.Label())
		default:
			if count(w.part.Digest, w.part.Size) {
				out.Things = append(out.Things, w.part.Label()+" "+w.part.Part.Version)
				if w.part.Size == 0 {
					unsized = append(unsized, w.part)
				}
			}
		}
	}
	for _, size := range sizes(ctx, s, o, unsized) {
		if size > 0 {
			out.Bytes += size
			out.Unknown--
		}
	}
	return out
}

const (
	mostAsked = 32              // archives whose size is asked for
	sizesTake = 2 * time.Second // at most: it is but a word to the person
)

// sizes asks the sources how large archives are.
func sizes(ctx context.Context, s *checkout.State, o Options, parts []lock.PartOn) []int64 {
	if len(parts) == 0 || len(parts) > mostAsked || o.Client == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, sizesTake)
	defer cancel()
	out := make([]int64, len(parts))
	opened := map[string]source.Source{}
	var wait sync.WaitGroup
	for i, part := range parts {
		from, err := open(s, o, opened, part)
		if err != nil {
			continue
		}
		if addresses, err := from.Where(part.Part); err == nil && len(addresses) > 0 {
			wait.Go(func() { out[i] = o.Client.Size(ctx, addresses[0]) })
		}
	}
	wait.Wait()
	return out
}

// mostNamed is how many things are named before they are counted.
const mostNamed = 6

// inWords is a size as people say it.
func inWords(bytes int64) string {
	switch {
	case bytes < 1<<10:
		return fmt.Sprintf("%d B", bytes)
	case bytes < 1<<20:
		return fmt.Sprintf("%.1f KiB", float64(bytes)/(1<<10))
	}
	return fmt.Sprintf("%.1f MiB", float64(bytes)/(1<<20))
}

// tell says what is about to be fetched, where that is anything.
func (e Expected) tell(ctx context.Context, depot bool) {
	if e.Archive == 0 {
		return
	}
	things := slices.Clone(e.Things)
	if len(things) > mostNamed {
		things = append(things[:mostNamed], fmt.Sprintf("%d more", len(e.Things)-mostNamed))
	}
	text := "To fetch"
	if depot {
		text = "To copy from the depot, or else to fetch"
	}
	text += ": " + strings.Join(things, ", ")
	if e.Bytes > 0 {
		size := inWords(e.Bytes)
		switch {
		case e.Unknown == e.Archive:
		case e.Unknown > 0:
			text += fmt.Sprintf(". That is %s, and %d archives of which the sources do not say it", size, e.Unknown)
		default:
			text += ". That is " + size
		}
	}
	event.Say(ctx, text+".")
}
