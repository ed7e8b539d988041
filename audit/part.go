package audit

import (
	"context"
	"errors"
	"time"

	"toril/baseline"
	"toril/estate"
	"toril/internal/record"
	"toril/pair"
)

// RunPart does the share i of n of an audit's work, where i counts from 1, and writes down what came of it, to be joined with the other
// shares.
func RunPart(ctx context.Context, e *pair.Estate, checks []*Check, b *baseline.Baseline, now time.Time, i, n int) ([]byte, error) {
	all := jobs(e)
	from, to := estate.Share(len(all), i, n)
	if err := newRun(ctx, e, checks, b, now).work(all[from:to]); err != nil {
		return nil, err
	}
	out := record.Append(nil, to-from)
	for _, w := range all[from:to] {
		out = record.Append(record.Append(out, w.match != nil), w.place)
		out = w.append(out, checks)
	}
	return out, nil
}

// JoinParts finishes an audit whose work was done in parts, of an estate that was joined: what it says is what one run would say.
func JoinParts(ctx context.Context, e *pair.Estate, checks []*Check, b *baseline.Baseline, now time.Time, parts [][]byte) (*Result, error) {
	todo := jobs(e)
	type subject struct {
		match bool
		place int
	}
	open := make(map[subject]*work, len(todo))
	for _, w := range todo {
		open[subject{w.match != nil, w.place}] = w
	}
	for _, data := range parts {
		var n int
		data, err := record.Read(data, &n)
		for ; n > 0 && err == nil; n-- {
			var s subject
			if data, err = record.Read(data, &s.match); err == nil {
				data, err = record.Read(data, &s.place)
			}
			w := open[s]
			if err != nil || w == nil {
				return nil, record.ErrDamaged
			}
			delete(open, s)
			data, err = w.read(data, checks)
		}
		if err != nil {
			return nil, err
		}
	}
	if len(open) > 0 {
		return nil, errors.New("parts of the work are missing")
	}
	return newRun(ctx, e, checks, b, now).finish(todo)
}
