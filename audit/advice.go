package audit

import (
	"strings"

	"toril/ike"
	"toril/source"
)

// Saying is how a thing is written, by the name of a file's format; under "" where the format has no words for it.
type Saying map[string]string

// What advice is made of.
var (
	// ExemptByPolicy lets pass what a policy will encrypt.
	ExemptByPolicy = Saying{
		"":              "an exemption by IPsec policy",
		"nftables":      "rt ipsec exists accept",
		"nftables-json": "rt ipsec exists accept",
		"iptables-save": "-m policy --dir out --pol ipsec -j ACCEPT",
	}
	// ExemptESP lets the encrypted packets pass.
	ExemptESP = Saying{
		"":              "an exemption of ESP",
		"nftables":      "meta l4proto esp accept",
		"nftables-json": "meta l4proto esp accept",
		"iptables-save": "-p esp -j ACCEPT",
	}
	// CatchTraffic lets a policy stand while there is no SA, which sets the tunnel up when traffic asks for it.
	CatchTraffic = Saying{
		"":                      "start the child by traffic",
		"swanctl.conf":          "set start_action = trap",
		"ipsec.conf-strongswan": "set auto=route",
		"ipsec.conf-libreswan":  "set auto=ondemand",
	}
	// PassChild leaves the networks behind the gateway out of a child that takes everything.
	PassChild = Saying{
		"":                      "leave the networks behind the gateway out of the child",
		"swanctl.conf":          "add a child with mode = pass and start_action = trap from and to the networks behind the gateway",
		"ipsec.conf-strongswan": "add a connection with type=passthrough and auto=route from and to the networks behind the gateway",
		"ipsec.conf-libreswan":  "add a connection with type=passthrough and auto=route from and to the networks behind the gateway",
	}
)

// In returns the words for the format of the file that a line of a gateway stands in.
func (p *Pass) In(s Saying, gatewayName string, at source.Pos) string {
	for _, g := range p.work.gateways() {
		if f := g.File(at.File); f != nil && g.Name == gatewayName {
			if words, ok := s[f.Format]; ok {
				return words
			}
		}
	}
	return s[""]
}

// WithoutWeak advises to take weak algorithms out of a subject's proposals, and says whether that changes what both ends negotiate
// today.
func (p *Pass) WithoutWeak(s *Subject, j Judged) string {
	const advice = "Remove the weak algorithms from the proposals; "
	if _, ok := s.Far(); !ok {
		return advice + "first check whether the far end, which was not given, offers anything else."
	}
	uses := func(suite ike.Suite) bool {
		for _, w := range j.Weak {
			if suite.Transforms[w.Registry] == w.Choice {
				return true
			}
		}
		return false
	}
	known := false
	for _, a := range p.Attempts(s.Tunnel) {
		if a.Failure != nil {
			continue
		}
		if s.Child == nil {
			known = true
			if uses(a.IKE) {
				return advice + "today " + a.IKE.String() + " is negotiated, so first add a strong proposal on both ends."
			}
		}
		for _, c := range a.Children {
			if s.Child == nil || c.Failure != nil || c.Of != s.Child && c.With != s.Child {
				continue
			}
			known = true
			if uses(c.Suite) {
				return advice + "today " + c.Suite.String() + " is negotiated, so first add a strong proposal on both ends."
			}
		}
	}
	if !known {
		return advice + "today nothing is negotiated."
	}
	return advice + "what both ends negotiate today does not change."
}

// Sentence makes a sentence of advice: parts joined by commas, the last by "or".
func Sentence(parts ...string) string {
	text := parts[0]
	if n := len(parts); n > 1 {
		text = strings.Join(parts[:n-1], ", ") + ", or " + parts[n-1]
	}
	return strings.ToUpper(text[:1]) + text[1:] + "."
}
