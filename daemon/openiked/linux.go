package openiked

import (
	"slices"

	"toril/ike"
)

// Linux is what the daemon does otherwise there (OpenIKED 7.2 of Debian, asked in lab/iked): the kernel takes fewer algorithms from it
// through PF_KEY, and it has other proposals of its own for a child. ps are the proposals of a child as they are written, nil for none,
// and are completed. offered is what it sends: combined ciphers (AEAD) are left out. taken is what it agrees on as a responder.
func Linux(protocol ike.Protocol, ps []ike.Proposal) (offered, taken []ike.Proposal) {
	own := linux(protocol)
	if len(ps) == 0 {
		return own, own
	}
	for _, p := range ps {
		p = complete(p, own)
		taken = append(taken, p)
		if !slices.ContainsFunc(p.Transforms[ike.Encryption], func(c ike.Choice) bool { return c.Algorithm.Combined }) {
			offered = append(offered, p)
		}
	}
	return offered, taken
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
