//go:build lab

package negotiation

import "testing"

// pairsOnADay are pairs of which a certificate, or that of an authority, does not hold today, or may not sign for the name; in the words of
// pairsWithCertificates. "first" is what is in the file before the certificate. "old" has expired, "young" does not hold yet; of the
// authorities so "ebb", below main, and "dawn", which signed itself. "shoal" may sign for other names alone, "reef" for this one, "strait"
// for other addresses; below "brief" there may be no other,
// and "long" is one. "odd" has a critical extension that nobody knows. "alone" signed itself; "pin" is the certificate that the connection
// names for its peer.
const pairsOnADay = `
old | S cert=old | S
old-v1 | S version=1 cert=old | S version=1
young | S cert=young | S
old-that-is-there | S cert=old | S has=old
young-that-is-there | S cert=young | S has=young
old-to-OpenIKED | S cert=old | O
young-to-OpenIKED | S cert=young | O
old-that-OpenIKED-has | S cert=old | O has=old
old-of-OpenIKED | S | O cert=old
old-to-Libreswan | S cert=old send=always | L
young-to-Libreswan | S cert=young send=always | L
old-of-Libreswan? | S | L cert=old
old-between-Libreswan? | L cert=old | L
below-one-that-is-old | S cert=of-ebb ca=main,ebb | S
below-one-that-is-old-and-there | S cert=of-ebb | S ca=main,ebb
below-one-that-is-old-to-OpenIKED | S cert=of-ebb ca=main,ebb | O ca=main,ebb
below-one-that-is-young | S cert=of-dawn ca=main,dawn | S ca=main,dawn
below-one-that-is-young-to-OpenIKED | S cert=of-dawn | O ca=main,dawn
list-that-is-late-and-strict | S | S revocation=strict crl=late:main:ec
list-that-is-late-at-OpenIKED | S | O crl=late:main:ec
of-one-that-may-not | S cert=of-shoal ca=main,shoal | S ca=main,shoal
of-one-that-may-not-and-sends-it | S cert=of-shoal ca=main,shoal | S
of-one-that-may-not-to-OpenIKED | S cert=of-shoal | O ca=main,shoal
of-one-that-may-not-to-Libreswan | S cert=of-shoal ca=main,shoal send=always | L
of-one-that-may | S cert=of-reef ca=main,reef | S ca=main,reef
of-one-that-may-to-OpenIKED | S cert=of-reef | O ca=main,reef
outside-its-addresses | S cert=of-strait ca=main,strait | S ca=main,strait
outside-its-addresses-to-OpenIKED | S cert=of-strait | O ca=main,strait
outside-its-addresses-to-Libreswan | S cert=of-strait ca=main,strait send=always | L
path-that-is-too-long | S cert=of-long ca=main,brief,long | S ca=main,brief,long
path-that-is-too-long-to-OpenIKED | S cert=of-long | O ca=main,brief,long
path-that-is-too-long-to-Libreswan | S cert=of-long ca=main,brief,long send=always | L
extension-that-nobody-knows | S cert=odd | S
extension-that-nobody-knows-to-OpenIKED | S cert=odd | O
extension-that-nobody-knows-to-Libreswan | S cert=odd send=always | L
behind-a-key-in-its-file | S first=key | S
behind-a-byte-order-mark | S first=mark | S
behind-its-authority | S first=root | S
pinned | S cert=alone | S pin=alone
pinned-that-was-made-again | S cert=alone-again | S pin=alone
pinned-of-another-key | S cert=alone | S pin=rsa
pinned-old | S cert=alone-old | S pin=alone-old
pinned-old-of-an-authority | S cert=old | S pin=old
pinned-old-of-an-authority-that-is-not-there | S cert=old | S ca= pin=old
pinned-of-an-authority-that-is-not-there | S cert=other | S ca= pin=other
pinned-of-an-authority-and-revoked | S | S pin=rsa crl=main:rsa
pinned-young | S cert=young | S pin=young
pinned-below-one-that-is-old | S cert=of-ebb | S ca=main,ebb pin=of-ebb
pinned-of-one-that-may-not | S cert=of-shoal | S ca=main,shoal pin=of-shoal
of-one-that-may-to-Libreswan | S cert=of-reef ca=main,reef send=always | L
`

func TestPairsOnADay(t *testing.T) {
	tryCertificates(t, "days", "makes-days", pairsOnADay,
		"negotiation: named pairs whose certificates do not hold, either end as the initiator")
}
