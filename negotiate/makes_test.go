package negotiate_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/estate"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// TestWhatDaemonsOfTwoMakesDid asks again about pairs for which daemons did what had been predicted: Libreswan and OpenIKED with
// themselves, each other and strongSwan (lab/negotiation, which keeps them where TORIL_LAB_RECORD names a folder). Among them is each rule
// of docs/daemons/libreswan.md and openiked.md by name. TORIL_WRITE_WANTS writes the predictions, right after such a run.
func TestWhatDaemonsOfTwoMakesDid(t *testing.T) {
	for _, name := range []string{
		"makes-named", "makes-Libreswan-and-Libreswan", "makes-strongSwan-and-Libreswan",
		"makes-certificates", "makes-chains", "makes-nat", "makes-keys", "makes-modes", "makes-public-keys",
		"makes-named-OpenIKED", "makes-OpenIKED-and-OpenIKED", "makes-strongSwan-and-OpenIKED", "makes-Libreswan-and-OpenIKED",
	} {
		file := "testdata/" + name + ".txtar"
		ar, err := txtar.ParseFile(file)
		require.NoError(t, err)
		pairs, order := pairsOf(ar)
		out := &txtar.Archive{Files: slices.DeleteFunc(slices.Clone(ar.Files), func(f txtar.File) bool {
			return !strings.HasPrefix(f.Name, "certificates/")
		})}
		for _, of := range order {
			want := ""
			if w := pairs[of]["want"]; w != nil {
				want = string(w.Data)
				delete(pairs[of], "want")
			}
			got := "a connection is not loaded\n"
			if tu := tunnelOfMakes(t, pairs[of]); tu != nil {
				got = told(tu)
			}
			for _, f := range ar.Files {
				if strings.HasPrefix(f.Name, of+"/") && !strings.HasSuffix(f.Name, "/want") {
					out.Files = append(out.Files, f)
				}
			}
			out.Files = append(out.Files, txtar.File{Name: of + "/want", Data: []byte(got)})
			if os.Getenv("TORIL_WRITE_WANTS") == "" {
				assert.Equal(t, want, got, "%s: %s", name, of)
			}
		}
		if os.Getenv("TORIL_WRITE_WANTS") != "" {
			require.NoError(t, os.WriteFile(file, txtar.Format(out), 0o644))
		}
	}
}

// tunnelOfMakes joins two ends by hand: whether they would be paired is another question. It is nil where a daemon loads no connection at
// all.
func tunnelOfMakes(t *testing.T, files fstest.MapFS) *pair.Tunnel {
	t.Helper()
	version := map[string]string{"a": "strongSwan 5.9.8", "b": "strongSwan 5.9.8"}
	for folder, address := range map[string]string{"a": "10.0.0.1", "b": "10.0.0.2"} {
		if files[folder+"/ipsec.conf"] != nil {
			version[folder] = "Libreswan 4.10"
		}
		if files[folder+"/iked.conf"] != nil {
			version[folder] = "OpenIKED 7.2 on Linux"
		}
		if files[folder+"/ip-address.txt"] != nil {
			continue
		}
		files[folder+"/ip-address.txt"] = &fstest.MapFile{Data: []byte("2: tv: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc noqueue " +
			"state UP group default qlen 1000\n    inet " + address + "/24 scope global tv\n")}
	}
	files["toril.yaml"] = &fstest.MapFile{Data: []byte(fmt.Sprintf(
		"formats: {\"*/ipsec.conf\": ipsec.conf-libreswan}\nversions: {a: %s, b: %s}\n", version["a"], version["b"]))}
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	a, b := e.Gateway("a"), e.Gateway("b")
	if len(a.Connections) == 0 || len(b.Connections) == 0 {
		return nil
	}
	return &pair.Tunnel{
		Name: "a <> b",
		Ends: []pair.End{{Gateway: a, Connection: a.Connections[0]}, {Gateway: b, Connection: b.Connections[0]}},
	}
}

