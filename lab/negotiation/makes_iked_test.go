//go:build lab

package negotiation

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/lab/charon"
	"toril/lab/iked"
	"toril/negotiate"
)

// pairsOfOpenIKED are pairs that were thought of: a line each, a name and what either end says. "O" is OpenIKED, and what stands behind it
// is added to its policy, or is its flows where it begins with "from"; "S" is strongSwan, with settings of its child; "L" is Libreswan,
// with lines of its connection.
const pairsOfOpenIKED = `
plain | O | O
plain-with-strongSwan | S | O
plain-with-Libreswan | L pfs=no | O
child-of-combined-cipher | O childsa enc aes-256-gcm | O childsa enc aes-256-gcm
child-of-combined-cipher-with-strongSwan | S esp_proposals=aes256gcm16 | O childsa enc aes-256-gcm
child-of-sha2-256 | O childsa enc aes-256 auth hmac-sha2-256 | O childsa enc aes-256 auth hmac-sha2-256
child-with-long-numbers | O childsa enc aes-256 auth hmac-sha1 esn | O childsa enc aes-256 auth hmac-sha1 esn
child-that-differs | O childsa enc aes-256 auth hmac-sha1 | O childsa enc aes-128 auth hmac-sha1
child-that-differs-with-strongSwan | S esp_proposals=aes256-sha1 | O childsa enc aes-128 auth hmac-sha1
of-one-proposal-those-in-front | O childsa enc aes-128 auth hmac-sha1 childsa enc aes-256 auth hmac-sha1 | O childsa enc aes-256 enc aes-128 auth hmac-sha1
of-two-proposals-its-first | O childsa enc aes-256 enc aes-128 auth hmac-sha1 | O childsa enc aes-192 enc aes-128 auth hmac-sha1 childsa enc aes-256 auth hmac-sha1
networks-narrower | O from 10.1.1.0/24 to 10.2.0.0/16 | O
networks-narrower-with-strongSwan | S local_ts=10.1.1.0/24 | O
networks-wider-with-strongSwan | S local_ts=10.0.0.0/8 | O
networks-apart | O from 10.1.1.0/24 to 10.2.1.0/24 | O from 10.2.7.0/24 to 10.1.7.0/24
networks-apart-with-strongSwan | S local_ts=10.1.1.0/24 remote_ts=10.2.1.0/24 | O from 10.2.7.0/24 to 10.1.7.0/24
networks-narrower-with-Libreswan | L pfs=no leftsubnet=10.1.1.0/24 | O
networks-wider-with-Libreswan | L pfs=no | O from 10.2.1.0/24 to 10.1.0.0/16
networks-with-Libreswan-that-narrows | L pfs=no narrowing=yes | O from 10.2.1.0/24 to 10.1.0.0/16
networks-narrower-with-Libreswan-that-narrows | L pfs=no narrowing=yes leftsubnet=10.1.1.0/24 | O
two-flows-of-one-network | S remote_ts=10.2.1.0/24,10.2.2.0/24 | O from 10.2.1.0/24 to 10.1.0.0/16 from 10.2.2.0/24 to 10.1.0.0/16
protocol-at-one-end | O proto tcp from 10.1.0.0/16 to 10.2.0.0/16 | O
transport | O transport esp from 10.0.0.1 to 10.0.0.2 | O transport esp from 10.0.0.2 to 10.0.0.1
transport-at-one-end | O transport esp from 10.0.0.1 to 10.0.0.2 | O from 10.0.0.2 to 10.0.0.1
transport-of-networks | O transport esp from 10.1.0.0/16 to 10.2.0.0/16 | O transport esp from 10.2.0.0/16 to 10.1.0.0/16
renewed-without-a-group-first | S esp_proposals=aes256-sha1-ecp256 | O childsa enc aes-128 auth hmac-sha1 childsa enc aes-256 auth hmac-sha1 group ecp256
renewed-with-another-group-first | S esp_proposals=aes256-sha1-ecp384-ecp256 | O childsa enc aes-256 auth hmac-sha1 group ecp256 group ecp384
pfs-at-one-end | O childsa enc aes-256 auth hmac-sha1 group ecp256 | O childsa enc aes-256 auth hmac-sha1
group-none-and-another | O childsa enc aes-256 auth hmac-sha1 group none group ecp256 | O childsa enc aes-256 auth hmac-sha1
second-proposal-of-ike-with-Libreswan | L pfs=no ike=aes256-sha1;modp2048 | O ikesa enc aes-128 prf hmac-sha1 auth hmac-sha1 group modp2048 ikesa enc aes-256 prf hmac-sha1 auth hmac-sha1 group modp2048
identity-that-is-the-name-of-the-host | O srcid | O dstid a-host
identity-that-is-not-expected | O srcid c.example | O
identity-that-is-not-expected-by-strongSwan | S | O srcid c.example
any-identity | O dstid | O dstid
keys-differ | O | O psk another
a-peer-at-any-address | O | O passive peer any
strongSwan-with-IKEv1 | S version=1 | O
`

