package json

import (
	"io"
	"strings"
	"time"

	"toril/ike"
	"toril/negotiate"
	"toril/pair"
	"toril/report"
)

// EndsSchema names the contract of the JSON form of ends.
const EndsSchema = "toril-ends/1"

type endsTunnelJSON struct {
	Name     string        `json:"name"`
	Ends     []endJSON     `json:"ends"`
	Reason   string        `json:"reason"`
	Doubts   []string      `json:"doubts"`
	Settings []settingJSON `json:"settings"`
	Attempts []attemptJSON `json:"attempts"`
}

type settingJSON struct {
	Setting string      `json:"setting"` // its name in docs/settings.md
	Name    string      `json:"name"`
	Child   string      `json:"child"`
	Values  []valueJSON `json:"values"`
	Agreed  string      `json:"agreed"`
	Differs bool        `json:"differs"`
}

type valueJSON struct {
	Text    string `json:"text"`
	Default bool   `json:"default"`
	File    string `json:"file"`
	Line    int    `json:"line"`
}

type attemptJSON struct {
	Initiator string             `json:"initiator"`
	Outcome   negotiate.Outcome  `json:"outcome"`
	Failure   *failureJSON       `json:"failure"`
	IKE       *ikeJSON           `json:"ike"`
	Rekey     *rekeyJSON         `json:"rekey"` // of the IKE SA
	Children  []childAttemptJSON `json:"children"`
	Notes     []string           `json:"notes"`
	Unsure    string             `json:"unsure"`
}

type failureJSON struct {
	Step    negotiate.Step `json:"step"`
	Notify  string         `json:"notify"`
	Why     string         `json:"why"`
	Lines   []placeJSON    `json:"lines"`
	Changes []string       `json:"changes"`
}

type ikeJSON struct {
	Version     string   `json:"version"`
	Encryption  string   `json:"encryption"`
	KeyBits     int      `json:"key_bits"`
	Integrity   string   `json:"integrity"`
	PRF         string   `json:"prf"`
	KeyExchange string   `json:"key_exchange"`
	Additional  []string `json:"additional_key_exchanges"`
}

type childAttemptJSON struct {
	Child       string            `json:"child"`
	Outcome     negotiate.Outcome `json:"outcome"`
	Failure     *failureJSON      `json:"failure"`
	Protocol    string            `json:"protocol"`
	Encryption  string            `json:"encryption"`
	KeyBits     int               `json:"key_bits"`
	Integrity   string            `json:"integrity"`
	KeyExchange string            `json:"key_exchange"`
	Additional  []string          `json:"additional_key_exchanges"`
	ESN         bool              `json:"esn"`
	Mode        string            `json:"mode"`
	LocalTS     []string          `json:"own_networks"`
	RemoteTS    []string          `json:"peer_networks"`
	Rekey       *rekeyJSON        `json:"rekey"`
	NoPackets   string            `json:"no_packets"` // why none passes although the child comes up
	Notes       []string          `json:"notes"`
}

type rekeyJSON struct {
	Outcome negotiate.Outcome `json:"outcome"`
	After   int               `json:"after_seconds"`
	Ends    int               `json:"ends_after_seconds"`
	By      string            `json:"by"`
	Later   int               `json:"later_seconds"` // when the other end would; 0: it never does of itself, or there is none
	LaterBy string            `json:"later_by"`
	Why     string            `json:"why"`
}

