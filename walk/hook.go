package walk

import (
	"slices"

	"toril/model"
	"toril/packet"
)

// Through sends a flow through every base chain of a hook, by priority. An accept ends its own chain only; a drop ends
// all. A nat chain sees only packets that begin a connection, and none sees a packet that another has translated.
func (f *Filter) Through(h model.Hook, flow Flow) []Verdict {
	flow = flow.doubt(f.doubts...)
	if l := f.lacks; l != nil {
		if len(l.Filter4) > 0 && flow.Now.Overlaps(packet.Only(packet.IPv4)) {
			flow = flow.doubt(l.Filter4...)
		}
		if len(l.Filter6) > 0 && flow.Now.Overlaps(packet.Only(packet.IPv6)) {
			flow = flow.doubt(l.Filter6...)
		}
	}
	bases := f.Bases(h)
	if len(bases) == 0 {
		return []Verdict{{Flow: flow, Verb: model.Accept}}
	}
	var going, out []Verdict
	for i, c := range bases {
		var next []Verdict
		if i == 0 {
			next = f.one(c, Verdict{Flow: flow, Verb: model.Accept})
		}
		for _, v := range going {
			next = joined(next, f.one(c, v))
		}
		going = next
		if slices.ContainsFunc(next, Verdict.ends) { // seldom: most chains let pass all that is asked about
			going = next[:0]
			for _, v := range next {
				if v.ends() {
					out = append(out, v)
				} else {
					going = append(going, v)
				}
			}
		}
		if len(going) > maxFlows {
			panic(packet.TooComplex())
		}
	}
	return joined(out, going)
}

// ends reports whether no later chain sees the packets.
func (v Verdict) ends() bool {
	return v.Verb == model.Drop || v.Verb == model.Reject || v.Verb == model.Queue || v.Verb == model.UnknownAction
}

// joined is append that makes no list where the first is empty; what is appended to it later is no part of the second.
func joined[T any](a, b []T) []T {
	if len(a) == 0 {
		return slices.Clip(b)
	}
	return append(a, b...)
}

// begins are the packets that begin a connection.
var begins = packet.Where(packet.State, packet.OneOf(packet.New, packet.Related))

// one sends a flow through one base chain; what a nat chain does not see passes.
func (f *Filter) one(c *model.Chain, v Verdict) []Verdict {
	if c.Kind != model.NATChain {
		return keepTranslation(v, f.Run(c, v.Flow))
	}
	if v.Verb.Translates() {
		return []Verdict{v}
	}
	var out []Verdict
	if rest := v.Now.Minus(begins); !rest.Empty() {
		out = append(out, Verdict{Flow: v.with(rest), Verb: v.Verb, Rule: v.Rule})
	}
	if hit := v.Now.And(begins); !hit.Empty() {
		out = append(out, f.Run(c, v.with(hit))...)
	}
	return out
}

// keepTranslation lets packets that were translated before stay known as such after a filter chain accepted them.
func keepTranslation(before Verdict, after []Verdict) []Verdict {
	if before.Verb.Translates() {
		for i := range after {
			if after[i].Verb == model.Accept {
				after[i].Verb, after[i].Rule = before.Verb, before.Rule
			}
		}
	}
	return after
}
