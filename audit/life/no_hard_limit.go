package life

import (
	"cmp"
	"time"

	"toril/audit"
	"toril/model/settings"
)

// tenthAbove is a hard limit a tenth above the renewal, as the daemons have it by default.
func tenthAbove(s *audit.Subject) []audit.Set {
	if s.Child == nil {
		return nil
	}
	renewed := cmp.Or(s.Child.Rekey.Value, time.Hour)
	return []audit.Set{audit.To(settings.ChildHardLifetime, renewed+renewed/10)}
}

// NoHardLimit reports where a failed rekeying leaves the old key in use.
var NoHardLimit = &audit.Check{
	Name:     "life/no-hard-limit",
	Setting:  settings.ChildHardLifetime.Row,
	Title:    "No hard limit of the lifetime",
	Severity: audit.Medium,
	Why:      "If rekeying fails, the old key stays in use without end.",
	Fix:      "Set a hard limit a little above the rekeying time.",
	PartOf: []audit.Part{
		{Of: "life/no-hard-limit", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: tenthAbove},
	Doc: audit.Doc{
		What:    "The child is rekeyed, but nothing closes it where that fails; or it has no lifetime of any kind.",
		Harm:    "An attacker who makes rekeying fail keeps the old key in use indefinitely.",
		Write:   "In swanctl.conf: life_time = 66m beside rekey_time = 1h, or leave it out: ten percent more is the default.",
		Sources: []string{"RFC 4301 section 4.4.2.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		c := s.Child
		if s.Shunted() || c.Life.Value != 0 {
			return
		}
		f := p.On(s, c.Life.Where(c.Rekey.Where(c.At)), false)
		f.Message = "the child has no hard limit: nothing ends it if rekeying fails"
		if c.Rekey.Value == 0 {
			f.Message = "the child has no lifetime at all: its keys are used until the tunnel is closed"
		}
		p.Report(f)
	},
}
