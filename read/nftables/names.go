package nftables

import "toril/model"

// priorities are the names of the places of base chains (nft(8)).
var priorities = map[string]int{"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100, "out": 100}

// hooks are the names of the hooks of base chains.
var hooks = map[string]model.Hook{"ingress": model.Ingress, "prerouting": model.Prerouting, "input": model.Input, "forward": model.Forward,
	"output": model.Output, "postrouting": model.Postrouting, "egress": model.Egress}
