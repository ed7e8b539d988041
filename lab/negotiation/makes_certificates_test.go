//go:build lab

package negotiation

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"maps"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/lab/pluto"
)

// pairsWithCertificates are pairs whose ends show certificates: a line each, a name and what either end says, as in pairsOfOpenIKED. "cert"
// is which certificate it has: rsa, ec (P-256), ec384, bare (which names nobody but its subject), other (of an authority that nobody
// trusts unless "ca" says so). "ca" is the authority that it trusts, "has" the certificate of its
// peer that lies beside its own. There are two authorities below "main", "quay" and, below that, "slip", which signed deep and deeper;
// "beside" is one that lies among certificates and is no authority to trust, "anchors" one that the connection names. Behind a name with
// "?" nothing comes up for what no file tells: the store of Libreswan is not among them.
const pairsWithCertificates = `
rsa | S | S
rsa-with-Libreswan | S | L
rsa-with-OpenIKED | S | O
rsa-of-Libreswan | L | L
rsa-of-OpenIKED | O | O
rsa-of-both | L | O
ec | S cert=ec | S cert=ec
ec-with-Libreswan? | S cert=ec | L cert=ec
ec-with-OpenIKED | S cert=ec | O cert=ec
ec-of-Libreswan? | L cert=ec | L cert=ec
ec-of-OpenIKED | O cert=ec | O cert=ec
ec-of-both? | L cert=ec | O cert=ec
ec384-with-Libreswan? | S cert=ec384 | L cert=ec384
ec384-with-OpenIKED | S cert=ec384 | O cert=ec384
ec-and-rsa | S cert=ec | L
ec-and-rsa-with-OpenIKED | S cert=ec | O
ec-and-rsa-of-both? | L cert=ec | O
rsa-alone-and-ec? | L authby=rsasig | L cert=ec
rsa-alone-with-ec-of-strongSwan | S cert=ec | L authby=rsasig
ec-alone-with-rsa-of-strongSwan | S | L authby=ecdsa cert=ec
rsa-with-sha1 | L authby=rsa-sha1 | L authby=rsa-sha1
rsa-with-sha1-and-sha2 | L authby=rsa-sha1 | L authby=rsa-sha2
rsa-with-sha1-and-both | L authby=rsa-sha1 | L
rsa-with-sha1-with-strongSwan | S | L authby=rsa-sha1
rsa-with-sha2-512-and-256 | L authby=rsa-sha2_512 | L authby=rsa-sha2_256
rsa-with-sha2-512-with-strongSwan | S | L authby=rsa-sha2_512
rsa-with-sha1-with-OpenIKED | L authby=rsa-sha1 | O
rsa-with-sha2-with-OpenIKED | L authby=rsa-sha2 | O
rsasig-with-OpenIKED | L authby=rsasig | O
rsa-word-of-OpenIKED | S | O rsa
rsa-word-of-OpenIKED-with-Libreswan | L | O rsa
rsa-word-of-OpenIKED-alone | O rsa | O
rfc7427-word-of-OpenIKED | O rfc7427 | O
rfc7427-and-rsa-words-of-OpenIKED | O rfc7427 | O rsa
rfc7427-word-of-OpenIKED-with-strongSwan | S | O rfc7427
rfc7427-word-of-OpenIKED-with-Libreswan | L | O rfc7427
ecdsa256-word-of-OpenIKED | S cert=ec | O cert=ec ecdsa256
ecdsa256-word-of-OpenIKED-and-an-rsa-key | S | O ecdsa256
ecdsa256-word-of-OpenIKED-with-Libreswan | L cert=ec | O cert=ec ecdsa256
names-only-its-subject | S cert=bare | S
names-only-its-subject-with-Libreswan | S cert=bare | L
names-only-its-subject-at-Libreswan? | S | L cert=bare
names-only-its-subject-of-Libreswan? | L cert=bare | L
names-only-its-subject-with-OpenIKED | S cert=bare | O
names-only-its-subject-at-OpenIKED? | S | O cert=bare
names-only-its-subject-of-OpenIKED? | O cert=bare | O
need-not-name-it | L cert=bare | L require-id-on-certificate=no
subject-as-the-identity | S id=O=Harbour,_CN=a_rsa | S peer=O=Harbour,_CN=a_rsa
subject-as-the-identity-with-Libreswan | S id=O=Harbour,_CN=a_rsa | L rightid="O=Harbour,CN=a_rsa"
subject-unsaid | S id= | S peer=O=Harbour,_CN=a_rsa
subject-unsaid-and-any | S id= | S peer=%any
subject-unsaid-and-a-name | S id= | S
subject-unsaid-with-Libreswan | S id= | L rightid=%fromcert
subject-of-Libreswan | S peer=O=Harbour,_CN=b_rsa | L leftid=%fromcert
subject-of-Libreswan-unsaid | S peer=O=Harbour,_CN=b_rsa | L -leftid
subject-of-Libreswan-and-a-name | S | L leftid=%fromcert
subject-of-both-at-Libreswan | L leftid=%fromcert rightid=%fromcert | L leftid=%fromcert rightid=%fromcert
subject-at-OpenIKED | O srcid /O=Harbour/CN=a_rsa | O dstid /O=Harbour/CN=a_rsa
authority-that-nobody-trusts | S cert=other | S
authority-that-nobody-trusts-with-Libreswan? | S cert=other | L
authority-that-nobody-trusts-of-Libreswan? | S | L cert=other
authority-that-nobody-trusts-with-OpenIKED | S cert=other | O
authority-that-nobody-trusts-of-OpenIKED | S | O cert=other
authority-that-one-trusts | S cert=other | S ca=other
authority-that-one-trusts-with-OpenIKED | S cert=other | O ca=other
key-at-one-end | S auth=psk | S
key-at-one-end-with-Libreswan | S auth=psk | L
key-at-one-end-of-Libreswan | S | L authby=secret
key-asked-for-by-one | S peer-auth=psk | L
key-at-one-end-of-OpenIKED | S | O psk harbour
v1 | S version=1 | S version=1
v1-with-Libreswan | S version=1 | L ikev2=no
v1-of-Libreswan | L ikev2=no | L ikev2=no
v1-ec-with-Libreswan | S version=1 cert=ec | L ikev2=no cert=ec
v1-ec-of-Libreswan? | L ikev2=no cert=ec | L ikev2=no cert=ec
subject-unsaid-and-a-name-at-Libreswan | S id= | L
subject-unsaid-and-a-name-at-OpenIKED | S id= | O
subject-and-a-name-of-Libreswan | L leftid=%fromcert | L
subject-of-Libreswan-and-a-name-at-OpenIKED | L leftid=%fromcert | O
subject-of-Libreswan-and-OpenIKED | L leftid=%fromcert | O dstid /O=Harbour/CN=a_rsa
sent-always | S send=always | L
asked-for-by-its-authority | S | L rightca="O=Harbour,CN=Harbour CA"
asked-for-by-the-same-authority | S | L rightca=%same
asked-for-by-any-authority | S | L rightca=%any
asked-for-of-OpenIKED | O | L rightca="O=Harbour,CN=Harbour CA"
never-sent | S send=never | S
never-sent-to-Libreswan | S send=never | L rightca=%same
never-sent-by-Libreswan | S | L leftsendcert=never
always-sent-by-Libreswan | S | L leftsendcert=always
never-sent-by-Libreswan-to-OpenIKED | L leftsendcert=never | O
v1-sent-always | S version=1 send=always | L ikev2=no
v1-asked-for | S version=1 | L ikev2=no rightca=%same
ecdsa | S cert=ec | L cert=ec authby=ecdsa
ecdsa-sent-always | S cert=ec send=always | L cert=ec authby=ecdsa
ecdsa-with-OpenIKED | L cert=ec authby=ecdsa | O cert=ec
ecdsa-with-an-rsa-key-of-OpenIKED | L cert=ec authby=ecdsa | O
ecdsa-of-Libreswan | L cert=ec authby=ecdsa | L cert=ec authby=ecdsa
ecdsa-at-one | L authby=rsasig | L cert=ec authby=ecdsa
ecdsa-first? | L cert=ec authby=ecdsa,rsasig | L authby=rsasig,ecdsa
ecdsa-with-an-rsa-key? | L authby=ecdsa | L cert=ec authby=ecdsa
rsa-sha2-of-Libreswan | L authby=rsa-sha2 | L authby=rsa-sha2
rsa-sha2-and-any | L authby=rsa-sha2 | L
rsa-sha2-with-strongSwan | S send=always | L authby=rsa-sha2
rsa-sha1-sent-always | S send=always | L authby=rsa-sha1
rsa-sha1-and-sha2-with-strongSwan | S send=always | L authby=rsa-sha1,rsa-sha2
pss-of-strongSwan | S send=always auth=rsa/pss | L authby=rsa-sha2
pss-of-strongSwan-with-sha2-512 | S send=always auth=rsa/pss-sha512 | L authby=rsa-sha2_512
pss-of-strongSwan-with-other-sha2 | S send=always auth=rsa/pss-sha256 | L authby=rsa-sha2_512
pss-of-strongSwan-and-any | S send=always auth=rsa/pss | L
pss-of-strongSwan-with-OpenIKED | S send=always auth=rsa/pss | O
rsa-of-strongSwan-with-sha2-512 | S send=always auth=rsa-sha512 | L
asks-for-ecdsa | S peer-auth=ecdsa | S
asks-for-rsa | S peer-auth=rsa | S
asks-for-ecdsa-of-Libreswan | S peer-auth=ecdsa send=always | L
asks-for-pss-of-Libreswan | S peer-auth=rsa/pss send=always | L
asks-for-pss | S peer-auth=rsa/pss | S
asks-for-ecdsa-of-OpenIKED | S peer-auth=ecdsa send=always | O
rfc7427-word-of-OpenIKED-with-rsa-sha2 | L authby=rsa-sha2 | O rfc7427
ecdsa256-word-of-OpenIKED-with-ecdsa | L cert=ec authby=ecdsa | O cert=ec ecdsa256
rfc7427-word-of-OpenIKED-with-ecdsa | L cert=ec authby=ecdsa | O cert=ec rfc7427
ecdsa256-word-of-OpenIKED-alone | O cert=ec ecdsa256 | O cert=ec
ecdsa256-word-of-OpenIKED-at-both | O cert=ec ecdsa256 | O cert=ec ecdsa256
ecdsa256-word-of-OpenIKED-and-a-longer-key | O cert=ec384 | O cert=ec ecdsa256
v1-ecdsa | L ikev2=no cert=ec authby=ecdsa | L ikev2=no cert=ec authby=ecdsa
v1-ecdsa-with-strongSwan | S version=1 cert=ec send=always | L ikev2=no cert=ec authby=ecdsa
not-asked-for | S certreq=no | S
not-asked-for-by-strongSwan | S certreq=no | L rightca=%same
not-asked-for-by-strongSwan-of-OpenIKED | S certreq=no | O
rsa-word-of-OpenIKED-that-is-asked | L rightca=%same | O rsa
rsa-word-of-OpenIKED-and-sha1 | L rightca=%same authby=rsa-sha1 | O rsa
ecdsa-alone-and-any | L | L cert=ec authby=ecdsa
ecdsa-alone-and-any-with-such-a-key | L cert=ec | L cert=ec authby=ecdsa
subject-unsaid-and-a-name-sent-to-Libreswan | S id= send=always | L
v1-rsa-sha2-of-Libreswan | L ikev2=no authby=rsa-sha2 | L ikev2=no authby=rsa-sha2
v1-rsa-sha1-of-Libreswan | L ikev2=no authby=rsa-sha1 | L ikev2=no authby=rsa-sha1
v1-rsa-sha2-with-strongSwan | S version=1 send=always | L ikev2=no authby=rsa-sha2
v1-never-sent | S version=1 send=never | S version=1
v1-not-asked-for | S version=1 certreq=no | S version=1
v1-subject-unsaid | S version=1 id= | S version=1 peer=O=Harbour,_CN=a_rsa
has-no-such-key | S auth=ecdsa | S
has-such-a-key | S auth=rsa | S
hashes-of-pss | S auth=rsa/pss-sha384-sha256 send=always | L authby=rsa-sha2_256
hashes-of-rsa | S auth=rsa-sha256 send=always | L authby=rsa-sha1
hashes-of-pubkey | S auth=pubkey-sha512 send=always | L authby=rsasig
asks-for-other-hashes | S peer-auth=rsa-sha512 | S auth=rsa-sha256
asks-for-these-hashes | S peer-auth=rsa-sha512 | S
asks-for-pss-of-sha2-512 | S peer-auth=rsa/pss-sha512 | S
asks-for-pss-of-sha2-512-and-gets-it | S peer-auth=rsa/pss-sha512 | S auth=rsa/pss-sha512
asks-for-pss-of-sha2-512-of-Libreswan? | S peer-auth=rsa/pss-sha512 send=always | L
asks-for-pss-of-sha2-256-of-Libreswan? | S peer-auth=rsa/pss-sha256 send=always | L
asks-for-ecdsa-of-sha2-384 | S peer-auth=ecdsa-sha384 | S cert=ec
asks-for-ecdsa-of-sha2-256 | S peer-auth=ecdsa-sha256 | S cert=ec
names-only-its-subject-and-any | S cert=bare | S peer=%any
names-only-its-subject-and-that-is-expected | S cert=bare | S peer=O=Harbour,_CN=a_bare
has-its-peers | S send=never | S has=rsa
has-its-peers-and-asks-not | S certreq=no has=rsa | S
asks-for-ecdsa-of-a-size | S peer-auth=ecdsa-256 | S
asks-for-ecdsa-of-a-size-and-gets-it | S peer-auth=ecdsa-256 | S cert=ec
asks-for-rsa-of-a-size | S peer-auth=rsa-2048 | S
asks-for-hashes-of-ike-alone | S peer-auth=ike:rsa-sha512 | S
asks-for-hashes-of-ike-alone-and-gets-them | S peer-auth=ike:rsa-sha512 | S auth=rsa-sha512
asks-for-hashes-of-ike-alone-and-gets-others | S peer-auth=ike:rsa-sha512 | S auth=rsa-sha256
asks-for-pss-of-ike-alone-of-Libreswan | S peer-auth=ike:rsa/pss-sha512 send=always | L
asks-for-hashes-of-the-certificate | S peer-auth=rsa-sha256 | S
asks-for-hashes-of-the-certificate-of-OpenIKED | S peer-auth=rsa-sha256 | O
has-no-such-key-for-hashes | S auth=rsa-sha256 cert=ec | S
hash-of-a-longer-key | S peer-auth=ike:rsa-sha384 | S cert=rsa3072
hash-of-a-longer-key-is-no-other | S peer-auth=ike:rsa-sha256 | S cert=rsa3072
hash-of-a-longer-key-of-OpenIKED | S peer-auth=ike:rsa-sha384 | O cert=rsa3072
hash-of-a-longer-key-of-OpenIKED-is-no-other | S peer-auth=ike:rsa-sha256 | O cert=rsa3072
hash-of-a-curve | S peer-auth=ike:ecdsa-sha384 | S cert=ec384
hash-of-a-curve-is-no-other | S peer-auth=ike:ecdsa-sha256 | S cert=ec384
hash-of-a-curve-of-OpenIKED | S peer-auth=ike:ecdsa-sha384 | O cert=ec384
hash-of-a-curve-of-OpenIKED-is-no-other | S peer-auth=ike:ecdsa-sha256 | O cert=ec384
hash-that-is-longer-than-the-curve-of-OpenIKED | S peer-auth=ike:ecdsa-sha384 | O cert=ec
hash-that-is-longer-than-the-curve | S peer-auth=ike:ecdsa-sha384 | S cert=ec
longer-key-with-Libreswan | S send=always cert=rsa3072 | L
longer-key-with-Libreswan-and-sha1 | S send=always cert=rsa3072 | L authby=rsa-sha1
rsa-word-of-OpenIKED-and-a-key-of-ecdsa | S certreq=no | O cert=ec rsa
rsa-word-of-OpenIKED-and-no-request | S certreq=no | O rsa
rsa-word-of-OpenIKED-and-a-key-of-ecdsa-with-Libreswan | L cert=ec authby=ecdsa leftsendcert=always | O cert=ec384 rsa
v1-ec-and-rsa | S version=1 cert=ec | S version=1
v1-ec-of-two-curves | S version=1 cert=ec | S version=1 cert=ec384
v1-signature-of-another-key | S version=1 auth=rsa-sha256 cert=ec | S version=1 cert=ec384
v1-asks-for-another-signature | S version=1 | S version=1 peer-auth=ike:ecdsa-sha384
v1-asks-for-hashes-of-the-certificate | S version=1 | S version=1 peer-auth=rsa-sha512
v1-asks-for-a-size | S version=1 cert=ec | S version=1 cert=ec peer-auth=ecdsa-256
v1-pss-with-Libreswan | S version=1 auth=rsa/pss-sha512 send=always | L ikev2=no rightca=%same
any-identity-at-Libreswan | S send=always | L rightid=%any
any-identity-and-any-peer-at-Libreswan | S send=always | L right=%any rightid=%any
any-identity-of-Libreswan | L | L rightid=%any
v1-any-identity-of-Libreswan | L ikev2=no | L ikev2=no rightid=%any
address-asked-for-by-Libreswan | S id= | L rightid=10.0.0.1
v1-subject-that-names-it | S version=1 id= send=always | L ikev2=no rightca=%same
v1-subject-that-names-it-and-need-not | S version=1 id= send=always | L ikev2=no rightca=%same require-id-on-certificate=no
subject-that-names-it-and-need-not | S id= send=always | L rightca=%same require-id-on-certificate=no
v1-subject-that-need-not-name-it-sent-when-asked | S version=1 id= | L ikev2=no rightca=%same require-id-on-certificate=no
v1-subject-that-need-not-name-it-of-Libreswan | L ikev2=no leftid=%fromcert | L ikev2=no require-id-on-certificate=no rightca=%same
v1-subject-that-does-not-name-it-and-need-not | S version=1 id= send=always cert=bare | L ikev2=no rightca=%same require-id-on-certificate=no
subject-that-does-not-name-it-and-need-not | S id= send=always cert=bare | L rightca=%same require-id-on-certificate=no
v1-subject-of-Libreswan | L ikev2=no leftid=%fromcert leftsendcert=always | L ikev2=no rightca=%same
v1-subject-that-does-not-name-it-of-Libreswan | L ikev2=no leftid=%fromcert leftsendcert=always cert=bare | L ikev2=no rightca=%same require-id-on-certificate=no
subject-that-does-not-name-it-of-Libreswan | L leftid=%fromcert leftsendcert=always cert=bare | L rightca=%same require-id-on-certificate=no
name-that-is-not-named-and-need-not | S send=always cert=bare id=c.example | L rightca=%same require-id-on-certificate=no
another-name-and-need-not | S send=always id=c.example | L rightca=%same require-id-on-certificate=no
v1-another-name-and-need-not | S version=1 send=always id=c.example | L ikev2=no rightca=%same require-id-on-certificate=no
another-name-of-Libreswan-and-need-not | L leftid=@c.example leftsendcert=always | L rightca=%same require-id-on-certificate=no
v1-subject-that-does-not-name-it | S version=1 id= send=always cert=bare | L ikev2=no rightca=%same
v1-address-and-need-not | S version=1 id=10.0.0.1 send=always cert=bare | L ikev2=no rightca=%same require-id-on-certificate=no
address-and-need-not | S id=10.0.0.1 send=always cert=bare | L rightca=%same require-id-on-certificate=no
v1-subject-and-a-key-asked-for | S version=1 id= peer-auth=psk send=ifasked | L ikev2=no rightca=%same require-id-on-certificate=no
v1-aggressive-of-Libreswan | L ikev2=no aggressive=yes ike=aes-sha1;modp2048 | L ikev2=no aggressive=yes ike=aes-sha1;modp2048
`

