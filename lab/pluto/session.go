//go:build lab

package pluto

import (
	"fmt"
	"net/netip"
	"regexp"
	"sort"
	"strings"
	"time"

	"toril/packet"
)

// SA is an IKE SA and its first child, as the end that set it up tells them, in the words of lab/charon.
type SA struct {
	Version  string // "1", "2"
	Suite    string
	Child    string // "ESP TUNNEL", with the suite; "" for none
	Selected string // "10.1.0.0/24 === 10.2.0.0/24"; "" where the daemon does not tell
}

var (
	ikeUp   = regexp.MustCompile(`(?:initiator established IKE SA|IKE SA established \{)`)
	ikeOf   = regexp.MustCompile(`(?:sent IKE_AUTH request|IKE SA established) \{(?:auth=\S+ )?cipher=(\S+) integ=(\S+)(?: prf=(\S+))? group=(\S+?)\}`)
	childV2 = regexp.MustCompile(
		`initiator established Child SA.*?IPsec (\w+) \[(.*?)\] -> \[(.*?)\] \{(\S+?)=>.*? xfrm=(\S+)`)
	childV1 = regexp.MustCompile(`IPsec SA established (\w+) mode \{(\S+?)=>.*? xfrm=(\S+)`)
	failure = regexp.MustCompile(`rejected Child SA|initiator rejected Child|AUTHENTICATION_FAILED|NO_PROPOSAL_CHOSEN|INVALID_ID_INFORMATION|` +
		`failed with error notification|rejected by peer|maximum number of (keying attempts|retransmissions)|deleting state \(STATE_|` +
		`no connection named|we cannot identify ourselves|cannot initiate|encountered fatal error|PAYLOAD_MALFORMED|INVALID_SYNTAX|` +
		`unable to locate|no IKE_SA|could not|UNSUPPORTED_CRITICAL|invalid HASH|malformed payload|no acceptable`)
	isGroup = regexp.MustCompile(`^(MODP|DH|ECP|CURVE)`)
	rekeyed = regexp.MustCompile(`initiator rekeyed (Child|IKE) SA`)
)

// Initiate has the daemon set up a connection and returns what came up, as it sees it; nil for nothing.
func (d *Daemon) Initiate(connection string) *SA {
	d.Mark()
	d.Whack("--name", connection, "--initiate", "--asynchronous")
	d.Wait(3*time.Second, func(log string) bool {
		return childV2.MatchString(log) || childV1.MatchString(log) || failure.MatchString(log)
	})
	log := d.Log()
	m := ikeOf.FindStringSubmatch(log)
	if m == nil || !ikeUp.MatchString(log) {
		return nil
	}
	sa := &SA{Version: "2"}
	parts := []string{cipher(m[1])}
	if m[3] == "" {
		sa.Version = "1"
		parts = append(parts, integrity(m[2]), prf(m[2]))
	} else {
		if m[2] != "n/a" {
			parts = append(parts, m[2])
		}
		parts = append(parts, prf(m[3]))
	}
	sa.Suite = strings.Join(append(parts, group(m[4])), "/")
	if c := childV2.FindStringSubmatch(log); c != nil {
		sa.Child, sa.Selected = child(c[4], c[1], c[5]), selectors(c[2])+" === "+selectors(c[3])
	} else if c := childV1.FindStringSubmatch(log); c != nil {
		sa.Child = child(c[2], c[1], c[3])
	}
	return sa
}

var complaint = regexp.MustCompile(`(?i)(reject|fail|NO_PROPOSAL|UNACCEPT|INVALID|refus|unable|cannot|could not|no suitable|no connection|not )`)

// Complaints are what the daemon wrote since the last Mark that sounds like one.
func (d *Daemon) Complaints() string {
	var out []string
	for line := range strings.Lines(d.Log()) {
		if _, text, ok := strings.Cut(line, "\""); ok && complaint.MatchString(text) {
			out = append(out, strings.TrimSpace(text))
		}
	}
	return strings.Join(out[:min(len(out), 6)], " / ")
}

// Rekey has the daemon renew the child or the IKE SA; ok says whether it did.
func (d *Daemon) Rekey(connection string, ike bool) (ok bool) {
	d.Mark()
	order := "--rekey-ipsec"
	if ike {
		order = "--rekey-ike"
	}
	d.Whack("--name", connection, order, "--asynchronous")
	d.Wait(2*time.Second, func(log string) bool { return rekeyed.MatchString(log) || failure.MatchString(log) })
	return rekeyed.MatchString(d.Log())
}