// what says of a prediction that a named pair is about.
func what(a negotiate.Attempt) string {
	switch {
	case a.Failure != nil:
		return "no IKE SA"
	case a.Children[0].Failure != nil:
		return "no child"
	}
	return a.Children[0].Suite.String()
}

// namedPairs reads the pairs of a file.
func namedPairs(t *testing.T, file string) map[string]fstest.MapFS {
	t.Helper()
	ar, err := txtar.ParseFile(file)
	require.NoError(t, err)
	pairs, _ := pairsOf(ar)
	return pairs
}

// pairsOf takes an archive apart: the files of each pair, and the pairs' names in their order. A file may have the name of a certificate in
// place of its text.
func pairsOf(ar *txtar.Archive) (pairs map[string]fstest.MapFS, order []string) {
	pairs = map[string]fstest.MapFS{}
	shared := map[string][]byte{}
	for _, f := range ar.Files {
		shared[f.Name+"\n"] = f.Data
	}
	for _, f := range ar.Files {
		of, rest, _ := strings.Cut(f.Name, "/")
		if of == "certificates" {
			continue
		}
		if pairs[of] == nil {
			pairs[of] = fstest.MapFS{}
			order = append(order, of)
		}
		text := f.Data
		if named, ok := shared[string(text)]; ok {
			text = named
		}
		pairs[of][rest] = &fstest.MapFile{Data: text}
	}
	return pairs, order
}

// TestRulesOfLibreswan says of each named pair that decides most what comes of it, whoever begins.
func TestRulesOfLibreswan(t *testing.T) {
	pairs := namedPairs(t, "testdata/makes-named.txtar")
	const aes128, aes256 = "AES-CBC-128 / HMAC-SHA1 cut to 96 bits", "AES-CBC-256 / HMAC-SHA1 cut to 96 bits"
	for name, want := range map[string][2]string{
		"esp-aes-without-size":            {aes128 + " / ESN", aes128 + " / ESN"},
		"v1-without-esp-and-256":          {"no child", aes256},
		"v1-esp-aes-without-size-and-192": {"no child", "AES-CBC-192 / HMAC-SHA1 cut to 96 bits"},
		"v1-pfs-at-one-end":               {aes128, "no child"},
		"narrower":                        {"no child", "no child"},
		"narrower-at-one-that-narrows":    {"AES-GCM-256 with a 16-byte ICV / ESN", "no child"},
		"transport-at-one-end":            {"no child", "no child"},
		"ppk-never-and-insist":            {"no IKE SA", "no IKE SA"},
		"replay-window-0":                 {"AES-GCM-256 with a 16-byte ICV", "AES-GCM-256 with a 16-byte ICV"},
		"aggressive-of-two-groups":        {"no IKE SA", "no IKE SA"},
		"groups-that-are-gone":            {"no IKE SA", "no IKE SA"},
	} {
		require.NotNil(t, pairs[name], name)
		as := negotiate.Tunnel(tunnelOfMakes(t, pairs[name]))
		for i := range want {
			got := what(as[i])
			if strings.HasPrefix(name, "v1-") { // the group is of no interest
				got, _, _ = strings.Cut(got, " / group")
			}
			assert.Equal(t, want[i], got, "%s, end %d begins", name, i)
		}
	}
	renewed := negotiate.Tunnel(tunnelOfMakes(t, pairs["renewed-with-the-group-of-ike"]))[0].Children[0].Rekey
	assert.Equal(t, negotiate.Agrees, renewed.Outcome, "whatever groups the proposals of the child name")
	assert.Contains(t, renewed.Suite.String(), "group 14 (MODP 2048)")
}