// pairsOfPublicKeys are pairs that have, or expect, public keys without a certificate: "key" is the own one, "far-key" that of the peer.
const pairsOfPublicKeys = `
key | S key=rsa far-key=rsa | S key=rsa far-key=rsa
key-of-another | S key=rsa far-key=rsa | S key=rsa far-key=bare
key-of-a-certificate | S far-key=rsa | S key=rsa far-key=rsa
key-of-another-certificate | S far-key=rsa cert=bare | S key=rsa far-key=rsa
key-at-one-end | S key=rsa | S far-key=rsa
key-of-ecdsa | S cert=ec key=ec far-key=ec | S cert=ec key=ec far-key=ec
key-of-Libreswan | L key=rsa far-key=rsa | L key=rsa far-key=rsa
key-of-another-of-Libreswan | L key=rsa far-key=rsa | L key=rsa far-key=bare
key-of-the-certificate-of-Libreswan | L far-key=rsa | L key=rsa far-key=rsa
key-of-both | S key=rsa far-key=rsa | L key=rsa far-key=rsa
key-of-another-of-both | S key=rsa far-key=rsa | L key=rsa far-key=bare
key-of-another-at-strongSwan | S key=rsa far-key=bare | L key=rsa far-key=rsa
v1-key | S version=1 key=rsa far-key=rsa | S version=1 key=rsa far-key=rsa
v1-key-of-another | S version=1 key=rsa far-key=rsa | S version=1 key=rsa far-key=bare
v1-key-of-Libreswan | L ikev2=no key=rsa far-key=rsa | L ikev2=no key=rsa far-key=rsa
v1-key-of-another-of-Libreswan | L ikev2=no key=rsa far-key=rsa | L ikev2=no key=rsa far-key=bare
v1-key-of-both | S version=1 key=rsa far-key=rsa | L ikev2=no key=rsa far-key=rsa
v1-key-of-another-of-both | S version=1 key=rsa far-key=rsa | L ikev2=no key=rsa far-key=bare
`

