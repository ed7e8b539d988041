package negotiate_test

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/ike"
	"toril/model/settings"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// over are values of one end that differ from those of plain; dots divide sections, "c." stands for children.c, "psk" and
// "owner" are the key's. "-" takes a value out.
type over map[string]string

var plain = map[string]over{
	"a": {
		"version":         "2",
		"local_addrs":     "10.0.0.1",
		"remote_addrs":    "10.0.0.2",
		"proposals":       "aes128-sha256-modp2048",
		"local.auth":      "psk",
		"remote.auth":     "psk",
		"local.id":        "a.example",
		"remote.id":       "b.example",
		"c.esp_proposals": "aes128-sha256",
		"c.local_ts":      "10.1.0.0/24",
		"c.remote_ts":     "10.2.0.0/24",
		"psk":             "harbour light",
	},
	"b": {
		"version":         "2",
		"local_addrs":     "10.0.0.2",
		"remote_addrs":    "10.0.0.1",
		"proposals":       "aes128-sha256-modp2048",
		"local.auth":      "psk",
		"remote.auth":     "psk",
		"local.id":        "b.example",
		"remote.id":       "a.example",
		"c.esp_proposals": "aes128-sha256",
		"c.local_ts":      "10.2.0.0/24",
		"c.remote_ts":     "10.1.0.0/24",
		"psk":             "harbour light",
	},
}

// text writes one end as a swanctl.conf.
func text(name string, o over) string {
	all := over{}
	for k, v := range plain[name] {
		all[k] = v
	}
	for k, v := range o {
		all[k] = v
	}
	sections := map[string][]string{}
	for k, v := range all {
		if v == "-" || k == "psk" || k == "owner" {
			continue
		}
		section, key, ok := strings.Cut(k, ".")
		if !ok {
			section, key = "", k
		}
		sections[section] = append(sections[section], fmt.Sprintf("%s = \"%s\"", key, v))
	}
	var b strings.Builder
	b.WriteString("connections {\n ike {\n")
	names := []string{}
	for s := range sections {
		sort.Strings(sections[s])
		names = append(names, s)
	}
	sort.Strings(names)
	for _, s := range names {
		switch s {
		case "":
			b.WriteString(strings.Join(sections[s], "\n") + "\n")
		case "local", "remote":
			b.WriteString(s + " {\n" + strings.Join(sections[s], "\n") + "\n}\n")
		default:
			b.WriteString("children {\n" + s + " {\n" + strings.Join(sections[s], "\n") + "\n}\n}\n")
		}
	}
	b.WriteString(" }\n}\nsecrets {\n ike-k {\n secret = \"" + all["psk"] + "\"\n")
	if all["owner"] != "" {
		b.WriteString("id-o = " + all["owner"] + "\n")
	}
	b.WriteString(" }\n}\n")
	return b.String()
}

// tunnel joins two configurations by hand: whether they would be paired is another question.
func tunnel(t *testing.T, a, b over, extra ...string) *pair.Tunnel {
	files := fstest.MapFS{"a/swanctl.conf": {Data: []byte(text("a", a))}, "b/swanctl.conf": {Data: []byte(text("b", b))}}
	for i := 0; i+1 < len(extra); i += 2 {
		files[extra[i]] = &fstest.MapFile{Data: []byte(extra[i+1])}
	}
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	ga, gb := e.Gateway("a"), e.Gateway("b")
	return &pair.Tunnel{
		Name: "a <> b",
		Ends: []pair.End{{Gateway: ga, Connection: ga.Connections[0]}, {Gateway: gb, Connection: gb.Connections[0]}},
	}
}

// brief writes an attempt in a few words.
func brief(a negotiate.Attempt) string {
	if a.Failure != nil {
		return strings.TrimSpace(fmt.Sprintf("%s %s %s", a.Outcome, a.Failure.Step, a.Failure.Notify))
	}
	c := a.Children[0]
	if c.Outcome != negotiate.Agrees {
		return fmt.Sprintf("IKE only: %s %s", c.Failure.Step, c.Failure.Notify)
	}
	out := fmt.Sprintf("%s: %s to %s", c.Suite, c.Local, c.Remote)
	if c.Rekey.ByInitiator != negotiate.Agrees || c.Rekey.ByResponder != negotiate.Agrees {
		out += fmt.Sprintf("; rekey %s, by the responder %s", c.Rekey.ByInitiator, c.Rekey.ByResponder)
	}
	return out
}

