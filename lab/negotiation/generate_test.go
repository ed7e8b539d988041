//go:build lab

// Package negotiation holds Toril's predictions of what two ends agree on against two daemons that try.
package negotiation

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// generator makes random pairs of configurations: most agree in most things, or nothing would ever come up.
type generator struct{ *rand.Rand }

func (g generator) one(of ...string) string { return of[g.IntN(len(of))] }

func (g generator) chance(percent int) bool { return g.IntN(100) < percent }

// end is one end of a pair, as the values of swanctl.conf.
type end struct {
	version, proposals, esp, ah, local, remote, mode, childless, aggressive string
	localID, remoteID                                                       string
	psk, owners                                                             string
	wrong                                                                   string // owners of another key, "." for nobody
	anchors                                                                 string // the authority that is named for the peer
	revocation                                                              string
	localAuth, remoteAuth, certs, pinned, sendCert, sendCertReq, encap      string
	second                                                                  bool // a second child
}

var (
	ciphers  = []string{"aes128", "aes192", "aes256", "3des", "camellia128", "aes128ctr"}
	combined = []string{"aes128gcm16", "aes256gcm16", "chacha20poly1305", "aes128ccm8"}
	hashes   = []string{"sha1", "sha256", "sha384", "sha512", "md5", "aesxcbc"}
	prfs     = []string{"prfsha1", "prfsha256", "prfsha384", "prfsha512"}
	groups   = []string{"modp1024", "modp1536", "modp2048", "ecp256", "ecp384", "curve25519"}
)

// some returns one to three words of a list, dashes between.
func (g generator) some(list []string) string {
	n := 1
	if g.chance(30) {
		n += 1 + g.IntN(2)
	}
	var out []string
	for _, i := range g.Perm(len(list))[:min(n, len(list))] {
		out = append(out, list[i])
	}
	return strings.Join(out, "-")
}

func (g generator) ikeProposal() string {
	var parts []string
	if g.chance(30) {
		parts = append(parts, g.some(combined), g.some(prfs))
	} else {
		parts = append(parts, g.some(ciphers), g.some(hashes))
		if g.chance(20) {
			parts = append(parts, g.some(prfs))
		}
	}
	return strings.Join(append(parts, g.some(groups)), "-")
}

func (g generator) espProposal() string {
	var parts []string
	if g.chance(35) {
		parts = append(parts, g.some(combined))
	} else {
		parts = append(parts, g.some(ciphers))
		if g.chance(92) {
			parts = append(parts, g.some(hashes))
		}
	}
	if g.chance(45) {
		parts = append(parts, g.some(groups))
		if g.chance(15) {
			parts = append(parts, "modpnone")
		}
	}
	if g.chance(8) {
		parts = append(parts, g.one("esn", "esn-noesn", "noesn"))
	}
	return strings.Join(parts, "-")
}

func (g generator) list(one func() string) string {
	n := 1
	if g.chance(35) {
		n += 1 + g.IntN(2)
	}
	var out []string
	for range n {
		out = append(out, one())
	}
	return strings.Join(out, ",")
}

// varied returns a list again: the same, in another order, a part of it, with something added, or another.
func (g generator) varied(list string, one func() string) string {
	parts := strings.Split(list, ",")
	switch n := g.IntN(100); {
	case n < 50:
		return list
	case n < 60:
		g.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		return strings.Join(parts, ",")
	case n < 70:
		words := strings.Split(parts[0], "-")
		g.Shuffle(len(words), func(i, j int) { words[i], words[j] = words[j], words[i] })
		parts[0] = strings.Join(words, "-")
		return strings.Join(parts, ",")
	case n < 78:
		return parts[g.IntN(len(parts))]
	case n < 88:
		return one() + "," + list
	}
	return g.list(one)
}

func (g generator) network(third int) string {
	switch g.IntN(10) {
	case 0:
		return fmt.Sprintf("10.%d.0.0/16", third)
	case 1:
		return fmt.Sprintf("10.%d.1.0/25", third)
	case 2:
		return fmt.Sprintf("10.%d.1.128/25", third)
	case 3:
		return fmt.Sprintf("10.%d.1.7", third)
	case 4:
		return fmt.Sprintf("10.%d.1.5-10.%d.1.77", third, third)
	case 5:
		return fmt.Sprintf("10.%d.%d.0/24", third, 1+g.IntN(3))
	case 6:
		return fmt.Sprintf("10.%d.1.0/24[tcp/%s]", third, g.one("30080", "30443", "30000-30100"))
	case 7:
		return fmt.Sprintf("10.%d.1.0/24[%s]", third, g.one("tcp", "udp"))
	}
	return fmt.Sprintf("10.%d.1.0/24", third)
}

func (g generator) networks(third int) string {
	n := 1
	if g.chance(25) {
		n += 1 + g.IntN(2)
	}
	var out []string
	for range n {
		out = append(out, g.network(third))
	}
	if g.chance(4) {
		return "0.0.0.0/0"
	}
	return strings.Join(out, ",")
}