func TestPairsOfPublicKeys(t *testing.T) {
	tryCertificates(t, "raw", "makes-public-keys", pairsOfPublicKeys,
		"negotiation: pairs of public keys without certificates, either end as the initiator")
}

// pairsInUDP are pairs of which one or both wrap ESP in UDP, or refuse to, with certificates too.
const pairsInUDP = `
in-udp | S encap=yes | S
in-udp-at-both | S encap=yes | S encap=yes
in-udp-with-Libreswan | S encap=yes send=always | L
in-udp-of-Libreswan | S send=always | L encapsulation=yes
in-udp-of-Libreswan-alone | L encapsulation=yes | L
in-udp-and-never | S encap=yes send=always | L encapsulation=no
never-in-udp | S send=always | L encapsulation=no
in-udp-and-never-of-Libreswan | L encapsulation=yes | L encapsulation=no
in-udp-with-OpenIKED | S encap=yes | O
in-udp-of-Libreswan-with-OpenIKED | L encapsulation=yes | O
never-in-udp-with-OpenIKED | L encapsulation=no | O
v1-in-udp | S version=1 encap=yes | S version=1
v1-in-udp-with-Libreswan | S version=1 encap=yes send=always | L ikev2=no
v1-in-udp-and-never | S version=1 encap=yes send=always | L ikev2=no encapsulation=no
v1-in-udp-of-Libreswan | L ikev2=no encapsulation=yes | L ikev2=no
`

