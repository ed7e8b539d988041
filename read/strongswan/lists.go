package strongswan

import (
	"net/netip"
	"strings"

	"toril/daemon"
	"toril/ike"
	"toril/model"
	"toril/read"
	"toril/source"
)

// node is a section of a list that swanctl prints raw or pretty: keys, lists and sections.
type node struct {
	name   string
	start  int // byte where it stands
	values map[string]string
	lists  map[string][]string
	subs   []*node
}

func (n *node) sub(name string) *node {
	for _, s := range n.subs {
		if s.name == name {
			return s
		}
	}
	return nil
}

// readLists reads what swanctl lists for programs: messages of its protocol, on one line each (--raw) or on many (--pretty).
func readLists(in *read.Input) {
	l := &listing{in: in}
	p := &listParser{text: string(in.File.Bytes())}
	for p.skip(); p.at < len(p.text); p.skip() {
		start := p.at
		head, ok := p.until("{")
		if !ok {
			in.Problemf(in.File.Part(start, len(p.text)), "the list ends inside a message")
			return
		}
		n := &node{name: strings.TrimSpace(head), start: start}
		if !p.body(n, 0) {
			in.Problemf(in.File.Part(start, len(p.text)), "the list ends inside a message, or nests too deep")
		}
		for _, s := range n.subs {
			in.Count()
			switch n.name {
			case "list-sa event":
				l.rawSA(s)
			case "list-conn event":
				l.rawConn(s)
			}
		}
		switch n.name {
		case "list-sas reply", "list-sa event":
			l.lists(model.ListSAs, l.pos(n))
		case "list-conns reply", "list-conn event":
			l.lists(model.ListLoaded, l.pos(n))
		}
	}
}

func (l *listing) pos(n *node) source.Pos {
	return l.in.File.Part(n.start, min(n.start+max(1, len(n.name)), len(l.in.File.Bytes())))
}

// listParser takes the protocol's own writing apart.
type listParser struct {
	text string
	at   int
}

func (p *listParser) skip() {
	for p.at < len(p.text) && strings.IndexByte(" \t\r\n", p.text[p.at]) >= 0 {
		p.at++
	}
}

// until returns the text up to one of some characters, and stands behind that.
func (p *listParser) until(stops string) (string, bool) {
	i := strings.IndexAny(p.text[p.at:], stops)
	if i < 0 {
		p.at = len(p.text)
		return "", false
	}
	out := p.text[p.at : p.at+i]
	p.at += i + 1
	return out, true
}

// body reads what stands in a section up to its closing brace.
func (p *listParser) body(n *node, depth int) bool {
	n.values, n.lists = map[string]string{}, map[string][]string{}
	for {
		p.skip()
		switch {
		case p.at >= len(p.text) || depth > read.MaxDepth:
			return false
		case p.text[p.at] == '}':
			p.at++
			return true
		}
		start := p.at
		key, ok := p.until("={")
		if !ok {
			return false
		}
		key = strings.TrimSpace(key)
		if p.text[p.at-1] == '{' {
			s := &node{name: source.Clean(key), start: start}
			n.subs = append(n.subs, s)
			if !p.body(s, depth+1) {
				return false
			}
			continue
		}
		for p.at < len(p.text) && p.text[p.at] == ' ' {
			p.at++
		}
		if p.at < len(p.text) && p.text[p.at] == '[' {
			p.at++
			list, ok := p.until("]")
			if !ok {
				return false
			}
			n.lists[key] = strings.Fields(list)
			continue
		}
		n.values[key] = p.value()
	}
}

// value reads a value, which may have blanks: it ends with its line, before the next key, or with the section.
func (p *listParser) value() string {
	start, word := p.at, p.at
	for ; p.at < len(p.text); p.at++ {
		switch p.text[p.at] {
		case '\n', '}':
			return strings.TrimSpace(p.text[start:p.at])
		case ' ':
			word = p.at + 1
		case '=':
			if word > start {
				p.at = word
				return strings.TrimSpace(p.text[start : word-1])
			}
		case '{': // the name of a section stands before it
			if word > start+1 {
				p.at = strings.LastIndexByte(strings.TrimRight(p.text[:word], " "), ' ') + 1
				if p.at < start {
					p.at = start
				}
				return strings.TrimSpace(p.text[start:p.at])
			}
		}
	}
	return strings.TrimSpace(p.text[start:])
}

func (l *listing) rawSA(n *node) {
	v := n.values
	sa := &model.IKESA{
		At:         l.pos(n),
		Connection: n.name,
		State:      v["state"],
		Up:         v["state"] == "ESTABLISHED",
		Age:        secondsOf(v["established"]),
	}
	sa.Version = versionOf("IKEv" + v["version"])
	sa.Local, _ = netip.ParseAddr(v["local-host"])
	sa.Remote, _ = netip.ParseAddr(v["remote-host"])
	sa.Suite = rawSuite(ike.IKE, v)
	l.seen().IKE, l.sa = append(l.seen().IKE, sa), sa
	kids := n.sub("child-sas")
	if kids == nil {
		return
	}
	for _, k := range kids.subs {
		w := k.values
		name, _, _ := strings.Cut(k.name, "-")
		if w["name"] != "" {
			name = w["name"]
		}
		l.child(l.pos(k), name, w["state"], w["mode"], w["protocol"])
		l.kid.Encapsulated = w["encap"] == "yes"
		l.kid.Suite = rawSuite(l.kid.Protocol, w)
		l.kid.Age = secondsOf(w["install-time"])
		l.kid.In, l.kid.Out = counter(
			w["spi-in"],
			w["bytes-in"],
			w["packets-in"],
		), counter(
			w["spi-out"],
			w["bytes-out"],
			w["packets-out"],
		)
		l.kid.In.At, l.kid.Out.At = l.kid.At, l.kid.At
		l.kid.Local, l.kid.Remote = selectorsShown(
			strings.Join(k.lists["local-ts"], " "),
		), selectorsShown(
			strings.Join(k.lists["remote-ts"], " "),
		)
	}
}

func rawSuite(protocol ike.Protocol, v map[string]string) ike.Suite {
	cipher := v["encr-alg"]
	if v["encr-keysize"] != "" {
		cipher += "-" + v["encr-keysize"]
	}
	names := []string{cipher, v["integ-alg"], v["prf-alg"], v["dh-group"]}
	if v["esn"] != "" {
		names = append(names, "EXT_SEQ")
	}
	s, _ := daemon.SuiteShown(protocol, names...)
	return s
}

func (l *listing) rawConn(n *node) {
	c := &model.Loaded{
		At:      l.pos(n),
		Name:    n.name,
		Version: versionOf(n.values["version"]),
		Local:   n.lists["local_addrs"],
		Remote:  n.lists["remote_addrs"],
	}
	c.Rekey = every(n.values["rekey_time"])
	if kids := n.sub("children"); kids != nil {
		for _, k := range kids.subs {
			c.Children = append(c.Children, &model.LoadedChild{
				At:     l.pos(k),
				Name:   k.name,
				Local:  selectorsShown(strings.Join(k.lists["local-ts"], " ")),
				Remote: selectorsShown(strings.Join(k.lists["remote-ts"], " ")),
				Rekey:  every(k.values["rekey_time"]),
			})
		}
	}
	l.seen().Loaded = append(l.seen().Loaded, c)
}