// endOfIked writes one end of a pair.
func endOfIked(t testing.TB, text string, me, peer int) (kind string, files map[string]string) {
	t.Helper()
	kind, says, _ := strings.Cut(strings.TrimSpace(text), " ")
	names := [...]string{"", "a.example", "b.example"}
	switch kind {
	case "S":
		e := end{version: "2", local: fmt.Sprintf("10.%d.0.0/16", me), remote: fmt.Sprintf("10.%d.0.0/16", peer), localAuth: "psk",
			remoteAuth: "psk", localID: names[me], remoteID: names[peer], psk: "harbour light of the old town"}
		own, far := fmt.Sprintf("10.0.0.%d", me), fmt.Sprintf("10.0.0.%d", peer)
		for one := range strings.FieldsSeq(says) {
			key, value, _ := strings.Cut(one, "=")
			*map[string]*string{"local_ts": &e.local, "remote_ts": &e.remote, "esp_proposals": &e.esp, "version": &e.version,
				"mode": &e.mode, "id": &e.localID, "peer": &e.remoteID, "encap": &e.encap, "owners": &e.owners, "ah_proposals": &e.ah,
				"wrong": &e.wrong, "local_addrs": &own, "remote_addrs": &far}[key] = value
		}
		return kind, map[string]string{"swanctl.conf": e.text(own, far, me, peer)}
	case "L":
		return kind, libreText(fmt.Sprintf("leftid=@%s rightid=@%s ", names[me], names[peer])+says, me, peer)
	}
	policy := map[string]string{
		"flows": fmt.Sprintf("esp from 10.%d.0.0/16 to 10.%d.0.0/16", me, peer), "peer": fmt.Sprintf("peer 10.0.0.%d", peer),
		"srcid": "srcid " + names[me], "dstid": "dstid " + names[peer], "psk": `psk "harbour light of the old town"`, "sas": "",
	}
	start := "active"
	if rest, ok := strings.CutPrefix(says, "passive "); ok {
		start, says = "passive", rest
	}
	word, rest, _ := strings.Cut(says, " ")
	switch {
	case word == "rsa", word == "rfc7427", word == "ecdsa256":
		policy["psk"] = word
	case word == "srcid", word == "dstid", word == "psk", word == "peer":
		policy[word] = strings.TrimSpace(word + " " + rest)
		if rest == "" {
			policy[word] = ""
		}
	case word == "childsa", word == "ikesa":
		policy["sas"] = says
	case word != "":
		policy["flows"] = says
	}
	return kind, map[string]string{"iked.conf": fmt.Sprintf("ikev2 \"ike\" %s %s local 10.0.0.%d %s %s %s %s ikelifetime 86400 %s\n",
		start, policy["flows"], me, policy["peer"], policy["sas"], policy["srcid"], policy["dstid"], policy["psk"])}
}

func TestNamedPairsOfOpenIKED(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: named pairs of OpenIKED, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "iked")
	two := startOf(t, "O", "b", nsB)
	kept := newRecord(t, "makes-named-OpenIKED")
	for _, kind := range []string{"O", "S", "L"} {
		t.Run(kind, func(t *testing.T) {
			one := startOf(t, kind, "a", nsA)
			for line := range strings.Lines(strings.TrimSpace(pairsOfOpenIKED)) {
				parts := strings.Split(strings.TrimSpace(line), "|")
				first, a := endOfIked(t, parts[1], 1, 2)
				if first != kind {
					continue
				}
				_, b := endOfIked(t, parts[2], 2, 1)
				p := pairOf{name: strings.TrimSpace(parts[0]), a: a, b: b}
				p.try(t, tally, one, two, kept)
			}
			one.Stop() // the others want its ports
		})
	}
}

// TestFlowsInPairs asks which children come up where a policy of OpenIKED has flows between two pairs of networks, and strongSwan a child
// for each: OpenIKED asks for all at once.
func TestFlowsInPairs(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: flows of OpenIKED in pairs, and two children of strongSwan")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "pairs")
	one, two := swan{charon.Start(t, "a", nsA, "")}, &obsd{Daemon: iked.Start(t, "b", nsB)}
	e := end{version: "2", local: "10.1.1.0/24", remote: "10.2.1.0/24", localAuth: "psk", remoteAuth: "psk", localID: "a.example",
		remoteID: "b.example", psk: "k", second: true, esp: "aes256-sha1"}
	a := map[string]string{"swanctl.conf": e.text("10.0.0.1", "10.0.0.2", 1, 2)}
	b := map[string]string{"iked.conf": "ikev2 \"ike\" active esp from 10.2.1.0/24 to 10.1.1.0/24 from 10.2.9.0/24 to 10.1.9.0/24 " +
		"local 10.0.0.2 peer 10.0.0.1 childsa enc aes-256 auth hmac-sha1 srcid b.example dstid a.example psk k\n"}
	predicted := negotiate.Tunnel(estateOf(t, a, b))
	for i, begins := range []func(){
		func() {
			for _, child := range []string{"c", "d"} {
				_, _, err := one.Command("initiate", charon.Section{"child": child, "timeout": "2000"})
				require.NoError(t, err)
			}
		},
		func() { two.Initiate() },
	} {
		one.load(t, a)
		two.load(t, b)
		begins()
		up := 0
		for _, sa := range one.Established(t) {
			up += len(sa.Children)
		}
		want := 0
		for _, c := range predicted[i].Children {
			if c.Outcome == negotiate.Agrees {
				want++
			}
		}
		tally.Count(assert.Equal(t, up, want, "end %d begins: first the children that strongSwan has", i))
		two.down(t)
		one.down(t)
	}
}

