package iproute

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// XFRM is the format of "ip -s xfrm state" and "ip xfrm policy": what the kernel does with packets, whatever daemon told it to.
var XFRM = &read.Format{
	Name:     "ip-xfrm",
	Title:    "SAs and IPsec policies in the kernel: the output of ip -s xfrm state and ip xfrm policy",
	Software: "iproute2",
	About:    model.AboutStatus,
	Linux:    true,
	Hints:    []string{"xfrm*", "ip-xfrm*", "ip-s-xfrm*"},
	Order:    62,
	Looks:    looksLikeXFRM,
	Read:     readXFRM,
	Covers: read.Rows(
		read.Coverage{
			Statement: "states: src, dst, proto, spi, reqid, mode, enc, auth, auth-trunc, aead, encap, lifetime current, stats",
			Use:       read.Used,
			Note:      "keys are hidden from every quote",
		},
		read.Coverage{Statement: "policies: selectors, dir, tmpl, reqid, mode", Use: read.Used},
		read.Coverage{Statement: "replay windows, limits, if_id, marks, flags, offload, policies of sockets", Use: read.Irrelevant},
	),
}

var xfrmHead = lazy.NewSearch(`(?m)^src \S+ dst \S+[^\n]*\r?\n[ \t]+(?:proto (?:esp|ah|comp|\d+) spi|dir (?:in|out|fwd) |socket (?:in|out))`)

func looksLikeXFRM(f *source.File) (int, string) {
	if m := xfrmHead.Find(f.Head()); m != nil {
		return 96, "it lists SAs or policies of the kernel"
	}
	return 0, ""
}

// xfrmReader puts together the lines of one entry.
type xfrmReader struct {
	in   *read.Input
	src  string
	dst  string
	at   source.Pos
	sa   *model.KernelSA
	rule *model.KernelRule
}

func readXFRM(in *read.Input) {
	x := &xfrmReader{in: in}
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		w := line.Fields()
		if len(w) == 0 {
			continue
		}
		in.Count()
		if !line.Indented() && w[0] == "src" && len(w) >= 4 {
			x.src, x.dst, x.at, x.sa, x.rule = w[1], w[3], in.At(line.Line), nil, nil
			continue
		}
		x.line(line.Line, strings.TrimSpace(line.Text), w)
	}
	in.Later(func() {
		o := &in.Gateway.Observed
		if len(o.Policies) > 0 || len(o.Kernel) > 0 {
			o.Couple()
			o.Policies = nil // once for all files
		}
	})
}

// line takes an indented line.
func (x *xfrmReader) line(n int, text string, w []string) {
	value := func(key string) string {
		for i := range w {
			if w[i] == key && i+1 < len(w) {
				return w[i+1]
			}
		}
		return ""
	}
	switch {
	case w[0] == "proto" && x.rule != nil:
		x.rule.ReqID, x.rule.Mode, x.rule.Protocol = number32(value("reqid")), mode(value("mode")), protocol(w[1:])
	case w[0] == "proto" && value("spi") != "":
		x.state(value, w)
	case w[0] == "dir":
		x.rule = &model.KernelRule{At: x.at, Dir: value("dir")}
		x.rule.Src, _ = literal.Net(x.src)
		x.rule.Dst, _ = literal.Net(x.dst)
		x.in.Gateway.Observed.Policies = append(x.in.Gateway.Observed.Policies, x.rule)
	case w[0] == "tmpl" && x.rule != nil:
		x.rule.Own, _ = netip.ParseAddr(value("src"))
		x.rule.Peer, _ = netip.ParseAddr(value("dst"))
	case x.sa == nil:
	case w[0] == "enc", w[0] == "auth", w[0] == "auth-trunc", w[0] == "aead":
		x.algorithm(n, w)
	case w[0] == "encap":
		x.sa.Encap = true
	case strings.HasSuffix(w[0], "(bytes),") && len(w) > 1: // "252(bytes), 3(packets)"
		x.sa.Bytes, x.sa.Packets, x.sa.Told, x.sa.Counter.At = leading(w[0]), leading(w[1]), true, x.in.At(n)
	case w[0] == "add" && len(w) >= 3:
		x.sa.Added, _ = time.Parse(time.DateTime, w[1]+" "+w[2])
	case w[0] == "replay-window" && value("replay") != "":
		x.sa.Replays, x.sa.Failed = leading(value("replay")), leading(value("failed"))
	}
}