// TestRulesOfOpenIKED says of each named pair what its rule is about: how an end's attempt ends, and a word of the reason or the note.
func TestRulesOfOpenIKED(t *testing.T) {
	pairs := namedPairs(t, "testdata/makes-named-OpenIKED.txtar")
	saysOf(t, pairs, []said{
		{"child-of-combined-cipher", 0, negotiate.Fails, "has nothing to propose"},
		{"child-of-combined-cipher-with-strongSwan", 0, negotiate.Fails, "the daemon of b has nothing for ESP"},
		{"child-of-sha2-256", 0, negotiate.Fails, "HMAC-SHA2-256 cut to 128 bits, which the kernel of b does not take"},
		{"child-with-long-numbers", 0, negotiate.Fails, "ESN, which the kernel of b does not take"},
		{"child-that-differs-with-strongSwan", 0, negotiate.Fails, "no common ESP proposal"},
		{"networks-narrower", 0, negotiate.Agrees, "only what is of both passes"},
		{"networks-apart", 0, negotiate.Agrees, "and no packet passes"},
		{"networks-apart-with-strongSwan", 0, negotiate.Partly, "a does not take that"},
		{"networks-apart-with-strongSwan", 1, negotiate.Fails, "which is not mirrored"},
		{"networks-narrower-with-Libreswan", 0, negotiate.Partly, "a does not take that"},
		{"transport-of-networks", 0, negotiate.Agrees, "no packet is accepted"},
		{"transport-at-one-end", 0, negotiate.Fails, "finds no policy for it"},
		{"transport-at-one-end", 1, negotiate.Agrees, ""},
		{"identity-that-is-the-name-of-the-host", 0, negotiate.Agrees, "the name of its host, which its configuration does not say"},
		{"second-proposal-of-ike-with-Libreswan", 1, negotiate.Agrees, "under the number that it has among its proposals, 2"},
		{"renewed-without-a-group-first", 0, negotiate.Agrees, ""},
		{"strongSwan-with-IKEv1", 0, negotiate.Fails, "IKEv1"},
	})
	ikeSA := negotiate.Tunnel(tunnelOfMakes(t, pairs["second-proposal-of-ike-with-Libreswan"]))[1].Rekey
	assert.Equal(t, [2]negotiate.Outcome{negotiate.Fails, negotiate.Agrees}, [2]negotiate.Outcome{ikeSA.ByInitiator, ikeSA.ByResponder})
	soon := pairs["renewed-without-a-group-first"]
	text := strings.Replace(string(soon["b/iked.conf"].Data), "ikelifetime 86400", "ikelifetime 86400 lifetime 600", 1)
	soon["b/iked.conf"] = &fstest.MapFile{Data: []byte(text)}
	fails := negotiate.Tunnel(tunnelOfMakes(t, soon))[0].Children[0].Rekey.Failure
	require.NotNil(t, fails)
	assert.Contains(t, fails.Why, "b renews with a share of the first group of its first proposal, none; a takes group 19 (NIST P-256)")
	once := negotiate.Tunnel(tunnelOfMakes(t, pairs["renewed-without-a-group-first"]))[0].Children[0].Rekey
	assert.Equal(t, [2]negotiate.Outcome{negotiate.Agrees, negotiate.Fails}, [2]negotiate.Outcome{once.ByInitiator, once.ByResponder})
}

// said is what is predicted of a named pair: how an end's attempt ends, and a word of the reason or the note.
type said struct {
	name    string
	begins  int
	outcome negotiate.Outcome
	says    string
}

func saysOf(t *testing.T, pairs map[string]fstest.MapFS, all []said) {
	t.Helper()
	for _, c := range all {
		require.NotNil(t, pairs[c.name], c.name)
		a := negotiate.Tunnel(tunnelOfMakes(t, pairs[c.name]))[c.begins]
		assert.Equal(t, c.outcome, a.Outcome, c.name)
		text := fmt.Sprint(a.Notes, a.Unsure())
		for _, f := range []*negotiate.Failure{a.Failure, a.Rekey.Failure} {
			if f != nil {
				text += f.Why
			}
		}
		for _, k := range a.Children {
			text += fmt.Sprint(k.Notes, k.Broken)
			if k.Failure != nil {
				text += k.Failure.Why
			}
		}
		assert.Contains(t, text, c.says, c.name)
	}
}

