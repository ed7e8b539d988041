// Toril reads the saved configurations of firewalls and routers and says what is wrong with their IPsec tunnels.
package main

import (
	"os"
	"runtime/debug"

	"toril/internal/cli"
)

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(400 << 20) // long rule lists live long: past this, memory is cleared more often
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
