package audit

import (
	"strconv"
	"time"

	"toril/baseline"
	"toril/estate"
	"toril/internal/cache"
	"toril/internal/record"
	"toril/internal/spread"
	"toril/negotiate"
	"toril/packet"
	"toril/pair"
	"toril/source"
)

// Kept says what a check puts down for its Estate function: values of one type, which can be written down and read back.
type Kept struct {
	write func(to []byte, what any) []byte
	read  func(from []byte) (what any, rest []byte, err error)
}

// Keeping declares the type of the values that a check saves; all its fields must be exported.
func Keeping[T any]() *Kept {
	return &Kept{
		func(to []byte, what any) []byte { return record.Append(to, what.(T)) },
		func(from []byte) (any, []byte, error) {
			var what T
			rest, err := record.Read(from, &what)
			return what, rest, err
		},
	}
}

// storedFinding is a finding that was reported, as it is written down: before it is known what accepts it, and which is its cause.
type storedFinding struct {
	Check                               string
	Severity                            Severity
	Gateway, Tunnel, Connection, Child  string
	About, Message, Measured, Required  string
	Example, Why, Fix, Standard, Unsure string
	At                                  Evidence
	Also                                []Evidence
	Others                              Places
	AlsoIn                              []string
	Series                              string
	Reasons                             []Reason

	Level           Severity
	Leveled         bool
	Lower           int
	Effect          Effect
	Settled, Traits bool
	Undecided       bool

	Weak, Children string
	Culprit        *source.Pos
	Packets        *packet.Set
	Excess         bool
}

// MarshalBinary writes a finding that was reported for a record of Toril's own.
func (f Finding) MarshalBinary() ([]byte, error) { return f.AppendBinary(nil) }

// AppendBinary does so behind other bytes.
func (f *Finding) AppendBinary(to []byte) ([]byte, error) {
	s := &storedFinding{
		f.Check, f.Severity, f.Gateway, f.Tunnel, f.Connection, f.Child, f.About, f.Message, f.Measured, f.Required, f.Example, f.Why,
		f.Fix, f.Standard, f.Unsure, f.At, f.Also, f.Others, f.AlsoIn, f.Series, f.Reasons,
		f.level, f.leveled, f.lower, f.effect, f.settled, f.traits != nil, f.undecided,
		"", "", nil, nil, false,
	}
	if t := f.traits; t != nil {
		s.Weak, s.Children, s.Culprit, s.Packets, s.Excess = t.weak, t.children, t.culprit, t.packets, t.excess
	}
	return record.Append(to, s), nil
}

// UnmarshalBinary reads what MarshalBinary wrote.
func (f *Finding) UnmarshalBinary(data []byte) error {
	var s *storedFinding
	if err := record.Whole(data, &s); err != nil || s == nil {
		return record.ErrDamaged
	}
	*f = Finding{
		Check: s.Check, Severity: s.Severity, Gateway: s.Gateway, Tunnel: s.Tunnel, Connection: s.Connection, Child: s.Child,
		About: s.About, Message: s.Message, Measured: s.Measured, Required: s.Required, Example: s.Example,
		Why: s.Why, Fix: s.Fix, Standard: s.Standard,
		Unsure: s.Unsure, At: s.At, Also: s.Also, Others: s.Others, AlsoIn: s.AlsoIn, Series: s.Series, Reasons: s.Reasons,
		level: s.Level, leveled: s.Leveled, lower: s.Lower, effect: s.Effect, settled: s.Settled, undecided: s.Undecided,
	}
	if s.Traits {
		f.traits = &traits{weak: s.Weak, culprit: s.Culprit, packets: s.Packets, children: s.Children, excess: s.Excess}
	}
	return nil
}

// storedWork is what came of the checks of one subject.
type storedWork struct {
	Found    []storedAnswer
	Kept     []storedKept
	NotGiven []NotGiven
	Failed   []*source.Error
	State    *storedState
}

type storedAnswer struct {
	Check   int
	Finding *Finding
}

type storedKept struct {
	Check int
	Data  []byte
}

type storedState struct {
	Tries         []storedTry
	Waits, Failed bool
}

type storedTry struct {
	Initiator string
	Outcome   negotiate.Outcome
	Mute      bool
	Bare      bool
	After     time.Duration
	Suite     string
	Reasons   []Reason
}

// append writes down what came of the work.
func (w *work) append(to []byte, checks []*Check) []byte {
	if w.put != nil {
		return append(to, w.put...)
	}
	s := storedWork{NotGiven: w.notGiven, Failed: w.failed}
	for _, a := range w.found {
		s.Found = append(s.Found, storedAnswer{a.check, a.Finding})
	}
	for _, k := range w.kept {
		s.Kept = append(s.Kept, storedKept{k.check, checks[k.check].Keeps.write(nil, k.what)})
	}
	if t := w.state; t != nil {
		s.State = &storedState{Waits: t.waits, Failed: t.failed}
		for _, one := range t.tries {
			s.State.Tries = append(s.State.Tries, storedTry{one.initiator, one.outcome, one.mute, one.bare, one.after, one.suite,
				one.reasons})
		}
	}
	return record.Append(to, s)
}