// TestRulesOfCertificates says of each named pair with certificates what its rule is about.
func TestRulesOfCertificates(t *testing.T) {
	saysOf(t, namedPairs(t, "testdata/makes-certificates.txtar"), []said{
		{"rsa", 0, negotiate.Agrees, "[]"},
		{"rsa-with-Libreswan", 0, negotiate.Agrees, "the certificate of b was not given"},
		{"rsa-with-Libreswan", 1, negotiate.Fails, "only where it is asked for one, and b does not ask"},
		{"sent-always", 1, negotiate.Agrees, ""},
		{"asked-for-by-the-same-authority", 1, negotiate.Agrees, ""},
		{"asked-for-by-any-authority", 1, negotiate.Fails, "b does not ask"},
		{"v1-with-Libreswan", 0, negotiate.Fails, "b does not ask"},
		{"v1-with-Libreswan", 1, negotiate.Agrees, ""},
		{"not-asked-for", 0, negotiate.Fails, "b sends its certificate only where it is asked for one, and a does not ask"},
		{"never-sent", 0, negotiate.Fails, "a never sends its certificate, and b has not got it"},
		{"has-its-peers", 0, negotiate.Agrees, ""},
		{"never-sent-by-Libreswan-to-OpenIKED", 0, negotiate.Fails, "a never sends"},
		{"rsa-word-of-OpenIKED-with-Libreswan", 0, negotiate.Fails, "only where one of its authority is asked for"},
		{"rsa-word-of-OpenIKED-that-is-asked", 0, negotiate.Agrees, ""},
		{"names-only-its-subject", 0, negotiate.Fails, "a sends the identity a.example, which its certificate does not name"},
		{"names-only-its-subject-with-Libreswan", 0, negotiate.Fails, "which its certificate does not name"},
		{"need-not-name-it", 0, negotiate.Agrees, ""},
		{"subject-unsaid-and-a-name", 1, negotiate.Fails, "a sends the identity O=harbour, CN=a rsa, and b expects a.example"},
		{"subject-unsaid-and-a-name-at-Libreswan", 0, negotiate.Agrees, ""},
		{"subject-of-Libreswan-and-a-name", 0, negotiate.Fails, "b sends the subject of its certificate, and a expects b.example"},
		{"rsa-alone-with-ec-of-strongSwan", 0, negotiate.Fails, "ECDSA with SHA2-256, and b takes no other signature than RSASSA"},
		{"ec-and-rsa", 0, negotiate.Agrees, ""},
		{"rsa-with-sha2-512-with-strongSwan", 0, negotiate.Fails, "b takes no other signature than RSASSA-PSS with SHA2-512"},
		{"pss-of-strongSwan-with-sha2-512", 0, negotiate.Agrees, ""},
		{"pss-of-strongSwan-with-other-sha2", 0, negotiate.Fails, "b takes no other signature than RSASSA-PSS with SHA2-512"},
		{"rsa-sha1-sent-always", 0, negotiate.Agrees, ""},
		{"ecdsa-alone-and-any", 0, negotiate.Fails, "or RSASSA-PSS, and b takes no other signature than ECDSA"},
		{"ecdsa256-word-of-OpenIKED-with-ecdsa", 0, negotiate.Fails, "b signs with ECDSA by method 9"},
		{"v1-rsa-sha1-of-Libreswan", 0, negotiate.Fails, "of IKEv1 the daemon of a signs with RSA and any hash alone"},
		{"rsa-word-of-OpenIKED-and-a-key-of-ecdsa", 0, negotiate.Agrees, ""},
		{"rsa-word-of-OpenIKED-and-no-request", 0, negotiate.Fails, "only where one of its authority is asked for"},
		{"v1-ec-and-rsa", 0, negotiate.Fails, "both ends sign by one method, and a has a key of ECDSA, b one of RSA"},
		{"v1-ec-of-two-curves", 0, negotiate.Agrees, ""},
		{"v1-signature-of-another-key", 0, negotiate.Agrees, ""},
		{"v1-asks-for-another-signature", 0, negotiate.Agrees, ""},
		{"v1-asks-for-hashes-of-the-certificate", 0, negotiate.Fails, "the certificate of a is signed with"},
		{"v1-pss-with-Libreswan", 0, negotiate.Agrees, ""},
		{"asks-for-these-hashes", 0, negotiate.Fails, "a takes no other signature than RSASSA-PKCS1-v1_5 with SHA2-512"},
		{"asks-for-ecdsa-of-a-size-and-gets-it", 0, negotiate.Fails, "the certificate of b is signed with RSASSA-PKCS1-v1_5 with SHA2-256"},
		{"asks-for-hashes-of-ike-alone", 0, negotiate.Agrees, ""},
		{"asks-for-hashes-of-ike-alone", 1, negotiate.Fails, "b signs with RSASSA-PKCS1-v1_5 with SHA2-256"},
		{"authority-that-one-trusts", 0, negotiate.Agrees, ""},
		{"v1-subject-that-names-it", 1, negotiate.Agrees, ""},
		{"v1-subject-that-does-not-name-it", 0, negotiate.Fails, "a sends the identity O=harbour, CN=a bare"},
		{"subject-that-does-not-name-it-and-need-not", 0, negotiate.Agrees, ""},
		{"subject-that-does-not-name-it-and-need-not", 1, negotiate.Fails, "a sends the identity O=harbour, CN=a bare"},
		{"another-name-of-Libreswan-and-need-not", 1, negotiate.Agrees, ""},
		{"v1-another-name-and-need-not", 0, negotiate.Fails, "a sends the identity c.example"},
		{"authority-that-nobody-trusts", 0, negotiate.Fails, "b does not trust that authority"},
	})
}

