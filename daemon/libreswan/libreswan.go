// Package libreswan holds what is known of the IKE daemon Libreswan, version 4.10: its words for algorithms, its default proposals, and
// how it behaves. All of it was asked of the daemon itself.
package libreswan

import "toril/model"

// Daemon is Libreswan and how it behaves.
var Daemon = model.Daemon{
	Name: "Libreswan", KeepsMode: true, RenewsAlike: true, FollowsV1: true, FirstIsOne: true, WithinAsked: true,
	LatestFirst: true, AsksOne: true, JoinsByIdentity: true, AsksInTurn: true, TellsHashes: true,
	HalfMargin: true, SignsAlike: true, TakesNamed: true, OneMethodV1: true, KeyOfBoth: true,
	AsksNoAddress: true, AddressIsName: true, TakesHostsV1: true, UnsaidHostsV1: true,
}