// draw makes both ends of case n of a seed.
func draw(seed uint64, n int, everything bool) (a, b end) {
	g := generator{rand.New(rand.NewPCG(seed, uint64(n)))}
	a = end{version: "2", localID: "a.example", remoteID: "b.example", psk: "harbour light", localAuth: "psk", remoteAuth: "psk"}
	switch {
	case g.chance(15):
		a.version = "1"
	case g.chance(10):
		a.version = "0"
	}
	a.proposals = g.list(g.ikeProposal)
	a.esp = g.list(g.espProposal)
	a.local, a.remote = g.networks(1), g.networks(2)
	b = a
	b.localID, b.remoteID = a.remoteID, a.localID
	b.local, b.remote = a.remote, a.local
	b.proposals = g.varied(a.proposals, g.ikeProposal)
	b.esp = g.varied(a.esp, g.espProposal)
	if g.chance(8) {
		b.version = g.one("0", "1", "2")
	}
	if g.chance(8) {
		a.proposals = ""
	}
	if g.chance(8) {
		b.esp = ""
	}
	if g.chance(20) {
		b.local = g.networks(2)
	}
	if g.chance(15) {
		b.remote = g.networks(1)
	}
	if g.chance(5) {
		a.local, b.remote = "", ""
		if g.chance(50) {
			a.remote, b.local = "", ""
		}
	}
	if g.chance(6) {
		b.psk = "another light"
	}
	if g.chance(3) {
		b.owners = "z.example" // no key for this peer
	}
	if g.chance(6) {
		b.owners = g.one("a.example,b.example", "a.example", "10.0.0.1", "c.example")
	}
	if g.chance(10) {
		a.localID = g.one("", "c.example", "A.EXAMPLE", "10.0.0.1")
	}
	if g.chance(10) {
		a.remoteID = g.one("", "%any", "*.example", "c.example")
	}
	if g.chance(6) {
		b.localID = g.one("", "10.0.0.2", "keyid:b.example")
	}
	if g.chance(4) && everything {
		a.ah, b.ah, a.esp, b.esp = "sha256", g.one("sha256", "sha1,sha256", "sha512"), "", ""
	}
	if g.chance(5) && everything {
		a.mode = "transport"
		if g.chance(60) {
			b.mode = "transport"
		}
		if g.chance(60) {
			a.local, a.remote, b.local, b.remote = "", "", "", ""
		}
	}
	if g.chance(6) {
		a.childless = g.one("force", "never")
	}
	if g.chance(6) {
		b.childless = g.one("force", "never")
	}
	if g.chance(3) {
		b.remoteAuth = g.one("", "pubkey")
	}
	a.second = g.chance(8)
	b.second = a.second && g.chance(80)
	return a, b
}

// text writes an end as a swanctl.conf.
func (e end) text(own, peer string, ownNet, peerNet int) string {
	var b strings.Builder
	line := func(indent, key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s%s = %s\n", indent, key, value)
		}
	}
	b.WriteString("connections {\n  ike {\n")
	line("    ", "version", e.version)
	line("    ", "local_addrs", own)
	line("    ", "remote_addrs", peer)
	line("    ", "proposals", e.proposals)
	line("    ", "childless", e.childless)
	line("    ", "aggressive", e.aggressive)
	line("    ", "encap", e.encap)
	line("    ", "send_cert", e.sendCert)
	line("    ", "send_certreq", e.sendCertReq)
	b.WriteString("    local {\n")
	line("      ", "auth", e.localAuth)
	line("      ", "certs", e.certs)
	line("      ", "id", e.localID)
	b.WriteString("    }\n    remote {\n")
	line("      ", "auth", e.remoteAuth)
	line("      ", "id", e.remoteID)
	line("      ", "certs", e.pinned)
	line("      ", "cacerts", e.anchors)
	line("      ", "revocation", e.revocation)
	b.WriteString("    }\n    children {\n      c {\n")
	line("        ", "esp_proposals", e.esp)
	line("        ", "ah_proposals", e.ah)
	line("        ", "local_ts", e.local)
	line("        ", "remote_ts", e.remote)
	line("        ", "mode", e.mode)
	b.WriteString("      }\n")
	if e.second {
		b.WriteString("      d {\n")
		line("        ", "esp_proposals", e.esp)
		line("        ", "local_ts", fmt.Sprintf("10.%d.9.0/24", ownNet))
		line("        ", "remote_ts", fmt.Sprintf("10.%d.9.0/24", peerNet))
		b.WriteString("      }\n")
	}
	b.WriteString("    }\n  }\n}\n")
	key := func(name, secret, owners string) {
		b.WriteString("  " + name + " {\n    secret = \"" + secret + "\"\n")
		for i, o := range strings.Split(owners, ",") {
			line("    ", fmt.Sprintf("id%d", i), strings.Trim(o, "."))
		}
		b.WriteString("  }\n")
	}
	if e.psk != "" {
		b.WriteString("secrets {\n")
		behind := strings.HasPrefix(e.wrong, "+")
		if e.wrong != "" && !behind {
			key("ike-a", "another light", e.wrong)
		}
		key("ike-k", e.psk, e.owners)
		if behind {
			key("ike-z", "another light", e.wrong[1:])
		}
		b.WriteString("}\n")
	}
	return b.String()
}
