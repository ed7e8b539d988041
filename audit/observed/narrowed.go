package observed

import (
	"toril/audit"
	"toril/observe"
)

// Narrowed reports where a child is up for fewer networks than it is configured for.
var Narrowed = &audit.Check{
	Name:     "observed/narrowed",
	Title:    "A child SA is up for fewer networks than configured",
	Severity: audit.Medium,
	Symptom:  true,
	Why:      "Packets of the networks that are missing do not go through the tunnel: they are dropped, or leave in the clear.",
	Fix:      "Configure the same networks on both ends, mirrored; then set the child up again.",
	PartOf:   parts(audit.SameChildren, "ends/not-mirrored", "ends/any-against-list", "ends/several-networks", "observed/narrowed"),
	Doc: audit.Doc{
		What: "The selectors of every child SA that was seen, of all SAs of the child together, against the configured ones. " +
			"The responder " +
			"narrows what it is asked for to what it has itself (RFC 7296, section 2.9).",
		Harm:    "The tunnel is up and most of it works; one network does not, and nobody knows why.",
		Write:   "remote_ts on one end is local_ts on the other.",
		Sources: []string{"RFC 7296 section 2.9"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || s.Shunted() {
			return
		}
		c := e.Child(s.Child)
		if c == nil || c.Up() == nil {
			return
		}
		missing, told := observe.Protects(s.Tunnel, s.End, c)
		if !told || len(missing) == 0 {
			return
		}
		sa := c.Up()
		f := p.On(s, sa.At, false)
		f.Message = s.Child.Name + " is up for " + sa.Local.String() + " to " + sa.Remote.String() + "; configured and not covered: " +
			missing.String()
		f.Also = []audit.Evidence{{Pos: s.Child.Local.Where(s.Child.At), Note: "the networks as configured"}}
		if s.Child.Local.Value.AnyAddress() || s.Child.Remote.Value.AnyAddress() { // left to the far end by intent
			f.Lower(2)
		}
		p.Report(f)
	},
}