// shows is a certificate of the laboratory and its key.
type shows struct {
	cert, key []byte // PEM
	signer    crypto.Signer
	x509      *x509.Certificate
}

// public is the key of a certificate as PEM.
func (s *shows) public(t testing.TB) string {
	t.Helper()
	der, err := x509.MarshalPKIXPublicKey(s.signer.Public())
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
}

// raw is the RSA key of a certificate as RFC 3110 section 2 has it, in base 64.
func (s *shows) raw() string {
	k := s.signer.Public().(*rsa.PublicKey)
	e := big.NewInt(int64(k.E)).Bytes()
	return "0s" + base64.StdEncoding.EncodeToString(slices.Concat([]byte{byte(len(e))}, e, k.N.Bytes()))
}

// issue makes a certificate that names somebody.
func issue(t testing.TB, cn string, key crypto.Signer, by *shows, names ...string) *shows {
	return signed(t, cn, key, by, &x509.Certificate{DNSNames: names, KeyUsage: x509.KeyUsageDigitalSignature})
}

// authority makes the certificate of an authority, below another one or, by nil, below none.
func authority(t testing.TB, cn string, key crypto.Signer, by *shows) *shows {
	return signed(t, cn, key, by, &x509.Certificate{
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	})
}

// signed makes a certificate of a template; by is nil where it signs itself.
func signed(t testing.TB, cn string, key crypto.Signer, by *shows, c *x509.Certificate) *shows {
	t.Helper()
	number, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	require.NoError(t, err)
	c.SerialNumber, c.Subject = number, pkix.Name{CommonName: cn, Organization: []string{"Harbour"}}
	if c.NotBefore.IsZero() {
		c.NotBefore, c.NotAfter = hours(-48), hours(48)
	}
	parent, signer := c, key
	if by != nil {
		parent, signer = by.x509, by.signer
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, key.Public(), signer)
	require.NoError(t, err)
	parsed, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	private := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8})
	return &shows{pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), private, key, parsed}
}

