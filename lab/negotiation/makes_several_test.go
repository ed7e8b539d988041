//go:build lab

package negotiation

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/lab/pluto"
	"toril/negotiate"
)

// connectionsOfLibreswan are pairs of connections of a responder that both fit an initiator, or nearly: a name, what the initiator says,
// and what the two say, "/" between them.
const connectionsOfLibreswan = `
equal | | /
any-address-first | | right=%any /
any-address-last | | / right=%any
both-any-address | | right=%any / right=%any
another-identity-first | | rightid=@c.example /
another-identity-last | | / rightid=@c.example
no-identity-last | | / -rightid
another-own-identity-last | | / leftid=@d.example
any-address-and-another-identity | | right=%any / rightid=@c.example
another-suite-of-ike-first | ike=aes256-sha1;modp2048 | ike=aes128-sha1;modp2048 / ike=aes256-sha1;modp2048
another-suite-of-ike-last | ike=aes256-sha1;modp2048 | ike=aes256-sha1;modp2048 / ike=aes128-sha1;modp2048
another-suite-of-ike-at-the-address | ike=aes256-sha1;modp2048 | right=%any ike=aes256-sha1;modp2048 / ike=aes128-sha1;modp2048
any-address-and-another-suite-of-ike-last | ike=aes256-sha1;modp2048 | right=%any ike=aes256-sha1;modp2048 / right=%any ike=aes128-sha1;modp2048
suite-here-identity-there | ike=aes256-sha1;modp2048 | ike=aes128-sha1;modp2048 / ike=aes256-sha1;modp2048 rightid=@c.example
another-suite-of-the-child-first | esp=aes256-sha1 | esp=aes128-sha1 / esp=aes256-sha1
another-suite-of-the-child-last | esp=aes256-sha1 | esp=aes256-sha1 / esp=aes128-sha1
other-networks-first | | leftsubnet=10.9.0.0/16 /
other-networks-last | | / leftsubnet=10.9.0.0/16
other-networks-at-the-address | | right=%any / leftsubnet=10.9.0.0/16
version-1-last | | / ikev2=no
version-1-begins | ikev2=no | ikev2=no / ikev2=yes
certificates-last | | / authby=rsasig
certificates-first | | authby=rsasig /
`

// severalOf joins connections of one file.
func severalOf(first, second string) map[string]string {
	files := libreText(first+" leftid=@b.example rightid=@a.example", 2, 1)
	more := libreText(second+" leftid=@b.example rightid=@a.example", 2, 1)["ipsec.conf"]
	_, more, _ = strings.Cut(more, "conn ike\n")
	files["ipsec.conf"] = strings.Replace(files["ipsec.conf"], "conn ike\n", "conn first\n", 1) + "\nconn second\n" + more
	return files
}

// TestWhichConnectionAnswers asks which of two connections Libreswan answers with, for the IKE SA and for the child.
func TestWhichConnectionAnswers(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: which of two connections of Libreswan answers")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "several")
	one, two := pluto.Start(t, "a", nsA, ikev1Accepted), pluto.Start(t, "b", nsB, ikev1Accepted)
	for line := range strings.Lines(strings.TrimSpace(connectionsOfLibreswan)) {
		parts := strings.Split(strings.TrimSpace(line), "|")
		first, second, ok := strings.Cut(parts[2], "/")
		require.True(t, ok, line)
		a := libreText(parts[1]+" leftid=@a.example rightid=@b.example", 1, 2)
		b := severalOf(first, second)
		one.Load(t, a["ipsec.conf"], a["ipsec.secrets"], "ike")
		two.Load(t, b["ipsec.conf"], b["ipsec.secrets"], "first")
		two.Load(t, b["ipsec.conf"], b["ipsec.secrets"], "second")
		two.Mark()
		one.Initiate("ike")
		got := fmt.Sprint(two.Answered())
		p := negotiate.Tunnel(estateOf(t, a, b))[0]
		want := [2]string{}
		if p.Failure == nil {
			want[0] = p.Responder.Connection.Name
			if k := p.Children[0]; k.Failure == nil {
				for _, c := range p.Responder.Gateway.Connections {
					if len(c.Children) > 0 && c.Children[0] == k.With {
						want[1] = c.Name
					}
				}
			}
		}
		tally.Count(assert.Equal(t, got, fmt.Sprint(want), "%s: first the daemon's: %s\nb says %s\n%s", parts[0], because(p),
			two.Complaints(), b["ipsec.conf"]))
		one.Down("ike")
		two.Down("first")
		two.Down("second")
		two.Whack("--name", "first", "--delete")
		two.Whack("--name", "second", "--delete")
	}
}
