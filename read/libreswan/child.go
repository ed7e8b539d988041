package libreswan

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/model/literal"
	"toril/read/table"
	"toril/source"
)

// children reads what the connection protects: leftsubnets and rightsubnets give one child for every pair of them.
func (r *reader) children(c *model.Connection, k *model.Child, f *table.Section, local, remote string) []*model.Child {
	r.child(c, k, f)
	locals, ports := r.side(c, f, local)
	remotes, _ := r.side(c, f, remote)
	if a, b := f.Lookup(local+"protoport"), f.Lookup(remote+"protoport"); a != nil && b != nil &&
		strings.HasSuffix(a.Text, "/%any") && strings.HasSuffix(b.Text, "/%any") {
		f.Refuse(b, errors.New("%any port stands at both ends"))
	}
	if v := f.Lookup(local + "subnet"); v != nil && families(locals.Value)&families(remotes.Value) == 0 {
		f.Refuse(v, errors.New("one end's network is of IPv4, the other's of IPv6"))
	}
	for _, side := range []string{"left", "right"} {
		if v := f.Lookup(side + "addresspool"); v != nil && f.Lookup(side+"subnet") != nil {
			f.Refuse(v, errors.New("an end has a pool of addresses or a network, not both"))
		}
	}
	if len(locals.Value) == 1 && len(remotes.Value) == 1 {
		k.Local, k.Remote = locals, remotes
		if v := f.Lookup(remote + "addresspool"); v != nil {
			if lo, hi, ok := strings.Cut(v.Text, "-"); ok {
				a, err := netip.ParseAddr(strings.TrimSpace(lo))
				b, err2 := netip.ParseAddr(strings.TrimSpace(hi))
				if err == nil && err2 == nil {
					k.Pool = ike.Selectors{{Lo: a, Hi: b, HiPort: 65535}}
				}
			} else if s, err := network(v.Text); err == nil {
				k.Pool = ike.Selectors{s}
			}
		}
		k.HostToHost = locals.Value.Dynamic() && remotes.Value.Dynamic()
		return []*model.Child{k}
	}
	_ = ports
	var out []*model.Child
	for i, l := range locals.Value {
		for j, m := range remotes.Value {
			if len(out) == maxChildren {
				f.Note(
					f.Lookup(local+"subnets"),
					fmt.Sprintf("subnets on both sides give more than %d children; the rest is not read", maxChildren),
				)
				return out
			}
			one := *k
			one.Name = fmt.Sprintf("%s/%dx%d", c.Name, i+1, j+1)
			one.Local, one.Remote = locals, remotes
			one.Local.Value, one.Remote.Value = ike.Selectors{l}, ike.Selectors{m}
			out = append(out, &one)
		}
	}
	return out
}

// families has a bit for each family of addresses that selectors may be of.
func families(ss ike.Selectors) (out int) {
	for _, s := range ss {
		switch {
		case s.Dynamic:
			return 3
		case s.Lo.Is4():
			out |= 1
		default:
			out |= 2
		}
	}
	return out
}

// maxChildren bounds what two lists of subnets may give.
const maxChildren = 4096

// shortAddress writes out an IPv4 address of fewer than four parts, of which the last fills what is left: "10.1" is 10.0.0.1, and "10"
// alone is 10.0.0.0 (asked of 4.10).
func shortAddress(t string) (string, bool) {
	parts := strings.Split(t, ".")
	if len(parts) > 3 || strings.Trim(t, "0123456789.") != "" || t == "" {
		return "", false
	}
	if len(parts) == 1 {
		return t + ".0.0.0", true
	}
	last := parts[len(parts)-1]
	return strings.Join(parts[:len(parts)-1], ".") + strings.Repeat(".0", 4-len(parts)) + "." + last, true
}

