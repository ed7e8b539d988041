package life

import (
	"fmt"
	"time"

	"toril/audit"
	"toril/model/settings"
	"toril/present"
)

// withinIKE is the usual lifetime of a child, or half of its IKE SA's where that is shorter.
func withinIKE(s *audit.Subject) []audit.Set {
	life := time.Hour
	if of := s.Connection.Lifetime() / 2; of > 0 {
		life = min(life, of)
	}
	return []audit.Set{audit.To(settings.ChildLifetime, life)}
}

// ChildLongerThanIKE reports where the child outlives its IKE SA.
var ChildLongerThanIKE = &audit.Check{
	Name:     "life/child-longer-than-ike",
	Setting:  settings.ChildLifetime.Row,
	Title:    "The child lives longer than its IKE SA",
	Severity: audit.Low,
	Why:      "The IKE SA ends first; where it is reauthenticated the child is torn down with it, so the longer lifetime has no effect.",
	Fix:      "Give the child a shorter lifetime than the IKE SA.",
	PartOf: []audit.Part{
		{Of: "life/child-longer-than-ike", By: audit.SameChildren},
	},
	Suggest: audit.Advice{Sets: withinIKE},
	Doc: audit.Doc{
		What:    "The child's rekeying time is above that of the IKE SA that it belongs to. Usually the two numbers were swapped.",
		Harm:    "Short breaks at each reauthentication that nobody can explain from the child's lifetime.",
		Write:   "In swanctl.conf: rekey_time = 4h in the connection and 1h in the child.",
		Sources: []string{"RFC 7296 section 2.8"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		of := s.Connection.Lifetime()
		if s.Shunted() || of == 0 || s.Child.Rekey.Value <= of {
			return
		}
		f := p.On(s, s.Child.Rekey.Where(s.Child.At), s.Child.Rekey.IsDefault() || s.Connection.LifetimeSetting().IsDefault())
		f.Message = fmt.Sprintf(
			"the child is rekeyed after %s, the IKE SA already after %s",
			present.Span(s.Child.Rekey.Value),
			present.Span(of),
		)
		set := s.Connection.LifetimeSetting()
		f.Also = []audit.Evidence{{Pos: set.Where(s.Connection.At), Note: "the IKE SA's lifetime" + audit.ByDefault(set)}}
		p.Report(f)
	},
}
