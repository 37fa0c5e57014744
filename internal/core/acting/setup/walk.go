// Package setup does what is due: steps and services in the order that their
// needs give, as parallel as the graph allows.
package setup

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"app.example/trammel/internal/core/base/event"
)

// Graph is what to do: for each node the nodes that must be done before it.
type Graph map[string][]string

// waited is how long a node takes at least that another is said to have waited for: less, and it had nothing to do.
const waited = 5 * time.Millisecond

// Walk does every node as soon as its needs are done, and tells it by its context which of them took longest to be done
// (event.After). When one fails, what needs it is left undone and the rest goes on; all errors come back joined.
func (g Graph) Walk(ctx context.Context, do func(ctx context.Context, node string) error) error {
	done := make(map[string]chan struct{}, len(g))
	for node := range g {
		done[node] = make(chan struct{})
	}
	var (
		wait   sync.WaitGroup
		mu     sync.Mutex
		undone = map[string]bool{}
		ended  = map[string]int{} // in what order nodes ended
		took   = map[string]time.Duration{}
		failed []error
	)
	for node, needs := range g {
		wait.Go(func() {
			defer close(done[node]) // after the lock is let go
			blocked, last, after := false, 0, ""
			for _, n := range needs {
				if ch, ok := done[n]; ok {
					<-ch
					mu.Lock()
					blocked = blocked || undone[n]
					if ended[n] > last && took[n] >= waited {
						last, after = ended[n], n
					}
					mu.Unlock()
				}
			}
			var err error
			begun := time.Now()
			if !blocked && ctx.Err() == nil {
				ctx := ctx
				if after != "" { // else a walk within another waits for what that one waited for
					ctx = event.After(ctx, strings.Replace(after, ".", " ", 1))
				}
				err = do(ctx, node)
			}
			mu.Lock()
			defer mu.Unlock()
			ended[node], took[node] = len(ended)+1, time.Since(begun)
			if blocked || err != nil || ctx.Err() != nil {
				undone[node] = true
				if err != nil {
					failed = append(failed, err)
				}
			}
		})
	}
	wait.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if len(failed) == 1 {
		return failed[0]
	}
	return errors.Join(failed...)
}
