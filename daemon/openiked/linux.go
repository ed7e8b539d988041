package openiked

import (
	"slices"

	"toril/ike"
)

// Linux is what the daemon makes of the proposals of a child there (OpenIKED 7.2 of Debian, asked in lab/iked and lab/formats): it leaves
// out combined ciphers (AEAD), which the kernel does not take from it through PF_KEY, and has others of its own. ps are the proposals as
// they are written, nil for none; they are completed.
func Linux(protocol ike.Protocol, ps []ike.Proposal) []ike.Proposal {
	own := linux(protocol)
	if len(ps) == 0 {
		return own
	}
	out := []ike.Proposal{}
	for _, p := range ps {
		if !combined(p) {
			out = append(out, complete(p, own)...)
		}
	}
	return out
}

// linux are the daemon's own proposals for a child there.
func linux(protocol ike.Protocol) []ike.Proposal {
	p := ike.Proposal{Protocol: protocol, Transforms: ike.Transforms{
		ike.Integrity: ike.Picks(ike.Integrity, 13, 14, 2), ike.Sequence: ike.Picks(ike.Sequence, 0),
	}}
	if protocol == ike.ESP {
		p.Transforms[ike.Encryption] = named("aes-256", "aes-192", "aes-128")
	}
	return []ike.Proposal{p}
}

// Lacking are the algorithms that the kernel of Linux does not take from the daemon: a child SA that agrees on one is not installed.
func Lacking() ike.Choices {
	return slices.Concat(
		named("cast", "blowfish", "chacha20-poly1305"), named("aes-128-gcm", "aes-192-gcm", "aes-256-gcm"),
		named("aes-128-gmac", "aes-192-gmac", "aes-256-gmac"), ike.Picks(ike.Integrity, 12), ike.Picks(ike.Sequence, 1),
	)
}