// hours is a time from now.
func hours(n int) time.Time { return time.Now().Add(time.Duration(n) * time.Hour) }

// within makes a certificate that names somebody and holds from some hours to others, from now.
func within(t testing.TB, cn string, key crypto.Signer, by *shows, from, to int, names ...string) *shows {
	return signed(t, cn, key, by, &x509.Certificate{
		DNSNames: names, KeyUsage: x509.KeyUsageDigitalSignature, NotBefore: hours(from), NotAfter: hours(to),
	})
}

// bounded makes the certificate of an authority that holds from some hours to others, and is limited as a template says.
func bounded(t testing.TB, cn string, key crypto.Signer, by *shows, from, to int, c x509.Certificate) *shows {
	c.IsCA, c.BasicConstraintsValid, c.KeyUsage = true, true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign
	c.NotBefore, c.NotAfter = hours(from), hours(to)
	return signed(t, cn, key, by, &c)
}

// below limits an authority to names.
func below(name string) x509.Certificate {
	return x509.Certificate{PermittedDNSDomains: []string{name}, PermittedDNSDomainsCritical: true}
}

// inside limits an authority to addresses.
func inside(t testing.TB, network string) x509.Certificate {
	_, n, err := net.ParseCIDR(network)
	require.NoError(t, err)
	return x509.Certificate{PermittedIPRanges: []*net.IPNet{n}, PermittedDNSDomainsCritical: true}
}

// revoked makes the list of an authority that has revoked one certificate. Where late, the next one should have been there already.
func revoked(t testing.TB, by, one *shows, late bool) string {
	t.Helper()
	l := &x509.RevocationList{
		Number: big.NewInt(1), ThisUpdate: time.Now().Add(-2 * time.Hour), NextUpdate: time.Now().Add(24 * time.Hour),
		RevokedCertificateEntries: []x509.RevocationListEntry{
			{SerialNumber: one.x509.SerialNumber, RevocationTime: time.Now().Add(-3 * time.Hour)},
		},
	}
	if late {
		l.NextUpdate = time.Now().Add(-time.Hour)
	}
	der, err := x509.CreateRevocationList(rand.Reader, l, by.x509, by.signer)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}))
}

// wallet is what the ends of the pairs show: certificates by "a rsa", and authorities by "main" and "other".
type wallet map[string]*shows

