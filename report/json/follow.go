package json

import (
	"io"

	"toril/follow"
	"toril/packet"
	"toril/pair"
	"toril/report"
	"toril/walk"
)

// FollowSchema names the contract of the JSON form of follow.
const FollowSchema = "toril-follow/1"

type tripJSON struct {
	Gateway string        `json:"gateway"`
	In      string        `json:"in"`
	Own     bool          `json:"own"`
	OutOf   string        `json:"out_of"`
	Arrival []outcomeJSON `json:"esp_in"`
	Parts   []partJSON    `json:"parts"`
}

type partJSON struct {
	Packets string `json:"packets"`
	outcomeJSON
	Example exampleJSON   `json:"example"`
	Outer   []outcomeJSON `json:"esp_out"`
	Lost    string        `json:"lost"`
	Notes   []string      `json:"notes"`
	Onward  *tripJSON     `json:"onward"`
	Answer  []legJSON     `json:"answer"`
	Stray   string        `json:"answer_strays"`
}

type exampleJSON struct {
	Came string `json:"came"`
	Left string `json:"left"`
}

type outcomeJSON struct {
	Fate   walk.Fate  `json:"fate"`
	Where  string     `json:"where"`
	Policy string     `json:"policy"`
	Out    string     `json:"out"`
	Via    string     `json:"via"`
	Unsure []string   `json:"unsure"`
	Steps  []stepJSON `json:"steps"`
}

type stepJSON struct {
	Stage string     `json:"stage"`
	What  string     `json:"what"`
	Chain string     `json:"chain"`
	At    *placeJSON `json:"at"`
}

type legJSON struct {
	Gateway string        `json:"gateway"`
	Parts   []outcomeJSON `json:"parts"`
}

// trips writes where packets go, for programs.
func trips(w io.Writer, e *pair.Whole, q report.Asked, trips []*follow.Trip, _ report.Options) error {
	out := []*tripJSON{}
	for _, t := range trips {
		out = append(out, tripOf(e, t))
	}
	return encode(w, struct {
		Schema   string      `json:"schema"`
		Gateway  string      `json:"gateway"`
		From     string      `json:"from"`
		To       string      `json:"to"`
		Protocol string      `json:"protocol"`
		Down     bool        `json:"tunnel_down"`
		Trips    []*tripJSON `json:"trips"`
		Errors   []errorJSON `json:"errors"`
	}{FollowSchema, q.Gateway, q.From, q.To, q.Protocol, q.Down, out, errorsJSON(e.Problems)})
}

func tripOf(e *pair.Whole, t *follow.Trip) *tripJSON {
	j := &tripJSON{Gateway: t.Gateway.Name, In: t.In, Own: t.Own, Arrival: outcomesOf(e, t.Arrival), Parts: []partJSON{}}
	if t.Out != nil {
		j.OutOf = t.Out.Name
	}
	for _, p := range t.Parts {
		k := partJSON{
			Packets:     p.Came.Free(packet.State, packet.Direction, packet.Mark, packet.ConnMark, packet.PeerIn).String(),
			outcomeJSON: outcomeOf(e, p.Outcome),
			Example:     exampleJSON{p.First.String(), p.Last.String()},
			Outer:       outcomesOf(e, p.Outer),
			Notes:       []string{},
			Answer:      []legJSON{},
			Stray:       p.Stray,
		}
		if c := p.Crossing; c != nil {
			k.Lost, k.Notes = c.Lost, emptied(c.Notes)
			if c.Trip != nil {
				k.Onward = tripOf(e, c.Trip)
			}
		}
		for _, l := range p.Answer {
			k.Answer = append(k.Answer, legJSON{l.Gateway.Name, outcomesOf(e, l.Parts)})
		}
		j.Parts = append(j.Parts, k)
	}
	return j
}

func outcomesOf(e *pair.Whole, os []walk.Outcome) []outcomeJSON {
	out := []outcomeJSON{}
	for _, o := range os {
		out = append(out, outcomeOf(e, o))
	}
	return out
}

func outcomeOf(e *pair.Whole, o walk.Outcome) outcomeJSON {
	j := outcomeJSON{Fate: o.Fate, Where: o.Where, Out: o.Out, Unsure: emptied(o.Doubts.Told()), Steps: []stepJSON{}}
	if o.Policy != nil {
		j.Policy = o.Policy.Name
	}
	if o.Via.IsValid() {
		j.Via = o.Via.String()
	}
	for _, s := range o.Steps {
		k := stepJSON{Stage: s.Stage, What: s.What}
		if s.Chain != nil {
			k.Chain = s.Chain.ID()
		}
		if at := s.Line(); !at.IsZero() {
			at := placeOf(e, at)
			k.At = &at
		}
		j.Steps = append(j.Steps, k)
	}
	return j
}