// limit reads a number with Ki, Mi, Gi, Ti, Pi or Ei behind it, and a unit. What is written otherwise the daemon leaves: there is no limit
// then (asked of 4.10).
func limit(f *table.Section, key, unit string) model.Setting[uint64] {
	return table.Take(f, func(t string) (uint64, error) {
		number := strings.TrimRight(t, "KMGTPEkmgtpeiIbB")
		n, err := strconv.ParseUint(number, 10, 64)
		with := strings.TrimPrefix(t, number)
		scale := strings.Index("kmgtpe", strings.ToLower(with + " ")[:1])
		switch {
		case err != nil:
		case with == "" || strings.EqualFold(with, unit):
			return n, nil
		case scale >= 0 && strings.EqualFold(with[1:], "i"+unit) && n < 1<<(63-10*(scale+1)):
			return n << (10 * (scale + 1)), nil
		}
		const why = "the daemon does not read %q as a number (it would be 2Ki%s): there is no limit"
		f.Note(f.Lookup(key), fmt.Sprintf(why, source.Clean(t), unit))
		return 0, nil
	}, key)
}

// network reads the addresses of a selector. A prefix that is too long is none.
func network(t string) (ike.Selector, error) {
	if host, bits, ok := strings.Cut(t, "/"); ok {
		if a, ok := shortAddress(host); ok {
			t = a + "/" + bits
		}
	}
	if _, err := netip.ParsePrefix(t); err != nil && strings.Contains(t, "/") && t != "0/0" {
		return ike.Selector{}, fmt.Errorf("%q is not a network", t)
	}
	return literal.Net(t)
}

// side reads subnet, subnets and protoport of one side.
func (r *reader) side(c *model.Connection, f *table.Section, side string) (model.Setting[ike.Selectors], bool) {
	dynamic := ike.Selectors{{Dynamic: true, HiPort: 65535}}
	set := table.TakeOr(f, dynamic, func(t string) (ike.Selectors, error) {
		if strings.HasPrefix(t, "vhost:") || strings.HasPrefix(t, "vnet:") {
			if c.Version.Value != ike.V1 {
				return dynamic, errors.New("vhost: and vnet: are for IKEv1 only")
			}
			if !strings.Contains(t, "%no") { // addresses of the peer's own
				f.Note(f.Lookup(side+"subnet"), "which networks virtual-private allows was not compared")
			}
			return dynamic, nil
		}
		s, err := network(strings.TrimPrefix(t, "%"))
		return ike.Selectors{s}, err
	}, side+"subnet")
	many := table.Take(f, func(t string) (ike.Selectors, error) {
		var out ike.Selectors
		for _, part := range strings.FieldsFunc(strings.Trim(t, "{}"), func(r rune) bool { return r == ' ' || r == ',' || r == '\t' }) {
			s, err := network(part)
			if err != nil {
				return out, err
			}
			out = append(out, s)
		}
		return out, nil
	}, side+"subnets")
	if len(many.Value) > 0 {
		if set.IsDefault() {
			set = many
		} else {
			set.Value = append(slices.Clone(set.Value), many.Value...)
		}
	}
	pp := table.TakeOr(f, ike.Selector{HiPort: 65535}, func(t string) (s ike.Selector, err error) {
		proto, port, ports := strings.Cut(t, "/")
		if _, number := strconv.Atoi(proto); number == nil && !ports { // asked of 4.10
			return s, fmt.Errorf("%q is a number, and no port follows it", t)
		}
		if s.Proto, err = literal.Proto(proto); err == nil {
			if port == "0" {
				port = ""
			}
			err = literal.SelectorPorts(port, &s)
		}
		return s, err
	}, side+"protoport")
	if pp.IsDefault() {
		return set, false
	}
	out := slices.Clone(set.Value)
	for i := range out {
		out[i].Proto, out[i].LoPort, out[i].HiPort = pp.Value.Proto, pp.Value.LoPort, pp.Value.HiPort
	}
	set.Value = out
	if set.IsDefault() {
		set.Origin, set.At = pp.Origin, pp.At
	}
	return set, true
}

