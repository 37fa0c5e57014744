// Package setup does what is due: steps and services in the order that their
// needs give, as parallel as the graph allows.
package setup

import (
	"context"
	"errors"
	"sync"
)

// Graph is what to do: for each node the nodes that must be done before it.
type Graph map[string][]string

// Walk does every node as soon as its needs are done. When one fails, what needs
// it is left undone and the rest goes on; all errors come back joined.
func (g Graph) Walk(ctx context.Context, do func(ctx context.Context, node string) error) error {
	done := make(map[string]chan struct{}, len(g))
	for node := range g {
		done[node] = make(chan struct{})
	}
	var (
		wait   sync.WaitGroup
		mu     sync.Mutex
		undone = map[string]bool{}
		failed []error
	)
	for node, needs := range g {
		wait.Go(func() {
			defer close(done[node])
			blocked := false
			for _, n := range needs {
				if ch, ok := done[n]; ok {
					<-ch
					mu.Lock()
					blocked = blocked || undone[n]
					mu.Unlock()
				}
			}
			var err error
			if !blocked && ctx.Err() == nil {
				err = do(ctx, node)
			}
			if blocked || err != nil || ctx.Err() != nil {
				mu.Lock()
				undone[node] = true
				if err != nil {
					failed = append(failed, err)
				}
				mu.Unlock()
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
