package ike_test

import "net/netip"

func prefix(s string) netip.Prefix { return netip.MustParsePrefix(s) }
