package observe

import (
	"fmt"
	"strings"
	"time"

	"toril/model"
	"toril/negotiate"
	"toril/pair"
	"toril/present"
	"toril/source"
)

// View is a tunnel as both ends saw it.
type View struct {
	Tunnel *pair.Tunnel
	Ends   []EndView
}

// EndView is what one end saw.
type EndView struct {
	pair.End
	Told     bool // any status of it was given
	Rows     []Row
	Failures []*model.Failure
	Counters []string // what interfaces counted, in words
}

// Loose is what a gateway's status shows of connections that no file configures.
type Loose struct {
	Gateway  string
	Rows     []Row
	Failures []*model.Failure
	Counters []string
}

// LooseOf lists what status shows of connections that are in no file: all of it, of gateways of which only status was given.
func LooseOf(w *pair.Whole) []Loose {
	var out []Loose
	for _, g := range w.Gateways {
		l := Loose{Gateway: g.Name}
		seen := g.Unconfigured()
		for _, sa := range seen.IKE {
			r := Row{What: sa.Connection + " IKE SA", State: "not up", Age: sa.Age, Suite: sa.Suite.String(), At: sa.At}
			if sa.Up {
				r.State = "up"
			}
			l.Rows = append(l.Rows, r)
		}
		for _, sa := range seen.Children {
			r := rowOfSA(sa)
			if r.What = sa.Name; sa.Kernel {
				r.What = "in the kernel"
			}
			l.Rows = append(l.Rows, r)
		}
		l.Failures = seen.Failures
		if len(g.Connections) == 0 {
			l.Counters = counters(g)
		}
		if len(l.Rows)+len(l.Failures)+len(l.Counters) > 0 {
			out = append(out, l)
		}
	}
	return out
}

// counters puts what interfaces counted in words: those that carried something, or lost it.
func counters(g *model.Gateway) []string {
	var out []string
	for _, t := range g.Observed.Traffic {
		if t.Interface == "lo" || t.BytesIn+t.BytesOut+t.Errors+t.Dropped == 0 {
			continue
		}
		out = append(out, fmt.Sprintf("%s: in %d bytes, out %d bytes, %d "+
			"errors, %d dropped", t.Interface, t.BytesIn, t.BytesOut, t.Errors, t.Dropped))
	}
	return out
}

// Row is one SA as it was seen, or one that should be there.
type Row struct {
	What      string        // "IKE SA", or the child's name
	State     string        // "up", "not up", "not told"
	Age       time.Duration // 0 where it is not told
	Suite     string        // what protects it; "" where nothing was seen
	Otherwise string        // the suite that the configurations would agree on, where that is another
	Networks  string        // of a child: "10.1.0.0/24 to 10.2.0.0/24"
	Missing   string        // what of the configured networks it does not cover
	In, Out   model.Counter
	Words     string // what its counters say: "one way: nothing comes back"
	At        source.Pos
}

// Up reports whether the SA was seen up.
func (r Row) Up() bool { return r.State == "up" }

// Counted puts a counter in words: "252 bytes, 3 packets"; "" where it was not told.
func Counted(c model.Counter) string {
	switch {
	case !c.Told:
		return ""
	case c.Packets == 0:
		return present.Plural(int(min(c.Bytes, 1<<62)), "byte")
	}
	return fmt.Sprintf("%s, %s", present.Plural(int(min(c.Bytes, 1<<62)), "byte"), present.Plural(int(min(c.Packets, 1<<62)), "packet"))
}

// Views says what was observed of every tunnel of an estate.
func Views(e *pair.Whole) []View {
	var out []View
	for _, t := range e.Tunnels {
		attempts := negotiate.Tunnel(t)
		v := View{Tunnel: t}
		for _, end := range t.Ends {
			v.Ends = append(v.Ends, viewOf(t, end, attempts))
		}
		out = append(out, v)
	}
	return out
}

// Told reports whether any status of either end was given.
func (v View) Told() bool {
	for _, e := range v.Ends {
		if e.Told {
			return true
		}
	}
	return false
}

func viewOf(t *pair.Tunnel, end pair.End, attempts []negotiate.Attempt) EndView {
	e := Of(t, end)
	out := EndView{End: end, Told: e.Given(), Failures: e.Failures, Counters: counters(end.Gateway)}
	if !out.Told {
		return out
	}
	absent := "not told"
	if !e.Listed.IsZero() {
		absent = "not up"
	}
	top := Row{What: "IKE SA", State: absent, At: end.Connection.At}
	for _, sa := range e.IKE {
		if top = (Row{What: "IKE SA", State: "not up", At: sa.At, Age: sa.Age}); sa.Up {
			top.State, top.Suite = "up", sa.Suite.String()
			if p := Predicted(attempts); len(p) > 0 && sa.Suite.Valid() && !Fits(sa.Suite, p) {
				top.Otherwise = p[0].String()
			}
			break
		}
	}
	out.Rows = append(out.Rows, top)
	for i := range e.Children {
		out.Rows = append(out.Rows, rowOf(t, end, &e.Children[i], attempts, absent))
	}
	return out
}

func rowOf(t *pair.Tunnel, end pair.End, c *Child, attempts []negotiate.Attempt, absent string) Row {
	sa := c.Up()
	if sa == nil {
		return Row{What: c.Of.Name, State: absent, At: c.Of.At}
	}
	r := rowOfSA(sa)
	r.What = c.Of.Name
	if p := PredictedChild(attempts, c.Of); sa.Suite.Valid() && len(p) > 0 && !Fits(sa.Suite, p) {
		r.Otherwise = p[0].String()
	}
	if missing, told := Protects(t, end, c); told {
		r.Missing = missing.String()
	}
	return r
}

// rowOfSA is a child SA as it was seen.
func rowOfSA(sa *model.ChildSA) Row {
	r := Row{What: sa.Name, State: "up", At: sa.At, Age: sa.Age, In: sa.In, Out: sa.Out}
	if !sa.Up {
		r.State = "not up"
	}
	if sa.Suite.Valid() {
		r.Suite = sa.Protocol.String() + " " + sa.Suite.String()
	}
	if sa.Encapsulated {
		r.Suite += " in UDP"
	}
	if len(sa.Local) > 0 {
		r.Networks = sa.Local.String() + " to " + sa.Remote.String()
	}
	switch {
	case !sa.In.Told || !sa.Out.Told:
	case sa.In.Bytes == 0 && sa.Out.Bytes == 0:
		r.Words = "no packet yet"
	case sa.In.Bytes == 0:
		r.Words = "one way: nothing comes back"
	case sa.Out.Bytes == 0:
		r.Words = "one way: nothing is sent"
	}
	return r
}

// FailureText puts a failure in words: "NO_PROPOSAL_CHOSEN sent: the IKE proposals do not match".
func FailureText(f *model.Failure) string {
	out := f.Notify
	switch {
	case f.Notify == "":
		out = f.What
	case !f.Sent:
		out += " received"
	case strings.HasPrefix(f.What, "no "):
		out += " sent: " + f.What
	default:
		out += " sent: " + f.What + " do not match"
	}
	if f.Rekey {
		out = "rekeying failed: " + out
	}
	if f.Times > 1 {
		out += fmt.Sprintf(", %d times", f.Times)
	}
	return out
}