// TestRulesOfChains says of each named pair whose certificates were signed by authorities below others what its rule is about.
func TestRulesOfChains(t *testing.T) {
	saysOf(t, namedPairs(t, "testdata/makes-chains.txtar"), []said{
		{"below-an-authority-that-is-sent", 0, negotiate.Agrees, ""},
		{"below-an-authority-that-is-not-sent", 0, negotiate.Fails, "signed by O=harbour, CN=quay ca, and b does not trust that authority"},
		{"below-an-authority-without-its-own", 0, negotiate.Fails,
			"b finds no certificate of O=harbour, CN=harbour ca, which signed that of O=harbour, CN=quay ca"},
		{"below-two-of-which-one-is-sent-and-one-is-there", 0, negotiate.Fails, "b does not trust that authority"},
		{"below-two-of-which-one-is-sent", 0, negotiate.Fails, "b does not trust that authority"},
		{"sent-without-its-own", 0, negotiate.Agrees, ""},
		{"not-below-an-authority-that-is-named", 0, negotiate.Fails, "b does not trust that authority"},
		{"below-an-authority-that-is-sent-to-OpenIKED", 0, negotiate.Fails, "b does not trust that authority"},
		{"below-an-authority-that-OpenIKED-has", 0, negotiate.Agrees, ""},
		{"below-an-authority-that-OpenIKED-has-beside", 0, negotiate.Fails, "b does not trust that authority"},
		{"below-an-authority-without-its-own-at-OpenIKED", 0, negotiate.Fails, "b finds no certificate of O=harbour, CN=harbour ca"},
		{"below-an-authority-without-its-own-at-OpenIKED-partial", 0, negotiate.Agrees, ""},
		{"below-an-authority-of-OpenIKED-that-it-has", 0, negotiate.Agrees, ""},
		{"below-two-of-OpenIKED-of-which-one-is-there", 0, negotiate.Fails, "a does not trust that authority"},
		{"held-by-the-other", 0, negotiate.Agrees, ""},
		{"held-by-the-other-and-another-is-named", 0, negotiate.Fails, "b does not trust that authority"},
		{"held-by-OpenIKED", 0, negotiate.Agrees, ""},
		{"held-by-OpenIKED-another", 0, negotiate.Fails, "b has another certificate of a.example than a sends, and takes that one"},
		{"held-by-strongSwan-another", 0, negotiate.Agrees, ""},
		{"key-in-place-of-a-certificate", 0, negotiate.Fails, "O=harbour, CN=island ca, which signed its certificate, and sends its key"},
		{"key-of-rsa-asked-for-and-none-there", 0, negotiate.Agrees, ""},
		{"key-asked-for-and-an-authority-that-it-has", 0, negotiate.Agrees, ""},
		{"revoked", 0, negotiate.Fails, "b has a list by which that of O=harbour, CN=a rsa is revoked"},
		{"revoked-of-another", 0, negotiate.Agrees, ""},
		{"revoked-below", 0, negotiate.Fails, "by which that of O=harbour, CN=quay ca is revoked"},
		{"revoked-and-there", 0, negotiate.Fails, "by which that of O=harbour, CN=a rsa is revoked"},
		{"revoked-and-there-alone", 0, negotiate.Agrees, ""},
		{"strict-without-a-list", 0, negotiate.Fails, "and has none of O=harbour, CN=harbour ca, which signed that of O=harbour, CN=a rsa"},
		{"strict-with-a-list", 0, negotiate.Agrees, ""},
		{"strict-where-one-is-named", 0, negotiate.Agrees, ""},
		{"revoked-at-OpenIKED-and-there", 0, negotiate.Agrees, ""},
		{"revoked-by-another-authority", 0, negotiate.Agrees, ""},
		{"revoked-at-OpenIKED-by-another-authority", 0, negotiate.Fails, "has none of O=harbour, CN=island ca"},
		{"revoked-at-OpenIKED-a-list-of-the-lower-alone", 0, negotiate.Fails, "which signed that of O=harbour, CN=quay ca"},
	})
}

