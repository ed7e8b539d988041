package libreswan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"toril/daemon"
	"toril/daemon/form"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
)

// File is the name of the daemon's file as a format, and Conn the path of its sections of connections. Of a keyword of either side
// there is one row, under the left one's name.
const (
	File = "ipsec.conf-libreswan"
	Conn = "conn"
)

// sections are those of the daemon's file whose keywords stand in rows: one row is all that is known of a keyword. Defaults are those
// of the pages of 4.3, 4.10 and 5.2, and the versions those of the daemon's list of changes.
var sections = sync.OnceValue(func() []*daemon.Section {
	return []*daemon.Section{daemon.Described(daemon.Section{File: File, Name: "ipsec.conf", Path: Conn, Page: page, Assigns: "=",
		Keywords: append(keywords(), ignored()...)})}
})

const (
	page    = "ipsec.conf(5)"
	changes = "list of changes, "
)

// keywords: it is long as a table is, a row a keyword.
func keywords() []daemon.Keyword {
	return []daemon.Keyword{
		daemon.Sets("ikev2 = no # "+changes+"3.28\nikev2@3.28 = yes # "+changes+"3.28", settings.IKEVersion, versions),
		daemon.Uses("keyexchange = ike # " + changes + "5.0\nkeyexchange@5.0 = ikev2 # " + changes + "5.0"),
		daemon.Uses("left = %any"),
		daemon.Reads("leftikeport = 500", port),
		daemon.Uses("ike ~ the daemon's own").Serving(settings.IKEProposals.Row).Written(writeProposals),
		daemon.Sets("aggressive = no", settings.IKEv1Mode, form.Bool),
		daemon.Uses("encapsulation, forceencaps = auto"),
		daemon.Uses("mobike = no"),
		daemon.Sets("fragmentation = yes", settings.Fragmentation, form.Word),
		daemon.Sets("keyingtries = %forever", settings.Attempts, form.Form[int]{Read: readTries}),
		daemon.Sets("ppk = no", settings.PostQuantumKey, form.Form[bool]{Read: func(text string) (bool, error) {
			return text == "yes" || text == "insist" || text == "propose", nil
		}}),
		daemon.Sets("dpddelay = 0", settings.Liveness, Span).With("dpdtimeout", "120"),
		daemon.Sets("dpdtimeout = 0", settings.LivenessTimeout, Span),
		daemon.Reads("ikelifetime = 1h # "+changes+"4.2\nikelifetime@4.2 = 8h # "+changes+"4.2", Span).
			Serving(settings.IKELifetime.Row),
		daemon.Reads("rekey = yes", form.Bool),
		daemon.Reads("rekeymargin = 9m", Span),
		daemon.Reads("rekeyfuzz = 100%", form.Form[int]{Read: func(text string) (int, error) {
			return strconv.Atoi(strings.TrimSuffix(text, "%"))
		}}),
		daemon.Reads("ipsec-interface = no", form.Form[uint32]{Read: readInterface}),
		daemon.Reads("vti-interface =", form.Word),
		daemon.Uses("leftvti ="),
		daemon.Reads("vti-routing = yes", form.Bool),
		daemon.Reads("vti-shared = no", form.Bool),
		daemon.Uses("authby = rsasig\nauthby@4.10 = rsasig,ecdsa"),
		daemon.Uses("leftauth ~ authby"),
		daemon.Uses("leftid ~ the address"),
		daemon.Reads("leftcert =", one),
		daemon.Reads("leftca =", one),
		daemon.Uses("leftrsasigkey, leftecdsakey, leftpubkey, leftckaid ="),
		daemon.Reads("leftsendcert = always # seen with 4.10", form.Choice("is none of always, sendifasked and never",
			form.As("always", model.SentAlways), form.As("alwayssend", model.SentAlways), // its manual's "yes" and "no" it refuses
			form.As("sendifasked", model.SentWhenAsked), form.As("never", model.SentNever))),
		daemon.Reads("require-id-on-certificate = yes", form.Bool),
		daemon.Reads("phase2 = esp", form.Form[ike.Protocol]{Read: readProtocol}),
		daemon.Uses("esp, phase2alg, ah ~ the daemon's own").Serving(settings.ChildProposals.Row).Written(writeProposals),
		daemon.Uses("leftsubnet ~ the address alone"),
		daemon.Uses("leftsubnets ="),
		daemon.Uses("leftprotoport ="),
		daemon.Sets("type = tunnel", settings.Mode, form.ExactChoice(
			"is not a type of connection",
			form.As(
				"tunnel",
				ike.Tunnel,
			),
			form.As("transport", ike.Transport),
			form.As("passthrough", ike.Pass),
			form.As("pass", ike.Pass),
			form.As("drop", ike.Drop),
			form.As("reject", ike.Drop),
		)),
		daemon.Uses("narrowing = no # seen with 4.10"),
		daemon.Follows("auto ~ ignore: the connection is not loaded", settings.Start,
			form.ExactChoice("is none of ignore, add, ondemand, start and keep",
				form.As("add", model.StartNever), form.As("keep", model.StartNever), form.As("ondemand", model.StartTraffic),
				form.As("route", model.StartTraffic), form.As("start", model.StartBoot), form.As("up", model.StartBoot)),
			func(daemon.Subject) model.Start { return model.StartNever }),
		daemon.Sets("dpdaction = hold", settings.LivenessAction, form.Word),
		daemon.Reads("salifetime, keylife, lifetime = 8h", Span).
			Serving(settings.ChildLifetime.Row, settings.ChildHardLifetime.Row),
		daemon.Uses("ipsec-max-bytes = 0"),
		daemon.Uses("ipsec-max-packets = 0"),
		daemon.Sets(
			"replay-window = 32 # "+changes+"4.6\nreplay-window@4.6 = 128 # "+changes+"4.6",
			settings.ReplayWindow,
			decimal,
		),
		daemon.Sets("compress = no", settings.IPComp, form.Bool),
		daemon.Sets("sha2-truncbug = no", settings.Cut96, form.Bool),
		daemon.Sets("mark-in, mark =", settings.MarkIn, form.Word),
		daemon.Sets("mark-out, mark =", settings.MarkOut, form.Word),
		daemon.Reads("pfs = yes", form.Bool),
		daemon.Reads("esn = no # "+changes+"4.6\nesn@4.6 = either # "+changes+"4.6", form.Form[[]uint16]{Read: readESN}),
	}
}

