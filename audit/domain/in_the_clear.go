package domain

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/walk"
)

// InTheClear reports where packets of a protected network leave in the clear while the tunnel is up, whatever the reason.
var InTheClear = &audit.Check{
	Name:     "domain/in-the-clear",
	Title:    "Protected networks are reached in the clear",
	Severity: audit.Critical,
	Why:      "The tunnel is up and looks sound, and what it is there for leaves the gateway readable for anyone on the path.",
	Fix:      "Have these packets meet the policy of the child.",
	Effect:   audit.Leaks,
	PartOf: []audit.Part{
		{Of: "nat/rewritten", By: audit.SameChild},
		{Of: "nat/narrow-exemption", By: audit.SameChild},
		{Of: "route/wrapped-in-the-clear", By: audit.SameChild},
	},
	Doc: audit.Doc{
		What: "New connections from the networks behind the gateway to those behind the far end are followed, exactly, with every " +
			"child up. The check reports those that leave in the clear, and what took them: a child that lets packets pass and is " +
			"asked first, however wide it is; a route that leads past the tunnel's interface, the IKE daemon's own among them; a mark " +
			"that they do not have.",
		Harm: "Nothing fails, so nobody looks; the answers may even come back through the tunnel.",
		Write: "A child with mode = pass for the local networks alone; install_routes = no where routes lead into a VTI or an xfrm " +
			"interface.",
		Sources: []string{"RFC 4301 section 5.1", "swanctl.conf(5)"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		path := p.Walk(s.Gateway)
		pol := s.PolicyOf(path)
		if pol == nil || !pol.Protects() || !path.Known() {
			return
		}
		said := map[string]bool{}
		var open model.Doubts
		for _, c := range path.Crossings(pol) {
			for _, o := range c.Into {
				if (o.Fate == walk.Unknown || o.Filtered()) && bypassing(path, o) != nil { // a rule that was not read may let them by
					open.Add(o.Doubts...)
				}
				if o.Fate != walk.Clear || o.Wrap != nil {
					continue
				}
				f, ok := leaves(p, s, path, o)
				if !ok || said[f.Message] {
					continue
				}
				said[f.Message] = true
				f.Rests(o.Doubts, s.SelectorDoubts(), path.TrafficDoubts(pol))
				p.Report(f)
			}
		}
		perhaps := p.On(s, s.Child.Remote.Where(s.Child.At), false)
		perhaps.Message = "packets of " + s.Child.Name + " may leave in the clear"
		p.Perhaps(perhaps, open)
	},
}

// bypassing is the policy that lets packets pass and is asked about them first; nil for none.
func bypassing(path *walk.Path, o walk.Outcome) *walk.Policy {
	if o.Policy != nil && o.Policy.Passes() {
		return o.Policy
	}
	if asked := path.Meeting(o.Was()); len(asked) > 0 && asked[0].Passes() {
		return asked[0]
	}
	return nil
}

// leaves is the finding of packets that leave in the clear; ok is false where routes lead past an interface of the tunnel, which the checks
// of routes say.
func leaves(p *audit.Pass, s *audit.Subject, path *walk.Path, o walk.Outcome) (f audit.Finding, ok bool) {
	f = p.On(s, s.Child.Remote.Where(s.Child.At), false)
	example, _ := o.Was().Witness()
	f.Example = example.String()
	f.Concerns(o.Was())
	if first := bypassing(path, o); first != nil { // they may have been translated behind it
		f.At.Pos = first.Child.At
		f.Message = fmt.Sprintf("%s, which lets packets pass, is asked before %s and takes packets of it", first.Name, s.Child.Name)
		f.Fix = fmt.Sprintf(
			"Narrow %s so that no network of %s is in it; however wide it is, it is asked first.",
			first.Name,
			s.Child.Name,
		)
		return f, true
	}
	f.Message = fmt.Sprintf("packets of %s leave by %s in the clear: no policy takes them there", s.Child.Name, o.Out)
	for _, r := range path.Routes(o.Was()) {
		if k := path.InstalledFor(r.Route); k != nil && k.RouteBased() {
			f.Message = fmt.Sprintf("packets of %s leave by %s in the clear, by the route that the IKE daemon adds for %s",
				s.Child.Name, o.Out, k.Name)
			f.Fix = "Have the daemon add no routes (charon.install_routes = no), as those into the interface are there already."
			return f, true
		}
	}
	return f, !s.Child.RouteBased() && !o.Changed() // what NAT takes out is said of the rule that does
}
