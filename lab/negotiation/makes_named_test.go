//go:build lab

package negotiation

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"toril/lab"
	"toril/lab/pluto"
)

// pairsOfLibreswan are pairs that were thought of: a line each, a name and what either end says beside what all do. "-key" leaves one out.
const pairsOfLibreswan = `
plain | |
esp-aes-without-size | esp=aes-sha1 | esp=aes-sha1
esp-aes-without-size-and-256 | esp=aes-sha1 | esp=aes256-sha1
esp-gcm-without-size | esp=aes_gcm | esp=aes_gcm
ike-aes-without-size | ike=aes-sha1;modp2048 | ike=aes-sha1;modp2048
ike-aes-without-size-and-192 | ike=aes-sha1;modp2048 | ike=aes192-sha1;modp2048
esp-none-for-a-group | esp=aes-sha2;none | esp=aes-sha2
size-of-its-own | ike=aes-256-sha1;modp2048 | ike=aes256-sha1;modp2048
integrity-alone | ike=aes128-sha2_256_128;modp2048 | ike=aes128-sha2_256;modp2048
v1 | ikev2=no | ikev2=no
v1-without-esp-and-256 | ikev2=no | ikev2=no esp=aes256-sha1
v1-without-esp-and-3des | ikev2=no | ikev2=no esp=3des-sha1
v1-without-esp-and-sha2 | ikev2=no | ikev2=no esp=aes128-sha2_256
v1-without-esp-and-gcm | ikev2=no | ikev2=no esp=aes_gcm128
v1-esp-aes-without-size-and-192 | ikev2=no esp=aes-sha1 | ikev2=no esp=aes192-sha1
v1-ike-aes-without-size-and-128 | ikev2=no ike=aes-sha1;modp2048 | ikev2=no ike=aes128-sha1;modp2048
v1-ike-aes-without-size-and-192 | ikev2=no ike=aes-sha1;modp2048 | ikev2=no ike=aes192-sha1;modp2048
v1-without-ike | ikev2=no | ikev2=no ike=aes192-sha2_384;dh20
v1-order | ikev2=no ike=aes128-sha1;modp1536,aes256-sha2;modp2048 | ikev2=no ike=aes256-sha2;modp2048,aes128-sha1;modp1536
v1-order-of-esp | ikev2=no esp=aes128-sha1,aes256-sha2 | ikev2=no esp=aes256-sha2,aes128-sha1
v1-counter-mode-of-esp | ikev2=no esp=aes_ctr128-sha1 | ikev2=no esp=aes_ctr128-sha1
v1-counter-mode-of-ike | ikev2=no ike=aes_ctr128-sha1;modp2048 | ikev2=no ike=aes_ctr128-sha1;modp2048
v1-combined-in-ike | ikev2=no ike=aes_gcm128-sha2;modp2048 | ikev2=no ike=aes_gcm128-sha2;modp2048
v1-pfs-at-one-end | ikev2=no pfs=yes | ikev2=no pfs=no
v1-pfs-of-other-groups | ikev2=no esp=aes-sha1;modp1536 | ikev2=no esp=aes-sha1;modp2048
v1-narrower | ikev2=no leftsubnet=10.1.1.0/24 | ikev2=no
v1-transport-at-one-end | ikev2=no type=transport -leftsubnet -rightsubnet | ikev2=no -leftsubnet -rightsubnet
v1-long-numbers | ikev2=no esn=yes | ikev2=no esn=no
v1-and-v2 | ikev2=no |
aggressive | ikev2=no aggressive=yes ike=aes-sha1;modp2048 | ikev2=no aggressive=yes ike=aes-sha1;modp2048
aggressive-without-a-group | ikev2=no aggressive=yes ike=aes-sha1 | ikev2=no aggressive=yes ike=aes-sha1;modp2048
aggressive-without-a-group-and-1536 | ikev2=no aggressive=yes ike=aes-sha1 | ikev2=no aggressive=yes ike=aes-sha1;modp1536
aggressive-of-two-groups | ikev2=no aggressive=yes ike=aes128-sha1;modp3072,aes256-sha1;modp2048 | ikev2=no aggressive=yes ike=aes128-sha1;modp2048,aes256-sha1;modp3072
aggressive-and-main | ikev2=no aggressive=yes ike=aes-sha1;modp2048 | ikev2=no ike=aes-sha1;modp2048
narrower | leftsubnet=10.1.1.0/24 |
narrower-at-one-that-narrows | leftsubnet=10.1.1.0/24 | narrowing=yes
narrowed-answer | | leftsubnet=10.2.1.0/24 narrowing=yes
narrower-both-narrow | leftsubnet=10.1.1.0/24 narrowing=yes | narrowing=yes
ports-at-both-ends | leftprotoport=tcp/443 | rightprotoport=tcp/443
ports-at-one-end | leftprotoport=tcp/443 |
transport | type=transport -leftsubnet -rightsubnet | type=transport -leftsubnet -rightsubnet
transport-at-one-end | type=transport -leftsubnet -rightsubnet | -leftsubnet -rightsubnet
ppk-never-and-insist | ppk=never | ppk=insist
ppk-yes-and-no | ppk=yes | ppk=no
ppk-unset-and-insist | | ppk=insist
ppk-insist-without-a-key | ppk=insist | ppk=insist
ppk-yes-without-a-key | ppk=yes | ppk=yes
pool-at-the-responder | | rightaddresspool=10.3.0.1-10.3.0.9
replay-window-0 | replay-window=0 |
replay-window-0-and-long-numbers | replay-window=0 | esn=yes
long-numbers-at-one-end | esn=yes | esn=no
long-numbers-or-not | esn=yes | esn=either
renewed-with-the-group-of-ike | ike=aes-sha2;modp2048 esp=aes-sha2;modp4096 | ike=aes-sha2;modp2048 esp=aes-sha2;modp3072
pfs-at-one-end | pfs=yes | pfs=no
pfs-at-no-end | pfs=no | pfs=no
groups-without-pfs | pfs=no esp=aes-sha2;modp2048,aes128-sha2;modp3072 | pfs=no
ah | phase2=ah | phase2=ah
ah-and-esp | phase2=ah |
ah-of-several | phase2=ah ah=sha1 | phase2=ah ah=sha1,sha2
identity-that-is-not-expected | leftid=@a.example |
identity-that-is | leftid=@a.example | rightid=@a.example
identities-crossed | leftid=@a.example rightid=@b.example | rightid=@a.example
answers-only | | right=%any
behind-its-default-route | left=%defaultroute | right=%any
behind-its-default-route-and-named | left=%defaultroute leftid=@a.example | right=%any rightid=@a.example
networks-as-0/0 | leftsubnet=0/0 | rightsubnet=0.0.0.0/0
bytes-with-a-unit | ipsec-max-bytes=2KiB |
groups-that-are-gone | ike=aes-sha1;dh22 | ike=aes-sha1;dh22
separator-at-the-end | esp=aes128-sha1- | esp=aes128-sha1
narrowing-of-v1 | ikev2=no narrowing=yes | ikev2=no
v1-transport-of-networks | ikev2=no type=transport | ikev2=no type=transport
v1-transport-of-networks-at-one-end | ikev2=no type=transport | ikev2=no
transport-of-networks | type=transport | type=transport
transport-of-networks-at-one-end | type=transport |
transport-of-a-network-at-one-side | type=transport -rightsubnet | type=transport -leftsubnet
v1-transport-of-a-network-at-one-side | ikev2=no type=transport -rightsubnet | ikev2=no type=transport -leftsubnet
aggressive-of-another-group | ikev2=no aggressive=yes ike=aes-sha1;modp2048 | ikev2=no aggressive=yes ike=aes-sha1;modp1536
aggressive-of-a-group-among-others | ikev2=no aggressive=yes ike=aes-sha1;modp2048 | ikev2=no aggressive=yes ike=aes-sha1;modp1536,aes-sha1;modp2048
aggressive-of-a-group-among-others-behind | ikev2=no aggressive=yes ike=aes-sha1;modp2048 | ikev2=no aggressive=yes ike=aes-sha1;modp2048,aes-sha1;modp1536
aggressive-of-two-groups-at-one-end | ikev2=no aggressive=yes ike=aes-sha1;modp2048+modp1536 | ikev2=no aggressive=yes ike=aes-sha1;modp1536
aggressive-of-the-default | ikev2=no aggressive=yes | ikev2=no aggressive=yes ike=aes-sha1;modp2048
aggressive-of-the-default-and-1536 | ikev2=no aggressive=yes | ikev2=no aggressive=yes ike=aes-sha1;modp1536
`

