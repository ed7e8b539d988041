package audit

import (
	"strings"

	"toril/daemon"
	"toril/daemon/known"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
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
)

// CatchTraffic is how a child's policy is made to stand while there is no SA, which sets the tunnel up when traffic asks for it.
func (p *Pass) CatchTraffic(s *Subject) string {
	if _, text := p.statement(s, settings.Start.Row, model.StartTraffic); text != "" {
		return "set " + text
	}
	return "start the child by traffic"
}

// PassChild is how the networks behind the gateway are left out of a child that takes everything.
func (p *Pass) PassChild(s *Subject) string {
	const networks = " from and to the networks behind the gateway"
	section, pass := p.statement(s, settings.Mode.Row, ike.Pass)
	_, start := p.statement(s, settings.Start.Row, model.StartTraffic)
	switch {
	case pass == "" || start == "":
		return "leave the networks behind the gateway out of the child"
	case strings.HasSuffix(section.Path, "<child>"):
		return "add a child with " + pass + " and " + start + networks
	}
	return "add a connection with " + pass + " and " + start + networks
}

// statement returns the statement that sets a setting in the file that a subject's connection stands in, and the section that it belongs
// into; "" where that file's keywords are not known.
func (p *Pass) statement(s *Subject, of *settings.Row, value any) (*daemon.Section, string) {
	f := s.Gateway.File(s.Connection.At.File)
	if f == nil {
		return nil, ""
	}
	for _, section := range known.Writes(f.Format) {
		if section.Of(of) == nil {
			continue
		}
		subject := daemon.Subject{Subject: settings.Subject{Connection: s.Connection, Child: s.Child}}
		if text, err := section.Written(subject, of, value); err == nil {
			return section, text
		}
	}
	return nil, ""
}

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