// ends writes the comparison for programs; algorithms have IANA's names.
func ends(w io.Writer, e *pair.Whole, all []negotiate.Compared, o report.Options) error {
	out := []endsTunnelJSON{}
	for _, c := range all {
		t := c.Tunnel
		j := endsTunnelJSON{Name: t.Name, Reason: t.Reason, Doubts: emptied(t.Doubts), Settings: []settingJSON{}, Attempts: []attemptJSON{}}
		for _, end := range t.Ends {
			j.Ends = append(j.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
		}
		for _, r := range c.Lines {
			if o.OnlyDifferences && !r.Differs {
				continue
			}
			s := settingJSON{Setting: r.Setting.Name, Name: r.Name, Child: r.Child, Agreed: r.Agreed, Differs: r.Differs}
			for _, v := range r.Values {
				s.Values = append(s.Values, valueJSON{v.Text, v.Default, v.At.File, v.At.Line})
			}
			j.Settings = append(j.Settings, s)
		}
		for _, a := range c.Attempts {
			j.Attempts = append(j.Attempts, attemptOf(e, a))
		}
		out = append(out, j)
	}
	return encode(w, struct {
		Schema  string           `json:"schema"`
		Tunnels []endsTunnelJSON `json:"tunnels"`
		Errors  []errorJSON      `json:"errors"`
	}{EndsSchema, out, errorsJSON(e.Problems)})
}

// additional are the further key exchanges of a suite (RFC 9370).
func additional(s ike.Suite) []string {
	out := []string{}
	for r := ike.Additional1; r <= ike.Additional7; r++ {
		if c := s.Transforms[r]; c.Algorithm != nil {
			out = append(out, iana(c))
		}
	}
	return out
}

func rekeyOf(r negotiate.Rekey) *rekeyJSON {
	out := &rekeyJSON{Outcome: r.Outcome, After: int(r.After / time.Second), Ends: int(r.Ends / time.Second), By: r.By,
		Later: int(r.Later / time.Second), LaterBy: r.LaterBy}
	if r.Failure != nil {
		out.Why = r.Failure.Why
	}
	return out
}

func attemptOf(e *pair.Whole, a negotiate.Attempt) attemptJSON {
	j := attemptJSON{
		Initiator: a.Initiator.Gateway.Name,
		Outcome:   a.Outcome,
		Failure:   failureOf(e, a.Failure),
		Children:  []childAttemptJSON{},
		Notes:     emptied(a.Notes),
		Unsure:    a.Unsure(),
	}
	if a.Failure == nil {
		j.IKE = &ikeJSON{
			a.Version.String(),
			iana(a.IKE.Transforms[ike.Encryption]),
			a.IKE.Transforms[ike.Encryption].KeyBits,
			iana(a.IKE.Transforms[ike.Integrity]),
			iana(a.IKE.Transforms[ike.PRF]),
			iana(a.IKE.Transforms[ike.KeyExchange]),
			additional(a.IKE),
		}
		j.Rekey = rekeyOf(a.Rekey)
	}
	for _, c := range a.Children {
		k := childAttemptJSON{
			Child:      c.Of.Name,
			Additional: []string{},
			Outcome:    c.Outcome,
			Failure:    failureOf(e, c.Failure),
			LocalTS:    []string{},
			RemoteTS:   []string{},
			NoPackets:  c.Broken,
			Notes:      emptied(c.Notes),
		}
		if c.Outcome == negotiate.Agrees {
			k.Protocol, k.Encryption, k.KeyBits, k.Integrity = c.Suite.Protocol.String(), iana(
				c.Suite.Transforms[ike.Encryption],
			), c.Suite.Transforms[ike.Encryption].KeyBits, iana(
				c.Suite.Transforms[ike.Integrity],
			)
			k.Additional = additional(c.Suite)
			k.KeyExchange, k.ESN, k.Mode = iana(c.Suite.Transforms[ike.KeyExchange]), c.Suite.ESN(), c.Mode.String()
			for _, s := range c.Local {
				k.LocalTS = append(k.LocalTS, s.String())
			}
			for _, s := range c.Remote {
				k.RemoteTS = append(k.RemoteTS, s.String())
			}
			k.Rekey = rekeyOf(c.Rekey)
		}
		j.Children = append(j.Children, k)
	}
	return j
}

// iana is IANA's name of a choice without its key size; "" for none.
func iana(c ike.Choice) string {
	if c.Algorithm == nil {
		return ""
	}
	return strings.TrimSpace(c.Name)
}

func failureOf(e *pair.Whole, f *negotiate.Failure) *failureJSON {
	if f == nil {
		return nil
	}
	j := &failureJSON{Step: f.Step, Notify: f.Notify, Why: f.Why, Lines: []placeJSON{}, Changes: emptied(f.Changes)}
	for _, at := range f.Lines {
		if !at.IsZero() {
			j.Lines = append(j.Lines, placeOf(e, at))
		}
	}
	return j
}
