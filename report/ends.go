package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"toril/estate"
	"toril/ike"
	"toril/negotiate"
	"toril/present"
)

// EndsSchema names the contract of the JSON form of ends.
const EndsSchema = "toril-ends/1"

// EndsText writes both ends of every tunnel side by side, and what they would agree on. With onlyDifferences the rows
// that fit each other are left out.
func EndsText(w io.Writer, all []negotiate.Compared, onlyDifferences bool, look Look) error {
	p := newPaper(w, look)
	for i, c := range all {
		t, attempts := c.Tunnel, c.Attempts
		if i > 0 {
			p.line("")
		}
		p.heading(t.Name)
		switch {
		case attempts == nil:
			p.line("the far end was not given: there is nothing to compare (%s)", t.Reason)
			continue
		case len(t.Ends) < 2:
			p.line("%s", t.Reason)
		default:
			endsTable(p, t, c.Lines, onlyDifferences)
		}
		for _, a := range attempts {
			p.line("")
			attemptText(p, a)
		}
		for _, d := range t.Doubts {
			p.line("%s %s", p.dim("doubt:"), d)
		}
	}
	if len(all) == 0 {
		p.line("no tunnels")
	}
	return p.err
}

func endsTable(p *paper, t *estate.Tunnel, rows []negotiate.Line, onlyDifferences bool) {
	tw := table.NewWriter()
	tw.SetStyle(plainStyle)
	const names = 18
	width := (p.look.Width - names - 2 - 4*3) / 3
	configs := []table.ColumnConfig{{Number: 1, WidthMax: 2}, {Number: 2, WidthMax: names + 8, WidthMaxEnforcer: wrap}}
	for n := range 3 {
		configs = append(configs, table.ColumnConfig{Number: n + 3, WidthMax: width, WidthMaxEnforcer: wrap})
	}
	tw.SetColumnConfigs(configs)
	tw.AppendRow(table.Row{"", "", p.bold(t.Ends[0].Gateway.Name), p.bold(t.Ends[1].Gateway.Name), p.bold("agreed")})
	child, shown := "", 0
	for _, r := range rows {
		if onlyDifferences && !r.Differs {
			continue
		}
		shown++
		if r.Child != child {
			child = r.Child
			tw.AppendSeparator()
			tw.AppendRow(table.Row{"", p.dim("child"), p.bold(child)})
		}
		mark := ""
		if r.Differs {
			mark = p.paint("≠", text.FgRed, text.Bold)
		}
		row := table.Row{mark, p.dim(r.Name)}
		for _, v := range r.Values {
			s := v.Text
			if v.Default {
				s += " *"
			}
			row = append(row, s)
		}
		tw.AppendRow(append(row, r.Agreed))
	}
	if shown == 0 {
		p.line("both ends match")
		return
	}
	p.line("%s", tw.Render())
	p.line("%s", p.dim("≠ mismatch   * not configured; daemon default"))
}

func attemptText(p *paper, a negotiate.Attempt) {
	who := a.Initiator.Gateway.Name + " initiates:"
	good := []text.Color{text.FgGreen}
	bad := []text.Color{text.FgRed}
	switch a.Outcome {
	case negotiate.Agrees:
		p.wrapped("%s %s, %s", p.bold(who), p.paint("comes up", good...), ikeText(a))
	case negotiate.Partly:
		p.wrapped("%s %s, %s", p.bold(who), p.paint("the IKE SA comes up, but not every child", bad...), ikeText(a))
	case negotiate.NoStart:
		p.wrapped("%s %s: %s", p.bold(who), p.paint("cannot", bad...), a.Failure.Why)
	default:
		p.wrapped("%s %s", p.bold(who), p.paint("fails in "+string(a.Failure.Step)+notifyText(a.Failure), bad...))
		failureText(p, a.Failure)
	}
	for _, c := range a.Children {
		if c.Outcome != negotiate.Agrees {
			p.line("  child %s %s", c.Of.Name, p.paint("fails in "+string(c.Failure.Step)+notifyText(c.Failure), bad...))
			failureText(p, c.Failure)
			continue
		}
		p.block(2, "child", fmt.Sprintf("%s: %s, %s mode, %s; %s to %s", c.Of.Name, c.Suite.Protocol, c.Mode, c.Suite, c.Local, c.Remote))
		rekeyText(p, c.Rekey)
		for _, n := range c.Notes {
			p.block(4, "note", n)
		}
	}
	for _, n := range a.Notes {
		p.block(2, "note", n)
	}
	if a.Unsure != "" {
		p.block(2, "but", a.Unsure+": the result may differ")
	}
}

