// Package spread does pieces of work on all processors.
package spread

import (
	"context"
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
)

// Each does n pieces of work, numbered from 0, in their order: as many at a time as there are processors, each on a goroutine that does
// one after the other, whose stack has grown by then. After an error, or where ctx has ended, no further piece is begun; the first error is
// returned.
func Each(ctx context.Context, n int, do func(ctx context.Context, i int) error) error {
	if err := ctx.Err(); err != nil || n == 0 {
		return err
	}
	if n == 1 {
		return do(ctx, 0)
	}
	group, ctx := errgroup.WithContext(ctx)
	var next atomic.Int64
	for range min(n, runtime.GOMAXPROCS(0)) {
		group.Go(func() error {
			for ctx.Err() == nil {
				i := int(next.Add(1)) - 1
				if i >= n {
					return nil
				}
				if err := do(ctx, i); err != nil {
					return err
				}
			}
			return ctx.Err()
		})
	}
	return group.Wait()
}
