package libraries

import (
	"context"

	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/stored/merge"
	"app.example/trammel/internal/core/stored/tree"
)

// RFolder is where a set has its packages: an R library tree ("R Installation and
// Administration", Add-on packages).
const RFolder = "library"

// R fills an empty folder with the set of packages that were each built into a library of
// their own, and returns its manifest.
func R(ctx context.Context, dir string, built []merge.Piece) (tree.Manifest, error) {
	b := merge.New(dir)
	b.Pieces = built
	b.Settle = func(old, x merge.Placed) (merge.Placed, error) {
		return x, fault.New(fault.ErrSource, "%s both have the file %s, and it differs", both(built, old, x), x.Path)
	}
	for i, p := range built {
		for _, e := range p.Manifest {
			from := e.Path
			e.Path = RFolder + "/" + e.Path
			if err := b.Put(merge.Placed{Entry: e, Piece: i, From: from}); err != nil {
				return nil, err
			}
		}
	}
	b.Tidy()
	if err := b.Write(ctx); err != nil {
		return nil, err
	}
	return b.Finish()
}
