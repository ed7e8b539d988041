package estate

import (
	"net/netip"
	"slices"
	"strings"
	"unique"

	"toril/ike"
	"toril/internal/cache"
	"toril/model"
	"toril/source"
)

// Facts are what is kept of a gateway once it has been read: what pairs its connections with those of others, what reports tell of its
// files, and where to read it again. They hold nothing of the files themselves.
type Facts struct {
	Name        string
	Number      int // in Estate.Gateways
	Files       []File
	Addresses   []netip.Addr // of its interfaces
	Inside      netip.Addr   // as in model.Gateway
	Connections []Connection // as in model.Gateway
	Unloaded    []Connection // as in model.Gateway
	Keys        int          // pre-shared keys whose value was given
	Before      int          // such keys of the gateways before it

	size     int64        // bytes of its files
	print    uint64       // of what is in them; 0 where they were not read in this run
	part     bool         // the files of packet filters were not read at first
	whole    bool         // they have been read since
	sum      cache.Digest // of all that was read of it, where a cache is used
	plan     *plan        // where to read it again; nil where it was given as it is
	problems []*source.Error
	leftOut  []model.LeftOut
}

// File is what is kept of a file.
type File struct {
	Path       string
	Format     string
	Why        string // why it was taken for that format
	Statements int    // statements read
	Unread     []Unread
}

// Unread is a statement that a reader did not understand.
type Unread struct {
	At     source.Pos
	Text   string // the statement, secrets masked
	Region source.Region
	Why    string
	Of     string // what it belongs to; "" for the gateway as a whole

	Cause   model.Cause
	Matters bool // answers may depend on it
	IKE     bool // it may be about a connection
}

// Connection is what is kept of a connection.
type Connection struct {
	Name     string
	Local    model.Addresses
	Remote   model.Addresses
	Shows    ike.Identity // the identity that it shows its peer, as far as the gateway's own files tell; the zero Identity: they do not
	Expects  ike.Identity // the identity that it expects, as configured
	Version  ike.Version
	Encap    bool // its ESP goes in UDP whatever lies between, as configured
	Children []Child
}

// Child is what is kept of a child.
type Child struct {
	Name          string
	Local, Remote ike.Selectors
	Shunts        bool // it lets packets pass or drops them, and is no party to the peer
}

// Shunts reports whether a connection only holds policies that let packets pass or drop them: it has no peer.
func (c *Connection) Shunts() bool {
	return len(c.Children) > 0 && !slices.ContainsFunc(c.Children, func(k Child) bool { return !k.Shunts }) && c.Remote.Any()
}

// tight lays the facts out in few pieces, which keep nothing else in memory: texts of readers are parts of files, and of a large estate
// every piece is looked at whenever memory is cleared.
func (f *Facts) tight() {
	var children, selectors, addresses int
	lists := [...][]Connection{f.Connections, f.Unloaded}
	for _, list := range lists {
		for i := range list {
			c := &list[i]
			children, addresses = children+len(c.Children), addresses+len(c.Local)+len(c.Remote)
			for _, k := range c.Children {
				selectors += len(k.Local) + len(k.Remote)
			}
		}
	}
	ofChildren, ofSelectors := make([]Child, 0, children), make(ike.Selectors, 0, selectors)
	ofAddresses := make(model.Addresses, 0, addresses)
	for _, list := range lists {
		for i := range list {
			c := &list[i]
			c.Local, c.Remote = into(&ofAddresses, c.Local), into(&ofAddresses, c.Remote)
			c.Children = into(&ofChildren, c.Children)
			for n := range c.Children {
				k := &c.Children[n]
				k.Local, k.Remote = into(&ofSelectors, k.Local), into(&ofSelectors, k.Remote)
			}
		}
	}
	gather(f.texts)
}

// into moves a list into one that has room for it.
func into[L ~[]T, T any](room *L, list L) L {
	if len(list) == 0 {
		return nil
	}
	at := len(*room)
	*room = append(*room, list...)
	return slices.Clip((*room)[at:])
}

// gather makes one text of many, each of which is a part of it then. They are named twice, in the same order.
func gather(texts func(each func(*string))) {
	var b strings.Builder
	size := 0
	texts(func(t *string) { size += len(*t) })
	b.Grow(size)
	texts(func(t *string) { b.WriteString(*t) })
	all, at := b.String(), 0
	texts(func(t *string) {
		end := at + len(*t)
		*t, at = all[at:end], end
	})
}

