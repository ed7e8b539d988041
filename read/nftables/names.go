package nftables

import "toril/gateway"

// priorities are the names of the places of base chains (nft(8)).
var priorities = map[string]int{"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100, "out": 100}

// hooks are the names of the hooks of base chains.
var hooks = map[string]gateway.Hook{"ingress": gateway.Ingress, "prerouting": gateway.Prerouting, "input": gateway.Input, "forward": gateway.Forward,
	"output": gateway.Output, "postrouting": gateway.Postrouting, "egress": gateway.Egress}
