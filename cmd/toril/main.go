// Toril reads the saved configurations of firewalls and routers and says what is wrong with their IPsec tunnels.
package main

import (
	"os"
	"runtime/debug"

	"toril/internal/cli"
)

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(30) // long rule lists live long: less memory for a little time
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
