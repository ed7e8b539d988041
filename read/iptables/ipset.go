package iptables

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Sets is the format of "ipset save".
var Sets = &read.Format{
	Name:     "ipset",
	Comments: []string{"#"},
	Title:    "named sets of iptables: the output of ipset save",
	Software: "ipset",
	About:    model.AboutFilter,
	Linux:    true,
	Hints:    []string{"ipset*", "*.ipset"},
	Order:    29,
	Looks: func(f *source.File) (int, string) {
		if m := createLine.Find(f.Head()); m != nil {
			return 90, fmt.Sprintf("it creates sets (%q)", m)
		}
		return 0, ""
	},
	Read: readSets,
	Covers: read.Rows(
		read.Coverage{
			Statement: "create of hash:ip, hash:net, hash:ip,port, hash:net,port, hash:net,net, hash:net,iface, hash:ip,port,ip, " +
				"hash:ip,port,net, hash:ip,mark, bitmap:ip, bitmap:port, list:set",
			Use: read.Used,
		},
		read.Coverage{Statement: "add with nomatch", Use: read.Used},
		read.Coverage{Statement: "timeout", Use: read.Used, Note: "such a set may have another content while the gateway runs"},
		read.Coverage{Statement: "hash:mac, bitmap:ip,mac", Use: read.Used, Note: "MAC addresses are outside the model"},
		read.Coverage{Statement: "comment, counters, skbinfo, sizes", Use: read.Irrelevant},
	),
}

var createLine = lazy.NewSearch(`(?m)^(create|-N) \S+ (hash|bitmap|list):\S+`)

func readSets(in *read.Input) {
	for l := range lines.Parse(in.File.Bytes(), manner) {
		if in.Context.Err() != nil {
			return
		}
		n, w := l.Line, l.Fields()
		switch {
		case len(w) == 0 || strings.HasPrefix(w[0], "#"):
		case len(w) > 2 && (w[0] == "create" || w[0] == "-N"):
			in.Count()
			create(in, n, w)
		case len(w) > 2 && (w[0] == "add" || w[0] == "-A"):
			in.Count()
			s := in.Gateway.Set(w[1])
			if s == nil {
				in.Problemf(in.At(n), "set %q is not created before it is filled", source.Clean(w[1]))
				continue
			}
			if err := add(s, w[2], slices.Contains(w[3:], "nomatch")); err != nil {
				in.Unread(in.At(n), read.Owner{Name: "set " + s.Name, To: &s.Doubts}, "%s", source.Clean(err.Error()))
				s.Changes = "an element of it was not read"
			}
		case w[0] == "COMMIT" || w[0] == "quit":
		default:
			in.Unread(in.At(n), read.Owner{}, "%q is not a known command of ipset", source.Clean(w[0]))
		}
	}
}

func create(in *read.Input, line int, w []string) {
	_, kinds, _ := strings.Cut(w[2], ":")
	s := &model.NamedSet{Name: source.Clean(w[1]), At: in.At(line), Kinds: strings.Split(kinds, ","), Family: packet.IPv4}
	if slices.Contains(w[3:], "inet6") {
		s.Family = packet.IPv6
	}
	if slices.Contains(w[3:], "timeout") {
		s.Changes = "its elements expire"
	}
	d := in.Gateway.Defined("set", s.Name)
	if !in.Gateway.AddSet(s) {
		in.Problemf(in.At(line), "set %q is also created at %s; only that one is used", s.Name, in.Gateway.Set(s.Name).At)
		return
	}
	d.At, d.Missing = s.At, false
}

func add(s *model.NamedSet, text string, except bool) error {
	if slices.Equal(s.Kinds, []string{"set"}) {
		s.Members = append(s.Members, text)
		return nil
	}
	parts := strings.Split(text, ",")
	if len(parts) != len(s.Kinds) {
		return fmt.Errorf("%q has %d parts where a set of %s has %d", text, len(parts), strings.Join(s.Kinds, ","), len(s.Kinds))
	}
	e := model.SetEntry{Except: except, Proto: packet.Numbers(0, 255)}
	for i, kind := range s.Kinds {
		v, err := setValue(s, &e, kind, parts[i])
		if err != nil {
			return err
		}
		e.Parts = append(e.Parts, v)
	}
	s.Entries = append(s.Entries, e)
	return nil
}

