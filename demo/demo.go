// Package demo holds the demonstration estate: the gateways of the Lanternshore lighthouse service. All of it is made up.
package demo

import (
	"embed"
	"io/fs"
)

//go:embed all:estate
var files embed.FS

// Estate returns the demonstration estate: one folder a gateway.
func Estate() fs.FS {
	sub, err := fs.Sub(files, "estate")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return sub
}