// pairsOfModes are pairs of all makes where transport mode is set for others' packets than the gateways' own: a line each, as in
// pairsOfOpenIKED.
const pairsOfModes = `
transport-of-networks | S mode=transport | S mode=transport
transport-of-networks-at-one-end | S mode=transport | S
transport-of-networks-with-Libreswan | S mode=transport | L type=transport pfs=no
transport-of-networks-at-strongSwan-with-Libreswan | S mode=transport | L pfs=no
transport-of-networks-at-Libreswan-with-strongSwan | S | L type=transport pfs=no
v1-transport-of-networks | S version=1 mode=transport | S version=1 mode=transport
v1-transport-of-networks-at-one-end | S version=1 mode=transport | S version=1
v1-transport-of-networks-with-Libreswan | S version=1 mode=transport | L ikev2=no type=transport pfs=no
v1-transport-of-networks-at-strongSwan-with-Libreswan | S version=1 mode=transport | L ikev2=no pfs=no
v1-transport-of-networks-at-Libreswan-with-strongSwan | S version=1 | L ikev2=no type=transport pfs=no
transport-of-networks-with-OpenIKED | S mode=transport esp_proposals=aes256-sha1 | O transport esp from 10.2.0.0/16 to 10.1.0.0/16
transport-of-networks-at-strongSwan-with-OpenIKED | S mode=transport esp_proposals=aes256-sha1 | O
transport-of-networks-at-OpenIKED-with-strongSwan | S esp_proposals=aes256-sha1 | O transport esp from 10.2.0.0/16 to 10.1.0.0/16
transport-of-networks-of-Libreswan-with-OpenIKED | L type=transport esp=aes256-sha1 | O transport esp from 10.2.0.0/16 to 10.1.0.0/16
transport-of-networks-at-Libreswan-with-OpenIKED | L type=transport esp=aes256-sha1 | O
transport-of-networks-at-OpenIKED-with-Libreswan | L esp=aes256-sha1 | O transport esp from 10.2.0.0/16 to 10.1.0.0/16
`