// TestKeysInPlaceOfCertificatesAreNotGuessed: where the authorities of one end were not given, which it asks for is not known.
func TestKeysInPlaceOfCertificatesAreNotGuessed(t *testing.T) {
	for _, missing := range []string{"a/ca/ca.crt", "b/ca/ca.crt"} {
		once := namedPairs(t, "testdata/makes-chains.txtar")["key-in-place-of-a-certificate"]
		assert.Equal(t, negotiate.Fails, negotiate.Tunnel(tunnelOfMakes(t, once))[0].Outcome)
		require.Contains(t, once, missing)
		delete(once, missing)
		a := negotiate.Tunnel(tunnelOfMakes(t, once))[0]
		assert.NotEqual(t, negotiate.Fails, a.Outcome, missing)
		assert.Contains(t, fmt.Sprint(a.Notes), "were not given", missing)
	}
}

// TestWhoRenewsFirst: the end with the shorter time, and when the other would.
func TestWhoRenewsFirst(t *testing.T) {
	pairs := namedPairs(t, "testdata/makes-certificates.txtar")
	a := negotiate.Tunnel(tunnelOfMakes(t, pairs["rsa-with-Libreswan"]))[0]
	assert.Equal(t, "a", a.Rekey.By)
	assert.Equal(t, 4*time.Hour, a.Rekey.After)
	assert.Equal(t, "b", a.Rekey.LaterBy)
	assert.Equal(t, 7*time.Hour+55*time.Minute+30*time.Second, a.Rekey.Later, "half its margin before 8 h, as it responded")
	once := pairs["rsa-with-Libreswan"]
	once["b/ipsec.conf"].Data = append(once["b/ipsec.conf"].Data, "\trekey=no\n"...)
	swan := once["a/swanctl.conf"]
	swan.Data = bytes.Replace(swan.Data, []byte("version = 2"), []byte("version = 2\nrekey_time = 9h"), 1)
	a = negotiate.Tunnel(tunnelOfMakes(t, once))[0]
	assert.Equal(t, "a", a.Children[0].Rekey.By)
	assert.Zero(t, a.Children[0].Rekey.Later, "b never does")
	assert.Equal(t, "b", a.Children[0].Rekey.LaterBy)
	assert.Equal(t, 9*time.Hour, a.Rekey.After)
}

