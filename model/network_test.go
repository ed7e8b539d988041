package model_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/model"
	"toril/source"
)

// TestResolve: a route that names a next hop and no interface leaves by the one whose network it is in, or that a route to it names.
func TestResolve(t *testing.T) {
	g := &model.Gateway{}
	for name, a := range map[string]string{"wan": "192.0.2.1/24", "lan": "10.1.0.1/16", "part": "10.1.2.1/24"} {
		g.InterfaceOf(name, source.Pos{}).AddAddress(netip.MustParsePrefix(a))
	}
	off := g.InterfaceOf("off", source.Pos{})
	off.AddAddress(netip.MustParsePrefix("10.9.0.1/16"))
	off.Down = true
	add := func(to, via, dev, kind, table string) *model.Route {
		r := &model.Route{To: netip.MustParsePrefix(to), Dev: dev, Kind: kind, Table: table}
		if via != "" {
			r.Via = netip.MustParseAddr(via)
		}
		g.AddRoute(r)
		return r
	}
	routes := []*model.Route{
		add("0.0.0.0/0", "192.0.2.254", "", "", ""),
		add("10.5.0.0/16", "10.1.0.2", "", "", ""),
		add("10.6.0.0/16", "10.1.2.2", "", "", ""),
		add("10.7.0.0/16", "203.0.113.9", "", "", ""),
		add("203.0.113.0/24", "", "tun0", "", ""),
		add("10.8.0.0/16", "10.9.0.2", "", "", ""),
		add("10.10.0.0/16", "192.0.2.9", "odd", "", ""),
		add("10.11.0.0/16", "", "", "blackhole", ""),
		add("10.12.0.0/16", "192.0.2.9", "", "", "other"),
		add("10.13.0.0/16", "198.51.100.1", "", "", ""),
	}
	g.Resolve()
	var got []string
	for _, r := range routes {
		got = append(got, fmt.Sprintf("%s %s", r.To, r.Dev))
	}
	assert.Equal(t, []string{
		"0.0.0.0/0 wan", "10.5.0.0/16 lan", "10.6.0.0/16 part", "10.7.0.0/16 tun0", "203.0.113.0/24 tun0",
		"10.8.0.0/16 ", // its interface is switched off
		"10.10.0.0/16 odd", "10.11.0.0/16 ", "10.12.0.0/16 wan",
		"10.13.0.0/16 ", // nobody is near it: a default route is none to a next hop
	}, got)
}

// TestOrdersOfWorkJoin: what one file says of the order in which a gateway works holds for it.
func TestOrdersOfWorkJoin(t *testing.T) {
	g := &model.Gateway{}
	g.Join(&model.Gateway{Order: model.Order{AccessFirst: true}})
	g.Join(&model.Gateway{})
	assert.Equal(t, model.Order{AccessFirst: true}, g.Order)
	g.Join(&model.Gateway{Order: model.Order{TunnelFirst: true}})
	assert.Equal(t, model.Order{AccessFirst: true, TunnelFirst: true}, g.Order)
}
