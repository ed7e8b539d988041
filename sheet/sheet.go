// Package sheet makes what a partner or a support desk asks for of a tunnel: both ends with all that they must agree on, what the far end's
// filters must open, what fits into a packet, and how to prove that it works. No key is part of it.
package sheet

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"toril/audit"
	"toril/ike"
	"toril/mirror"
	"toril/model"
	"toril/model/settings"
	"toril/negotiate"
	"toril/pair"
	"toril/present"
	"toril/walk"
)

// maker makes one sheet.
type maker struct {
	t        *pair.Tunnel
	end, far pair.End
	given    bool // the far end was
	path     *walk.Path
	farPath  *walk.Path // of the far gateway, once somebody asks
	mirrored mirror.Sheet
	attempts []negotiate.Attempt
	whole    *pair.Whole
	table    []*settings.Row
	out      *present.Document
}

// Of makes the sheet of an end of a tunnel, by the table of settings; state says what becomes of the tunnel, changed what is new of it: nil
// where that was not asked.
func Of(w *pair.Whole, t *pair.Tunnel, end pair.End, table []*settings.Row, state string, changed []string) present.Document {
	m := &maker{t: t, end: end, whole: w, table: table, mirrored: mirror.Of(t, end), attempts: negotiate.Tunnel(t)}
	m.far, m.given = t.Far(end)
	m.path = walk.NewPath(end.Gateway, w.Ends(end.Gateway), walk.Options{})
	m.out = &present.Document{Subject: end.Name(), Title: "Tunnel of " + end.Name() + " to " + m.farName()}
	if m.given && state != "" {
		m.out.Lead = []string{"By the configurations of both ends it " + state + "."}
	}
	m.ends()
	m.settings(nil)
	for _, k := range end.Connection.Children {
		if !k.Shunts() {
			m.settings(k)
			m.sizes(k)
		}
	}
	m.starts()
	m.opens()
	m.tests()
	m.open()
	if changed != nil {
		m.changed(changed)
	}
	return *m.out
}

// Named finds the ends that "GATEWAY" or "GATEWAY/CONNECTION" means.
func Named(w *pair.Whole, name string) (found []pair.End, tunnels []*pair.Tunnel, known []string) {
	for _, t := range w.Tunnels {
		for _, e := range t.Ends {
			known = append(known, e.Name())
			if e.Name() == name || e.Gateway.Name == name {
				found, tunnels = append(found, e), append(tunnels, t)
			}
		}
	}
	return found, tunnels, known
}

func (m *maker) add(p present.Part) { m.out.Parts = append(m.out.Parts, p) }

func (m *maker) farName() string {
	switch {
	case m.given:
		return m.far.Gateway.Name
	case m.t.Peer(m.end).IsValid():
		return m.t.Peer(m.end).String()
	}
	return m.end.Connection.Remote.ID.Value.String()
}

// both are the heads of tables with a column an end.
func (m *maker) both() []string { return []string{"", m.end.Gateway.Name, "far end: " + m.farName()} }

// ends tells software, addresses, interfaces and identities of both.
func (m *maker) ends() {
	p := present.Part{Name: "ends", Title: "The two ends", Head: m.both()}
	row := func(key, name, own, far string) {
		p.Rows = append(p.Rows, present.Row{Key: key, Name: name, Cells: []string{own, far}})
	}
	own, peer := m.t.Own(m.end), m.t.Peer(m.end)
	row("software", "IKE daemon", software(m.end), m.ofFar(software))
	row("outer-address", "outer address", addr(own), addr(peer))
	row("outer-interface", "outside interface", m.outside(m.end, own, peer),
		m.ofFar(func(e pair.End) string { return m.outside(e, peer, own) }))
	row("inner-interfaces", "inside interfaces", inside(m.end), m.ofFar(inside))
	row(settings.OwnIdentity.Name, "identity", m.identity(m.end), m.ofFar(m.identity))
	row(settings.OwnAuthentication.Name, "authentication", m.end.Connection.Local.Method.Value.String(),
		m.ofFar(func(e pair.End) string { return e.Connection.Local.Method.Value.String() }))
	m.add(p)
}

// ofFar asks of the far end; "" where it was not given.
func (m *maker) ofFar(ask func(pair.End) string) string {
	if !m.given {
		return ""
	}
	return ask(m.far)
}

func software(e pair.End) string {
	name := e.Connection.Daemon.Name
	if f := e.Gateway.File(e.Connection.At.File); name == "" && f != nil {
		name = "read as " + f.Format
	}
	if v := e.Gateway.VersionOf(name); v != "" {
		return name + " " + v
	}
	return name
}

func addr(a netip.Addr) string {
	if !a.IsValid() {
		return "not fixed"
	}
	return a.String()
}

func (m *maker) identity(e pair.End) string {
	id, ok := e.Shows(m.t.Own(e))
	switch {
	case id.Kind == ike.IDHost:
		return id.String() + ", which is not in its configuration"
	case !ok:
		return "not known: the certificate was not given"
	}
	return id.String()
}

