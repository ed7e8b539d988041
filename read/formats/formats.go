// Package formats is the list of all saved formats that Toril reads.
package formats

import (
	"toril/read"
	"toril/read/certificate"
	"toril/read/nftables"
	"toril/read/strongswan"
)

// All returns every format.
func All() []*read.Format {
	return []*read.Format{
		strongswan.Swanctl,
		nftables.Text,
		certificate.Format,
	}
}
