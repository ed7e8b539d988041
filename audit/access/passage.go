package access

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/gateway"
	"toril/ike"
	"toril/packet"
	"toril/walk"
)

// of prepares the walk of a subject's child; nil where there is nothing to ask.
func of(p *audit.Pass, s *audit.Subject) (*walk.Path, *walk.Policy) {
	if s.Shunted() || len(s.Gateway.Chains) == 0 || s.Child.Mode.Value != ike.Tunnel {
		return nil, nil
	}
	path := p.Walk(s.Gateway)
	return path, s.PolicyOf(path)
}

// filtered keeps the outcomes that rules decided: what the routes or policies stop is not theirs.
func filtered(os []walk.Outcome) (passed, stopped []walk.Outcome) {
	for _, o := range os {
		switch {
		case o.Fate == walk.Dropped && (o.Where == "forward" || o.Where == "prerouting" || o.Where == "postrouting" || o.Where == "input"):
			stopped = append(stopped, o)
		case o.Fate == walk.Clear || o.Fate == walk.Encrypted || o.Fate == walk.Delivered:
			passed = append(passed, o)
		}
	}
	return passed, stopped
}

func reasons(os []walk.Outcome) []string {
	var out []string
	for _, o := range os {
		for _, u := range o.Unsure {
			if !slices.Contains(out, u) {
				out = append(out, u)
			}
		}
	}
	return out
}

// returning are packets that come out of a policy's tunnel and belong to what went in: of a state other than new.
func returning(path *walk.Path, pol *walk.Policy, s packet.Set, state uint64) packet.Set {
	outside, _ := path.Outside(pol.Own, pol.Peer)
	return walk.Plain(s).Replace(packet.State, packet.OneOf(state)).Replace(packet.Direction, packet.OneOf(packet.Reply)).And(walk.Peered(packet.PeerIn, pol.Peer)).
		With(packet.PeerOut, packet.OneOf(0)).With(packet.In, outside)
}

