//go:build lab

package negotiation

import "testing"

// pairsWithChains are pairs whose certificates were signed by authorities below others, in the words of pairsWithCertificates.
const pairsWithChains = `
below-an-authority-that-is-sent | S cert=deep ca=main,quay | S
below-an-authority-that-is-sent-from-beside | S cert=deep beside=quay | S
below-an-authority-that-is-not-sent | S cert=deep | S
below-an-authority-that-both-have | S cert=deep ca=main,quay | S ca=main,quay
below-an-authority-that-the-other-has | S cert=deep | S ca=main,quay
below-an-authority-that-the-other-has-beside | S cert=deep | S beside=quay
below-an-authority-without-its-own | S cert=deep ca=main,quay | S ca=quay
below-an-authority-without-its-own-that-is-sent | S cert=deep ca=main,quay beside=main | S ca=quay
below-an-authority-that-is-named | S cert=deep ca=main,quay | S ca=main,quay anchors=quay
below-an-authority-whose-own-is-named | S cert=deep ca=main,quay | S ca=main,quay anchors=main
below-an-authority-whose-own-is-named-alone | S cert=deep ca=main,quay | S anchors=main
not-below-an-authority-that-is-named | S | S ca=main,quay anchors=quay
of-another-authority-than-is-named | S cert=other | S ca=main,other anchors=main
own-authority-beside | S | S ca=other beside=main
own-authority-beside-alone | S | S ca= beside=main
below-two-that-are-sent | S cert=deeper ca=main,quay,slip | S
below-two-of-which-one-is-sent | S cert=deeper ca=main,slip | S
below-two-of-which-one-is-sent-and-one-is-there | S cert=deeper ca=main,slip | S ca=main,quay
below-two-of-which-the-upper-is-sent | S cert=deeper ca=main,quay | S ca=main,slip
below-an-authority-that-is-sent-if-asked | S cert=deep ca=main,quay send=always | S certreq=no
below-an-authority-both | S cert=deep ca=main,quay | S cert=deep ca=main,quay
below-an-authority-both-of-which-one-does-not-send | S cert=deep ca=main,quay | S cert=deep
v1-below-an-authority-that-is-sent | S version=1 cert=deep ca=main,quay | S version=1
v1-below-an-authority-that-is-not-sent | S version=1 cert=deep | S version=1
v1-below-an-authority-that-the-other-has | S version=1 cert=deep | S version=1 ca=main,quay
v1-below-an-authority-without-its-own | S version=1 cert=deep ca=main,quay | S version=1 ca=quay
below-an-authority-that-is-sent-to-OpenIKED | S cert=deep ca=main,quay | O
below-an-authority-that-is-not-sent-to-OpenIKED | S cert=deep | O
below-an-authority-that-OpenIKED-has | S cert=deep | O ca=main,quay
below-an-authority-that-is-sent-and-OpenIKED-has | S cert=deep ca=main,quay | O ca=main,quay
below-an-authority-that-OpenIKED-has-beside | S cert=deep | O beside=quay
below-an-authority-without-its-own-at-OpenIKED | S cert=deep ca=main,quay | O ca=quay
below-an-authority-without-its-own-at-OpenIKED-partial | S cert=deep ca=main,quay | O ca=quay partial
below-two-that-are-sent-to-OpenIKED | S cert=deeper ca=main,quay,slip | O
own-authority-beside-at-OpenIKED | S | O ca=other beside=main
below-an-authority-of-OpenIKED-that-it-has | S | O cert=deep ca=main,quay
below-an-authority-of-OpenIKED-that-it-has-beside | S | O cert=deep beside=quay
below-an-authority-of-OpenIKED-that-it-has-not | S | O cert=deep
below-an-authority-of-OpenIKED-that-strongSwan-has | S ca=main,quay | O cert=deep
below-an-authority-of-OpenIKED-without-its-own | S ca=quay | O cert=deep ca=main,quay
below-two-of-OpenIKED | S | O cert=deeper ca=main,quay,slip
between-OpenIKED-sent | O cert=deep ca=main,quay | O
between-OpenIKED-not-sent | O cert=deep | O
between-OpenIKED-that-the-other-has | O cert=deep | O ca=main,quay
between-OpenIKED-both | O cert=deep ca=main,quay | O cert=deep ca=main,quay
between-OpenIKED-without-its-own | O cert=deep ca=main,quay | O ca=quay
between-OpenIKED-without-its-own-partial | O cert=deep ca=main,quay | O ca=quay partial
below-an-authority-that-is-sent-to-Libreswan | S cert=deep ca=main,quay send=always | L
below-two-that-are-sent-to-Libreswan | S cert=deeper ca=main,quay,slip send=always | L
below-an-authority-that-is-not-sent-to-Libreswan? | S cert=deep send=always | L
below-an-authority-of-OpenIKED-with-Libreswan? | L | O cert=deep ca=main,quay
below-an-authority-of-OpenIKED-that-it-has-not-with-Libreswan? | L | O cert=deep
below-an-authority-of-Libreswan? | S ca=main,quay | L cert=deep
below-an-authority-of-Libreswan-that-is-not-there? | S | L cert=deep
sent-without-its-own | S cert=deep ca=quay peer-auth=psk | S auth=psk
sent-without-its-own-from-beside | S cert=deep ca= beside=quay peer-auth=psk | S auth=psk
sent-with-its-own-beside | S cert=deep ca=quay beside=main peer-auth=psk | S auth=psk
sent-by-one-that-trusts-another | S cert=deep ca=other,quay peer-auth=psk | S auth=psk
sent-without-its-own-to-one-that-has-it | S cert=deep ca=quay peer-auth=psk | S auth=psk ca=main,quay
held-by-the-other | S cert=other | S has=other
held-by-the-other-below-an-authority | S cert=deep | S has=deep
held-by-the-other-without-authorities | S cert=other send=always peer-auth=psk | S ca= has=other auth=psk
held-by-the-other-and-another-is-named | S cert=other | S has=other anchors=main
held-by-OpenIKED | S cert=other | O has=other
held-by-the-other-v1 | S version=1 cert=other | S version=1 has=other
named-that-is-not-above | S cert=deep ca=main,quay | S ca=main,quay,slip anchors=slip
named-without-its-own | S cert=deep ca=main,quay send=always peer-auth=psk | S ca=quay anchors=quay auth=psk
named-without-its-own-of-certificates | S cert=deep ca=main,quay send=always | S ca=quay anchors=quay peer-auth=pubkey cert=deep
below-two-of-OpenIKED-of-which-one-is-there | S ca=main,quay | O cert=deeper ca=main,slip
below-two-of-OpenIKED-of-which-the-upper-is-there | S ca=main,slip | O cert=deeper ca=main,quay
below-two-at-OpenIKED-of-which-one-is-there | S cert=deeper ca=main,quay,slip | O ca=main,slip
below-two-at-OpenIKED | S cert=deeper | O ca=main,quay,slip
below-two-at-OpenIKED-partial | S cert=deeper | O ca=slip partial
partial-and-not-below | S cert=deep | O ca=slip partial
sent-by-OpenIKED-to-Libreswan-from-beside? | L | O cert=deep beside=quay
held-by-OpenIKED-another | S cert=ec | O has=rsa
held-by-OpenIKED-another-of-ecdsa | S | O has=ec
held-by-OpenIKED-another-below | S cert=ec | O cert=ec384 has=deep
held-by-OpenIKED-another-that-it-trusts-not | S | O has=other
held-by-OpenIKED-another-of-OpenIKED | O cert=ec | O has=rsa
held-by-OpenIKED-the-same-of-OpenIKED | O | O has=rsa
held-by-OpenIKED-another-and-any-identity | S cert=ec id= | O has=rsa
held-by-OpenIKED-one-that-names-nobody | S | O has=bare
held-by-Libreswan-nothing? | L | O has=ec
held-by-strongSwan-another | S cert=ec | S has=rsa
held-by-OpenIKED-the-same | S | O has=rsa
key-in-place-of-a-certificate-of-another-key | O cert=other ecdsa256 | O cert=ec384 ca=main,other rsa
key-asked-for-and-an-authority-that-both-have | O ecdsa256 | O ca=main,other rsa
key-in-place-of-a-certificate | O cert=other ecdsa256 | O ca=other,main rsa
key-asked-for-and-an-authority-that-both-have-last | O ecdsa256 | O ca=other,main rsa
key-asked-for-and-an-authority-that-it-has | O cert=other ecdsa256 ca=main,other | O ca=main,other rsa
no-key-asked-for | O cert=other | O ca=main,other
key-in-place-of-a-certificate-rsa | O cert=other rsa | O ca=main,other rsa
key-in-place-of-a-certificate-rfc7427 | O cert=other rfc7427 | O ca=main,other rsa
key-in-place-of-a-certificate-without-a-word | O cert=other | O ca=main,other rsa
key-in-place-of-a-certificate-below | O cert=deep ecdsa256 | O ca=main,quay rsa
key-asked-for-and-an-authority-below-that-it-has | O cert=deep ecdsa256 ca=main,quay | O ca=main,quay rsa
key-asked-of-Libreswan? | L leftsendcert=always | O ca=main,other rsa
key-in-place-of-a-certificate-that-is-there | O cert=deep | O has=deep rsa
key-of-ecdsa-in-place-of-a-certificate | O cert=other ecdsa256 | O cert=ec384 ca=other
key-of-rsa-asked-for-and-none-there | O cert=other rsa | O cert=ec ca=other
key-of-rsa-in-place-of-a-certificate | O cert=other rsa | O ca=other
key-of-ecdsa-asked-for-and-none-there | O cert=other ecdsa256 | O ca=other
key-of-neither-asked-for | O cert=other rfc7427 | O cert=ec ca=other
key-in-place-of-a-certificate-and-one-that-is-trusted-alone | O ecdsa256 | O cert=other ca=main,other rsa
key-asked-for-and-strongSwan | S cert=other send=always | O ca=other rsa
revoked | S | S crl=main:rsa
revoked-v1 | S version=1 | S version=1 crl=main:rsa
revoked-of-another | S | S crl=main:ec
revoked-below | S cert=deep ca=main,quay | S crl=main:quay
revoked-below-by-its-own | S cert=deep ca=main,quay | S crl=quay:deep
revoked-below-by-its-own-that-is-there | S cert=deep | S ca=main,quay crl=quay:deep
revoked-and-there | S | S has=rsa crl=main:rsa
revoked-and-there-alone | S cert=other | S has=other crl=other:other
revoked-by-another-authority | S cert=other | S ca=main,other crl=main:rsa
revoked-on-a-list-that-is-late | S | S crl=late:main:rsa
another-on-a-list-that-is-late | S | S crl=late:main:ec
revoked-by-an-authority-that-is-not-there | S | S crl=other:other
strict-without-a-list | S | S revocation=strict
strict-v1-without-a-list | S version=1 | S version=1 revocation=strict
strict-with-a-list | S | S revocation=strict crl=main:ec
strict-and-revoked | S | S revocation=strict crl=main:rsa
strict-and-there-alone | S cert=other | S has=other revocation=strict
strict-and-there | S | S has=rsa revocation=strict
strict-and-there-with-a-list | S | S has=rsa revocation=strict crl=main:ec
strict-below | S cert=deep ca=main,quay | S revocation=strict crl=main:ec
strict-below-with-the-lower-list | S cert=deep ca=main,quay | S revocation=strict crl=quay:ec
strict-where-one-is-named | S | S revocation=ifuri
revoked-at-OpenIKED | S | O crl=main:rsa
revoked-at-OpenIKED-of-another | S | O crl=main:ec
revoked-at-OpenIKED-below | S cert=deep | O ca=main,quay crl=main:quay
revoked-at-OpenIKED-by-its-own | S cert=deep | O ca=main,quay crl=quay:deep
revoked-at-OpenIKED-and-there | S | O has=rsa crl=main:rsa
revoked-at-OpenIKED-by-another-authority | S cert=other | O ca=main,other crl=main:rsa
revoked-at-OpenIKED-a-list-of-the-lower-alone | S cert=deep | O ca=main,quay crl=quay:ec
revoked-at-OpenIKED-a-list-of-the-upper-alone | S cert=deep | O ca=main,quay crl=main:ec
revoked-between-OpenIKED | O | O crl=main:rsa
v1-below-an-authority-that-is-sent-to-Libreswan | S version=1 cert=deep ca=main,quay send=always | L ikev2=no
`

func TestPairsWithChains(t *testing.T) {
	tryCertificates(t, "chains", "makes-chains", pairsWithChains,
		"negotiation: named pairs with chains of certificates, either end as the initiator")
}
