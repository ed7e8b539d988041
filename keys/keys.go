// Package keys takes stock of what authenticates the tunnels of an estate: certificates by the day on which they expire, chains that
// the far end does not trust, pre-shared keys that serve several peers, and the far ends' rules for keys. No key is part of it.
package keys

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/present"
)

// Of takes stock of an estate as of a day.
func Of(w *pair.Whole, now time.Time) present.Document {
	d := present.Document{Title: "Keys and certificates as of " + now.Format(time.DateOnly)}
	d.Parts = append(d.Parts, calendar(w, now))
	if p := chains(w); len(p.Rows) > 0 {
		d.Parts = append(d.Parts, p)
	}
	d.Parts = append(d.Parts, reuse(w))
	if p := rules(w); len(p.Rows) > 0 {
		d.Parts = append(d.Parts, p)
	}
	return d
}

// carried are the connections that show a certificate, or whose chain it is a part of.
func carried(w *pair.Whole, g *model.Gateway, cert *model.Certificate) []string {
	var out []string
	for _, t := range w.TunnelsOf(g) {
		for _, e := range t.Ends {
			own := e.Gateway.CertificatesOf(e.Connection)
			switch {
			case e.Gateway == g && slices.Contains(own, cert):
				out = append(out, e.Name())
			case e.Gateway == g && cert.CA && slices.ContainsFunc(own, func(x *model.Certificate) bool { return x.SignedBy(cert) }):
				out = append(out, e.Name()+" (issuer)")
			case e.Gateway != g && cert.CA && slices.ContainsFunc(own, func(x *model.Certificate) bool { return x.SignedBy(cert) }):
				out = append(out, e.Name()+" (trusted for it)")
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// calendar lists certificates, the first to expire first.
func calendar(w *pair.Whole, now time.Time) present.Part {
	p := present.Part{Name: "certificates", Title: "Certificates, by the day on which they expire",
		Head: []string{"", "expires", "days left", "subject", "key", "carries"}}
	type entry struct {
		at  time.Time
		row present.Row
	}
	var all []entry
	for _, g := range w.Gateways {
		for _, c := range g.Certs {
			left := fmt.Sprint(int(c.To.Sub(now).Hours() / 24))
			switch {
			case c.Late(now):
				left = "expired"
			case c.Early(now):
				left = "not valid before " + c.From.Format(time.DateOnly)
			}
			use := carried(w, g, c)
			key := c.KeyType
			if c.KeyBits > 0 {
				key += fmt.Sprintf(" %d bits", c.KeyBits)
			}
			all = append(all, entry{at: c.To, row: present.Row{Key: c.At.File, Name: c.At.File, Cells: []string{
				c.To.UTC().Format(time.DateOnly), left, c.Subject.String(), key, cmp.Or(strings.Join(use, ", "), "nothing"),
			}}})
		}
	}
	slices.SortStableFunc(all, func(a, b entry) int { return cmp.Or(a.at.Compare(b.at), strings.Compare(a.row.Name, b.row.Name)) })
	for _, e := range all {
		p.Rows = append(p.Rows, e.row)
	}
	if len(all) == 0 {
		p.Notes = []string{"No certificate was given."}
	}
	return p
}

// chains lists, for every end that shows a certificate, whether the far end trusts it.
func chains(w *pair.Whole) present.Part {
	p := present.Part{Name: "chains", Title: "Chains, by the end that shows them"}
	p.Head = []string{"", "certificate", "far end", "trusted there"}
	for _, t := range w.Tunnels {
		for _, e := range t.Ends {
			if e.Connection.Local.Method.Value != ike.Certificate {
				continue
			}
			far, given := t.Far(e)
			certs := e.Gateway.CertificatesOf(e.Connection)
			row := present.Row{Key: e.Name(), Name: e.Name(), Cells: []string{"not given", "not given", "not known"}}
			if given {
				row.Cells[1] = far.Gateway.Name
			}
			if len(certs) > 0 {
				row.Cells[0] = certs[0].At.File
			}
			if given && len(certs) > 0 {
				switch trust := far.Gateway.Trusts(far.Connection, certs[0], e.Gateway, e.Connection); {
				case !trust.Known:
					row.Cells[2] = "not known: none of the authorities that it asks were given"
				case trust.Trusted:
					row.Cells[2] = "yes"
				case trust.Stale != nil:
					row.Cells[2] = "no: the certificate of " + trust.Stale.Subject.String() + " does not hold on this day"
				case trust.Limits != "":
					row.Cells[2] = "no: " + trust.Limits
				case trust.Late:
					row.Cells[2] = "no: the list of those that " + trust.Lacks.String() + " has revoked was to be replaced"
				case trust.NoList:
					row.Cells[2] = "no: the list of those that " + trust.Lacks.String() + " has revoked is missing"
				case trust.Revoked != (ike.Identity{}):
					row.Cells[2] = "no: " + far.Gateway.Name + " has a list by which that of " + trust.Revoked.String() + " is revoked"
				default:
					row.Cells[2] = "no: the chain reaches no authority that " + far.Gateway.Name + " trusts"
				}
			}
			p.Rows = append(p.Rows, row)
		}
	}
	return p
}

// reuse lists pre-shared keys that are in more than two places, or for more than one pair of peers.
func reuse(w *pair.Whole) present.Part {
	p := present.Part{Name: "reuse", Title: "Pre-shared keys that serve several pairs of peers", Head: []string{"", "peers", "stands in"}}
	type group struct{ peers, places []string }
	by := map[[32]byte]*group{}
	var order [][32]byte
	for _, g := range w.Gateways {
		for _, k := range g.Keys {
			if !k.Given() {
				continue
			}
			print := k.Secret.Fingerprint()
			if by[print] == nil {
				by[print], order = &group{}, append(order, print)
			}
			at := by[print]
			at.places = append(at.places, k.At.String())
			for _, t := range w.TunnelsOf(g) {
				for _, e := range t.Ends {
					if e.Gateway == g && k.Serves(e.Connection) {
						at.peers = append(at.peers, t.Between())
					}
				}
			}
		}
	}
	n := 0
	for _, print := range order {
		at := by[print]
		slices.Sort(at.peers)
		if at.peers = slices.Compact(at.peers); len(at.peers) < 2 {
			continue
		}
		n++
		p.Rows = append(p.Rows, present.Row{Key: fmt.Sprintf("key-%d", n), Name: fmt.Sprintf("key %d", n), Cells: []string{
			strings.Join(at.peers, "; "), strings.Join(at.places, ", "),
		}})
	}
	if n == 0 {
		p.Notes = []string{"None serves more than one pair of peers, of " + present.Plural(len(order), "pre-shared key") + "."}
		if len(order) == 0 {
			p.Notes = []string{"No pre-shared key was given."}
		}
	}
	return p
}

// rules lists the far ends' rules for keys, each with how the keys that are there fare.
func rules(w *pair.Whole) present.Part {
	p := present.Part{Name: "rules", Title: "What far ends take as keys", Head: []string{"", "rule", "connection", "its key"}}
	for _, t := range w.Tunnels {
		for _, e := range t.Ends {
			names := []string{e.Connection.Name}
			if far, ok := t.Far(e); ok {
				names = append(names, far.Gateway.Name)
			}
			if e.Connection.Local.Method.Value == ike.Certificate {
				continue
			}
			for _, r := range w.Estate.Estate.KeyRulesFor(names...) {
				id, _ := e.Shows(t.Own(e))
				how := "not given"
				k := e.Gateway.KeyFor(e.Connection, []ike.Identity{id}, []ike.Identity{e.Connection.Remote.ID.Value})
				if k != nil && k.Given() {
					how = cmp.Or(strings.Join(r.Breaks(k.Secret.Reveal()), "; "), "fits")
				}
				p.Rows = append(p.Rows, present.Row{Key: r.At.String(), Name: r.Partner, Cells: []string{r.String(), e.Name(), how}})
			}
		}
	}
	return p
}
