package yang

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"toril/model"
	"toril/read"
	"toril/source"
)

// LeftOut is the name of Toril's own module, in which a file that Toril wrote says what the IETF's models had no place for, and what was
// not understood or not whole where it was read. It stands in lab/formats/yang.
const LeftOut = "toril-left-out"

// topicWords are the topics as the module names them.
var topicWords = []struct {
	name  string
	topic model.Topic
}{
	{"ike", model.AboutIKE}, {"keys", model.AboutKeys}, {"certificates", model.AboutCertificates}, {"filter", model.AboutFilter},
	{"interfaces", model.AboutInterfaces}, {"routes", model.AboutRoutes},
}

// doubts notes what was not understood of the gateway itself.
func (x *writer) doubts() {
	for _, f := range x.g.Files {
		for _, l := range f.Omissions {
			x.lack(l)
		}
		for _, u := range f.Unread {
			if d := u.Doubt; d != nil && !strings.HasPrefix(u.Why, omits) {
				x.lack(model.Omission{About: d.Topic, Connection: connectionOf(x.g, d), What: u.At.String() + ": " + u.Why})
			}
		}
	}
	for _, p := range x.g.Problems {
		x.lack(model.Omission{About: model.AboutEverything, What: p.Error()})
	}
}

// connectionOf is the name of the connection that a doubt is about; "" where it is about more.
func connectionOf(g *model.Gateway, d *model.Doubt) string {
	for _, c := range g.Connections {
		if slices.Contains(c.Doubts, d) {
			return c.Name
		}
	}
	return ""
}

// leftOut writes what the file lacks, and what of it is a part only.
func (x *writer) leftOut() (out object) {
	var parts []any
	if x.g.Told.Addresses == model.Partly {
		parts = append(parts, "interfaces")
	}
	if x.g.Told.Routes == model.Partly {
		parts = append(parts, "routes")
	}
	var items []object
	lacks := slices.SortedFunc(slices.Values(x.lacks), func(a, b model.Omission) int {
		return cmp.Or(cmp.Compare(a.About, b.About), cmp.Compare(a.Connection, b.Connection), cmp.Compare(a.What, b.What))
	})
	for n, l := range lacks {
		o := object{{"id", n + 1}}
		var about []any
		for _, t := range topicWords {
			if l.About&t.topic != 0 {
				about = append(about, t.name)
			}
		}
		o.put("about", about)
		o.put("connection", l.Connection)
		o.put("what", l.What)
		items = append(items, o)
	}
	out.put("part-of", parts)
	out.put("item", items)
	return out
}

// leftOut reads what a file says that it lacks.
func (r *reader) leftOut(e element) {
	for _, part := range e.all("part-of") {
		r.parts = append(r.parts, part.text())
	}
	for _, item := range e.all("item") {
		r.in.Count()
		item.get("id")
		o := model.Omission{Connection: source.Clean(item.get("connection").text()), What: source.Clean(item.get("what").text())}
		for _, about := range item.all("about") {
			for _, t := range topicWords {
				if about.text() == t.name {
					o.About |= t.topic
				}
			}
		}
		r.in.File.Omissions = append(r.in.File.Omissions, o)
		r.leftAt = append(r.leftAt, item.get("what").pos())
	}
}

// leavesOut reports whether the file says of the connection that is being read that it leaves out something whose description begins so.
func (r *reader) leavesOut(begins string) bool {
	return slices.ContainsFunc(r.in.File.Omissions, func(o model.Omission) bool {
		return o.Connection == r.owner.Name && strings.HasPrefix(o.What, begins)
	})
}

// notWhole begins what is said of proposals of which there is more than a list of algorithms.
const notWhole = "of its proposals, "

// prfOf begins what is said of a connection's PRF.
func prfOf(connection string) string { return "connection " + connection + ": the PRF" }

// omits begins what is said of what a file leaves out.
const omits = "the file says that it leaves out "

// lacking makes unsure what a file lacks: once for all that is about the same.
func (r *reader) lacking() {
	told := &r.in.Gateway.Told
	if slices.Contains(r.parts, "interfaces") {
		told.Addresses = model.Partly
	}
	if slices.Contains(r.parts, "routes") {
		told.Routes = model.Partly
	}
	type kind struct {
		about model.Topic
		of    string
	}
	all := map[kind][]string{}
	for _, o := range r.in.File.Omissions {
		k := kind{o.About, o.Connection}
		all[k] = append(all[k], o.What)
	}
	for i, o := range r.in.File.Omissions {
		k := kind{o.About, o.Connection}
		things := all[k]
		if delete(all, k); len(things) == 0 || o.About == model.AboutKeys { // said with the first of them, and by the keys that are missing
			continue
		}
		of := read.Owner{}
		if o.Connection != "" {
			of = r.ofConnection(o.Connection)
		}
		of.Topic = o.About
		why := omits + things[0]
		if n := len(things) - 1; n > 0 {
			why += fmt.Sprintf(", and %d more of it", n)
		}
		r.in.Leave(r.in.File, r.leftAt[i], of, model.NotRead, why)
	}
}
