package life

import (
	"toril/audit"
)

// Unit reports where a number seems to be in another unit than the setting's.
var Unit = &audit.Check{
	Name:     "life/unit",
	Title:    "Lifetime in a unit that looks mistaken",
	Severity: audit.Medium,
	Why: "Devices count lifetimes in seconds, minutes or hours, and a number copied from one to another is wrong by a factor of " +
		"sixty.",
	Fix:     "Write the unit beside the number, or the number that the unit asks for.",
	Suggest: audit.ByPeople("what was meant, a time or an amount and in which unit, only its author knows"),
	Doc: audit.Doc{
		What: "The lifetime is a number that is usual in another unit: 480 or 1440, which are minutes, where seconds count; 86400 " +
			"or 28800, which are seconds, where minutes count.",
		Harm:    "A tunnel that rekeys every eight minutes, or keys that live for two months.",
		Write:   "In swanctl.conf: rekey_time = 8h.",
		Sources: []string{"RFC 7296 section 2.8"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		for _, set := range s.Connection.Spans {
			if why := mistaken(set.Value); why != "" && !set.IsDefault() {
				f := p.On(s, set.At, false)
				f.Message = "the IKE lifetime: " + why
				p.Report(f)
			}
		}
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		for _, set := range s.Child.Spans {
			if why := mistaken(set.Value); why != "" && !set.IsDefault() {
				f := p.On(s, set.At, false)
				f.Message = "the child's lifetime: " + why
				p.Report(f)
			}
		}
	},
}
