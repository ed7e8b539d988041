// Package progress counts what long work has done, for whoever waits.
package progress

import (
	"context"
	"sync/atomic"
)

// Counts are what was done so far. The zero value is ready; they may be counted from several sides.
type Counts struct {
	Files    atomic.Int64 // read
	Work     atomic.Int64 // gateways and tunnels that were judged
	WorkOf   atomic.Int64 // how many there are; 0 before that is known
	Tunnels  atomic.Int64 // that were found
	Findings atomic.Int64 // so far
}

type key struct{}

// With returns a context whose work is counted.
func With(ctx context.Context) (context.Context, *Counts) {
	c := &Counts{}
	return context.WithValue(ctx, key{}, c), c
}

// Of returns the counts of a context; of one whose work nobody counts, counts that nobody looks at.
func Of(ctx context.Context) *Counts {
	if c, ok := ctx.Value(key{}).(*Counts); ok {
		return c
	}
	return &Counts{}
}