const (
	aes128 = "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits"
	there  = ": 10.1.0.0/24 to 10.2.0.0/24"
	back   = ": 10.2.0.0/24 to 10.1.0.0/24"
	up     = aes128 + there
	upBack = aes128 + back
	noInit = "fails IKE_SA_INIT NO_PROPOSAL_CHOSEN"
	noAuth = "fails IKE_AUTH AUTHENTICATION_FAILED"
	noESP  = "IKE only: IKE_AUTH NO_PROPOSAL_CHOSEN"
	noTS   = "IKE only: IKE_AUTH TS_UNACCEPTABLE"
	dies   = "; rekey fails, by the responder fails"
)

// The cases were tried on two daemons; the laboratory tries as many again at random.
func TestCases(t *testing.T) {
	for name, c := range map[string]struct {
		a, b   over
		ab, ba string // "" in ba: as ab, turned round
	}{
		"plain":            {over{}, over{}, up, upBack},
		"key sizes differ": {over{"proposals": "aes256-sha256-modp2048"}, over{}, noInit, noInit},
		"hashes differ":    {over{"proposals": "aes128-sha1-modp2048"}, over{}, noInit, noInit},
		"crossed lists": {over{"proposals": "aes128-sha1-modp2048,aes256-sha256-modp2048"},
			over{"proposals": "aes128-sha256-modp2048,aes256-sha1-modp2048"}, noInit, noInit},
		"the PRF is derived": {over{"proposals": "aes128-sha256-prfsha256-modp2048"}, over{}, up, upBack},
		"another PRF":        {over{"proposals": "aes128-sha256-prfsha384-modp2048"}, over{}, noInit, noInit},
		"combined cipher with a hash for its PRF": {over{"proposals": "aes128gcm16-sha256-modp2048"},
			over{"proposals": "aes128gcm-prfsha256-modp2048"}, up, upBack},
		"length of the ICV": {over{"proposals": "aes128gcm8-sha256-modp2048"},
			over{"proposals": "aes128gcm16-sha256-modp2048"}, noInit, noInit},
		"refused at load": {over{"proposals": "aes128-sha256"}, over{}, "no start start", noInit},
		"no common group": {over{"proposals": "aes128-sha256-ecp256"}, over{}, noInit, noInit},
		"the defaults of both": {over{"proposals": "-", "c.esp_proposals": "-"},
			over{"proposals": "-", "c.esp_proposals": "-"}, "AES-GCM-128 with a 16-byte ICV" + there,
			"AES-GCM-128 with a 16-byte ICV" + back},
		"3des is in the default of IKE": {over{"proposals": "-"}, over{"proposals": "3des-sha1-modp2048"}, up, upBack},
		"md5 is not":                    {over{"proposals": "-"}, over{"proposals": "aes128-md5-modp2048"}, noInit, noInit},
		"nor is a group of 1024 bits":   {over{"proposals": "-"}, over{"proposals": "aes128-sha256-modp1024"}, noInit, noInit},
		"ESP differs: the IKE SA stays": {over{"c.esp_proposals": "aes256-sha256"}, over{}, noESP, noESP},
		"ESP without integrity":         {over{"c.esp_proposals": "aes128"}, over{}, noESP, noESP},
		"ESN against none":              {over{"c.esp_proposals": "aes128-sha256-esn"}, over{}, noESP, noESP},
		"ESN as one of two": {over{"c.esp_proposals": "aes128-sha256-esn-noesn"},
			over{"c.esp_proposals": "aes128-sha256-esn"}, aes128 + " / ESN" + there, aes128 + " / ESN" + back},
		"AH against ESP": {over{"c.esp_proposals": "-", "c.ah_proposals": "sha256"}, over{}, noESP, noESP},
		"AH on both": {over{"c.esp_proposals": "-", "c.ah_proposals": "sha256"},
			over{"c.esp_proposals": "-", "c.ah_proposals": "sha256"}, "HMAC-SHA2-256 cut to 128 bits" + there,
			"HMAC-SHA2-256 cut to 128 bits" + back},
		"both said: ESP": {over{"c.ah_proposals": "sha256"}, over{}, up, upBack},
		"PFS on one end": {over{"c.esp_proposals": "aes128-sha256-modp2048"}, over{}, up + dies, upBack + dies},
		"PFS with different groups": {over{"c.esp_proposals": "aes128-sha256-modp2048"},
			over{"c.esp_proposals": "aes128-sha256-ecp256"}, up + dies, upBack + dies},
		"PFS with a group in common": {over{"c.esp_proposals": "aes128-sha256-modp2048-ecp256"},
			over{"c.esp_proposals": "aes128-sha256-ecp256"}, up, upBack},
		"PFS optional": {over{"c.esp_proposals": "aes128-sha256-modp2048-modpnone"}, over{}, up, upBack},
		"no PFS first, and the peer insists": {over{"c.esp_proposals": "aes128-sha256-modpnone-modp2048"},
			over{"c.esp_proposals": "aes128-sha256-modp2048"}, up + "; rekey fails, by the responder agrees",
			upBack + "; rekey agrees, by the responder fails"},
		"childless insisted on, and allowed": {over{"childless": "force"}, over{}, up, "fails IKE_AUTH INVALID_SYNTAX"},
		"childless insisted on, and never done": {over{"childless": "force"}, over{"childless": "never"}, "fails IKE_AUTH",
			"fails IKE_AUTH INVALID_SYNTAX"},
		"childless on both: PFS counts at once": {over{"childless": "force", "c.esp_proposals": "aes128-sha256-modp2048"},
			over{"childless": "force"}, "IKE only: CREATE_CHILD_SA NO_PROPOSAL_CHOSEN", "IKE only: CREATE_CHILD_SA NO_PROPOSAL_CHOSEN"},
		"IKEv1":                {over{"version": "1"}, over{"version": "1"}, up, upBack},
		"IKEv1 against IKEv2":  {over{"version": "1"}, over{}, "fails main mode NO_PROPOSAL_CHOSEN", noInit},
		"either against IKEv1": {over{"version": "0"}, over{"version": "1"}, noInit, upBack},
		"IKEv1 sends the first of each type": {over{"version": "1", "proposals": "aes128-aes256-sha256-modp2048"},
			over{"version": "1", "proposals": "aes256-sha256-modp2048"}, "fails main mode NO_PROPOSAL_CHOSEN", upBack},
		"IKEv1 has no combined ciphers for IKE": {over{"version": "1", "proposals": "aes128gcm16-sha256-modp2048"},
			over{"version": "1", "proposals": "aes128gcm16-sha256-modp2048"}, "fails main mode NO_PROPOSAL_CHOSEN",
			"fails main mode NO_PROPOSAL_CHOSEN"},
		"IKEv1 decides PFS at once": {over{"version": "1", "c.esp_proposals": "aes128-sha256-modp2048"},
			over{"version": "1"}, "IKE only: quick mode NO_PROPOSAL_CHOSEN", "IKE only: quick mode NO_PROPOSAL_CHOSEN"},
		"IKEv1 takes one pair of networks": {over{"version": "1", "c.local_ts": "10.1.0.0/24, 10.1.5.0/24"},
			over{"version": "1", "c.remote_ts": "10.1.0.0/24, 10.1.5.0/24"}, up, upBack},
		"IKEv1 and the first is not there": {over{"version": "1", "c.local_ts": "10.1.5.0/24, 10.1.0.0/24"}, over{"version": "1"},
			"IKE only: quick mode INVALID_ID_INFORMATION", upBack + "; rekey agrees, by the responder fails"},
		"main against aggressive mode": {over{"version": "1", "aggressive": "yes"}, over{"version": "1"},
			"fails aggressive mode AUTHENTICATION_FAILED", "fails main mode AUTHENTICATION_FAILED"},
		"aggressive mode is of the first group": {over{"version": "1", "aggressive": "yes",
			"proposals": "aes128-sha256-modp2048, aes128-sha256-modp3072"},
			over{"version": "1", "aggressive": "yes", "proposals": "aes128-sha256-modp3072"}, "fails aggressive mode NO_PROPOSAL_CHOSEN",
			"fails aggressive mode AUTHENTICATION_FAILED"},
		"main mode is of any group": {over{"version": "1", "proposals": "aes128-sha256-modp2048, aes128-sha256-modp3072"},
			over{"version": "1", "proposals": "aes128-sha256-modp3072"}, "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits: " +
				"10.1.0.0/24 to 10.2.0.0/24", "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits: " +
				"10.2.0.0/24 to 10.1.0.0/24"},
		"aggressive mode with a key": {over{"version": "1", "aggressive": "yes"}, over{"version": "1", "aggressive": "yes"},
			"fails aggressive mode AUTHENTICATION_FAILED", "fails aggressive mode AUTHENTICATION_FAILED"},
		"a wider network is narrowed": {over{"c.remote_ts": "10.2.0.0/16"}, over{}, up, upBack},
		"any to any is narrowed":      {over{"c.local_ts": "0.0.0.0/0", "c.remote_ts": "0.0.0.0/0"}, over{}, up, upBack},
		"halves of a network": {over{"c.local_ts": "10.1.0.0/25, 10.1.0.128/25"}, over{},
			aes128 + ": 10.1.0.0/25, 10.1.0.128/25 to 10.2.0.0/24", aes128 + ": 10.2.0.0/24 to 10.1.0.0/25, 10.1.0.128/25"},
		"one of two networks is missing": {over{"c.local_ts": "10.1.0.0/24, 10.1.9.0/24"}, over{}, up, upBack},
		"disjoint networks":              {over{"c.local_ts": "10.9.0.0/24"}, over{}, noTS, noTS},
		"copied and not mirrored":        {over{}, over{"c.local_ts": "10.1.0.0/24", "c.remote_ts": "10.2.0.0/24"}, noTS, noTS},
		"protocols differ": {over{"c.local_ts": "10.1.0.0/24[tcp]"}, over{"c.remote_ts": "10.1.0.0/24[udp]"},
			noTS, noTS},
		"a protocol against all": {over{"c.local_ts": "10.1.0.0/24[tcp]"}, over{},
			aes128 + ": 10.1.0.0/24 tcp to 10.2.0.0/24", aes128 + ": 10.2.0.0/24 to 10.1.0.0/24 tcp"},
		"ports differ": {over{"c.remote_ts": "10.2.0.0/24[tcp/443]"},
			over{"c.local_ts": "10.2.0.0/24[tcp/80]"}, noTS, noTS},
		"not said against a network": {over{"c.local_ts": "-"}, over{}, noTS, noTS},
		"host to host": {over{"c.local_ts": "-", "c.remote_ts": "-"},
			over{"c.local_ts": "-", "c.remote_ts": "-"}, aes128 + ": 10.0.0.1 to 10.0.0.2", aes128 + ": 10.0.0.2 to 10.0.0.1"},
		"selectors come before proposals": {over{"c.local_ts": "10.9.0.0/24", "c.esp_proposals": "3des-md5"}, over{}, noTS, noTS},
		"a bare address is one address": {over{"c.local_ts": "10.1.0.7"}, over{}, aes128 + ": 10.1.0.7 to 10.2.0.0/24",
			aes128 + ": 10.2.0.0/24 to 10.1.0.7"},
		"transport mode on one end, host to host": {over{"c.mode": "transport", "c.local_ts": "-", "c.remote_ts": "-"},
			over{"c.local_ts": "-", "c.remote_ts": "-"}, aes128 + ": 10.0.0.1 to 10.0.0.2", aes128 + ": 10.0.0.2 to 10.0.0.1"},
		"transport mode with networks": {over{"c.mode": "transport"}, over{}, noTS, noTS},
		"IKEv1 and transport mode on one end": {over{"version": "1", "c.local_ts": "-", "c.remote_ts": "-", "c.mode": "transport"},
			over{"version": "1", "c.local_ts": "-", "c.remote_ts": "-"}, "IKE only: quick mode INVALID_ID_INFORMATION",
			"IKE only: quick mode INVALID_ID_INFORMATION"},
		"the own identity is another":             {over{"local.id": "c.example"}, over{}, noAuth, noAuth},
		"any identity will do":                    {over{"remote.id": "-"}, over{}, up, upBack},
		"a pattern will do":                       {over{"remote.id": "*.example"}, over{}, up, upBack},
		"case does not count":                     {over{"local.id": "A.Example"}, over{}, up, upBack},
		"a prefix says the type":                  {over{"local.id": "fqdn:a.example"}, over{"remote.id": "@a.example"}, up, upBack},
		"a name of another type":                  {over{"local.id": "keyid:a.example"}, over{}, noAuth, noAuth},
		"an address as a name":                    {over{"local.id": "@10.0.0.1"}, over{"remote.id": "10.0.0.1"}, noAuth, noAuth},
		"the identity that is asked for is taken": {over{"local.id": "-"}, over{}, noAuth, upBack},
		"the address stands for it":               {over{"local.id": "-"}, over{"remote.id": "10.0.0.1"}, up, upBack},
		"keys differ":                             {over{"psk": "another"}, over{}, noAuth, noAuth},
		"keys differ in main mode: silence": {over{"version": "1", "psk": "another"}, over{"version": "1"}, "fails main mode",
			"fails main mode"},
		"the key is for another":             {over{"owner": "z.example"}, over{}, "fails IKE_AUTH", noAuth},
		"the key's owner is an address":      {over{"owner": "10.0.0.2"}, over{}, "fails IKE_AUTH", noAuth},
		"which IKEv1 takes":                  {over{"version": "1", "owner": "10.0.0.2"}, over{"version": "1"}, up, upBack},
		"key against certificate":            {over{"local.auth": "pubkey"}, over{}, noAuth, noAuth},
		"certificate one way, key the other": {over{"remote.auth": "pubkey"}, over{"local.auth": "pubkey"}, up, upBack},
		"which IKEv1 has not": {over{"version": "1", "remote.auth": "pubkey"},
			over{"version": "1", "local.auth": "pubkey"}, "no start start", "no start start"},
		"any method of the peer":         {over{"remote.auth": "-"}, over{}, up, upBack},
		"any address only answers":       {over{"remote_addrs": "%any"}, over{}, "no start start", upBack},
		"so does a network":              {over{"remote_addrs": "10.0.0.0/24"}, over{}, "no start start", upBack},
		"a wrong address":                {over{"remote_addrs": "10.0.0.9"}, over{}, "fails IKE_SA_INIT", noInit},
		"of a list the first":            {over{"remote_addrs": "10.0.0.2, 10.0.0.9"}, over{}, up, upBack},
		"an address that is not its own": {over{"local_addrs": "10.0.0.7"}, over{}, noInit, "fails IKE_SA_INIT"},
	} {
		t.Run(name, func(t *testing.T) {
			got := negotiate.Tunnel(tunnel(t, c.a, c.b))
			require.Len(t, got, 2)
			assert.Equal(t, c.ab, brief(got[0]), "a begins: %v", got[0].Failure)
			assert.Equal(t, c.ba, brief(got[1]), "b begins: %v", got[1].Failure)
			for _, a := range got { // whatever fails says why, where and what to do
				for _, f := range failures(a) {
					assert.NotEmpty(t, f.Why)
					assert.NotEmpty(t, f.Changes)
					assert.False(t, f.Lines[0].IsZero() && f.Lines[1].IsZero())
				}
			}
		})
	}
}

