package spread_test

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/internal/spread"
)

func TestEachPieceIsDoneOnce(t *testing.T) {
	for _, n := range []int{0, 1, 2, 1000} {
		done := make([]atomic.Int32, n)
		assert.NoError(t, spread.Each(t.Context(), n, func(_ context.Context, i int) error {
			done[i].Add(1)
			return nil
		}))
		for i := range done {
			assert.EqualValues(t, 1, done[i].Load())
		}
	}
}

func TestNothingIsBegunAfterAnError(t *testing.T) {
	wrong := errors.New("wrong")
	var begun atomic.Int32
	err := spread.Each(t.Context(), 1_000_000, func(context.Context, int) error {
		if begun.Add(1) == 10 {
			return wrong
		}
		return nil
	})
	assert.ErrorIs(t, err, wrong)
	assert.Less(t, begun.Load(), int32(1_000_000))

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, spread.Each(ctx, 5, func(context.Context, int) error { panic("it has ended") }), context.Canceled)
}

func TestSharesAreOfAllNumbers(t *testing.T) {
	for _, n := range []int{0, 1, 63, 64, 65, 1000} {
		done := make([]atomic.Int32, n)
		spread.InShares(n, 64, func(i int) { done[i].Add(1) })
		for i := range done {
			assert.EqualValues(t, 1, done[i].Load())
		}
	}
}

// TestAPanicIsTheCallers: what panics in a piece of work does so in whoever asked for the work, who may catch it.
func TestAPanicIsTheCallers(t *testing.T) {
	assert.PanicsWithValue(t, "seven", func() {
		_ = spread.Each(t.Context(), 100, func(_ context.Context, i int) error {
			if i == 7 {
				panic("seven")
			}
			return nil
		})
	})
}
