package estate

import (
	"net/netip"
	"slices"
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
	At   source.Pos
	Text string // the statement, secrets masked
	Why  string
}

// Connection is what is kept of a connection.
type Connection struct {
	Name     string
	Local    model.Addresses
	Remote   model.Addresses
	Shows    ike.Identity // the identity that it shows its peer, as far as the gateway's own files tell; the zero Identity: they do not
	Expects  ike.Identity // the identity that it expects, as configured
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

// own makes a text that keeps nothing else in memory: texts of readers are parts of files.
func own(text string) string { return unique.Make(text).Value() }

func ownIdentity(id ike.Identity) ike.Identity {
	return ike.Identity{Kind: id.Kind, Value: own(id.Value)}
}

func ownPos(p source.Pos) source.Pos {
	p.File = own(p.File)
	return p
}

// factsOf takes down what is kept of a gateway that was read.
func factsOf(r reading) *Facts {
	g := r.gateway
	f := &Facts{Name: own(g.Name), problems: g.Problems, leftOut: g.LeftOut, print: r.print(r.part), part: r.part}
	f.Files, f.size = filesOf(g)
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
	return f
}

// filesOf takes down what is kept of the files of a gateway, and how many bytes they have.
func filesOf(g *model.Gateway) (out []File, size int64) {
	for _, x := range g.Files {
		size += int64(len(x.Bytes()))
		if x.Format == "" {
			continue
		}
		one := File{Path: own(x.Path), Format: x.Format, Why: own(x.Why), Statements: x.Statements}
		for _, u := range x.Unread {
			one.Unread = append(one.Unread, Unread{ownPos(u.At), own(x.Quote(u.At)), own(u.Why)})
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
			Name:    own(c.Name),
			Local:   addressesOf(c.LocalAddrs.Value),
			Remote:  addressesOf(c.RemoteAddrs.Value),
			Shows:   ownIdentity(shows),
			Expects: ownIdentity(c.Remote.ID.Value),
		}
		for _, k := range c.Children {
			out[i].Children = append(out[i].Children, Child{own(k.Name), k.Local.Value, k.Remote.Value, k.Shunts()})
		}
	}
	return out
}

func addressesOf(from model.Addresses) model.Addresses {
	out := slices.Clone(from)
	for i := range out {
		out[i].Text, out[i].Name = own(out[i].Text), own(out[i].Name)
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