func failures(a negotiate.Attempt) []*negotiate.Failure {
	var out []*negotiate.Failure
	if a.Failure != nil {
		out = append(out, a.Failure)
	}
	for _, c := range a.Children {
		for _, f := range []*negotiate.Failure{c.Failure, c.Rekey.Failure} {
			if f != nil {
				out = append(out, f)
			}
		}
	}
	return out
}

func TestWhenItBreaks(t *testing.T) {
	got := negotiate.Tunnel(
		tunnel(
			t,
			over{"c.esp_proposals": "aes128-sha256-modp2048", "c.rekey_time": "50m"},
			over{"c.rekey_time": "40m", "c.life_time": "44m"},
		),
	)
	r := got[0].Children[0].Rekey
	assert.Equal(t, negotiate.Fails, r.Outcome)
	assert.Equal(t, 40*time.Minute, r.After)
	assert.Equal(t, "b", r.By)
	assert.Equal(t, 44*time.Minute, r.Ends, "the earlier of both hard limits")
	assert.Equal(
		t,
		"perfect forward secrecy: group 14 (MODP 2048) on a, none on b. The first child SA is set up without a key exchange of its "+
			"own, so it comes up; rekeying needs a common one",
		r.Failure.Why,
	)
	never := negotiate.Tunnel(tunnel(t, over{"c.rekey_time": "0", "rekey_time": "0"}, over{"c.rekey_time": "0", "rekey_time": "0"}))
	assert.Equal(t, negotiate.Never, never[0].Children[0].Rekey.Outcome)
	assert.Equal(t, negotiate.Never, never[0].Rekey.Outcome)
}

