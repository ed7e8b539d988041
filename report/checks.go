package report

import (
	"strings"

	"toril/audit"
	"toril/baseline"
)

// SettingBaselines names the baselines that set the level or the bounds of a check; "always" where none does.
func SettingBaselines(c *audit.Check, bs []*baseline.Baseline) string {
	var out []string
	for _, b := range bs {
		for _, d := range c.Doc.Demands {
			if b.Sets(d) {
				out = append(out, b.Name)
				break
			}
		}
	}
	switch len(out) {
	case 0:
		return "always"
	case len(bs):
		return "all"
	}
	return strings.Join(out, ", ")
}

// DemandText says what a name of a baseline's demand or limit means.
func DemandText(name string) string {
	if name == baseline.Algorithms {
		return "the levels of algorithms"
	}
	return baseline.About(name)
}