func setValue(s *model.NamedSet, e *model.SetEntry, kind, text string) (packet.Values, error) {
	switch kind {
	case "ip", "net":
		if p, err := netip.ParsePrefix(text); err == nil && p.Bits() == 0 {
			return literal.Addresses("*", s.Family)
		}
		return literal.Addresses(text, s.Family)
	case "port":
		e.Proto = packet.OneOf(6)
		if proto, port, ok := strings.Cut(text, ":"); ok {
			v, err := literal.Protocols(proto)
			if err != nil {
				return v, err
			}
			e.Proto, text = v, port
		}
		return literal.Ports(text)
	case "iface":
		if strings.HasPrefix(text, "physdev:") {
			return packet.Values{}, fmt.Errorf("%q is a port of a bridge, which is not modelled", text)
		}
		return packet.Name(text), nil
	case "mark":
		return literal.Ranged(text, 1<<32-1, nil, "a mark")
	}
	return packet.Values{}, fmt.Errorf("elements of kind %q are not modelled", kind)
}

// matching returns the packets that are in a set, seen in the directions given ("src,dst"); why says what keeps that
// from being exact.
func matching(g *model.Gateway, s *model.NamedSet, dirs []string, depth int) (out packet.Set, why string) {
	why = s.Changes
	if depth > 0 && len(s.Members) > 0 {
		return packet.All(), "a list of sets is in a list of sets, which ipset refuses"
	}
	seen := map[string]bool{}
	for _, name := range s.Members {
		if seen[name] {
			continue
		}
		seen[name] = true
		m := g.Set(name)
		if m == nil {
			return packet.All(), fmt.Sprintf("set %s was not given", source.Clean(name))
		}
		sub, subWhy := matching(g, m, dirs, depth+1)
		out = out.Or(sub)
		if subWhy != "" {
			why = subWhy
		}
	}
	var yes, no []packet.Set
	single := len(s.Kinds) == 1
	var joined []packet.Values
	for _, e := range s.Entries {
		if single && s.Kinds[0] != "port" && !e.Except {
			joined = append(joined, e.Parts[0])
			continue
		}
		set, bad := entry(s, e, dirs)
		if bad != "" {
			return packet.All(), bad
		}
		if e.Except {
			no = append(no, set)
		} else {
			yes = append(yes, set)
		}
	}
	if len(joined) > 0 {
		set, bad := entry(s, model.SetEntry{Parts: []packet.Values{packet.Join(joined...)}}, dirs)
		if bad != "" {
			return packet.All(), bad
		}
		yes = append(yes, set)
	}
	return out.Or(packet.Union(yes...)).Minus(packet.Union(no...)), why
}

func entry(s *model.NamedSet, e model.SetEntry, dirs []string) (packet.Set, string) {
	out := packet.Only(s.Family)
	for i, kind := range s.Kinds {
		dir := "src"
		if i < len(dirs) {
			dir = dirs[i]
		}
		var f packet.Field
		switch kind {
		case "ip", "net":
			f = pick(dir, packet.Src, packet.Dst)
		case "port":
			ports := e.Proto.And(packet.WithPorts)
			if ports.Empty() {
				return packet.All(), "a port of a protocol without ports"
			}
			out = out.With(packet.Proto, ports)
			f = pick(dir, packet.Sport, packet.Dport)
		case "iface":
			f = pick(dir, packet.In, packet.Out)
		case "mark":
			f = packet.Mark
		default:
			return packet.All(), "a set of " + kind + " addresses"
		}
		out = out.With(f, e.Parts[i])
	}
	return out, ""
}

func pick(dir string, src, dst packet.Field) packet.Field {
	if dir == "dst" {
		return dst
	}
	return src
}
