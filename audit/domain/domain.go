// Package domain holds the checks of encryption domains: which packets a child protects.
package domain

import (
	"net/netip"

	"toril/ike"
)

type (
	addr      = netip.Addr
	prefix    = netip.Prefix
	selectors = ike.Selectors
)

func mustPrefix(s string) netip.Prefix { return netip.MustParsePrefix(s) }
