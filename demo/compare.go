package demo

import "toril/audit"

// Compare holds what an audit found against the faults that an estate was made with: faults that it missed, and findings of low or above
// that stand by themselves and are of no such fault.
func Compare(faults []Fault, found []audit.Finding) (missed []Fault, wrong []audit.Finding) {
	open := make(map[Fault]bool, len(faults))
	for _, f := range faults {
		open[f] = true
	}
	seen := map[Fault]bool{}
	for _, f := range found {
		if f.Severity == audit.Info || f.PartOf != "" {
			continue
		}
		known := false
		for _, key := range []Fault{
			{f.Check, f.Gateway, f.Tunnel}, {Check: f.Check, Tunnel: f.Tunnel}, {Check: f.Check, Gateway: f.Gateway},
		} {
			if open[key] {
				seen[key], known = true, true
			}
		}
		if !known {
			wrong = append(wrong, f)
		}
	}
	for _, f := range faults {
		if !seen[f] {
			missed = append(missed, f)
		}
	}
	return missed, wrong
}