// outside is the interface that packets to the peer leave by, with its MTU.
func (m *maker) outside(e pair.End, own, peer netip.Addr) string {
	i := outsideOf(m.pathOf(e.Gateway), e, own, peer)
	if i == nil {
		return "not given"
	}
	return fmt.Sprintf("%s, MTU %d", i.Name, mtuOf(i))
}

func outsideOf(path *walk.Path, e pair.End, own, peer netip.Addr) *model.Interface {
	if len(e.Gateway.Interfaces) == 0 || !peer.IsValid() {
		return nil
	}
	name := path.InterfaceFor(peer)
	for _, i := range e.Gateway.Interfaces {
		has := slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr() == own })
		if i.Name == name || name == "" && has {
			return i
		}
	}
	return nil
}

// mtuOf is an interface's MTU in bytes: Ethernet's where it is not told.
func mtuOf(i *model.Interface) int { return cmp.Or(i.MTU.Value, negotiate.Ethernet) }

// pathOf is the way of packets through a gateway, worked out once.
func (m *maker) pathOf(g *model.Gateway) *walk.Path {
	if g == m.end.Gateway {
		return m.path
	}
	if m.farPath == nil {
		m.farPath = walk.NewPath(g, m.whole.Ends(g), walk.Options{})
	}
	return m.farPath
}

// inside are the interfaces with addresses in the protected networks.
func inside(e pair.End) string {
	var out []string
	for _, i := range e.Gateway.Interfaces {
		for _, a := range i.Addresses {
			for _, k := range e.Connection.Children {
				if k.Local.Value.Hold(a.Addr()) && !k.Local.Value.AnyAddress() && !slices.Contains(out, i.Name+" "+a.String()) {
					out = append(out, i.Name+" "+a.String())
				}
			}
		}
	}
	if out == nil {
		return "not given"
	}
	return strings.Join(out, ", ")
}

// settings tells what is configured here, and what that makes the far end's.
func (m *maker) settings(k *model.Child) {
	p := present.Part{Name: "ike", Title: "IKE SA", Head: []string{"", m.end.Gateway.Name, "the far end sets"}}
	far := m.mirrored.Lines(nil, m.table)
	at := settings.Subject{Connection: m.end.Connection}
	if k != nil {
		p.Name, p.Title, p.About = "child", "Child "+k.Name, k.Name
		at.Child = k
		for _, mk := range m.mirrored.Far.Children {
			if mk.Name == k.Name {
				far = m.mirrored.Lines(mk, m.table)
			}
		}
	}
	for _, r := range m.table {
		if r.Of == settings.OfChild != (k != nil) || !r.Told(at) {
			continue
		}
		v, ok := r.Get(at)
		if !ok {
			continue
		}
		own := spelt(r, v)
		if v.Default {
			own += " (default)"
		}
		sets := ""
		i := slices.IndexFunc(far, func(l mirror.Line) bool { return l.Setting == r })
		if i >= 0 {
			if sets = spelt(r, settings.Shown{Plain: far[i].Text, Text: far[i].Text, Value: far[i].Value}); sets == "" {
				sets = "to be settled"
			}
		}
		p.Rows = append(p.Rows, present.Row{Key: r.Name, Name: r.Label(at), Cells: []string{own, sets}})
	}
	if suite := m.negotiated(k); suite != "" {
		p.Notes = append(p.Notes, "Negotiated between the two, by their configurations: "+suite+".")
	}
	m.add(p)
}

// spelt writes a value without a daemon's words; a time in seconds and in minutes.
func spelt(r *settings.Row, v settings.Shown) string {
	if d, ok := v.Value.(time.Duration); ok && r.Unit == "s" && d > 0 {
		out := fmt.Sprintf("%d s", int(d.Seconds()))
		if d >= time.Minute {
			out += fmt.Sprintf(" = %g min", d.Minutes())
		}
		return out
	}
	if v.Plain != "" {
		return v.Plain
	}
	return v.Text
}

// negotiated is the suite of the IKE SA, or of a child, that both ends agree on if this one initiates.
func (m *maker) negotiated(k *model.Child) string {
	s, ok := m.suite(k)
	if !ok {
		return ""
	}
	return s.String()
}

func (m *maker) suite(k *model.Child) (ike.Suite, bool) {
	attempts := slices.Clone(m.attempts)
	slices.SortStableFunc(attempts, func(a, b negotiate.Attempt) int { return m.second(a) - m.second(b) })
	for _, a := range attempts {
		if a.Failure != nil {
			continue
		}
		if k == nil {
			return a.IKE, true
		}
		for _, c := range a.Children {
			if (c.Of == k || c.With == k) && c.Outcome == negotiate.Agrees {
				return c.Suite, true
			}
		}
	}
	return ike.Suite{}, false
}