func TestTheInitiatorMayDecide(t *testing.T) {
	a, b := over{"proposals": "aes128-aes256-sha256-modp2048"}, over{"proposals": "aes256-aes128-sha256-modp2048"}
	got := negotiate.Tunnel(tunnel(t, a, b))
	assert.Equal(t, 256, got[0].IKE.Transforms[ike.Encryption].KeyBits, "b's order")
	assert.Equal(t, 128, got[1].IKE.Transforms[ike.Encryption].KeyBits, "a's order")
	got = negotiate.Tunnel(tunnel(t, a, b, "b/strongswan.conf", "charon {\n prefer_configured_proposals = no\n}\n"))
	assert.Equal(t, 128, got[0].IKE.Transforms[ike.Encryption].KeyBits)
	got = negotiate.Tunnel(
		tunnel(
			t,
			over{"version": "1", "aggressive": "yes"},
			over{"version": "1", "aggressive": "yes"},
			"b/strongswan.conf",
			"charon {\n i_dont_care_about_security_and_use_aggressive_mode_psk = yes\n}\n",
		),
	)
	assert.Equal(t, negotiate.Agrees, got[0].Outcome)
	assert.Equal(t, negotiate.Fails, got[1].Outcome)
}

func TestAnotherGroupIsAskedFor(t *testing.T) {
	got := negotiate.Tunnel(tunnel(t, over{"proposals": "aes128-sha256-ecp256-modp2048"}, over{}))
	assert.True(t, got[0].Retry)
	assert.False(t, got[1].Retry)
	assert.Equal(t, negotiate.Agrees, got[0].Outcome)
}