func ignored() []daemon.Keyword {
	return slices.Concat(
		daemon.Ignores("redirection of peers", "accept-redirect", "accept-redirect-to", "send-redirect", "redirect-to"),
		daemon.Ignores("vendor identifiers", "*-unity", "fake-strongswan", "send-vendorid"),
		daemon.Ignores("name servers of roadwarriors", "ignore-peer-dns"),
		daemon.Ignores("follows from the addresses", "clientaddrfamily", "hostaddrfamily"),
		daemon.Ignores("another name", "connalias"),
		daemon.Ignores("marking of inner packets", "decap-dscp"),
		daemon.Ignores("identity by DNS", "dns-match-id"),
		daemon.Ignores("what happens to packets after a failure", "failureshunt"),
		daemon.Ignores("what happens to packets during negotiation", "negotiationshunt"),
		daemon.Ignores("padding of IKE messages", "ikepad"),
		daemon.Ignores("form of the exchange", "initial-contact", "nat-ikev1-method", "sendca"),
		daemon.Ignores(
			"virtual addresses of roadwarriors",
			"leftaddresspool",
			"leftmodecfgclient",
			"leftmodecfgserver",
			"modecfgbanner",
			"modecfgdns",
			"modecfgdomains",
			"modecfgpull",
		),
		daemon.Ignores("translation by the daemon", "leftcat"),
		daemon.Ignores("script", "leftfirewall"),
		daemon.Ignores("route of the outer packets", "leftnexthop"),
		daemon.Ignores("source address of the gateway's own packets", "leftsourceip"),
		daemon.Ignores("script that runs when the child comes up", "leftupdown"),
		daemon.Ignores("XAuth", "leftusername", "leftxauthclient", "leftxauthserver", "pam-authorize", "xauthby", "xauthfail"),
		daemon.Ignores("EAP", "leftautheap"),
		daemon.Ignores("address of the tunnel interface", "leftinterface-ip"),
		daemon.Ignores("metric of the route", "metric"),
		daemon.Ignores("of one make of client", "ms-dh-downgrade"),
		daemon.Ignores("size of packets", "mtu"),
		daemon.Ignores("keeps NAT open", "nat-keepalive"),
		daemon.Ignores("logging", "nflog"),
		daemon.Ignores("who computes", "nic-offload"),
		daemon.Ignores("who configured it", "nm-configured"),
		daemon.Ignores("fragmentation of the outer packet", "nopmtudisc"),
		daemon.Ignores("several peers with one network", "overlapip"),
		daemon.Ignores("security label", "policy-label", "labeled-ipsec"),
		daemon.Ignores("order of policies, set by hand", "priority"),
		daemon.Ignores("of one make of peer", "remote-peer-type"),
		daemon.Ignores("number of the SA in the kernel", "reqid"),
		daemon.Ignores("timing", "retransmit-interval", "retransmit-timeout", "xfrmlifetime"),
		daemon.Ignores("of an older kernel part", "sareftrack"),
		daemon.Ignores("padding", "send-no-esp-tfc"),
		daemon.Ignores("padding against traffic analysis", "tfc"),
		daemon.Ignores("IKE over TCP", "enable-tcp", "tcp-remoteport"),
		daemon.Ignores("second authentication", "leftca2"),
		daemon.Ignores("of an older version", "pfsgroup"),
	)
}