// TestCertificatesOfAMakeThatIsNotKnown: nothing is held against a daemon of which it is not known what it sends, asks for and signs with.
func TestCertificatesOfAMakeThatIsNotKnown(t *testing.T) {
	tu := tunnelOfMakes(t, namedPairs(t, "testdata/makes-certificates.txtar")["rsa"])
	c := tu.Ends[1].Connection
	c.Daemon, c.SendCert, c.AskCert = model.Daemon{}, model.Setting[string]{}, model.Setting[bool]{}
	c.Local.Signatures, c.Local.Otherwise = 0, 0
	for _, a := range negotiate.Tunnel(tu) {
		assert.Equal(t, negotiate.Agrees, a.Outcome)
	}
	c.AskCert = model.Say(false, c.At)
	assert.Equal(t, negotiate.Fails, negotiate.Tunnel(tu)[0].Outcome, "it says that it does not ask")
}

// TestRulesOfKeys says of each named pair with keys that are somebody's what its rule is about.
func TestRulesOfKeys(t *testing.T) {
	saysOf(t, namedPairs(t, "testdata/makes-keys.txtar"), []said{
		{"of-its-address", 0, negotiate.Agrees, ""},
		{"of-its-address", 1, negotiate.Fails, "b does not say whom it expects: as the initiator it looks for"},
		{"of-each-peers-address", 0, negotiate.Fails, "it has one for 10.0.0.2"},
		{"of-both-addresses-and-no-identities", 0, negotiate.Agrees, ""},
		{"of-the-own-name-and-anybody", 0, negotiate.Agrees, ""},
		{"of-the-own-name-that-is-not-asked-for", 0, negotiate.Fails, "the peer does not ask for that identity"},
		{"of-the-own-name-that-is-not-asked-for", 1, negotiate.Agrees, ""},
		{"v1-of-its-name-and-anybody", 0, negotiate.Fails, "b has no pre-shared key for its peer"},
		{"v1-of-its-address-and-names", 0, negotiate.Agrees, ""},
		{"its-address-at-Libreswan", 0, negotiate.Fails, "b has no pre-shared key for its peer"},
		{"own-address-at-Libreswan", 0, negotiate.Agrees, ""},
		{"own-and-another-address-at-Libreswan", 0, negotiate.Fails, "b has no pre-shared key for its peer"},
		{"v1-addresses-and-names-at-Libreswan", 0, negotiate.Fails, "b has no pre-shared key for its peer"},
		{"any-identity-at-Libreswan", 0, negotiate.Fails, "b expects 10.0.0.1"},
		{"any-identity-and-any-peer-at-Libreswan", 0, negotiate.Agrees, ""},
		{"any-peer-without-identity-and-both-names-at-Libreswan", 0, negotiate.Agrees, ""},
		{"v1-any-peer-without-identity-and-both-names-at-Libreswan", 0, negotiate.Fails, "b has no pre-shared key for its peer"},
		{"another-alike", 0, negotiate.Agrees, ""},
		{"another-alike-behind", 0, negotiate.Fails, "the pre-shared keys of both ends differ"},
		{"each-has-the-others", 0, negotiate.Agrees, ""},
		{"one-has-both", 0, negotiate.Fails, "the pre-shared keys of both ends differ"},
		{"each-has-the-others-with-Libreswan", 1, negotiate.Fails, "the pre-shared keys of both ends differ"},
		{"v1-each-has-the-others", 0, negotiate.Fails, "the pre-shared keys of both ends differ"},
		{"another-of-anybody", 0, negotiate.Agrees, ""},
		{"another-alike-at-Libreswan", 0, negotiate.Fails, "the pre-shared keys of both ends differ"},
		{"another-alike-behind-at-Libreswan", 0, negotiate.Agrees, ""},
		{"own-name-and-another-of-any-at-Libreswan", 0, negotiate.Agrees, ""},
		{"own-name-and-any-and-another-of-the-own-name-at-Libreswan", 0, negotiate.Agrees, ""},
		{"anybody-and-another-of-anybody-at-Libreswan", 0, negotiate.Agrees, ""},
		{"address-of-the-peer-asked-for-by-name", 0, negotiate.Fails, "b has a pre-shared key for 10.0.0.2, itself"},
	})
}

