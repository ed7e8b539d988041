package demo

// Compare holds what an audit found against the faults that an estate was made with: faults that it missed, and what it found that is no
// such fault. What is found are the findings of low or above that stand by themselves, each with its gateway and its tunnel.
func Compare(faults, found []Fault) (missed, wrong []Fault) {
	made := make(map[Fault]bool, len(faults))
	for _, f := range faults {
		made[f] = true
	}
	seen := map[Fault]bool{}
	for _, f := range found {
		known := false
		for _, key := range []Fault{f, {Check: f.Check, Tunnel: f.Tunnel}, {Check: f.Check, Gateway: f.Gateway}} {
			if made[key] {
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
