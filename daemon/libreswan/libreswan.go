// Package libreswan holds what is known of the IKE daemon Libreswan, version 4.10: its words for algorithms, its default proposals, and
// how it behaves. All of it was asked of the daemon itself.
package libreswan

import "toril/model"

// Daemon is Libreswan and how it behaves.
var Daemon = model.Daemon{
	Name:      "Libreswan",
	FollowsV1: true,
	Answers:   model.Answers{AsksOne: true, LatestFirst: true, JoinsByIdentity: true, FirstIsOne: true},
	IDs:       model.IDs{AsksNoAddress: true, AddressIsName: true, TakesNamed: true, MindsNotAsked: true},
	Keys:      model.Keys{OfBoth: true},
	Certs:     model.Certs{AsksInTurn: true},
	Signs:     model.Signs{TellsHashes: true, Alike: true, OneMethodV1: true},
	Children:  model.Children{KeepsMode: true, AnyTransport: true, WithinAsked: true},
	Hosts:     model.Hosts{TakesV1: true, UnsaidV1: true},
	Renews:    model.Renews{Alike: true, HalfMargin: true},
}
