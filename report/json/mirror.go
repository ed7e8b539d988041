package json

import (
	"fmt"
	"io"
	"time"

	"toril/ike"
	"toril/mirror"
	"toril/model"
	"toril/model/settings"
)

// MirrorSchema names the contract of the JSON form of a mirrored end.
const MirrorSchema = "toril-mirror/2"

type mirrorJSON struct {
	Schema   string            `json:"schema"`
	For      endJSON           `json:"for"`
	Settings []mirrorLineJSON  `json:"settings"`
	Children []mirrorChildJSON `json:"children"`
	Open     []string          `json:"to_settle"`
}

type mirrorLineJSON struct {
	Setting string `json:"setting"` // its name in docs/settings.md
	Name    string `json:"name"`
	Text    string `json:"text"`  // "" where it is to be settled
	Value   any    `json:"value"` // a text, a number, true or false, or a list of texts or proposals
	Unit    string `json:"unit"`
}

type mirrorChildJSON struct {
	Name     string           `json:"name"`
	Settings []mirrorLineJSON `json:"settings"`
}

type proposalJSON struct {
	Encryption  []string `json:"encryption"`
	Integrity   []string `json:"integrity"`
	PRF         []string `json:"prf"`
	KeyExchange []string `json:"key_exchange"`
	Additional  []string `json:"additional_key_exchanges"`
}

func proposalsJSON(ps []ike.Proposal) []proposalJSON {
	out := []proposalJSON{}
	list := func(cs ike.Choices) []string {
		l := []string{}
		for _, c := range cs {
			l = append(l, c.IANA())
		}
		return l
	}
	for _, p := range ps {
		further := []string{}
		for r := ike.Additional1; r <= ike.Additional7; r++ {
			further = append(further, list(p.Transforms[r])...)
		}
		out = append(
			out,
			proposalJSON{
				list(p.Transforms[ike.Encryption]),
				list(p.Transforms[ike.Integrity]),
				list(p.Transforms[ike.PRF]),
				list(p.Transforms[ike.KeyExchange]),
				further,
			},
		)
	}
	return out
}

// machine writes the value of a setting for programs: times in seconds, algorithms by IANA's names.
func machine(v any) any {
	switch v := v.(type) {
	case time.Duration:
		return int(v.Seconds())
	case []ike.Proposal:
		return proposalsJSON(v)
	case model.Addresses:
		out := []string{}
		for _, a := range v {
			out = append(out, a.Text)
		}
		return out
	case []string:
		return emptied(v)
	case bool, int, uint32, uint64, string:
		return v
	}
	return fmt.Sprint(v)
}

// sheet writes the sheet for programs.
func sheet(w io.Writer, s mirror.Sheet, table []settings.Row) error {
	lines := func(k *model.Child) []mirrorLineJSON {
		out := []mirrorLineJSON{}
		for _, l := range s.Lines(k, table) {
			out = append(out, mirrorLineJSON{l.Setting.Name, l.Name, l.Text, machine(l.Value), l.Setting.Unit})
		}
		return out
	}
	j := mirrorJSON{MirrorSchema, endJSON{s.For.Gateway.Name, s.For.Connection.Name}, lines(nil), []mirrorChildJSON{}, emptied(s.Open)}
	for _, k := range s.Far.Children {
		j.Children = append(j.Children, mirrorChildJSON{k.Name, lines(k)})
	}
	return encode(w, j)
}
