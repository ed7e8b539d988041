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
// returned. A panic of a piece is one of the caller.
func Each(ctx context.Context, n int, do func(ctx context.Context, i int) error) error {
	if err := ctx.Err(); err != nil || n == 0 {
		return err
	}
	if n == 1 {
		return do(ctx, 0)
	}
	group, ctx := errgroup.WithContext(ctx)
	var next atomic.Int64
	var panicked atomic.Pointer[any]
	for range min(n, runtime.GOMAXPROCS(0)) {
		group.Go(func() error {
			defer func() {
				if r := recover(); r != nil {
					panicked.CompareAndSwap(nil, &r)
					next.Store(int64(n))
				}
			}()
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
	err := group.Wait()
	if r := panicked.Load(); r != nil {
		panic(*r)
	}
	return err
}

// InShares does something with every number from 0 up to n, as many that follow each other at a time as a share has: for short pieces of
// work that cannot fail.
func InShares(n, share int, do func(i int)) {
	_ = Each(context.Background(), (n+share-1)/share, func(_ context.Context, at int) error {
		for i := at * share; i < min(n, (at+1)*share); i++ {
			do(i)
		}
		return nil
	})
}