func TestNAT(t *testing.T) {
	got := negotiate.Tunnel(
		tunnel(
			t,
			over{"local_addrs": "192.168.7.2", "remote_addrs": "198.51.100.7"},
			over{"local_addrs": "198.51.100.7", "remote_addrs": "203.0.113.9"},
		),
	)
	assert.Equal(t, negotiate.Agrees, got[0].Outcome, "%v", got[0].Failure)
	assert.Contains(t, got[0].Notes[0], "a is taken to be behind NAT")
}

func TestUnreadStatementsAreSaid(t *testing.T) {
	got := negotiate.Tunnel(tunnel(t, over{"warble": "1"}, over{}))
	assert.NotEmpty(t, got[0].Unsure())
}

func TestRows(t *testing.T) {
	tu := tunnel(
		t,
		over{
			"proposals":       "aes128-sha256-modp2048",
			"local.id":        "c.example",
			"c.esp_proposals": "aes128-sha256-ecp256",
			"c.local_ts":      "10.1.0.0/16",
			"psk":             "another",
		},
		over{"c.mode": "transport"},
	)
	differs := map[string]bool{}
	for _, r := range negotiate.Lines(tu, negotiate.Tunnel(tu), settings.All()) {
		differs[r.Name] = r.Differs
		for _, v := range r.Values {
			assert.NotContains(t, v.Text, "harbour")
			assert.NotContains(t, v.Text, "another light")
		}
	}
	for name, want := range map[string]bool{"address of a": false, "identity of a": true, "identity of b": false, "pre-shared key": true,
		"IKE version": false, "networks of a": true, "networks of b": false, "PFS": true, "mode": true, "started": true} {
		assert.Equal(t, want, differs[name], name)
	}
}
