// Toril reads the saved configurations of firewalls and routers and says what is wrong with their IPsec tunnels.
package main

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"

	"toril/internal/cli"
)

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		limit()
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// small is what a run may take before memory is cleared more often: long rule lists live long.
const small = 400 << 20

// limit keeps memory low. Where much is really in use, clearing the rest again and again would take most of the time: the limit then stays
// above it, the further the more is in use.
func limit() {
	debug.SetMemoryLimit(small)
	type mark struct{ _ *int }
	var again func(*mark)
	again = func(m *mark) { // whenever memory was cleared
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(live)
		used := int64(live[0].Value.Uint64())
		debug.SetMemoryLimit(max(small, used+max(128<<20, 2*(used-256<<20))))
		runtime.SetFinalizer(m, again)
	}
	runtime.SetFinalizer(&mark{}, again)
}
