// Package strongswan holds what is known of the IKE daemon strongSwan, version 5.9.8: its words for algorithms, both ways, its default
// proposals, and how it behaves. All of it was asked of the daemon itself.
package strongswan

import "toril/model"

// Daemon is strongSwan and how it behaves.
var Daemon = model.Daemon{
	Name:       "strongSwan",
	FixedPorts: true,

	StripsPrivate: true,

	Policies: model.Policies{Routes: true, DropsLast: true, ShuntsTrapped: true},
	Children: model.Children{NegotiatesShunts: true},
	Answers:  model.Answers{GuardsAggressive: true, JoinsAlike: true},
	Keys:     model.Keys{Latest: true, Tries: true},
	IDs:      model.IDs{NameInOrder: true, WritesT61: true},
	Certs:    model.Certs{MindsUsage: true, ByFile: true, FirstOnly: true, NeedsRoot: true, TakesOwn: true, SendsAsked: true},
	Signs:    model.Signs{TellsAsked: true, HashByKey: true, KeyDecidesV1: true},
	Hosts:    model.Hosts{Replaces: true},
}