var (
	ikeOfResponder   = regexp.MustCompile(`"(\w+)"(?:\[\d+\] \S+)? #\d+: (?:responder established IKE SA|IKE SA established|ISAKMP SA established)`)
	childOfResponder = regexp.MustCompile(`"(\w+)"(?:\[\d+\] \S+)? #\d+: (?:responder established Child SA|IPsec SA established)`)
)

// Answered are the connections with which the daemon answered since the last Mark: for the IKE SA and for the child; "" for none.
func (d *Daemon) Answered() (names [2]string) {
	for i, re := range []*regexp.Regexp{ikeOfResponder, childOfResponder} {
		if m := re.FindStringSubmatch(d.Log()); m != nil {
			names[i] = m[1]
		}
	}
	return names
}

// Down takes down what is up of a connection.
func (d *Daemon) Down(connection string) { d.Whack("--name", connection, "--terminate") }

// child writes what the daemon says of a child as lab/charon does: "ESP TUNNEL AES_CBC_128/HMAC_SHA1_96".
func child(protocol, mode, suite string) string {
	protocol, esn := strings.CutSuffix(protocol, "/ESN")
	var parts []string
	for i, p := range strings.Split(suite, "-") {
		switch {
		case p == "NONE" || isGroup.MatchString(p):
		case i == 0 && !strings.HasPrefix(protocol, "AH"):
			parts = append(parts, cipher(p))
		default:
			parts = append(parts, p)
		}
	}
	if esn {
		parts = append(parts, "EXT_SEQ")
	}
	return fmt.Sprintf("%s %s %s", strings.TrimSuffix(protocol, "inUDP"), strings.ToUpper(mode), strings.Join(parts, "/"))
}

func cipher(s string) string {
	s = strings.Replace(s, "_C_", "_16_", 1)
	switch {
	case strings.HasPrefix(s, "3DES"):
		return "3DES_CBC"
	case strings.HasPrefix(s, "CHACHA20_POLY1305"):
		return "CHACHA20_POLY1305"
	case strings.HasPrefix(s, "NULL_AUTH_AES_GMAC"):
		return s
	case strings.HasPrefix(s, "NULL"):
		return "NULL"
	}
	return s
}

func prf(s string) string { return "PRF_" + strings.Replace(s, "AES_XCBC", "AES128_XCBC", 1) }

// integrity is what a hash of IKEv1 is for messages.
func integrity(hash string) string {
	return map[string]string{
		"HMAC_MD5": "HMAC_MD5_96", "HMAC_SHA1": "HMAC_SHA1_96", "HMAC_SHA2_256": "HMAC_SHA2_256_128",
		"HMAC_SHA2_384": "HMAC_SHA2_384_192", "HMAC_SHA2_512": "HMAC_SHA2_512_256", "AES_XCBC": "AES_XCBC_96",
	}[hash]
}

func group(s string) string {
	switch s {
	case "DH19":
		return "ECP_256"
	case "DH20":
		return "ECP_384"
	case "DH21":
		return "ECP_521"
	case "DH31", "CURVE25519":
		return "CURVE_25519"
	}
	if n, ok := strings.CutPrefix(s, "MODP"); ok {
		return "MODP_" + n
	}
	return s
}

// selectors writes "10.1.0.0-10.1.255.255:0-65535 6 ..." as lab/charon does.
func selectors(text string) string {
	f := strings.Fields(text)
	var out []string
	for i := 0; i+1 < len(f); i += 2 {
		addrs, ports, _ := strings.Cut(f[i], ":")
		lo, hi, _ := strings.Cut(addrs, "-")
		one := lo + ".." + hi
		if ps := packet.Range(packet.Src, netip.MustParseAddr(lo), netip.MustParseAddr(hi)).Prefixes(packet.Src); len(ps) == 1 {
			one = ps[0].String()
		}
		if f[i+1] != "0" {
			var n uint64
			fmt.Sscan(f[i+1], &n)
			one += "[" + packet.ProtoName(n)
			from, to, _ := strings.Cut(ports, "-")
			switch {
			case from == "0" && to == "65535":
			case from == to:
				one += "/" + from
			default:
				one += "/" + ports
			}
			one += "]"
		}
		out = append(out, one)
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}
