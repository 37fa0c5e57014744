package setup

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
)

// In any graph every node is done once, after all that it needs.
func TestWalkKeepsTheOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for range 200 {
		g := Graph{}
		n := 1 + r.IntN(30)
		for i := range n {
			var needs []string
			for j := range i {
				if r.IntN(4) == 0 {
					needs = append(needs, fmt.Sprint(j))
				}
			}
			g[fmt.Sprint(i)] = needs
		}
		var mu sync.Mutex
		var order []string
		err := g.Walk(context.Background(), func(_ context.Context, node string) error {
			mu.Lock()
			defer mu.Unlock()
			for _, need := range g[node] {
				if !slices.Contains(order, need) {
					t.Errorf("%s before %s", node, need)
				}
			}
			order = append(order, node)
			return nil
		})
		if err != nil || len(order) != n {
			t.Fatalf("%d of %d done, %v", len(order), n, err)
		}
	}
}

func TestAFailureStopsOnlyWhatNeedsIt(t *testing.T) {
	g := Graph{"a": nil, "b": {"a"}, "c": {"b"}, "d": nil, "e": {"d"}}
	broken := errors.New("b is broken")
	var mu sync.Mutex
	done := map[string]bool{}
	err := g.Walk(context.Background(), func(_ context.Context, node string) error {
		if node == "b" {
			return broken
		}
		mu.Lock()
		done[node] = true
		mu.Unlock()
		return nil
	})
	if !errors.Is(err, broken) || done["c"] || !done["a"] || !done["d"] || !done["e"] {
		t.Errorf("%v, %v", done, err)
	}
}

func TestACancelledWalkStartsNothingMore(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	g := Graph{"a": nil, "b": {"a"}, "c": {"b"}}
	err := g.Walk(ctx, func(_ context.Context, node string) error {
		if node != "a" {
			t.Errorf("%s was begun", node)
		}
		cancel()
		return nil
	})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}