func TestPairsOfModes(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: transport mode for networks, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "modes")
	tryAll(t, tally, "makes-modes", pairsOfModes, endOfIked,
		func(kind string) (one, two daemon) {
			return startOf(t, kind[:1], "a", nsA), startOf(t, kind[1:], "b", nsB)
		})
}

// libreText writes one end.
func libreText(changes string, me, peer int) map[string]string {
	says := map[string]string{
		"left": fmt.Sprintf("10.0.0.%d", me), "right": fmt.Sprintf("10.0.0.%d", peer), "leftsubnet": fmt.Sprintf("10.%d.0.0/16", me),
		"rightsubnet": fmt.Sprintf("10.%d.0.0/16", peer), "authby": "secret", "leftupdown": "%disabled", "keyingtries": "1", "auto": "add",
	}
	for _, c := range strings.Fields(changes) {
		if key, ok := strings.CutPrefix(c, "-"); ok {
			delete(says, key)
			continue
		}
		key, value, _ := strings.Cut(c, "=")
		says[key] = value
	}
	owners := strings.ReplaceAll(says["owners"], ",", " ") // of the key
	wrong, another := says["wrong"]                        // and of another, that stands before it
	delete(says, "owners")
	delete(says, "wrong")
	conf := "config setup\n\tikev1-policy=accept\n\nconn ike\n"
	for _, key := range slices.Sorted(maps.Keys(says)) {
		conf += "\t" + key + "=" + says[key] + "\n"
	}
	secret := strings.TrimSpace(owners + ` : PSK "harbour light of the old town"`)
	if another {
		name, behind := strings.CutPrefix(strings.TrimSuffix(strings.ReplaceAll(wrong, ",", " "), "."), "+")
		lines := []string{name + ` : PSK "another light"`, secret}
		if behind {
			slices.Reverse(lines)
		}
		secret = strings.Join(lines, "\n")
	}
	return map[string]string{"ipsec.conf": conf, "ipsec.secrets": secret + "\n"}
}

func TestNamedPairsOfLibreswan(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: named pairs of Libreswan, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "named")
	one, two := &libre{Daemon: pluto.Start(t, "a", nsA, ikev1Accepted)}, &libre{Daemon: pluto.Start(t, "b", nsB, ikev1Accepted)}
	kept := newRecord(t, "makes-named")
	for line := range strings.Lines(strings.TrimSpace(pairsOfLibreswan)) {
		parts := strings.Split(strings.TrimSpace(line), "|")
		p := pairOf{name: strings.TrimSpace(parts[0]), a: libreText(parts[1], 1, 2), b: libreText(parts[2], 2, 1)}
		p.try(t, tally, one, two, kept)
	}
}
