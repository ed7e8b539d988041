// Package memory says how much may be made anew before memory is cleared: little, unless an estate needs more.
package memory

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"sync/atomic"
)

// small is what a run may take before memory is cleared more often: long rule lists live long.
const small = 464 << 20

// some gateways are worked on within that; for each that is beyond them a run may take as much as each more.
const some, each = 10_000, 15 << 10

// A single file that is hostile has no more in use than much, and there memory is kept low; a large estate has, and many may be made anew.
const much, many = 400 << 20, 400 << 20

// roomFor is what may be made anew before memory is cleared, in bytes, as against what is in use: each clearing costs as much as that.
func roomFor(used int64) int64 {
	if used <= much {
		return used * 2 / 5
	}
	return min(much*2/5+2*(used-much), many)
}

// rarely is how much, in percent of what is in use, may be made anew before memory is cleared, as long as all stays below the limit.
const rarely = 400

// first is that percentage until memory was cleared once, at 256 MiB, as 4 MiB count as being in use (runtime/debug.SetGCPercent): most
// runs end before.
const first = 6300

// least is what a run may take before memory is cleared more often; 0 where that is not ours to say.
var least atomic.Int64

// A run takes about so many times as much memory as it reads. From what is worthwhile it takes large pages, up to most, which lies within
// small.
const times, worthwhile, most = 48, 64 << 20, 416 << 20

// paged is done once large pages were asked for.
var paged sync.Once

// uncounted says that the next clearing is no sign of how much is in use.
var uncounted atomic.Bool

// Expect says how many gateways of an estate are going to be read, and how many bytes of their files: the more gateways there are, the more
// memory may be taken before it is cleared, for every estate of a run; for much, large pages are asked for. It does nothing without Limit.
func Expect(gateways int, bytes int64) {
	if least.Load() == 0 {
		return
	}
	if more := int64(gateways-some) * each; more > 0 {
		debug.SetMemoryLimit(least.Add(more))
	}
	if room := min(bytes, most) * times; room >= worthwhile {
		paged.Do(func() { advise(min(room, most)) })
	}
}

// Limit keeps memory low, unless the environment says something else (GOMEMLIMIT). Where much is really in use, clearing the rest again and
// again would take most of the time: the limit then stays above it, the further the more is in use.
func Limit() {
	if os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	var percent sync.Once
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(first)
	} else {
		percent.Do(func() {})
	}
	least.Store(small)
	debug.SetMemoryLimit(small)
	type mark struct{ _ *int }
	var again func(*mark)
	again = func(m *mark) { // whenever memory was cleared
		defer runtime.SetFinalizer(m, again)
		if uncounted.CompareAndSwap(true, false) {
			return
		}
		percent.Do(func() { debug.SetGCPercent(rarely) })
		all := []metrics.Sample{
			{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"},
			{Name: "/memory/classes/heap/free:bytes"}, {Name: "/memory/classes/heap/objects:bytes"},
		}
		metrics.Read(all)
		size := func(i int) int64 { return int64(all[i].Value.Uint64()) }
		used, beside := size(0), size(1)-size(2)-size(3)-size(4) // what is between objects, and the runtime's own
		debug.SetMemoryLimit(max(least.Load(), used+roomFor(used)+beside))
	}
	runtime.SetFinalizer(&mark{}, again)
}