// state begins an SA.
func (x *xfrmReader) state(value func(string) string, w []string) {
	x.sa = &model.KernelSA{At: x.at, Mode: mode(value("mode")), Protocol: protocol(w[1:]), ReqID: number32(value("reqid"))}
	x.sa.SPI, x.sa.Counter.At = number32(value("spi")), x.at
	x.sa.Src, _ = netip.ParseAddr(x.src)
	x.sa.Dst, _ = netip.ParseAddr(x.dst)
	x.sa.Suite.Protocol = x.sa.Protocol
	o := &x.in.Gateway.Observed
	o.Kernel = append(o.Kernel, x.sa)
	if _, ok := o.Lists(model.ListKernel); !ok {
		o.Listed = append(o.Listed, model.Listed{List: model.ListKernel, At: x.at})
	}
}

// algorithm takes "enc cbc(aes) 0x… (256 bits)", "aead rfc4106(gcm(aes)) 0x… (288 bits) 128" and their like. The key is hidden, and
// nothing but its length is kept.
func (x *xfrmReader) algorithm(n int, w []string) {
	bits := 0
	for _, word := range w[2:] {
		if digits, ok := strings.CutPrefix(word, "0x"); ok {
			bits = 4 * len(digits)
			x.in.File.Hide(n, word)
			break
		}
	}
	c, ok := kernelAlgorithm(w[0], w[1], bits, w[len(w)-1])
	if !ok {
		x.in.Unread(x.in.At(n), read.Owner{}, "the algorithm %q is not known", source.Clean(w[1]))
		return
	}
	x.sa.Suite.Transforms[c.Registry] = c
}

// kernelAlgorithm returns the algorithm that the kernel calls by a name of its crypto API, with a key of a number of bits: of the
// combined
// and of the counter ciphers the key holds their salt.
func kernelAlgorithm(kind, name string, bits int, last string) (ike.Choice, bool) {
	trunc, _ := strconv.Atoi(last)
	type named struct {
		id   uint16
		salt int
	}
	if kind == "auth" || kind == "auth-trunc" {
		id, ok := map[string]uint16{
			"hmac(md5)":    1,
			"digest_null":  0,
			"hmac(sha1)":   2,
			"hmac(sha256)": 12,
			"hmac(sha384)": 13,
			"hmac(sha512)": 14,
			"xcbc(aes)":    5,
			"cmac(aes)":    8,
		}[name]
		return ike.Pick(ike.Integrity, id, 0), ok
	}
	if kind == "aead" {
		size := map[int]uint16{64: 0, 96: 1, 128: 2}[trunc]
		of, ok := map[string]named{
			"rfc4106(gcm(aes))": {18 + size, 32},
			"rfc4309(ccm(aes))": {14 + size, 24},
			"rfc4543(gcm(aes))": {21, 32},

			"rfc7539esp(chacha20,poly1305)": {28, 0},
		}[name]
		if of.salt == 0 || bits == 0 {
			return ike.Pick(ike.Encryption, of.id, 0), ok
		}
		return ike.Pick(ike.Encryption, of.id, bits-of.salt), ok
	}
	of, ok := map[string]named{
		"cbc(aes)":          {12, 0},
		"rfc3686(ctr(aes))": {13, 32},
		"cbc(des3_ede)":     {3, -1},
		"cbc(des)":          {2, -1},
		"cbc(camellia)":     {23, 0},
		"ecb(cipher_null)":  {11, -1},
		"cbc(blowfish)":     {7, 0}, "cbc(cast5)": {6, 0},
	}[name]
	if of.salt < 0 || bits == 0 {
		return ike.Pick(ike.Encryption, of.id, 0), ok
	}
	return ike.Pick(ike.Encryption, of.id, bits-of.salt), ok
}

func protocol(w []string) ike.Protocol {
	if len(w) > 0 && w[0] == "ah" {
		return ike.AH
	}
	return ike.ESP
}

func mode(word string) ike.Mode {
	switch word {
	case "transport":
		return ike.Transport
	case "beet":
		return ike.BEET
	}
	return ike.Tunnel
}

// number32 reads a number as ip writes it: "0x1(1)", "1(0x00000001)", "16393".
func number32(text string) uint32 {
	text, _, _ = strings.Cut(text, "(")
	n, _ := strconv.ParseUint(text, 0, 32)
	return uint32(n)
}

// leading reads the number that a word begins with.
func leading(word string) uint64 {
	i := strings.IndexFunc(word, func(r rune) bool { return r < '0' || r > '9' })
	if i < 0 {
		i = len(word)
	}
	n, _ := strconv.ParseUint(word[:i], 10, 64)
	return n
}

// count takes a line of numbers under a head that "ip -s link" prints: of what an interface received, or sent.
func count(t *model.Traffic, received bool, w []string) error {
	if len(w) < 4 {
		return fmt.Errorf("it is no line of counters")
	}
	if received {
		t.BytesIn = leading(w[0])
	} else {
		t.BytesOut = leading(w[0])
	}
	t.Errors, t.Dropped = t.Errors+leading(w[2]), t.Dropped+leading(w[3])
	return nil
}
