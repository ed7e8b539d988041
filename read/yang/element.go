package yang

import (
	"net/netip"
	"strconv"
	"strings"

	"toril/source"
	"toril/syntax/tree"
)

// element is a node of instance data as a reader goes through it. What it asks for it has used; the rest is unread.
type element struct {
	n *tree.Node
	r *reader
}

// local is a name without its module (RFC 7951, section 4); elements of XML have none.
func local(key string) string { return key[strings.LastIndexByte(key, ':')+1:] }

// all are the nodes of a name: the entries of a list, or of a leaf-list.
func (e element) all(name string) (out []element) {
	if e.n == nil {
		return nil
	}
	for _, n := range e.n.Nodes {
		if local(n.Key) != name {
			continue
		}
		e.r.used[n] = true
		if n.Kind != tree.List {
			out = append(out, element{n, e.r})
			continue
		}
		for _, one := range n.Nodes {
			e.r.used[one] = true
			out = append(out, element{one, e.r})
		}
	}
	return out
}

// get follows names to one node; it is empty where there is none.
func (e element) get(path string) element {
	for name := range strings.SplitSeq(path, "/") {
		found := e.all(name)
		if len(found) == 0 {
			return element{nil, e.r}
		}
		e = found[len(found)-1]
	}
	return e
}

// there reports whether the node is there.
func (e element) there() bool { return e.n != nil }

func (e element) text() string {
	if e.n == nil {
		return ""
	}
	return strings.TrimSpace(e.n.Text)
}

// name is the text of an identity, without its module.
func (e element) name() string { return local(e.text()) }

// pos is where the node stands.
func (e element) pos() source.Pos {
	if e.n == nil {
		return source.Pos{}
	}
	at := e.n.At()
	if v := e.n.Value; v.End > at.End && at.End > 0 {
		at.End = v.End
	}
	return e.r.in.Pos(at)
}

// number reads a number; ok is false where there is none, and a text that is none is said.
func (e element) number() (n uint64, ok bool) {
	if e.n == nil {
		return 0, false
	}
	n, err := strconv.ParseUint(e.text(), 10, 64)
	if err != nil {
		e.wrong("a number")
	}
	return n, err == nil
}

func (e element) address() (a netip.Addr, ok bool) {
	if e.n == nil {
		return a, false
	}
	a, err := netip.ParseAddr(e.text())
	if err != nil {
		e.wrong("an address")
	}
	return a, err == nil
}

func (e element) prefix() (p netip.Prefix, ok bool) {
	if e.n == nil {
		return p, false
	}
	p, err := netip.ParsePrefix(e.text())
	if err != nil {
		e.wrong("a network with its length")
	}
	return p, err == nil
}

// wrong says that a value is not what it should be.
func (e element) wrong(want string) {
	e.r.in.Unread(e.pos(), e.r.owner, "%q is not %s", source.Clean(e.text()), want)
}