func newWallet(t testing.TB) wallet {
	t.Helper()
	sized := func(bits int) crypto.Signer {
		k, err := rsa.GenerateKey(rand.Reader, bits)
		require.NoError(t, err)
		return k
	}
	rsaKey := func() crypto.Signer { return sized(2048) }
	ec := func(c elliptic.Curve) crypto.Signer {
		k, err := ecdsa.GenerateKey(c, rand.Reader)
		require.NoError(t, err)
		return k
	}
	w := wallet{"main": authority(t, "Harbour CA", rsaKey(), nil), "other": authority(t, "Island CA", rsaKey(), nil)}
	w["quay"] = authority(t, "Quay CA", rsaKey(), w["main"])
	w["ebb"] = bounded(t, "Ebb CA", rsaKey(), w["main"], -72, -1, x509.Certificate{})
	w["dawn"] = bounded(t, "Dawn CA", rsaKey(), nil, 48, 96, x509.Certificate{})
	w["shoal"] = bounded(t, "Shoal CA", rsaKey(), w["main"], -48, 48, below("elsewhere.example"))
	w["reef"] = bounded(t, "Reef CA", rsaKey(), w["main"], -48, 48, below("example"))
	w["strait"] = bounded(t, "Strait CA", rsaKey(), w["main"], -48, 48, inside(t, "10.9.0.0/16"))
	w["brief"] = bounded(t, "Brief CA", rsaKey(), w["main"], -48, 48, x509.Certificate{MaxPathLenZero: true})
	w["long"] = authority(t, "Long CA", rsaKey(), w["brief"])
	w["slip"] = authority(t, "Slip CA", rsaKey(), w["quay"])
	for _, who := range []string{"a", "b"} {
		name := who + ".example"
		w[who+" deep"] = issue(t, who+" deep", rsaKey(), w["quay"], name)
		w[who+" deeper"] = issue(t, who+" deeper", rsaKey(), w["slip"], name)
		w[who+" rsa"] = issue(t, who+" rsa", rsaKey(), w["main"], name) // no two of one subject: a store of NSS keeps them together
		w[who+" old"] = within(t, who+" old", rsaKey(), w["main"], -72, -1, name)
		alone := rsaKey()
		w[who+" alone"] = issue(t, who+" alone", alone, nil, name)
		w[who+" alone-again"] = issue(t, who+" alone", alone, nil, name)
		w[who+" alone-old"] = within(t, who+" alone-old", rsaKey(), nil, -72, -1, name)
		w[who+" young"] = within(t, who+" young", rsaKey(), w["main"], 48, 96, name)
		w[who+" of-strait"] = signed(t, who+" of-strait", rsaKey(), w["strait"], &x509.Certificate{
			DNSNames: []string{name}, IPAddresses: []net.IP{net.ParseIP("10.0.0.1")}, KeyUsage: x509.KeyUsageDigitalSignature,
		})
		w[who+" odd"] = signed(t, who+" odd", rsaKey(), w["main"], &x509.Certificate{
			DNSNames: []string{name}, KeyUsage: x509.KeyUsageDigitalSignature,
			ExtraExtensions: []pkix.Extension{
				{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 99999, 1}, Critical: true, Value: []byte{5, 0}},
			},
		})
		for _, by := range []string{"ebb", "dawn", "shoal", "reef", "long"} {
			w[who+" of-"+by] = issue(t, who+" of-"+by, rsaKey(), w[by], name)
		}
		w[who+" rsa3072"] = issue(t, who+" rsa3072", sized(3072), w["main"], name)
		w[who+" ec"] = issue(t, who+" ec", ec(elliptic.P256()), w["main"], name)
		w[who+" ec384"] = issue(t, who+" ec384", ec(elliptic.P384()), w["main"], name)
		w[who+" bare"] = issue(t, who+" bare", rsaKey(), w["main"])
		w[who+" other"] = issue(t, who+" other", rsaKey(), w["other"], name)
	}
	return w
}

// list makes a list of revoked certificates, in PEM: "main:rsa", with a certificate of the peer, or "main:quay"; "late:" before it.
func (w wallet) list(t testing.TB, says, peer string) string {
	t.Helper()
	if says == "" {
		return ""
	}
	says, late := strings.CutPrefix(says, "late:")
	by, whom, _ := strings.Cut(says, ":")
	one := w[whom]
	if one == nil {
		one = w[peer+" "+whom]
	}
	return revoked(t, w[by], one, late)
}