// Blocked speaks where the filter lets nothing of a tunnel through in one direction.
var Blocked = &audit.Check{
	Name:     "access/blocked",
	Title:    "The filter lets nothing through in one direction",
	Severity: audit.High,
	Why:      "The tunnel is up and no packet passes, or connections can be opened from one side only.",
	Mend:     "Accept what the tunnel is for in the forward chain, in each direction that connections are opened in, and the replies.",
	Doc: audit.Doc{
		What: "New connections out of the networks behind the gateway into every child, new connections that come out of it, and the replies to those that go in are sent through the whole filter. The check speaks where all of one kind are stopped. " +
			"Tunnels whose intent is declared are left to access/short-of-intent.",
		Harm:    "The tunnel shows as established, so the search begins at the far end; it is the own filter that stops every packet.",
		Write:   "ct state established,related accept, and ip saddr 10.1.0.0/16 ip daddr 10.2.0.0/16 accept.",
		Sources: []string{"nft(8)"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		if _, declared := s.Tunnel.Intended(s.End); declared {
			return // access/short-of-intent asks about what is meant
		}
		speak := func(what string, os []walk.Outcome, severity audit.Severity) bool {
			passed, stopped := filtered(os)
			if len(passed) > 0 || len(stopped) == 0 {
				return false
			}
			f := p.On(s, stopped[0].Decided(s.Child.At), false)
			f.Severity = severity
			w, _ := stopped[0].Was().Witness()
			f.Example = w.String()
			f.Message = fmt.Sprintf("%s %s: the filter stops all of them", what, s.Child.Name)
			f.Undecided(reasons(stopped))
			p.Report(f)
			return true
		}
		out := path.Domain(pol)
		outStopped := !out.Now.Empty() && speak("new connections into", path.Forward(out), audit.High)
		_, inner := path.Inbound(pol, pol.Back())
		if len(inner) > 0 {
			severity := audit.Low // many tunnels are opened from one side only
			if outStopped {
				severity = audit.High
			}
			speak("new connections out of", inner, severity)
		}
		if outStopped || out.Now.Empty() {
			return
		}
		answers := returning(path, pol, pol.Back(), packet.Established)
		speak("the answers out of", path.Forward(walk.Start(answers)), audit.High)
	},
}

// NoICMP speaks where a tunnel passes TCP and none of the messages that path MTU discovery needs.
var NoICMP = &audit.Check{
	Name:     "access/no-icmp",
	Title:    "ICMP is stopped: large packets disappear",
	Severity: audit.Low,
	Why:      "A tunnel makes packets larger than the path takes; without \"fragmentation needed\" the sender never learns it.",
	Mend:     "Accept ICMP type 3 code 4 (packet too big for IPv6) through the tunnel, or related packets of connection tracking; clamping the MSS of TCP helps TCP only.",
	Doc: audit.Doc{
		What:    "New TCP connections of a child are let through, and neither ICMP type 3 code 4 as such nor related packets are.",
		Harm:    "Logins work and copies hang: the usual complaint about tunnels.",
		Write:   "ct state established,related accept, or icmp type destination-unreachable accept.",
		Sources: []string{"RFC 1191", "RFC 8201", "RFC 4301 section 8.1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil || pol.Child.Local.Value.At(pol.Own).Packets().Families() == nil {
			return
		}
		flow := path.Domain(pol)
		tcp, _ := filtered(path.Forward(walk.Start(flow.Now.And(packet.Only(packet.IPv4)).With(packet.Proto, packet.OneOf(6)))))
		if len(tcp) == 0 {
			return
		}
		domain := pol.Domain.Free(packet.Mark, packet.Proto, packet.Sport, packet.Dport, packet.ICMP).And(packet.Only(packet.IPv4)).Mirror()
		message := returning(path, pol, domain.With(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(3<<8|4)), packet.Related)
		if message.Empty() {
			return
		}
		passed, stopped := filtered(path.Forward(walk.Start(message)))
		passed = slices.DeleteFunc(passed, func(o walk.Outcome) bool { return o.Fate == walk.Delivered }) // to the gateway itself
		if len(passed) > 0 || len(stopped) == 0 {
			return
		}
		f := p.On(s, stopped[0].Decided(s.Child.At), false)
		f.Severity = audit.Low
		f.Message = fmt.Sprintf("%s passes TCP, and stops the ICMP messages that say a packet is too big", s.Child.Name)
		f.Undecided(reasons(stopped))
		p.Report(f)
	},
}

// Blanket speaks where one rule accepts whatever was decrypted.
var Blanket = &audit.Check{
	Name:     "access/blanket",
	Title:    "One rule accepts whatever comes out of any tunnel",
	Severity: audit.Medium,
	Why:      "It stands outside of the filter that was written for the tunnels: every tunnel that is added later is open from its first packet.",
	Mend:     "Let decrypted packets go through rules of their own: jump to a chain that names networks and protocols.",
	Doc: audit.Doc{
		What:    "Accepting rules at the forward or input hook whose only condition is that the packet was decrypted, or that it came in by a tunnel interface.",
		Harm:    "A partner's whole network reaches the gateway and all that is behind it, also what the partner was never meant to see.",
		Write:   "meta ipsec exists jump from-tunnels in place of meta ipsec exists accept.",
		Sources: []string{"RFC 4301 section 5.2", "NIST SP 800-77 Rev. 1"},
	},
	Gateway: func(p *audit.Pass, g *gateway.Gateway) {
		tunnels := map[string]bool{}
		for _, i := range g.Interfaces {
			if i.Kind == "xfrm" || i.Kind == "vti" {
				tunnels[i.Name] = true
			}
		}
		some := packet.Where(packet.PeerIn, packet.OneOf(0)).Not()
		for _, c := range g.Chains {
			if c.Hook != gateway.Forward && c.Hook != gateway.Input {
				continue
			}
			for _, r := range c.Rules {
				if r.Verb != gateway.Accept || !r.Certain() {
					continue
				}
				fam := packet.Only(packet.IPv4)
				whole := r.When.Contains(fam.And(some).With(packet.State, packet.OneOf(packet.New)))
				by := ""
				for _, name := range sortedNames(tunnels) {
					if r.When.Contains(fam.With(packet.In, packet.Name(name)).With(packet.State, packet.OneOf(packet.New))) {
						whole, by = true, name
					}
				}
				if !whole || r.When.Contains(fam.With(packet.State, packet.OneOf(packet.New))) {
					continue
				}
				f := audit.Finding{Severity: audit.Medium, Gateway: g.Name, At: audit.Evidence{Pos: r.At}, Message: "the rule accepts whatever was decrypted, of every tunnel"}
				if by != "" {
					f.Message = "the rule accepts whatever comes in by " + by
				}
				p.Report(f)
			}
		}
	},
}

func sortedNames(m map[string]bool) []string {
	var out []string
	for n := range m {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// NoLog speaks where new connections of a tunnel are accepted and nothing is logged.
var NoLog = &audit.Check{
	Name:     "access/no-log",
	Title:    "Connections of a tunnel are accepted without a log",
	Severity: audit.Info,
	Why:      "Nobody can tell afterwards what came through the tunnel.",
	Mend:     "Log new connections in the rule that accepts them, or before it.",
	Doc: audit.Doc{
		What:    "The rules that accept new connections which come out of a tunnel to another gateway: the check speaks where none of those that the packets meet logs.",
		Harm:    "After an incident at a partner the question \"what did they reach?\" has no answer.",
		Write:   "ct state new log prefix \"from-partner \" accept",
		Sources: []string{"NIST SP 800-41 Rev. 1 section 5", "NIST SP 800-77 Rev. 1"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		path, pol := of(p, s)
		if pol == nil {
			return
		}
		_, inner := path.Inbound(pol, pol.Back())
		passed, _ := filtered(inner)
		for _, o := range passed {
			logged, rule := false, (*gateway.Rule)(nil)
			for _, st := range o.Steps {
				if st.Rule == nil {
					continue
				}
				logged = logged || st.Rule.Log
				if st.Rule.Verb == gateway.Accept && st.Stage == "forward" {
					rule = st.Rule
				}
			}
			if logged || rule == nil || metLogs(s.Gateway, o) {
				continue
			}
			f := p.On(s, rule.At, false)
			f.Message = fmt.Sprintf("the rule accepts new connections out of %s, and nothing logs them", s.Child.Name)
			p.Report(f)
			return
		}
	},
}

// metLogs reports whether some rule of the gateway that logs is for packets of the flow.
func metLogs(g *gateway.Gateway, o walk.Outcome) bool {
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			if r.Log && r.When.Overlaps(o.Now) {
				return true
			}
		}
	}
	return false
}
