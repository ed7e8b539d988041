// Toril reads the saved configurations of firewalls and routers and says what is wrong with their IPsec tunnels.
package main

import (
	"os"

	"toril/internal/cli"
	"toril/internal/memory"
)

func main() {
	memory.Limit()
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
