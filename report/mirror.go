package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"toril/baseline"
	"toril/ike"
	"toril/mirror"
)

// MirrorSchema names the contract of the JSON form of a mirrored end.
const MirrorSchema = "toril-mirror/1"

// MirrorMarkdown writes what the far end must set as a sheet to hand over.
func MirrorMarkdown(w io.Writer, s mirror.Sheet) error {
	p := &paper{w: w}
	p.line("# Far end of %s/%s", s.For, s.Connection)
	p.line("")
	p.line("What the administrator of the far end sets. \"Own\" is the far end, \"peer\" is %s.", s.For)
	p.line("")
	p.line("| setting | value |")
	p.line("| --- | --- |")
	row := func(name, value string) {
		if value == "" {
			value = "to be settled"
		}
		p.line("| %s | %s |", name, strings.NewReplacer("|", `\|`, "\n", " ").Replace(value))
	}
	row("own address", s.Own)
	row("peer address", s.Peer)
	row("own identity", s.OwnID)
	row("peer identity", s.PeerID)
	row("authentication", s.Method.String())
	row("IKE version", s.Version.String())
	if s.Version == ike.V1 {
		row("IKEv1 mode", map[bool]string{true: "aggressive", false: "main"}[s.Aggressive])
	}
	row("IKE proposals", names(s.Proposals))
	row("IKE lifetime", spanOr(s.IKELife, "not rekeyed by time"))
	row("liveness check", spanOr(s.DPD, "off"))
	row("encapsulation", map[bool]string{true: "always in UDP port 4500", false: "UDP port 4500 where NAT is seen"}[s.Encap])
	for _, c := range s.Children {
		p.line("")
		p.line("## Child %s", c.Name)
		p.line("")
		p.line("| setting | value |")
		p.line("| --- | --- |")
		row("own networks", strings.Join(c.Local, ", "))
		row("peer networks", strings.Join(c.Remote, ", "))
		row(c.Protocol.String()+" proposals", names(c.Proposals))
		row("perfect forward secrecy", few2(c.Groups))
		row("mode", c.Mode.String())
		row("lifetime", spanOr(c.Life, "not rekeyed by time"))
		if c.Bytes > 0 {
			row("lifetime in bytes", fmt.Sprint(c.Bytes))
		}
		if c.Cut96 {
			row("HMAC-SHA2-256", "cut to 96 bits, against the standard (RFC 4868)")
		}
	}
	if len(s.Open) > 0 {
		p.line("")
		p.line("## To settle between the two")
		p.line("")
		for _, o := range s.Open {
			p.line("- %s", o)
		}
	}
	return p.err
}

func few2(cs ike.Choices) string {
	if len(cs) == 0 {
		return "none"
	}
	return cs.Labels()
}

func spanOr(d time.Duration, zero string) string {
	if d == 0 {
		return zero
	}
	return baseline.Span(d)
}

func names(ps []ike.Proposal) string {
	var out []string
	for _, p := range ps {
		out = append(out, p.Names())
	}
	return strings.Join(out, "; ")
}

type mirrorJSON struct {
	Schema     string            `json:"schema"`
	For        endJSON           `json:"for"`
	Own        string            `json:"own_address"`
	Peer       string            `json:"peer_address"`
	OwnID      string            `json:"own_identity"`
	PeerID     string            `json:"peer_identity"`
	Method     string            `json:"authentication"`
	Version    string            `json:"ike_version"`
	Aggressive bool              `json:"aggressive"`
	Proposals  []proposalJSON    `json:"ike_proposals"`
	Life       int               `json:"ike_lifetime_seconds"`
	DPD        int               `json:"liveness_seconds"`
	Encap      bool              `json:"always_udp"`
	Children   []mirrorChildJSON `json:"children"`
	Open       []string          `json:"to_settle"`
}

type proposalJSON struct {
	Encryption  []string `json:"encryption"`
	Integrity   []string `json:"integrity"`
	PRF         []string `json:"prf"`
	KeyExchange []string `json:"key_exchange"`
	Additional  []string `json:"additional_key_exchanges"`
}

type mirrorChildJSON struct {
	Name      string         `json:"name"`
	Protocol  string         `json:"protocol"`
	Local     []string       `json:"own_networks"`
	Remote    []string       `json:"peer_networks"`
	Proposals []proposalJSON `json:"proposals"`
	Mode      string         `json:"mode"`
	Life      int            `json:"lifetime_seconds"`
	Bytes     uint64         `json:"lifetime_bytes"`
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
		out = append(out, proposalJSON{list(p.Transforms[ike.Encryption]), list(p.Transforms[ike.Integrity]), list(p.Transforms[ike.PRF]), list(p.Transforms[ike.KeyExchange]), further})
	}
	return out
}

// MirrorJSON writes the sheet for programs; algorithms have IANA's names.
func MirrorJSON(w io.Writer, s mirror.Sheet) error {
	j := mirrorJSON{MirrorSchema, endJSON{s.For, s.Connection}, s.Own, s.Peer, s.OwnID, s.PeerID, s.Method.String(), s.Version.String(), s.Aggressive, proposalsJSON(s.Proposals), int(s.IKELife.Seconds()),
		int(s.DPD.Seconds()), s.Encap, []mirrorChildJSON{}, emptied(s.Open)}
	for _, c := range s.Children {
		j.Children = append(j.Children, mirrorChildJSON{c.Name, c.Protocol.String(), emptied(c.Local), emptied(c.Remote), proposalsJSON(c.Proposals), c.Mode.String(), int(c.Life.Seconds()), c.Bytes})
	}
	return encode(w, j)
}