// policiesOfOpenIKED are policies of a responder that more than one fit, in their order, "/" between them; before the first what the
// initiator says beside what all do.
const policiesOfOpenIKED = `
equal | | /
one-address-first | | / peer any
one-address-last | | peer any /
quick-first | | quick peer any /
quick-in-the-middle | | / quick / peer any
skipped | | / skip
default-last | | / default
a-network-first | | peer 10.0.0.0/24 / peer any
identity-first | | dstid a.example /
another-identity-last | | / dstid c.example
another-key-last | | / psk l
another-suite-of-ike-last | ikesa enc aes-256 prf hmac-sha1 auth hmac-sha1 group ecp256 | ikesa enc aes-256 prf hmac-sha1 auth hmac-sha1 group ecp256 / ikesa enc aes-128 prf hmac-sha1 auth hmac-sha1 group ecp256
another-suite-of-the-child-last | childsa enc aes-256 auth hmac-sha1 | childsa enc aes-256 auth hmac-sha1 / childsa enc aes-128 auth hmac-sha1
other-networks-last | | / from 10.9.0.0/16 to 10.8.0.0/16
another-own-identity-last | dstid b.example | / srcid d.example
transport-last | | / transport
certificates-last | | / psk
another-own-address | | local 10.0.0.7
another-peer | | peer 10.0.0.9
`

// policy writes a policy that is called name; words of a kind replace those of its defaults.
func policy(name, says string, me, peer int) string {
	kinds := []string{"eval", "start", "mode", "from", "local", "peer", "ikesa", "childsa", "srcid", "dstid", "psk"}
	of := map[string]string{
		"start": "passive", "from": fmt.Sprintf("esp from 10.%d.0.0/16 to 10.%d.0.0/16", me, peer),
		"local": fmt.Sprintf("local 10.0.0.%d", me),
		"peer":  fmt.Sprintf("peer 10.0.0.%d", peer), "srcid": "srcid " + [...]string{"", "a.example", "b.example"}[me], "psk": "psk k",
	}
	switch word, _, _ := strings.Cut(strings.TrimSpace(says), " "); word {
	case "":
	case "quick", "skip", "default":
		of["eval"] = word
		if rest := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(says), word)); rest != "" {
			of["peer"] = rest
		}
	case "transport":
		of["mode"] = word
	case "active":
		of["start"] = word
	default:
		of[word] = strings.TrimSpace(says)
		if word == "psk" && strings.TrimSpace(says) == "psk" {
			of[word] = ""
		}
	}
	out := "ikev2 " + name
	for _, k := range kinds {
		if of[k] != "" {
			out += " " + of[k]
		}
	}
	return out
}

// TestWhichPolicyAnswers asks which of several policies OpenIKED answers with.
func TestWhichPolicyAnswers(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: which of several policies of OpenIKED answers")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "policies")
	one, two := iked.Start(t, "a", nsA), iked.Start(t, "b", nsB)
	for line := range strings.Lines(strings.TrimSpace(policiesOfOpenIKED)) {
		parts := strings.Split(strings.TrimSpace(line), "|")
		begins := strings.Replace(policy("begins", parts[1], 1, 2), "passive", "active", 1) + "\n"
		answers := ""
		for i, says := range strings.Split(parts[len(parts)-1], " / ") {
			for j, s := range strings.Split(strings.TrimSpace(says)+" ", "/ ") { // an empty one at either end
				answers += policy(fmt.Sprintf("p%d%d", i, j), s, 2, 1) + "\n"
			}
		}
		require.Empty(t, one.Load(t, begins))
		require.Empty(t, two.Load(t, answers), answers)
		one.Initiate()
		want := ""
		a := negotiate.Tunnel(estateOf(t, map[string]string{"iked.conf": begins}, map[string]string{"iked.conf": answers}))[0]
		if a.Failure == nil {
			want = a.Responder.Connection.Name
		}
		tally.Count(assert.Equal(t, want, two.Policy(), "%s: %s\n%s\n%s", parts[0], because(a), begins, answers))
	}
}