// end writes one end of a pair, and what it is given beside: files, of which those below "private" are not for others to read.
func (w wallet) end(t testing.TB, text string, me, peer int) (kind string, files map[string]string) {
	t.Helper()
	var rest []string
	names := [...]string{"", "a", "b"}
	of := map[string]string{"cert": "rsa", "ca": "main", "has": "", "beside": "", "anchors": "",
		"crl": "", "partial": "no", "pin": "", "first": "", "key": "", "far-key": ""}
	for _, word := range strings.Fields(strings.ReplaceAll(text, "Harbour CA", "Harbour_CA")) {
		key, value, _ := strings.Cut(word, "=")
		if _, known := of[key]; known {
			of[key] = value
		} else {
			rest = append(rest, word)
		}
	}
	cert, ca, has, beside, lists := of["cert"], of["ca"], w[names[peer]+" "+of["has"]], of["beside"], w.list(t, of["crl"], names[peer])
	own := w[names[me]+" "+cert]
	kind, says := rest[0], rest[1:]
	switch kind {
	case "S":
		e := end{version: "2", local: fmt.Sprintf("10.%d.0.0/16", me), remote: fmt.Sprintf("10.%d.0.0/16", peer), localAuth: "pubkey",
			remoteAuth: "pubkey", localID: names[me] + ".example", remoteID: names[peer] + ".example", psk: "harbour light of the old town",
			certs: "own.pem"}
		if of["anchors"] != "" {
			e.anchors = of["anchors"] + ".pem"
		}
		if of["pin"] != "" || of["far-key"] != "" {
			e.pinned = "pin.pem"
		}
		for _, one := range says {
			key, value, _ := strings.Cut(one, "=")
			*map[string]*string{"version": &e.version, "id": &e.localID, "peer": &e.remoteID, "auth": &e.localAuth,
				"peer-auth": &e.remoteAuth, "revocation": &e.revocation, "send": &e.sendCert, "encap": &e.encap,
				"certreq": &e.sendCertReq}[key] = strings.ReplaceAll(value, "_", " ")
		}
		first := map[string]string{"key": string(own.key), "mark": "\uFEFF", "root": string(w["main"].cert)}[of["first"]]
		files = map[string]string{
			"swanctl.conf":    e.text(fmt.Sprintf("10.0.0.%d", me), fmt.Sprintf("10.0.0.%d", peer), me, peer),
			"x509/own.pem":    first + string(own.cert),
			"private/own.pem": string(own.key),
		}
		for name, of := range map[string]*shows{"own": w[names[me]+" "+of["key"]], "pin": w[names[peer]+" "+of["far-key"]]} {
			if of != nil { // its key in place of its certificate
				files["pubkey/"+name+".pem"] = of.public(t)
				files["swanctl.conf"] = strings.Replace(files["swanctl.conf"], "certs = "+name+".pem", "pubkeys = "+name+".pem", 1)
			}
		}
		if of["key"] != "" {
			delete(files, "x509/own.pem")
		}
		if of["pin"] != "" {
			files["x509/pin.pem"] = string(w[names[peer]+" "+of["pin"]].cert)
		}
		for name := range strings.SplitSeq(ca, ",") {
			if name != "" {
				files["x509ca/"+name+".pem"] = string(w[name].cert)
			}
		}
		if lists != "" {
			files["x509crl/list.pem"] = lists
		}
		if beside != "" {
			files["x509/"+beside+".pem"] = string(w[beside].cert)
		}
		if has != nil {
			files["x509/peer.pem"] = string(has.cert)
		}
		return kind, files
	case "L":
		lines := []string{"-authby", "pfs=no", "leftid=@" + names[me] + ".example", "rightid=@" + names[peer] + ".example"}
		if key := of["key"]; key != "" {
			lines = append(lines, "leftrsasigkey="+w[names[me]+" "+key].raw())
		} else {
			lines = append(lines, "leftcert="+names[me]+"-"+cert)
		}
		if key := of["far-key"]; key != "" {
			lines = append(lines, "rightrsasigkey="+w[names[peer]+" "+key].raw())
		}
		files = libreText(strings.Join(append(lines, says...), " "), me, peer)
		files["ipsec.conf"] = strings.NewReplacer("a_rsa", "a rsa", "Harbour_CA", "Harbour CA").Replace(files["ipsec.conf"])
		return kind, files
	}
	_, files = endOfIked(t, "O "+strings.Join(says, " "), me, peer)
	if len(says) == 0 || says[0] != "psk" {
		files["iked.conf"] = strings.Replace(files["iked.conf"], `psk "harbour light of the old town"`, "", 1)
	}
	files["certs/own.crt"], files["private/local.key"] = string(own.cert), string(own.key)
	for name := range strings.SplitSeq(ca, ",") {
		files["ca/ca.crt"] += string(w[name].cert)
	}
	if has != nil {
		files["certs/peer.crt"] = string(has.cert)
	}
	if beside != "" {
		files["certs/"+beside+".crt"] = string(w[beside].cert)
	}
	if lists != "" {
		files["crls/list.crl"] = lists
	}
	if of["partial"] == "" {
		files["iked.conf"] = "set cert_partial_chain\n" + files["iked.conf"]
	}
	files["iked.conf"] = regexp.MustCompile(`/O=\w+/CN=(\w)_(\w+)`).ReplaceAllString(files["iked.conf"], `"/O=Harbour/CN=$1 $2"`)
	return kind, files
}

// start starts a daemon of a make, with everything that it may show in its store, where it has one.
func (w wallet) start(t testing.TB, kind, name, ns string) daemon {
	t.Helper()
	return startOf(t, kind, name, ns, func(d *pluto.Daemon) {
		d.Trust(t, "main", string(w["main"].cert))
		for key, s := range w {
			if who, what, ok := strings.Cut(key, " "); ok && who == name {
				d.Own(t, who+"-"+what, string(s.cert), string(s.key))
			}
		}
	})
}

// kindsOfPairs are the makes of both ends.
var kindsOfPairs = []string{"SS", "SL", "SO", "LL", "LO", "OL", "OO"}

func TestPairsWithCertificates(t *testing.T) {
	tryCertificates(t, "certs", "makes-certificates", strings.TrimSpace(pairsWithCertificates)+pairsInUDP,
		"negotiation: named pairs with certificates, either end as the initiator")
}

// tryCertificates tries pairs that show certificates, between daemons on a wire of their own.
func tryCertificates(t *testing.T, wire, kept, lines, what string) {
	tally := lab.NewTally(t, what)
	t.Parallel()
	nsA, nsB := lab.Wire(t, wire)
	w := newWallet(t)
	tryAll(t, tally, kept, lines, w.end, func(kind string) (one, two daemon) {
		return w.start(t, kind[:1], "a", nsA), w.start(t, kind[1:], "b", nsB)
	})
}

