//go:build lab

package charon

import (
	"fmt"
	"strings"

	"toril/ike"
)

// groups are the daemon's names of key exchanges where they are not made out of IANA's.
var groups = map[uint16]string{
	1:  "MODP_768",
	2:  "MODP_1024",
	5:  "MODP_1536",
	14: "MODP_2048",
	15: "MODP_3072",
	16: "MODP_4096",
	17: "MODP_6144",
	18: "MODP_8192",
	19: "ECP_256",
	20: "ECP_384",
	21: "ECP_521",
	22: "MODP_1024_160",
	23: "MODP_2048_224",
	24: "MODP_2048_256",
	25: "ECP_192",
	26: "ECP_224",
	27: "ECP_224_BP",
	28: "ECP_256_BP",
	29: "ECP_384_BP",
	30: "ECP_512_BP",
	31: "CURVE_25519",
	32: "CURVE_448",
}

// Algorithm returns the daemon's name of a choice, as it writes it into its log and into list-sas.
func Algorithm(c ike.Choice) string {
	switch c.Registry {
	case ike.KeyExchange:
		return groups[c.ID]
	case ike.Sequence:
		return map[uint16]string{0: "NO_EXT_SEQ", 1: "EXT_SEQ"}[c.ID]
	case ike.Integrity:
		return strings.TrimPrefix(c.Name, "AUTH_")
	case ike.PRF:
		return c.Name
	}
	name := strings.TrimPrefix(c.Name, "ENCR_")
	if name == "3DES" {
		name = "3DES_CBC"
	}
	if c.KeyBits > 0 {
		name += fmt.Sprintf("_%d", c.KeyBits)
	}
	return name
}

// Proposal writes a proposal as the daemon does.
func Proposal(p ike.Proposal) string {
	var parts []string
	for _, c := range p.All() {
		parts = append(parts, Algorithm(c))
	}
	if p.Protocol != ike.IKE {
		if len(p.Transforms[ike.Sequence]) == 0 {
			parts = append(parts, "NO_EXT_SEQ")
		}
		for _, c := range p.Transforms[ike.Sequence] {
			parts = append(parts, Algorithm(c))
		}
	}
	return p.Protocol.String() + ":" + strings.Join(parts, "/")
}
