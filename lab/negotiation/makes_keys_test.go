//go:build lab

package negotiation

import (
	"testing"

	"toril/lab"
)

// pairsOfKeys are pairs of strongSwan and of Libreswan whose keys are somebody's: a line each, as in pairsOfOpenIKED. "owners" are whom the
// right key names, "wrong" whom another does that stands before it, or behind it with "+"; "." is nobody.
const pairsOfKeys = `
another-of-anybody | S | S owners=a.example wrong=.
another-of-the-own-name | S | S owners=a.example wrong=b.example
another-of-both | S | S owners=a.example wrong=a.example,b.example
both-and-another-of-the-peer | S | S owners=a.example,b.example wrong=a.example
another-alike | S | S owners=a.example wrong=a.example
another-alike-of-the-own | S | S owners=b.example wrong=b.example
another-of-any | S | S owners=a.example wrong=%any
own-and-another-of-anybody | S | S owners=b.example wrong=.
any-and-another-of-anybody | S | S owners=%any wrong=.
anybody-and-another-of-any | S | S owners= wrong=%any
another-of-a-pattern | S | S owners=a.example wrong=*.example
own-and-another-of-a-pattern | S | S owners=b.example wrong=*.example
another-of-the-address | S | S owners=a.example wrong=10.0.0.1
another-of-its-address-and-the-own | S | S owners=a.example wrong=10.0.0.1,b.example
v1-another-of-anybody | S version=1 | S version=1 owners=a.example wrong=.
v1-another-of-the-address | S version=1 | S version=1 owners=a.example wrong=10.0.0.1
v1-address-and-another-of-the-own-name | S version=1 | S version=1 owners=10.0.0.1 wrong=b.example
v1-address-and-another-of-anybody | S version=1 | S version=1 owners=10.0.0.1 wrong=.
v1-any-and-another-of-the-peers-name | S version=1 | S version=1 peer=%any owners=10.0.0.1 wrong=a.example
another-of-anybody-at-Libreswan | L | L owners=@a.example,@b.example wrong=.
another-of-the-own-name-at-Libreswan | L | L owners=@a.example,@b.example wrong=@b.example
own-name-and-another-of-both-at-Libreswan | L | L owners=@b.example wrong=@a.example,@b.example
own-name-and-another-of-anybody-at-Libreswan | L | L owners=@b.example wrong=.
own-name-and-another-of-any-at-Libreswan | L | L owners=@b.example wrong=%any
any-and-another-of-anybody-at-Libreswan | L | L owners=%any wrong=.
anybody-and-another-of-any-at-Libreswan | L | L wrong=%any
another-alike-at-Libreswan | L | L owners=@a.example,@b.example wrong=@a.example,@b.example
another-of-the-own-name-and-any-at-Libreswan | L | L owners=@a.example,@b.example wrong=@b.example,%any
own-name-and-any-and-another-of-the-own-name-at-Libreswan | L | L owners=@b.example,%any wrong=@b.example
own-name-and-another-of-the-own-name-and-any-at-Libreswan | L | L owners=@b.example wrong=@b.example,%any
its-name-and-any-and-another-of-the-own-name-at-Libreswan | L | L owners=@a.example,%any wrong=@b.example
own-name-and-another-of-its-name-and-any-at-Libreswan | L | L owners=@b.example wrong=@a.example,%any
another-of-three-at-Libreswan | L | L owners=@a.example,@b.example wrong=@a.example,@b.example,@c.example
v1-another-of-anybody-at-Libreswan | L ikev2=no | L ikev2=no owners=@a.example,@b.example wrong=.
v1-own-name-and-another-of-both-at-Libreswan | L ikev2=no | L ikev2=no owners=@b.example wrong=@a.example,@b.example
v1-any-peer-and-another-of-its-address-at-Libreswan | L ikev2=no | L ikev2=no right=%any -rightid owners=@b.example wrong=@b.example,10.0.0.1
another-alike-behind | S | S owners=a.example wrong=+a.example
another-alike-of-the-own-behind | S | S owners=b.example wrong=+b.example
any-and-another-of-anybody-behind | S | S owners=%any wrong=+.
anybody-and-another-of-any-behind | S | S owners= wrong=+%any
anybody-and-another-of-anybody | S | S owners= wrong=.
anybody-and-another-of-anybody-behind | S | S owners= wrong=+.
v1-another-alike | S version=1 | S version=1 owners=a.example wrong=a.example
v1-another-alike-behind | S version=1 | S version=1 owners=a.example wrong=+a.example
another-alike-behind-at-Libreswan | L | L owners=@a.example,@b.example wrong=+@a.example,@b.example
anybody-and-another-of-anybody-at-Libreswan | L | L wrong=.
anybody-and-another-of-anybody-behind-at-Libreswan | L | L wrong=+.
own-name-and-another-behind-at-Libreswan | L | L owners=@b.example wrong=+@b.example
any-and-another-of-any-at-Libreswan | L | L owners=%any wrong=%any
own-name-and-any-and-another-alike-at-Libreswan | L | L owners=@b.example,%any wrong=@b.example,%any
each-has-the-others | S owners=b.example wrong=%any | S owners=%any wrong=a.example
each-has-the-others-of-Libreswan | L owners=@a.example,@b.example wrong=%any | L owners=%any wrong=@a.example,@b.example
each-has-the-others-with-Libreswan | S owners=b.example wrong=%any | L owners=%any wrong=@a.example,@b.example
one-has-both | S | S owners=%any wrong=a.example
one-has-both-with-Libreswan | L | S owners=%any wrong=a.example
one-has-anothers | S owners=b.example wrong=c.example | S owners=c.example wrong=a.example
each-has-the-others-by-its-own-name | S owners=b.example wrong=a.example | S owners=b.example wrong=a.example
v1-each-has-the-others | S version=1 owners=b.example wrong=%any | S version=1 owners=%any wrong=a.example
of-its-address | S id= peer= | S id= peer= owners=10.0.0.1
of-its-address-and-anybody | S id= | S peer= owners=10.0.0.1
of-both-addresses | S id= | S peer= owners=10.0.0.1,10.0.0.2
of-both-addresses-and-no-identities | S id= peer= owners=10.0.0.2,10.0.0.1 | S id= peer= owners=10.0.0.1,10.0.0.2
of-each-peers-address | S id= peer= owners=10.0.0.2 | S id= peer= owners=10.0.0.1
of-the-own-address | S id= peer= | S id= peer= owners=10.0.0.2
of-the-own-address-and-another | S id= peer= | S id= peer= owners=10.0.0.2,10.0.0.9
of-its-name-and-anybody | S | S peer=%any owners=a.example
of-the-own-name-and-anybody | S | S peer=%any owners=b.example
of-both-names-and-anybody | S | S peer=%any owners=a.example,b.example
of-another-name-and-anybody | S | S peer=%any owners=c.example
of-names-and-a-pattern | S | S peer=*.example owners=a.example
of-a-pattern | S | S owners=*.example
of-any | S | S owners=%any
of-its-address-and-names | S | S owners=10.0.0.1
of-the-own-name-that-is-not-asked-for | S peer=%any | S peer=%any owners=b.example
of-the-own-address-that-is-not-asked-for | S peer=%any | S id= peer=%any owners=10.0.0.2
addresses-of-Libreswan | L -leftid -rightid | L -leftid -rightid owners=10.0.0.1,10.0.0.2
its-address-at-Libreswan | L -leftid -rightid | L -leftid -rightid owners=10.0.0.1
own-address-at-Libreswan | L -leftid -rightid | L -leftid -rightid owners=10.0.0.2
another-address-at-Libreswan | L -leftid -rightid | L -leftid -rightid owners=10.0.0.9
own-and-another-address-at-Libreswan | L -leftid -rightid | L -leftid -rightid owners=10.0.0.2,10.0.0.9
own-and-any-at-Libreswan | L -leftid -rightid | L -leftid -rightid owners=10.0.0.2,%any
any-at-Libreswan | L | L owners=%any
own-name-and-any-at-Libreswan | L | L owners=@b.example,%any
names-at-Libreswan | L | L owners=@a.example,@b.example
names-without-the-sign-at-Libreswan | L | L owners=a.example,b.example
addresses-and-names-at-Libreswan | L | L owners=10.0.0.1,10.0.0.2
its-name-at-Libreswan | L | L owners=@a.example
its-name-and-anybody-at-Libreswan | L | L right=%any owners=@a.example,@b.example
addresses-and-any-peer-at-Libreswan | L | L right=%any owners=10.0.0.2,%any
addresses-and-any-identity-at-Libreswan | L | L rightid=%any owners=@b.example,@a.example
any-identity-at-Libreswan | L | L rightid=%any
any-identity-at-Libreswan-of-strongSwan | S | L rightid=%any
v1-any-identity-at-Libreswan | L ikev2=no | L ikev2=no rightid=%any
no-identity-at-Libreswan | L | L rightid=%none
any-identity-at-both-of-Libreswan | L rightid=%any | L rightid=%any
any-identity-and-any-peer-at-Libreswan | L | L right=%any rightid=%any
any-identity-and-any-key-at-Libreswan | L | L rightid=%any owners=@b.example,%any
any-peer-without-identity-at-Libreswan | L | L right=%any -rightid
any-peer-without-identity-and-both-names-at-Libreswan | L | L right=%any -rightid owners=@b.example,@a.example
any-peer-without-identity-and-its-address-at-Libreswan | L -leftid | L right=%any -rightid owners=@b.example,10.0.0.1
any-peer-without-identity-and-any-key-at-Libreswan | L | L right=%any -rightid owners=@b.example,%any
any-peer-without-identity-and-its-own-key-at-Libreswan | L | L right=%any -rightid owners=@b.example
any-peer-without-identity-and-zero-at-Libreswan | L | L right=%any -rightid owners=@b.example,0.0.0.0
any-peer-without-identities-at-Libreswan | L -leftid -rightid | L right=%any -leftid -rightid owners=10.0.0.2,10.0.0.1
any-peer-of-strongSwan-and-any-key-at-Libreswan | S | L right=%any -rightid owners=@b.example,%any
v1-any-peer-without-identity-at-Libreswan | L ikev2=no -leftid | L ikev2=no right=%any -rightid
v1-any-peer-without-identity-and-both-names-at-Libreswan | L ikev2=no | L ikev2=no right=%any -rightid owners=@b.example,@a.example
v1-any-peer-without-identity-and-its-address-at-Libreswan | L ikev2=no -leftid | L ikev2=no right=%any -rightid owners=@b.example,10.0.0.1
v1-any-peer-without-identity-and-any-key-at-Libreswan | L ikev2=no | L ikev2=no right=%any -rightid owners=@b.example,%any
v1-aggressive-names-and-any-peer-at-Libreswan | L ikev2=no aggressive=yes ike=aes-sha1;modp2048 | L ikev2=no aggressive=yes ike=aes-sha1;modp2048 right=%any owners=@b.example,@a.example
address-of-the-peer-not-asked-for | L -rightid | S id=
address-of-the-peer-asked-for-by-name | L rightid=10.0.0.2 | S id= owners=10.0.0.2
address-of-the-peer-and-another-identity | L rightid=10.0.0.2 | S
address-of-the-peer-and-another-identity-of-Libreswan | L rightid=10.0.0.2 | L
address-as-the-name-at-Libreswan | L leftid=10.0.0.1 | L rightid=10.0.0.1 owners=10.0.0.1,@b.example
zero-address-at-Libreswan | L | L owners=0.0.0.0,@b.example
v1-addresses-of-Libreswan | L ikev2=no -leftid -rightid | L ikev2=no -leftid -rightid owners=10.0.0.1,10.0.0.2
v1-own-and-any-at-Libreswan | L ikev2=no -leftid -rightid | L ikev2=no -leftid -rightid owners=10.0.0.2,%any
v1-names-at-Libreswan | L ikev2=no | L ikev2=no owners=@a.example,@b.example
v1-addresses-and-names-at-Libreswan | L ikev2=no | L ikev2=no owners=10.0.0.1,10.0.0.2
v1-own-name-at-Libreswan | L ikev2=no | L ikev2=no owners=@b.example
v1-its-name-at-Libreswan | L ikev2=no | L ikev2=no owners=@a.example
v1-names-and-any-peer-at-Libreswan | L ikev2=no | L ikev2=no right=%any owners=@a.example,@b.example
v1-addresses-and-any-peer-at-Libreswan | L ikev2=no | L ikev2=no right=%any owners=10.0.0.2,%any
of-another-and-any | S | S owners=c.example,%any
v1-of-its-address | S version=1 id= peer= | S version=1 id= peer= owners=10.0.0.1
v1-of-its-address-and-anybody | S version=1 id= | S version=1 peer= owners=10.0.0.1
v1-of-both-addresses | S version=1 id= | S version=1 peer= owners=10.0.0.1,10.0.0.2
v1-of-both-addresses-and-no-identities | S version=1 id= peer= owners=10.0.0.2,10.0.0.1 | S version=1 id= peer= owners=10.0.0.1,10.0.0.2
v1-of-each-peers-address | S version=1 id= peer= owners=10.0.0.2 | S version=1 id= peer= owners=10.0.0.1
v1-of-the-own-address | S version=1 id= peer= | S version=1 id= peer= owners=10.0.0.2
v1-of-its-name-and-anybody | S version=1 | S version=1 peer=%any owners=a.example
v1-of-the-own-name-and-anybody | S version=1 | S version=1 peer=%any owners=b.example
v1-of-both-names | S version=1 | S version=1 owners=a.example,b.example
v1-of-another-name | S version=1 | S version=1 owners=c.example
v1-of-its-address-and-names | S version=1 | S version=1 owners=10.0.0.1
v1-of-both-addresses-and-another-of-the-own | S version=1 id= peer= | S version=1 id= peer= owners=10.0.0.2,10.0.0.1 wrong=10.0.0.2,10.0.0.9
v1-of-both-addresses-and-another-of-the-own-behind | S version=1 id= peer= | S version=1 id= peer= owners=10.0.0.2,10.0.0.1 wrong=+10.0.0.2,10.0.0.9
v1-address-and-another-of-the-own-name-of-anybody | S version=1 | S version=1 peer= owners=10.0.0.1 wrong=b.example
v1-address-and-another-of-the-own-name-of-anybody-behind | S version=1 | S version=1 peer= owners=10.0.0.1 wrong=+b.example
v1-own-name-of-anybody-and-another-of-the-address | S version=1 | S version=1 peer= owners=b.example wrong=+10.0.0.1
v1-own-address-and-another-of-the-own-name | S version=1 | S version=1 peer=%any owners=10.0.0.2 wrong=+b.example
v1-anybody-and-another-of-the-address-without-ids | S version=1 | S version=1 peer= owners= wrong=10.0.0.1
v1-anybody-and-another-of-the-address-without-any | S version=1 id= peer= | S version=1 id= peer= owners= wrong=10.0.0.1
v1-anybody-and-another-of-the-address-without-any-behind | S version=1 id= peer= | S version=1 id= peer= owners= wrong=+10.0.0.1
v1-address-and-another-of-anybody-without-any | S version=1 id= peer= | S version=1 id= peer= owners=10.0.0.1 wrong=.
v1-its-name-and-another-of-the-address-behind | S version=1 | S version=1 owners=a.example wrong=+10.0.0.1
v1-both-names-and-another-of-both-addresses-behind | S version=1 | S version=1 owners=a.example,b.example wrong=+10.0.0.1,10.0.0.2
`

func TestPairsOfKeys(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: named pairs whose keys are somebody's, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "keys")
	tryAll(t, tally, "makes-keys", pairsOfKeys, endOfIked,
		func(kind string) (one, two daemon) {
			return startOf(t, kind[:1], "a", nsA), startOf(t, kind[1:], "b", nsB)
		})
}