// tryAll tries pairs of makes, a line each: a name and what either end says, which write makes the files of. Behind a name with "?" nothing
// comes up for what no file tells. Start starts the daemons of both ends, of makes by their letters.
func tryAll(t *testing.T, tally *lab.Tally, kept, lines string,
	write func(t testing.TB, text string, me, peer int) (kind string, files map[string]string), start func(kinds string) (one, two daemon),
) {
	t.Helper()
	of := map[string][]pairOf{}
	names := map[string]bool{}
	count := 0
	only := regexp.MustCompile(os.Getenv("TORIL_LAB_ONLY"))
	for line := range strings.Lines(strings.TrimSpace(lines)) {
		parts := strings.Split(strings.TrimSpace(line), "|")
		name, open := strings.CutSuffix(strings.TrimSpace(parts[0]), "?")
		require.False(t, names[name], "two pairs are %s", name)
		names[name] = true
		if !only.MatchString(name) {
			continue
		}
		p := pairOf{name: name, open: open, once: os.Getenv("TORIL_LAB_CASES") == ""} // renewing has little to do with it
		k1, a := write(t, parts[1], 1, 2)
		k2, b := write(t, parts[2], 2, 1)
		p.a, p.b = a, b
		of[k1+k2] = append(of[k1+k2], p)
		count++
	}
	require.NotZero(t, count)
	r := newRecord(t, kept)
	r.most = count
	for _, kinds := range slices.Sorted(maps.Keys(of)) {
		one, two := start(kinds)
		for _, p := range of[kinds] {
			p.try(t, tally, one, two, r)
		}
		one.Stop() // the others want their ports
		two.Stop()
	}
}

// drawEnd draws what an end says of certificates, in the words of pairsWithCertificates. Its own key is one that it can sign with, as far
// as no file tells it.
func (g generator) drawEnd(kind string, v1 bool) string {
	says := []string{kind}
	add := func(percent int, words ...string) {
		if g.chance(percent) {
			says = append(says, g.one(words...))
		}
	}
	switch kind {
	case "S":
		if v1 {
			says = append(says, "version=1")
		}
		add(60, "cert=ec", "cert=ec384", "cert=bare", "cert=other", "cert=rsa", "cert=deep", "cert=deep", "cert=deeper")
		add(50, "send=always", "send=always", "send=never", "send=ifasked")
		add(15, "certreq=no")
		add(12, "id=")
		add(20, "has=rsa", "has=ec", "has=deep", "has=other")
		add(50, "ca=other", "ca=main,quay", "ca=main,quay,slip", "ca=main,slip", "ca=quay", "ca=other,quay", "ca=main,other",
			"ca=main,quay anchors=main", "ca=main,quay anchors=quay", "ca=quay anchors=quay", "ca=main,slip anchors=slip")
		add(15, "beside=quay", "beside=slip", "beside=main")
		add(25, "auth=rsa/pss-sha512", "auth=rsa-sha256", "auth=rsa/pss-sha384-sha256", "auth=pubkey-sha512", "auth=ecdsa", "auth=psk")
		add(25, "peer-auth=rsa-sha256", "peer-auth=ecdsa", "peer-auth=ike:rsa-sha512", "peer-auth=ike:ecdsa-sha384", "peer-auth=rsa-2048",
			"peer-auth=pubkey", "peer-auth=psk")
		add(15, "peer=%any")
	case "L":
		if v1 {
			says = append(says, "ikev2=no")
		}
		if g.chance(30) {
			says = append(says, "cert=ec", g.one("authby=ecdsa", "authby=ecdsa", "authby=ecdsa-sha2_384,ecdsa-sha2_512"))
		} else {
			add(50, "authby=rsasig", "authby=rsa-sha2", "authby=rsa-sha1", "authby=rsa-sha2_512", "authby=rsa-sha1,rsa-sha2",
				"authby=rsa-sha2_256,rsa-sha2_384", "authby=secret")
		}
		add(50, "rightca=%same", "rightca=\"O=Harbour,CN=Harbour CA\"", "rightca=%any")
		add(25, "leftsendcert=never", "leftsendcert=always", "leftsendcert=sendifasked")
		add(12, "require-id-on-certificate=no")
		add(10, "leftid=%fromcert")
	case "O":
		add(60, "cert=ec", "cert=ec384", "cert=other", "cert=rsa", "cert=deep", "cert=deeper")
		add(50, "ca=other", "ca=main,quay", "ca=main,quay,slip", "ca=main,slip", "ca=quay", "ca=main,other")
		add(15, "beside=quay", "beside=slip", "beside=main", "has=rsa", "has=deep")
		add(15, "partial")
		add(50, "rsa", "rfc7427", "ecdsa256", "psk harbour")
	}
	return strings.Join(says, " ")
}

// TestRandomPairsWithCertificates tries pairs that nobody thought of.
func TestRandomPairsWithCertificates(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: random pairs with certificates, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "randcerts")
	w := newWallet(t)
	pairs := howMany()
	if os.Getenv("TORIL_LAB_CASES") == "" {
		pairs = 8 // of each kind
	}
	from, _ := strconv.Atoi(os.Getenv("TORIL_LAB_FROM"))
	for i, k := range kindsOfPairs {
		one, two := w.start(t, k[:1], "a", nsA), w.start(t, k[1:], "b", nsB)
		for n := from; n < from+pairs; n++ {
			g := generator{mathrand.New(mathrand.NewPCG(seed+uint64(i), uint64(n)))}
			v1 := !strings.Contains(k, "O") && g.chance(15)
			a, b := g.drawEnd(k[:1], v1), g.drawEnd(k[1:], v1)
			p := pairOf{name: fmt.Sprintf("%d: %s | %s", n, a, b), open: strings.Contains(k, "L"),
				once: os.Getenv("TORIL_LAB_CASES") == ""}
			_, p.a = w.end(t, a, 1, 2)
			_, p.b = w.end(t, b, 2, 1)
			p.try(t, tally, one, two, &record{})
		}
		one.Stop()
		two.Stop()
	}
}
