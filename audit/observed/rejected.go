package observed

import (
	"fmt"

	"toril/audit"
	"toril/model"
)

// Rejected reports where the kernel threw away ESP packets as forged or repeated.
var Rejected = &audit.Check{
	Name:     "observed/rejected",
	Title:    "The kernel rejected ESP packets",
	Severity: audit.Medium,
	Symptom:  true,
	Why:      "Packets with a wrong integrity value are forged, damaged, or protected otherwise than this end expects.",
	Fix: "Compare the suites of both ends, the length of the integrity value among them; then look for what changes packets " +
		"on the way.",
	PartOf: parts(audit.SameTunnel, "ends/data-differs"),
	Doc: audit.Doc{
		What: "The counters of every SA in the output of ip -s xfrm state: packets whose integrity value was wrong, and " +
			"packets that came " +
			"twice or too late for the replay window.",
		Harm: "A replay counter that grows means a window too narrow for the path, or somebody who repeats packets; a wrong " +
			"integrity value means worse.",
		Write:   "replay_window = 128 where packets overtake each other.",
		Sources: []string{"RFC 4303 sections 3.4.3 and 3.4.4"},
	},
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, sa := range g.Observed.Kernel {
			if sa.Failed == 0 && sa.Replays == 0 {
				continue
			}
			f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: sa.At}, About: fmt.Sprintf("%s to %s", sa.Src, sa.Dst)}
			f.Message = fmt.Sprintf(
				"of the packets from %s to %s, %d had a wrong integrity value and %d came twice or too late",
				sa.Src,
				sa.Dst,
				sa.Failed,
				sa.Replays,
			)
			if sa.Failed == 0 {
				f.Lower(1)
			}
			p.Report(f)
		}
	},
}
