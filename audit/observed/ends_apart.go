package observed

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/observe"
)

// EndsApart reports where both ends have an SA of a child, and they are not the two ends of one.
var EndsApart = &audit.Check{
	Name:     "observed/ends-apart",
	Title:    "The SAs of the two ends do not belong together",
	Severity: audit.Medium,
	Symptom:  true,
	Why:      "An end that sends with an SPI that the other does not know is not heard: its packets are dropped.",
	Fix:      "Delete the IKE SA on both ends and set it up again; configure a liveness check, so that an end notices by itself.",
	Doc: audit.Doc{
		What: "The SPIs and selectors of a child's SAs, as the status of either end tells them: what one end sends with must " +
			"be what the " +
			"other receives with. Status that was saved at different times shows the same after a rekey; then it is no fault.",
		Harm:    "One end restarted or lost its SA; the other goes on sending into nothing until its SA expires.",
		Write:   "dpd_delay = 30s on both ends.",
		Sources: []string{"RFC 4301 section 4.1", "RFC 7296 section 2.4"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		e, ok := seen(s)
		if !ok || s.Shunted() || s.Tunnel.Ends[0] != s.End {
			return
		}
		far, theirs, ok := farSeen(s)
		mine := e.Child(s.Child)
		if !ok || mine == nil || mine.Up() == nil || theirs.Up() == nil || len(s.Tunnel.Counterparts(s.Child)) > 1 {
			return
		}
		a, b := mine.Up(), theirs.Up()
		f := p.On(s, a.At, false)
		f.Also = []audit.Evidence{{Pos: b.At, Note: "at " + far.Gateway.Name}}
		switch {
		case a.Out.SPI == 0 || b.In.SPI == 0:
			return
		case !belong(mine.SAs, theirs.SAs):
			from, to, out, in := s.Gateway.Name, far.Gateway.Name, a, b
			if a.Out.SPI == b.In.SPI {
				from, to, out, in = to, from, b, a
			}
			f.Message = fmt.Sprintf(
				"%s sends %s with SPI %08x (%s), and %s receives with %08x (%s): if both were saved at the same time, "+
					"they are not the two ends of one SA",
				from,
				s.Child.Name,
				out.Out.SPI,
				ageOf(out),
				to,
				in.In.SPI,
				ageOf(in),
			)
		case len(a.Local) > 0 && len(b.Remote) > 0 && (!observe.Same(a.Local, b.Remote) || !observe.Same(a.Remote, b.Local)):
			f.Message = fmt.Sprintf("the two ends of one SA have different selectors: %s to %s at %s, %s to %s at %s",
				a.Local, a.Remote, s.Gateway.Name, b.Local, b.Remote, far.Gateway.Name)
		default:
			return
		}
		p.Report(f)
	},
}

// belong reports whether some SA of either end is an end of the other's.
func belong(mine, theirs []*model.ChildSA) bool {
	return slices.ContainsFunc(mine, func(a *model.ChildSA) bool {
		return slices.ContainsFunc(theirs, func(b *model.ChildSA) bool { return a.Out.SPI == b.In.SPI && a.In.SPI == b.Out.SPI })
	})
}