// texts names the texts of the facts, but for those that many gateways share.
func (f *Facts) texts(each func(*string)) {
	each(&f.Name)
	textsOf(f.Files)(each)
	for _, list := range [...][]Connection{f.Connections, f.Unloaded} {
		for i := range list {
			c := &list[i]
			each(&c.Name)
			each(&c.Shows.Value)
			each(&c.Expects.Value)
			for _, addresses := range [...]model.Addresses{c.Local, c.Remote} {
				for n := range addresses {
					each(&addresses[n].Text)
					each(&addresses[n].Name)
				}
			}
			for n := range c.Children {
				each(&c.Children[n].Name)
			}
		}
	}
}

// textsOf names the texts of files in the same way.
func textsOf(files []File) func(each func(*string)) {
	return func(each func(*string)) {
		for i := range files {
			each(&files[i].Path)
			for n := range files[i].Unread {
				u := &files[i].Unread[n]
				each(&u.At.File)
				each(&u.Text)
				each(&u.Why)
				each(&u.Of)
			}
		}
	}
}

// shared makes a text that is the same for many gateways one for all of them.
func shared(text string) string { return unique.Make(text).Value() }

// factsOf takes down what is kept of a gateway that was read.
func factsOf(r reading) *Facts {
	g := r.gateway
	f := &Facts{Name: g.Name, problems: g.Problems, leftOut: g.LeftOut, print: r.print(r.part), part: r.part}
	f.Files, f.size = filesOf(g)
	n := 0
	for _, i := range g.Interfaces {
		n += len(i.Addresses)
	}
	f.Addresses = make([]netip.Addr, 0, n)
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			f.Addresses = append(f.Addresses, a.Addr())
		}
	}
	f.Inside = g.Inside()
	for _, k := range g.Keys {
		if k.Given() {
			f.Keys++
		}
	}
	f.Connections, f.Unloaded = connectionsOf(g, g.Connections), connectionsOf(g, g.Unloaded)
	f.tight()
	return f
}

// filesOf takes down what is kept of the files of a gateway, and how many bytes they have. Its texts are not its own yet.
func filesOf(g *model.Gateway) (out []File, size int64) {
	out = make([]File, 0, len(g.Files))
	for _, x := range g.Files {
		size += int64(len(x.Bytes()))
		if x.Format == "" {
			continue
		}
		one := File{Path: x.Path, Format: x.Format, Why: shared(x.Why), Statements: x.Statements}
		for _, u := range x.Unread {
			left := Unread{At: u.At, Text: x.Quote(u.At), Region: x.Region(u.At), Why: u.Why, Of: u.Scope, Matters: u.Doubt != nil}
			if left.Matters {
				left.Cause, left.IKE = u.Doubt.Cause, u.Doubt.Topic&model.AboutIKE != 0
			}
			one.Unread = append(one.Unread, left)
		}
		out = append(out, one)
	}
	return out, size
}

func connectionsOf(g *model.Gateway, from []*model.Connection) []Connection {
	out := make([]Connection, len(from))
	for i, c := range from {
		shows, told := g.Shows(c, netip.Addr{})
		if !told {
			shows = ike.Identity{}
		}
		out[i] = Connection{
			Name:    c.Name,
			Local:   c.LocalAddrs.Value,
			Remote:  c.RemoteAddrs.Value,
			Shows:   shows,
			Version: c.Version.Value,
			Encap:   c.Encap.Value,
			Expects: c.Remote.ID.Value,
		}
		for _, k := range c.Children {
			out[i].Children = append(out[i].Children, Child{k.Name, k.Local.Value, k.Remote.Value, k.Shunts()})
		}
	}
	return out
}

// Of makes an estate of gateways as they are.
func Of(gateways ...*model.Gateway) *Estate {
	e := &Estate{keeper: newKeeper(Options{})}
	for _, g := range gateways {
		number(g)
		f := factsOf(reading{gateway: g})
		f.problems, f.leftOut = nil, nil
		e.keeper.hold(f, g)
		e.add(f)
	}
	return e
}
