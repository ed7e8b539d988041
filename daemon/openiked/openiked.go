// Package openiked holds what is known of the IKE daemon OpenIKED, version 7.2: its words for algorithms, its default proposals, and how
// it behaves. All of it was asked of the daemon itself, as Debian has it on Linux, but for its proposals for a child elsewhere, which are
// those of its manual.
package openiked

import "toril/model"

// Daemon is OpenIKED and how it behaves.
var Daemon = model.Daemon{
	Name:    "OpenIKED",
	Answers: model.Answers{Weighs: true},
	Certs: model.Certs{
		NeedsRoot: true, TakesOwn: true, HeldFirst: true, OwnIntermediates: true, SendsKey: true, SendsToRoot: true, WantsLists: true,
		Folder: "ca",
	},
	Signs:    model.Signs{HashWithinCurve: true},
	Children: model.Children{OwnMode: true, AnyTransport: true, OwnSelectors: true, OrNone: true},
	Renews:   model.Renews{NoSecondGroup: true, KeepsNumber: true},
}
