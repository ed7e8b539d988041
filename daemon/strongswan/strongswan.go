// Package strongswan holds what is known of the IKE daemon strongSwan, version 5.9.8: its words for algorithms, both ways, its default
// proposals, and how it behaves. All of it was asked of the daemon itself.
package strongswan

import "toril/model"

// Daemon is strongSwan and how it behaves.
var Daemon = model.Daemon{Name: "strongSwan", Routes: true, ShuntsTrapped: true,
	FixedPorts: true, ReplacesHosts: true, LatestKey: true, TriesKeys: true, KeyDecidesV1: true,
	GuardsAggressive: true, TellsAsked: true, HashByKey: true}
