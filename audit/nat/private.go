package nat

import "net/netip"

type prefix = netip.Prefix

// private are the networks of RFC 1918.
var private = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16")}
