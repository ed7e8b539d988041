package suite_test

// seeded are the faults of the demonstration estate, each with the line that it was put at.
var seeded = []string{
	"access/any-from-tunnel buoyyard/nftables.conf:14",
	"access/blanket buoyyard/nftables.conf:14", // follows from access/any-from-tunnel
	"access/ike-closed quayside/nftables.conf:3",
	"domain/any-to-any quayside/swanctl.conf:26",
	"domain/covered quayside/swanctl.conf:20",          // follows from domain/any-to-any
	"ends/lifetimes-differ lampwright/swanctl.conf:35", // follows from life/ike-too-long
	"ends/not-mirrored lampwright/swanctl.conf:42",
	"ends/pfs-differs lampwright/swanctl.conf:44",
	"ends/proposals-differ quayside/swanctl.conf:27",
	"ends/weaker-than-possible quayside/swanctl.conf:21", // follows from esp/weak-algorithm
	"esp/downgrade lampwright/swanctl.conf:44",
	"esp/weak-algorithm quayside/swanctl.conf:21",
	"ike/downgrade buoyyard/swanctl.conf:7",
	"ike/weak-algorithm lampwright/swanctl.conf:16",
	"key/weak buoyyard/swanctl.conf:31",
	"life/ike-too-long lampwright/swanctl.conf:35",
	"nat/late-exemption lampwright/nftables.conf:36",
	"nat/rewritten lampwright/nftables.conf:35",
	"pfs/absent lampwright/swanctl.conf:25",
	"pfs/optional buoyyard/swanctl.conf:21",
	"route/no-return quayside/swanctl.conf:24", // follows from domain/any-to-any
}