// TestRulesOfNAT says of each named pair of which the first end is behind NAT what its rule is about.
func TestRulesOfNAT(t *testing.T) {
	const between = ": the gateways' own addresses are protected, and NAT is between them"
	saysOf(t, namedPairs(t, "testdata/makes-nat.txtar"), []said{
		{"plain", 0, negotiate.Agrees, "a is taken to be behind NAT: it sends from 192.168.7.2, and 198.51.100.7 is expected"},
		{"plain", 1, negotiate.Agrees, "a is taken to be behind NAT: 198.51.100.7 is not its own address 192.168.7.2"},
		{"outside-address-expected", 0, negotiate.Fails, "a sends the identity 192.168.7.2, and b expects 198.51.100.7"},
		{"outside-address-expected", 1, negotiate.Agrees, ""},
		{"outside-address-expected-by-Libreswan", 1, negotiate.Fails, "a sends the identity 192.168.7.2, and b expects 198.51.100.7"},
		{"no-local-address-and-the-outside-one-expected", 0, negotiate.Fails, "a sends the identity 192.168.7.2"},
		{"no-local-address-and-the-inside-one-expected", 0, negotiate.Agrees, ""},
		{"default-route-of-Libreswan-without-identities", 1, negotiate.Fails, "a sends the identity 192.168.7.2"},
		{"hosts", 0, negotiate.Partly, "b has 203.0.113.2 to 198.51.100.7, which is not mirrored" + between},
		{"hosts", 1, negotiate.Partly, between},
		{"hosts-at-the-inside-address", 0, negotiate.Agrees, ""},
		{"hosts-and-any-peer", 0, negotiate.Partly, "own address, which is not mirrored" + between},
		{"hosts-of-Libreswan", 0, negotiate.Partly, between},
		{"transport", 0, negotiate.Agrees, ""},
		{"transport-of-Libreswan-with-strongSwan", 0, negotiate.Partly, between},
		{"transport-of-OpenIKED", 0, negotiate.Agrees, ""},
		{"transport-with-OpenIKED", 0, negotiate.Agrees, ""},
		{"transport-of-Libreswan-with-OpenIKED", 0, negotiate.Partly, "heeds its own alone"},
		{"hosts-of-OpenIKED", 0, negotiate.Agrees, "and no packet passes"},
		{"v1-hosts", 0, negotiate.Partly, between},
		{"v1-hosts-of-Libreswan", 0, negotiate.Agrees, ""},
		{"v1-hosts-with-Libreswan", 1, negotiate.Agrees, ""},
		{"v1-hosts-of-Libreswan-with-strongSwan", 0, negotiate.Partly, between},
		{"v1-key-of-the-outside-address", 0, negotiate.Agrees, ""},
		{"v1-key-of-the-inside-address", 0, negotiate.Fails, "b has no pre-shared key for its peer"},
		{"virtual-hosts-at-Libreswan", 0, negotiate.Fails, "vhost: and vnet: are for IKEv1 only"},
		{"v1-virtual-hosts-at-Libreswan", 0, negotiate.Agrees, ""},
	})
}