func ikeText(a negotiate.Attempt) string {
	out := fmt.Sprintf("%s, %s", a.Version, a.IKE)
	if a.Aggressive {
		out += ", aggressive mode"
	}
	if a.Retry {
		out += "; at the second try, as the responder asks for another group"
	}
	return out
}

func notifyText(f *negotiate.Failure) string {
	if f.Notify == "" {
		return ""
	}
	return " (" + f.Notify + ")"
}

func failureText(p *paper, f *negotiate.Failure) {
	p.block(4, "why", f.Why)
	for _, at := range f.Lines {
		if !at.IsZero() {
			p.line("    %s%s", p.dim(fmt.Sprintf("%-6s", "line")), at)
		}
	}
	for i, c := range f.Changes {
		label := ""
		if i == 0 {
			label = "fix"
		}
		p.block(4, label, c)
	}
}

func rekeyText(p *paper, r negotiate.Rekey) {
	switch {
	case r.Outcome == negotiate.Never:
		p.block(4, "keys", "is never rekeyed by time")
	case r.Outcome == negotiate.Agrees:
		p.block(4, "keys", fmt.Sprintf("rekeyed within %s by %s", present.Span(r.After), r.By))
		if r.ByInitiator == negotiate.Fails || r.ByResponder == negotiate.Fails {
			p.block(4, "", "rekeying initiated by the other end would fail")
		}
	default:
		out := fmt.Sprintf("rekeying fails within %s", present.Span(r.After))
		if r.Ends > 0 {
			out += fmt.Sprintf("; the child SA expires after %s", present.Span(r.Ends))
		}
		p.block(4, "keys", p.paint(out, text.FgRed))
		failureText(p, r.Failure)
	}
}

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
	Notes       []string          `json:"notes"`
}

type rekeyJSON struct {
	Outcome negotiate.Outcome `json:"outcome"`
	After   int               `json:"after_seconds"`
	Ends    int               `json:"ends_after_seconds"`
	By      string            `json:"by"`
	Why     string            `json:"why"`
}

// EndsJSON writes the comparison for programs; algorithms have IANA's names.
func EndsJSON(w io.Writer, e *estate.Estate, all []negotiate.Compared, onlyDifferences bool) error {
	out := []endsTunnelJSON{}
	for _, c := range all {
		t := c.Tunnel
		j := endsTunnelJSON{Name: t.Name, Reason: t.Reason, Doubts: emptied(t.Doubts), Settings: []settingJSON{}, Attempts: []attemptJSON{}}
		for _, end := range t.Ends {
			j.Ends = append(j.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
		}
		for _, r := range c.Lines {
			if onlyDifferences && !r.Differs {
				continue
			}
			s := settingJSON{Setting: r.Setting, Name: r.Name, Child: r.Child, Agreed: r.Agreed, Differs: r.Differs}
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
	}{EndsSchema, out, errorsJSON(e)})
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

func attemptOf(e *estate.Estate, a negotiate.Attempt) attemptJSON {
	j := attemptJSON{
		Initiator: a.Initiator.Gateway.Name,
		Outcome:   a.Outcome,
		Failure:   failureOf(e, a.Failure),
		Children:  []childAttemptJSON{},
		Notes:     emptied(a.Notes),
		Unsure:    a.Unsure,
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
	}
	for _, c := range a.Children {
		k := childAttemptJSON{
			Child:      c.Of.Name,
			Additional: []string{},
			Outcome:    c.Outcome,
			Failure:    failureOf(e, c.Failure),
			LocalTS:    []string{},
			RemoteTS:   []string{},
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
			k.Rekey = &rekeyJSON{
				Outcome: c.Rekey.Outcome,
				After:   int(c.Rekey.After / time.Second),
				Ends:    int(c.Rekey.Ends / time.Second),
				By:      c.Rekey.By,
			}
			if c.Rekey.Failure != nil {
				k.Rekey.Why = c.Rekey.Failure.Why
			}
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

func failureOf(e *estate.Estate, f *negotiate.Failure) *failureJSON {
	if f == nil {
		return nil
	}
	j := &failureJSON{Step: f.Step, Notify: f.Notify, Why: f.Why, Lines: []placeJSON{}, Changes: emptied(f.Changes)}
	for _, at := range f.Lines {
		if !at.IsZero() {
			j.Lines = append(j.Lines, placeJSON{File: at.File, Line: at.Line, Col: at.Col, Text: e.Quote(at)})
		}
	}
	return j
}