// read takes what came of the work from where it was written down, and returns the bytes behind it.
func (w *work) read(from []byte, checks []*Check) (rest []byte, err error) {
	var s storedWork
	if rest, err = record.Read(from, &s); err != nil {
		return nil, err
	}
	if (s.State != nil) != (w.match != nil) {
		return nil, record.ErrDamaged
	}
	w.doing = &doing{}
	for i := range s.Found {
		if a := &s.Found[i]; a.Check >= 0 && a.Check < len(checks) && a.Finding != nil {
			w.found = append(w.found, answer{a.Check, a.Finding})
			continue
		}
		return nil, record.ErrDamaged
	}
	for _, k := range s.Kept {
		if k.Check < 0 || k.Check >= len(checks) || checks[k.Check].Keeps == nil {
			return nil, record.ErrDamaged
		}
		what, behind, err := checks[k.Check].Keeps.read(k.Data)
		if err != nil || len(behind) > 0 {
			return nil, record.ErrDamaged
		}
		w.kept = append(w.kept, kept{k.Check, what})
	}
	w.notGiven, w.failed = s.NotGiven, s.Failed
	if s.State != nil {
		w.state = &Tunnel{Match: w.match, waits: s.State.Waits, failed: s.State.Failed}
		for _, one := range s.State.Tries {
			w.state.tries = append(w.state.tries, try{one.Initiator, one.Outcome, one.Mute, one.Bare, one.After, one.Suite, one.Reasons})
		}
	}
	return rest, nil
}

// MostKeys is of how many keys of one run it is estimated how hard they are to guess.
const MostKeys = 20_000

// store finds what came of the same work before, in the estate's cache.
type store struct {
	*cache.Cache
	e        *pair.Estate
	checks   []*Check
	question cache.Digest
	gateways []cache.Digest // of all that a gateway's checks may look at; the zero Digest where that is not known
}

// newStore prepares the cache for a run; nil where there is none.
func newStore(e *pair.Estate, checks []*Check, b *baseline.Baseline, now time.Time) *store {
	c := e.Cache()
	if c == nil {
		return nil
	}
	s := &store{Cache: c, e: e, checks: checks, question: question(e, checks, b, now), gateways: make([]cache.Digest, len(e.Gateways))}
	spread.InShares(len(e.Gateways), 64, func(i int) { s.gateways[i] = s.around(e.Gateways[i]) })
	return s
}

// question is the digest of what is asked of every gateway and tunnel.
func question(e *pair.Estate, checks []*Check, b *baseline.Baseline, now time.Time) cache.Digest {
	s := cache.NewSum("question")
	settings := e.Settings()
	s.Bytes(settings[:])
	s.Text(now.UTC().Format(time.RFC3339Nano), strconv.Itoa(len(checks)))
	for _, c := range checks {
		s.Text(c.Name)
	}
	s.Bytes(b.Record())
	for _, r := range elsewhere(e) {
		s.Text(r.At.Pos.String(), r.At.Text)
		key := r.key()
		s.Text(key[:]...)
	}
	return s.Digest()
}

// around is the digest of a gateway, and of all those that it has tunnels with.
func (s *store) around(f *estate.Facts) cache.Digest {
	sum, whole := cache.NewSum("gateway"), true
	add := func(f *estate.Facts) {
		d, ok := f.Digest()
		whole = whole && ok
		sum.Bytes(d[:])
	}
	sum.Bytes(s.question[:])
	add(f)
	if f.Before+f.Keys > MostKeys {
		sum.Text(strconv.Itoa(f.Before))
	}
	for _, m := range s.e.MatchesAbout(f) {
		m.Describe(sum)
		for _, g := range m.Gateways() {
			add(g)
		}
	}
	if !whole {
		return cache.Digest{}
	}
	return sum.Digest()
}

// digest is of all that work may look at; ok is false where that is not known.
func (s *store) digest(w *work) (d cache.Digest, ok bool) {
	sum := cache.NewSum("work")
	if w.match != nil {
		w.match.Describe(sum)
	}
	for _, f := range w.about() {
		d := s.gateways[f.Number]
		if d == (cache.Digest{}) {
			return d, false
		}
		sum.Bytes(d[:])
	}
	return sum.Digest(), true
}

// recall takes what came of the work before; false where it is to be done.
func (s *store) recall(w *work) bool {
	if s == nil {
		return false
	}
	d, ok := s.digest(w)
	if !ok {
		return false
	}
	w.digest = d
	data, ok := s.Get(d)
	if !ok {
		return false
	}
	again := work{facts: w.facts, match: w.match}
	if rest, err := again.read(data, s.checks); err != nil || len(rest) > 0 {
		return false
	}
	w.doing = again.doing
	return true
}

// remember keeps what came of the work.
func (s *store) remember(w *work) {
	if s != nil && w.digest != (cache.Digest{}) && len(w.failed) == 0 {
		s.Put(w.digest, w.append(nil, s.checks))
	}
}