// The forms of values (ipsec.conf(5)).
var (
	versions = form.Form[ike.Version]{
		Read: form.ExactChoice(
			"is neither yes nor no",
			form.As("yes", ike.V2),
			form.As("insist", ike.V2),
			form.As("propose", ike.V2),
			form.As("no", ike.V1),
			form.As("never", ike.V1),
			form.As("permit", ike.V1),
		).Read,
		Write: func(v ike.Version) (string, error) {
			if v == ike.V1 {
				return "never", nil
			}
			return "insist", nil
		},
	}

	// Span is a time: seconds, or a number with ms, s, m, h, d or w behind it.
	Span = form.Form[time.Duration]{Read: readSpan, Write: form.Time.Write}

	port = form.Form[int]{Read: func(text string) (int, error) {
		n, err := strconv.ParseUint(text, 10, 16)
		if err != nil {
			return 0, fmt.Errorf("%q is not a port", text)
		}
		return int(n), nil
	}}

	decimal = form.Form[int]{Read: strconv.Atoi, Write: form.CNumber.Write}

	one = form.Form[[]string]{Read: func(text string) ([]string, error) { return []string{text}, nil }}
)

func readTries(text string) (int, error) {
	if text == "%forever" {
		return 0, nil
	}
	return strconv.Atoi(text)
}

func readInterface(text string) (uint32, error) {
	switch text {
	case "no":
		return 0, nil
	case "yes":
		return 1, nil
	}
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), err
}

func readProtocol(text string) (ike.Protocol, error) {
	switch text {
	case "esp":
		return ike.ESP, nil
	case "ah":
		return ike.AH, nil
	}
	return ike.ESP, fmt.Errorf("%q is neither esp nor ah", text)
}

func readESN(text string) ([]uint16, error) {
	switch text {
	case "yes":
		return []uint16{1}, nil
	case "no":
		return []uint16{0}, nil
	case "either":
		return []uint16{1, 0}, nil
	}
	return nil, fmt.Errorf("%q is none of yes, no and either", text)
}

func readSpan(text string) (time.Duration, error) {
	if n, ok := strings.CutSuffix(text, "ms"); ok {
		k, err := strconv.Atoi(n)
		return time.Duration(k) * time.Millisecond, err
	}
	if n, ok := strings.CutSuffix(text, "w"); ok {
		k, err := strconv.Atoi(n)
		return time.Duration(k) * 7 * 24 * time.Hour, err
	}
	return form.Time.Read(text)
}

// writeProposals writes proposals for the version of IKE that the connection has.
func writeProposals(s daemon.Subject, v any) (string, error) {
	ps, ok := v.([]ike.Proposal)
	if !ok {
		return "", fmt.Errorf("%T is no list of proposals", v)
	}
	d := Dialect{V1: s.Connection != nil && s.Connection.Version.Value == ike.V1}
	return form.Proposals(",", nil, d.Write).Write(ps)
}
