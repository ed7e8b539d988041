package memory

import (
	"math"
	"runtime"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// limited has a test start without a limit, and puts back what the process had.
func limited(t *testing.T) {
	percent, limit := debug.SetGCPercent(100), debug.SetMemoryLimit(math.MaxInt64)
	t.Cleanup(func() {
		debug.SetGCPercent(percent)
		debug.SetMemoryLimit(limit)
		least.Store(0)
	})
}

// now is the limit that holds.
func now() int64 { return debug.SetMemoryLimit(-1) }

func TestEstatesTakeMoreTheMoreGatewaysTheyHave(t *testing.T) {
	limited(t)
	Expect(100_000, 0)
	assert.Equal(t, int64(math.MaxInt64), now(), "nobody asked for a limit")

	Limit()
	assert.Equal(t, int64(small), now())
	Expect(1, 0)
	Expect(some, 0)
	assert.Equal(t, int64(small), now(), "so many are worked on within it")
	Expect(some+1000, 0)
	assert.Equal(t, int64(small+1000*each), now())
	Expect(some+1000, 0)
	assert.Equal(t, int64(small+2000*each), now(), "another estate beside it")
	debug.SetMemoryLimit(math.MaxInt64)
	runtime.GC()
	kept := func() bool { return now() == small+2000*each }
	assert.Eventually(t, kept, 10*time.Second, time.Millisecond, "it holds once memory was cleared")
}

func TestTheEnvironmentDecides(t *testing.T) {
	limited(t)
	t.Setenv("GOMEMLIMIT", "off")
	Limit()
	Expect(100_000, 0)
	assert.Equal(t, int64(math.MaxInt64), now())
}

// TestRoomGrowsWithWhatIsInUse: no more in use never means less room for what is made anew.
func TestRoomGrowsWithWhatIsInUse(t *testing.T) {
	before := int64(0)
	for used := int64(0); used < 4<<30; used += 16 << 20 {
		room := roomFor(used)
		assert.GreaterOrEqual(t, room, before, "%d MiB in use", used>>20)
		assert.LessOrEqual(t, room, int64(many))
		before = room
	}
	assert.Equal(t, int64(many), before)
}
