// Package formats is the list of all saved formats that Toril reads.
package formats

import (
	"toril/read"
	"toril/read/certificate"
	"toril/read/conntrack"
	"toril/read/frr"
	"toril/read/ifupdown"
	"toril/read/iked"
	"toril/read/iproute"
	"toril/read/iptables"
	"toril/read/libreswan"
	"toril/read/netplan"
	"toril/read/networkd"
	"toril/read/nftables"
	"toril/read/strongswan"
	"toril/read/yang"
)

// All returns every format.
func All() []*read.Format {
	return []*read.Format{
		iproute.JSON,
		iproute.Text,
		ifupdown.Format,
		networkd.Format,
		netplan.Format,
		frr.Format,
		strongswan.DaemonConf,
		strongswan.Swanctl,
		strongswan.IPsecConf,
		strongswan.IPsecSecrets,
		libreswan.Format,
		iked.Format,
		iptables.Sets,
		nftables.Text,
		nftables.JSON,
		iptables.Save,
		certificate.Format,
		yang.Format,
		strongswan.Status,
		strongswan.Log,
		libreswan.Status,
		libreswan.Log,
		iproute.XFRM,
		conntrack.Format,
	}
}