// second is 1 for an attempt of the far end's: those of this end count first.
func (m *maker) second(a negotiate.Attempt) int {
	if a.Initiator.Gateway == m.end.Gateway {
		return 0
	}
	return 1
}

// starts tells who sets the tunnel up, and NAT.
func (m *maker) starts() {
	p := present.Part{Name: "start", Title: "Who initiates, and NAT", Head: m.both()}
	row := func(key, name string, of func(pair.End) string) {
		p.Rows = append(p.Rows, present.Row{Key: key, Name: name, Cells: []string{of(m.end), m.ofFar(of)}})
	}
	row("initiates", "initiates", func(e pair.End) string {
		var out []string
		for _, k := range e.Connection.Children {
			if word := k.Name + ": " + k.Start.Value.String(); !k.Shunts() && !slices.Contains(out, word) {
				out = append(out, word)
			}
		}
		return strings.Join(out, "; ")
	})
	row("encapsulation", "ESP in UDP", func(e pair.End) string {
		if e.Connection.Encap.Value {
			return "always"
		}
		return "only behind NAT (RFC 3947)"
	})
	row("nat", "NAT of tunnel traffic", func(e pair.End) string { return m.translates(e) })
	m.add(p)
}

// translates says whether an end's rules rewrite what its children protect.
func (m *maker) translates(e pair.End) string {
	if len(e.Gateway.Chains) == 0 {
		return "not given"
	}
	path := m.pathOf(e.Gateway)
	var rewritten, unknown []string
	for _, k := range e.Connection.Children {
		if k.Shunts() {
			continue
		}
		pol := path.Policy(k, m.t.Own(e), m.t.Peer(e))
		switch all, _, ok := path.Rewrites(pol); {
		case !ok:
			unknown = append(unknown, k.Name)
		case len(all) > 0:
			rewritten = append(rewritten, k.Name)
		}
	}
	switch {
	case len(rewritten) > 0:
		return "rewritten: " + strings.Join(rewritten, ", ")
	case len(unknown) > 0:
		return "not known of " + strings.Join(unknown, ", ")
	}
	return "none"
}

// opens tells what the far end's filters, clouds and routers must let pass, and route.
func (m *maker) opens() {
	p := present.Part{Name: "openings", Title: "What the far end opens and routes", Head: []string{"", "from", "to", "what for"}}
	own, peer := m.mirrored.For.Gateway.Name, "the far end"
	if a := m.t.Own(m.end); a.IsValid() {
		own = a.String()
	}
	if a := m.t.Peer(m.end); a.IsValid() {
		peer = a.String()
	}
	row := func(key, name, from, to, why string) {
		p.Rows = append(p.Rows, present.Row{Key: key, Name: name, Cells: []string{from, to, why}})
	}
	both := func(key, name, why string) {
		row(key, name, own, peer, why)
		row(key, name, peer, own, why)
	}
	both("udp-500", "UDP 500", "IKE (RFC 7296, section 2)")
	both("udp-4500", "UDP 4500", "IKE and ESP behind NAT (RFC 3948)")
	protocols := map[ike.Protocol]bool{}
	for _, k := range m.end.Connection.Children {
		if !k.Shunts() {
			protocols[k.Protocol.Value] = true
		}
	}
	if protocols[ike.AH] {
		both("protocol-51", "IP protocol 51", "AH (RFC 4302)")
	}
	if len(protocols) > 1 || !protocols[ike.AH] {
		both("protocol-50", "IP protocol 50", "ESP (RFC 4303)")
	}
	for _, k := range m.end.Connection.Children {
		if k.Shunts() {
			continue
		}
		local, remote := k.Local.Value.At(m.t.Own(m.end)), k.Remote.Value.At(m.t.Peer(m.end))
		row("inner", "inside "+k.Name, local.String(), remote.String(), "inside filter: what these may reach, and replies")
		row("inner", "inside "+k.Name, remote.String(), local.String(), "inside filter: what those may reach, and replies")
		row("route", "route for "+k.Name, "the far network", local.String(), "into the tunnel, and exempt from NAT")
	}
	m.add(p)
}

// open tells what must be settled.
func (m *maker) open() {
	if len(m.mirrored.Open) == 0 {
		return
	}
	p := present.Part{Name: "open", Title: "To settle between the two"}
	p.Notes = m.mirrored.Open
	m.add(p)
}

// changed tells what is new since an older state of the estate.
func (m *maker) changed(lines []string) {
	p := present.Part{Name: "changes", Title: "Recent changes", Notes: lines}
	if len(lines) == 0 {
		p.Notes = []string{"nothing that concerns this tunnel"}
	}
	m.add(p)
}

// StateOf says what becomes of a tunnel by an audit's result.
func StateOf(r *audit.Result, name string) string {
	for _, t := range r.Tunnels {
		if t.Name == name {
			return t.Says()
		}
	}
	return ""
}
