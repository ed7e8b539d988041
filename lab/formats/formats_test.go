//go:build lab

// Package formats_test holds what Toril reads of every saved format against the program that the format belongs to.
package formats_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/model"
	"toril/read"
	"toril/read/frr"
	"toril/read/ifupdown"
	"toril/read/iproute"
	"toril/read/iptables"
	"toril/read/netplan"
	"toril/read/networkd"
	"toril/read/nftables"
	"toril/read/readtest"
)

// understood reads a sample that is meant to be understood whole.
func understood(t *testing.T, format *read.Format, text string) *model.Gateway {
	t.Helper()
	g := readtest.Read(format, "sample", text, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Empty(t, readtest.Problems(g))
	return g
}

func TestNftables(t *testing.T) {
	lab.Need(t, "nft", "nftables")
	tally := lab.NewTally(t, "nftables: text as written, text as listed and JSON give one model")
	for file, text := range lab.Samples(t, "nftables") {
		written := understood(t, nftables.Text, text)
		dir := t.TempDir()
		lab.InNamespace(t, "nft -c -f "+file+"; nft -f "+file+"; nft list ruleset > "+dir+"/text; nft -j list ruleset > "+dir+"/json")
		listed := understood(t, nftables.Text, read1(t, dir+"/text"))
		asJSON := understood(t, nftables.JSON, indented(t, dir+"/json"))
		tally.Count(assert.Empty(t, readtest.Differences(written, listed), file))
		tally.Count(assert.Empty(t, readtest.Differences(listed, asJSON), file))
	}
}

// indented gives every object of a JSON file lines of its own.
func indented(t *testing.T, file string) string {
	var out bytes.Buffer
	require.NoError(t, json.Indent(&out, []byte(read1(t, file)), "", " "))
	return out.String()
}

func read1(t *testing.T, file string) string {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(data)
}

func TestIptables(t *testing.T) {
	lab.Need(t, "iptables-restore", "iptables")
	lab.Need(t, "ipset", "ipset")
	tally := lab.NewTally(t, "iptables-save: what is loaded and saved again gives the same model")
	for file, text := range lab.Samples(t, "iptables") {
		if strings.HasSuffix(file, ".ipset") {
			continue
		}
		saved := understood(t, iptables.Save, text)
		for _, variant := range []string{"iptables-nft", "iptables-legacy"} {
			dir := t.TempDir()
			lab.InNamespace(t, variant+"-restore --test "+file+"; "+variant+"-restore "+file+"; "+variant+"-save > "+dir+"/saved")
			again := understood(t, iptables.Save, read1(t, dir+"/saved"))
			tally.Count(assert.Empty(t, readtest.Differences(saved, again), "%s %s", variant, file))
		}
	}
}

func TestIpset(t *testing.T) {
	lab.Need(t, "ipset", "ipset")
	tally := lab.NewTally(t, "ipset save: what is loaded and saved again gives the same sets")
	rules := "*filter\n:FORWARD DROP [0:0]\n-A FORWARD -m set --match-set peers src -j ACCEPT\n" +
		"-A FORWARD -m set --match-set nets dst,dst -j DROP\n-A FORWARD -m set --match-set all src -j DROP\nCOMMIT\n"
	both := []*read.Format{iptables.Sets, iptables.Save}
	for file, text := range lab.Samples(t, "iptables") {
		if !strings.HasSuffix(file, ".ipset") {
			continue
		}
		again := lab.InNamespace(t, "ipset restore < "+file+"; ipset save")
		tally.Count(
			assert.Empty(
				t,
				readtest.Differences(
					readtest.ReadAll(both, map[string]string{"a.ipset": text, "r.rules": rules}),
					readtest.ReadAll(both, map[string]string{"a.ipset": again, "r.rules": rules}),
				),
			),
		)
	}
}

func TestIproute(t *testing.T) {
	lab.Need(t, "ip", "iproute2")
	tally := lab.NewTally(t, "iproute2: text and JSON of one state give one model")
	for file := range lab.Samples(t, "iproute") {
		dir := t.TempDir()
		lab.InNamespace(
			t,
			"ip tuntap add dev eth0 mode tun; ip tuntap add dev eth1 mode tun; ip link set eth0 up; ip link set eth1 up; ip -batch "+file+
				"; cd "+dir+"; ip -j addr > addr.json; ip -j route show table all > route.json; ip -j rule > rule.json; ip addr > "+
				"addr.txt; ip route show table all > route.txt; ip rule > rule.txt; ip -6 -j route > route6.json; ip -6 route > "+
				"route6.txt",
		)
		model := map[string]*model.Gateway{}
		for _, ending := range []string{".json", ".txt"} {
			files := map[string]string{}
			for _, name := range []string{"addr", "route", "rule", "route6"} {
				files[name+ending] = read1(t, filepath.Join(dir, name+ending))
			}
			model[ending] = readtest.ReadAll([]*read.Format{iproute.JSON, iproute.Text}, files)
			require.Len(t, model[ending].Files, 4)
			assert.Empty(t, readtest.Unread(model[ending]))
		}
		tally.Count(assert.Equal(t, readtest.Network(model[".txt"]), readtest.Network(model[".json"]), file))
		assert.Len(t, model[".txt"].RouteRules, 7)
	}
}

func TestFRR(t *testing.T) {
	lab.Need(t, "vtysh", "frr")
	tally := lab.NewTally(t, "frr.conf: accepted by vtysh, and understood")
	for file, text := range lab.Samples(t, "frr") {
		understood(t, frr.Format, text)
		r := lab.Run(nil, "vtysh", "-C", "-f", file)
		tally.Count(assert.NoError(t, r.Failed, "%s: %s%s", file, r.Out, r.Err))
	}
}

func TestNetplan(t *testing.T) {
	lab.Need(t, "netplan", "netplan.io")
	tally := lab.NewTally(t, "netplan: the units that it generates give the same model")
	for file, text := range lab.Samples(t, "netplan") {
		plan := understood(t, netplan.Format, text)
		root := t.TempDir()
		require.NoError(t, os.MkdirAll(root+"/etc/netplan", 0o755))
		require.NoError(t, os.WriteFile(root+"/etc/netplan/01.yaml", []byte(text), 0o600))
		r := lab.Run(nil, "netplan", "generate", "--root-dir", root)
		require.NoError(t, r.Failed, "%s: %s", file, r.Err)
		units, err := filepath.Glob(root + "/run/systemd/network/*")
		require.NoError(t, err)
		require.NotEmpty(t, units)
		files := map[string]string{}
		for _, u := range units {
			files[filepath.Base(u)] = read1(t, u)
		}
		generated := readtest.ReadAll([]*read.Format{networkd.Format}, files)
		tally.Count(assert.Equal(t, network(plan), network(generated), file))
	}
}

// network is a model in an order of its own.
func network(g *model.Gateway) []string {
	lines := strings.Split(strings.TrimSpace(readtest.Network(g)), "\n")
	for i := range lines {
		for j := i; j > 0 && lines[j] < lines[j-1]; j-- {
			lines[j], lines[j-1] = lines[j-1], lines[j]
		}
	}
	return lines
}

func TestIfupdown(t *testing.T) {
	lab.Need(t, "ifquery", "ifupdown")
	tally := lab.NewTally(t, "interfaces: ifquery sees the same addresses and gateways")
	for file, text := range lab.Samples(t, "ifupdown") {
		g := understood(t, ifupdown.Format, text)
		for _, i := range g.Interfaces {
			if i.Name == "lo" {
				continue
			}
			r := lab.Run(nil, "ifquery", "-i", file, i.Name)
			require.NoError(t, r.Failed, r.Err)
			for _, a := range i.Addresses {
				tally.Count(assert.Contains(t, r.Out, "address: "+a.Addr().String(), file))
			}
			for _, route := range g.Routes {
				if route.Dev == i.Name && route.To.Bits() == 0 {
					tally.Count(assert.Contains(t, r.Out, "gateway: "+route.Via.String(), file))
				}
			}
		}
	}
}
