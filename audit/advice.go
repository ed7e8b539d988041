package audit

import (
	"strings"

	"toril/daemon"
	"toril/daemon/known"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
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

// example says what to write in the very file that a subject's connection stands in, for the check's advice: " In swanctl.conf:
// dpd_delay = 30s."; "" where no settings are advised, or that file's keywords are not known.
func (p *Pass) example(s *Subject) string {
	if p.Check.Suggest.Sets == nil || s == nil {
		return ""
	}
	for _, x := range p.Check.Suggest.Sets(s) {
		if section, text := p.statement(s, x.Setting, x.Value); text != "" {
			return " In " + section.Title() + ": " + text + "."
		}
	}
	return ""
}

// Example is how the check's page shows what to write: what it says of it, and the settings that the check advises, the first of each, in
// the words of every daemon.
func (c *Check) Example() string {
	out := c.Doc.Write
	if c.Suggest.Sets == nil {
		return out
	}
	connection, child := &model.Connection{}, &model.Child{}
	s := &Subject{End: pair.End{Gateway: &model.Gateway{}, Connection: connection}, Tunnel: &pair.Tunnel{}, Child: child}
	shown := map[*settings.Row]bool{}
	for _, x := range c.Suggest.Sets(s) {
		if shown[x.Setting] {
			continue
		}
		shown[x.Setting] = true
		for _, d := range known.All() {
			for _, section := range d.Described() {
				if text := written(section, s, x.Setting, x.Value); text != "" {
					out += " In " + section.Title() + " of " + d.Daemon.Name + ": " + text + "."
				}
			}
		}
	}
	return strings.TrimSpace(out)
}

// written is the statement of a section that sets a setting; "" where it has none.
func written(section *daemon.Section, s *Subject, of *settings.Row, value any) string {
	if section.Of(of) == nil {
		return ""
	}
	text, err := section.Written(daemon.Subject{Subject: settings.Subject{Connection: s.Connection, Child: s.Child}}, of, value)
	if err != nil {
		return ""
	}
	if strings.HasSuffix(section.Path, ".remote") {
		text = "remote { " + text + " }"
	}
	return text
}

// subjectOf returns what a finding is about: an end of the tunnel that the check was asked of, or a child of it; nil for anything else.
func (p *Pass) subjectOf(f *Finding) *Subject {
	if p.work == nil || p.work.tunnel == nil {
		return nil
	}
	for _, e := range p.work.tunnel.Ends {
		if e.Gateway.Name != f.Gateway || e.Connection.Name != f.Connection {
			continue
		}
		s := &Subject{End: e, Tunnel: p.work.tunnel}
		for _, k := range e.Connection.Children {
			if k.Name == f.Child {
				s.Child = k
			}
		}
		return s
	}
	return nil
}

// statement returns the statement that sets a setting in the file that a subject's connection stands in, and the section that it belongs
// into; "" where that file's keywords are not known.
func (p *Pass) statement(s *Subject, of *settings.Row, value any) (*daemon.Section, string) {
	f := s.Gateway.File(s.Connection.At.File)
	if f == nil {
		return nil, ""
	}
	for _, section := range known.Writes(f.Format) {
		if text := written(section, s, of, value); text != "" {
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
	const first = " is negotiated, so first add a strong proposal on both ends."
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
				return advice + "today " + a.IKE.String() + first + p.example(s)
			}
		}
		for _, c := range a.Children {
			if s.Child == nil || c.Failure != nil || c.Of != s.Child && c.With != s.Child {
				continue
			}
			known = true
			if uses(c.Suite) {
				return advice + "today " + c.Suite.String() + first + p.example(s)
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