// child works out what is no setting by itself.
func (r *reader) child(c *model.Connection, k *model.Child, f *table.Section) {
	dialect := r.dialect(c)
	k.PFS = table.Read[bool](f, "pfs")
	dialect.NoPFS = !k.PFS.Value
	k.Protocol = table.Read[ike.Protocol](f, "phase2")
	k.Proposals = table.TakeOr(
		f,
		dialect.Default(k.Protocol.Value),
		func(t string) ([]ike.Proposal, error) {
			k.Accepts = dialect.Accepts(t, k.Protocol.Value)
			return dialect.Proposals(t, k.Protocol.Value)
		},
		"esp",
	)
	if k.Proposals.IsDefault() {
		k.Accepts = dialect.Accepts("", k.Protocol.Value)
	}
	r.forward(c, k, f)
	narrowing := table.Take(f, onlyV2(c), "narrowing")
	k.Whole = model.Setting[bool]{Value: !narrowing.Value, Origin: narrowing.Origin, At: narrowing.At, Why: narrowing.Why}
	k.CloseAction = model.Unsaid(model.StartNever, software+" default of ipsec.conf conn")
	k.Life = longest(table.Read[time.Duration](f, "salifetime"))
	rekey := table.Read[bool](f, "rekey")
	margin, before, random := r.margins(f, k.Life.Value)
	k.Margin, k.Spans = margin, []model.Span{{Setting: k.Life, Name: "salifetime"}}
	k.Rekey = model.Setting[time.Duration]{Value: max(0, k.Life.Value-before), Origin: k.Life.Origin, At: k.Life.At, Why: k.Life.Why}
	if !rekey.Value {
		k.Rekey = model.Setting[time.Duration]{Origin: rekey.Origin, At: rekey.At, Why: rekey.Why}
	}
	k.Random = model.Unsaid(random, software+" default of ipsec.conf conn.rekeyfuzz")
	k.LifeBytes, k.LifePackets = limit(f, "ipsec-max-bytes", "B"), limit(f, "ipsec-max-packets", "")
	k.Policies = model.Unsaid(true, software+" default of ipsec.conf conn")
	k.IfIDIn, k.IfIDOut = c.IfIDIn, c.IfIDOut
}

// forward gives the child its key exchange for perfect forward secrecy: with pfs=yes that of the proposals, or, where
// they name none, that of IKE; and its sequence numbers.
func (r *reader) forward(c *model.Connection, k *model.Child, f *table.Section) {
	pfs := k.PFS
	esn := table.Read[[]uint16](f, "esn")
	if c.Version.Value == ike.V1 || k.ReplayWindow.Value == 0 { // without a window the kernel has no long numbers
		esn.Value = []uint16{0}
	}
	k.Accepts = accepting(k.Accepts, pfs.Value, esn.Value)
	out := slices.Clone(k.Proposals.Value)
	for i := range out {
		p := &out[i]
		p.Transforms[ike.Sequence] = ike.Picks(ike.Sequence, esn.Value...)
		switch none := len(p.Transforms[ike.KeyExchange]) > 0 && p.Transforms[ike.KeyExchange][0].ID == 0; {
		case !pfs.Value || none:
			p.Transforms[ike.KeyExchange] = nil
		case len(p.Transforms[ike.KeyExchange]) == 0:
			p.Transforms[ike.KeyExchange] = ike.All(c.Proposals.Value, ike.KeyExchange)
		}
	}
	k.Proposals.Value = out
}

// accepting are proposals of IKEv1 that a responder takes: with any key exchange that the initiator asks for, and, with pfs=no, without one
// (asked of 4.10).
func accepting(ps []ike.Proposal, pfs bool, esn []uint16) []ike.Proposal {
	var out []ike.Proposal
	for _, p := range ps {
		p.Transforms[ike.Sequence] = ike.Picks(ike.Sequence, esn...)
		if p.Transforms[ike.KeyExchange] = nil; !pfs {
			out = append(out, p)
		}
		p.Transforms[ike.KeyExchange] = ike.Picks(ike.KeyExchange, 5, 14, 15, 16, 17, 18, 19, 20, 21, 31)
		out = append(out, p)
	}
	return out
}
