//go:build lab

package formats_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon/libreswan"
	"toril/ike"
	"toril/lab"
	"toril/lab/charon"
)

// TestLibreswanProposals has the daemon's own parser read random proposals, good and bad, and holds what it makes of them against Toril's.
func TestLibreswanProposals(t *testing.T) {
	root := lab.Unpacked(t, "libreswan")
	env := lab.Libraries(root)
	tally := lab.NewTally(t, "proposals of ipsec.conf as Libreswan's own parser takes them")
	r := rand.New(rand.NewPCG(20261127, 4))
	n, _ := strconv.Atoi(os.Getenv("TORIL_LAB_CASES"))
	const each = 40 // that the parser is given at a time
	for range max(1200, n) / each {
		for _, version := range []string{"-v2", "-v1"} {
			args := []string{version, "-pfs"}
			var texts []string
			for range each / 2 {
				texts = append(texts, proposalText(r))
			}
			out := lab.Run(env, root+"/usr/libexec/ipsec/algparse", append(args, texts...)...)
			said := parsed(out.Out+out.Err, version == "-v1")
			for _, text := range texts {
				protocol, value, _ := strings.Cut(text, "=")
				d := libreswan.Dialect{V1: version == "-v1", Version: "4.10"}
				ps, err := d.Proposals(value, map[string]ike.Protocol{"ike": ike.IKE, "esp": ike.ESP, "ah": ike.AH}[protocol])
				want := "refused"
				if err == nil {
					want = ""
					for _, p := range ps {
						want += plain(p) + "\n"
					}
				}
				got, asked := said[text]
				assert.True(t, asked, "%s was not answered", text)
				tally.Count(assert.Equal(t, got, want, "%s %s: first the program's (%v)", version, text, err))
			}
		}
	}
}

// proposalText draws a proposal: most of them are nearly right.
func proposalText(r *rand.Rand) string {
	one := func(words string) string { f := strings.Fields(words); return f[r.IntN(len(f))] }
	protocol := one("ike ike ike esp esp esp ah")
	ciphers := "aes aes128 aes_256 aes-192 aes_cbc 3des aes_gcm aes_gcm128 aes_gcm-256 aes_gcm_8 aes_ccm aes_ccm_12_128 aes_ctr " +
		"aesctr128 camellia " +
		"camellia256 chacha20_poly1305 null aes_gmac null_auth_aes_gmac_128 aes512 des aesgcm 3des-192"
	hashes := "sha1 sha1 sha sha2 sha2_256 sha256 sha2_256_128 sha384 sha2_512 hmac_sha2_512_256 " +
		"md5 aes_xcbc aes_xcbc_96 aes_cmac none null sha3"
	groups := "modp2048 dh14 modp1536 modp3072 dh19 ecp_384 dh31 curve25519 modp8192 none dh22 modp1024 dh2"
	list := func(words string) string {
		out := one(words)
		for r.IntN(5) == 0 {
			out += "+" + one(words)
		}
		return out
	}
	part := func() string {
		out := ""
		if protocol != "ah" || r.IntN(20) == 0 {
			out = list(ciphers) + one("- - - - ;")
		}
		out += list(hashes)
		if r.IntN(12) == 0 {
			out += "-" + list(hashes)
		}
		if r.IntN(2) == 0 {
			out += one("- ; ;") + list(groups)
		}
		switch r.IntN(12) {
		case 0:
			out = strings.Split(out, "-")[0]
		case 1:
			out = strings.Split(out, "-")[0] + ";" + list(groups)
		case 2:
			out += one("- ; + ,")
		}
		return out
	}
	out := part()
	for r.IntN(4) == 0 {
		out += "," + part()
	}
	return protocol + "=" + out
}

// parsed reads what the parser wrote, by what it was asked.
func parsed(out string, v1 bool) map[string]string {
	all, at := map[string]string{}, ""
	for line := range strings.Lines(out) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "algparse -"):
			_, at, _ = strings.Cut(line, "'")
			at = strings.TrimSuffix(at, "'")
			all[at] = ""
		case strings.HasPrefix(line, "\tERROR"):
			all[at] = "refused"
		case strings.HasPrefix(line, "\t"):
			one := sized(strings.TrimSpace(line), strings.HasPrefix(at, "ike="))
			ciphers, rest, more := strings.Cut(one, "-")
			if !v1 || !more || strings.HasPrefix(at, "ah=") {
				all[at] += one + "\n"
				continue
			}
			for c := range strings.SplitSeq(ciphers, "+") { // IKEv1 has one of each in a proposal
				if each := c + "-" + rest + "\n"; !strings.Contains("\n"+all[at], "\n"+each) {
					all[at] += each
				}
			}
		}
	}
	return all
}

// sized writes out the sizes of a cipher that the parser leaves open: the daemon offers two.
func sized(line string, isIKE bool) string {
	first, rest, more := strings.Cut(line, "-")
	if !more {
		return line
	}
	var out []string
	for _, c := range strings.Split(first, "+") {
		switch c {
		case "AES_CBC", "AES_GCM_16", "AES_GCM_12", "AES_GCM_8", "AES_CCM_16", "AES_CCM_12", "AES_CCM_8", "AES_CTR", "CAMELLIA_CBC",
			"NULL_AUTH_AES_GMAC":
			sizes := []string{"_128", "_256"}
			if isIKE {
				sizes = []string{"_256", "_128"}
			}
			for _, s := range sizes {
				if !contains(out, c+s) {
					out = append(out, c+s)
				}
			}
		default:
			if !contains(out, c) {
				out = append(out, c)
			}
		}
	}
	return strings.Join(out, "+") + "-" + rest
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// plain writes a proposal as the parser does.
func plain(p ike.Proposal) string {
	join := func(cs ike.Choices, f func(ike.Choice) string) string {
		var out []string
		for _, c := range cs {
			out = append(out, f(c))
		}
		return strings.Join(out, "+")
	}
	group := func(c ike.Choice) string {
		switch {
		case c.ID == 0:
			return "NONE"
		case c.ID >= 19:
			return fmt.Sprintf("DH%d", c.ID)
		}
		return charonGroup(c)
	}
	integrity := join(p.Transforms[ike.Integrity], charon.Algorithm)
	prf := join(p.Transforms[ike.PRF], func(c ike.Choice) string {
		return strings.Replace(strings.TrimPrefix(charon.Algorithm(c), "PRF_"), "AES128_XCBC", "AES_XCBC", 1)
	})
	var parts []string
	if p.Protocol != ike.AH {
		parts = append(parts, join(p.Transforms[ike.Encryption], charon.Algorithm))
	}
	switch {
	case p.Protocol == ike.IKE:
		derived := join(p.Transforms[ike.Integrity], func(c ike.Choice) string {
			return map[uint16]string{
				1: "HMAC_MD5", 2: "HMAC_SHA1", 12: "HMAC_SHA2_256", 13: "HMAC_SHA2_384", 14: "HMAC_SHA2_512", 5: "AES_XCBC",
			}[c.ID]
		})
		if integrity != "" && derived != prf {
			parts = append(parts, integrity)
		}
		parts = append(parts, prf)
	case integrity == "":
		parts = append(parts, "NONE")
	default:
		parts = append(parts, integrity)
	}
	if len(p.Transforms[ike.KeyExchange]) > 0 {
		parts = append(parts, join(p.Transforms[ike.KeyExchange], group))
	}
	return strings.Join(parts, "-")
}
