package strongswan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/daemon"
	"toril/daemon/form"
	"toril/ike"
	"toril/model"
	"toril/model/literal"
	"toril/model/settings"
)

// IPsecConf is the name of the older file, and IPsecConn the path of its sections of connections. Of a keyword of either side there is
// one row, under the left one's name.
const (
	IPsecConf = "ipsec.conf"
	IPsecConn = "conn"
)

// ipsecKeywords: it is long as a table is, a row a keyword.
func ipsecKeywords() []daemon.Keyword {
	return []daemon.Keyword{
		daemon.Sets("keyexchange = ike", settings.IKEVersion, form.ExactChoice("is none of ike, ikev1 and ikev2",
			form.As("ike", ike.Either), form.As("ikev1", ike.V1), form.As("ikev2", ike.V2))),
		daemon.Reads("left = %any", form.Form[model.Addresses]{Read: readEnd}),
		daemon.Reads("leftallowany = no", yesNo),
		daemon.Reads("leftikeport = 500", form.CNumber),
		daemon.Follows("ike ~ the daemon's own", settings.IKEProposals, connProposals(ike.IKE),
			func(daemon.Subject) []ike.Proposal { return UnsetConn(ike.IKE) }),
		daemon.Sets("aggressive = no", settings.IKEv1Mode, yesNo),
		daemon.Sets("forceencaps = no", settings.Encapsulation, yesNo),
		daemon.Sets("mobike = yes", settings.MOBIKE, yesNo),
		daemon.Sets("fragmentation = yes", settings.Fragmentation, form.Word),
		daemon.Sets("keyingtries = 3", settings.Attempts, form.Form[int]{Read: readTries, Write: form.CNumber.Write}),
		daemon.Sets("dpdaction = none", settings.LivenessAction, form.Word),
		daemon.Reads("dpddelay = 30s", span).Serving(settings.Liveness.Row).With("dpdaction", "restart"),
		daemon.Sets("dpdtimeout = 150s", settings.LivenessTimeout, span),
		daemon.Reads("ikelifetime = 3h", span).Serving(settings.IKELifetime.Row),
		daemon.Reads("rekey = yes", yesNo),
		daemon.Reads("reauth = yes", yesNo),
		daemon.Reads("margintime, rekeymargin = 9m", span),
		daemon.Reads("rekeyfuzz = 100%", percent),
		daemon.Reads("if_id_in = 0", InterfaceID),
		daemon.Reads("if_id_out = 0", InterfaceID),
		daemon.Reads("authby = pubkey", connMethod),
		daemon.Reads("leftauth ~ authby", connMethod),
		daemon.Reads("leftid ~ the address, or the subject of the certificate", identity),
		daemon.Reads("leftcert =", form.List),
		daemon.Reads("leftca =", form.Form[[]string]{Read: func(text string) ([]string, error) { return []string{text}, nil }}),
		daemon.Uses("leftsigkey, leftrsasigkey ="),
		daemon.Reads("leftsendcert = ifasked", Sent),
		daemon.Follows("esp ~ the daemon's own", settings.ChildProposals, connProposals(ike.ESP),
			func(daemon.Subject) []ike.Proposal { return UnsetConn(ike.ESP) }),
		daemon.Reads("ah =", connProposals(ike.AH)),
		daemon.Reads("leftsubnet = %dynamic", form.Form[ike.Selectors]{Read: func(text string) (ike.Selectors, error) {
			return Selectors(strings.ReplaceAll(strings.ReplaceAll(text, "%dynamic", "dynamic"), "%any", ""))
		}}),
		daemon.Reads("leftprotoport =", form.Form[ike.Selector]{Read: readProtoPort}),
		daemon.Sets("type = tunnel", settings.Mode, form.ExactChoice("is not a type of connection",
			form.As("tunnel", ike.Tunnel), form.As("transport", ike.Transport), form.As("transport_proxy", ike.Transport),
			form.As("beet", ike.BEET), form.As("passthrough", ike.Pass), form.As("pass", ike.Pass),
			form.As("drop", ike.Drop), form.As("reject", ike.Drop))),
		daemon.Follows("auto ~ ignore: the connection is not loaded", settings.Start,
			form.ExactChoice("is none of ignore, add, route and start",
				form.As("add", model.StartNever), form.As("route", model.StartTraffic), form.As("start", model.StartBoot)),
			func(daemon.Subject) model.Start { return model.StartNever }),
		daemon.Sets("closeaction = none", settings.CloseAction, Starts),
		daemon.Sets("lifetime, keylife = 1h", settings.ChildHardLifetime, span).Serving(settings.ChildLifetime.Row),
		daemon.Sets("lifebytes = 0", settings.ChildHardLifetimeBytes, form.Size),
		daemon.Reads("marginbytes = 0", form.Size),
		daemon.Sets("lifepackets = 0", settings.ChildHardLifetimePackets, form.Size),
		daemon.Reads("marginpackets = 0", form.Size),
		daemon.Reads("replay_window ~ charon.replay_window", form.CNumber).Serving(settings.ReplayWindow.Row),
		daemon.Sets("compress = no", settings.IPComp, yesNo),
		daemon.Sets("sha256_96 = no", settings.Cut96, yesNo),
		daemon.Sets("installpolicy = yes", settings.Policies, yesNo),
		daemon.Sets("inactivity = 0", settings.Inactivity, span),
		daemon.Sets("mark_in, mark =", settings.MarkIn, form.Word),
		daemon.Sets("mark_out, mark =", settings.MarkOut, form.Word),
		daemon.Reads("leftfirewall = no", yesNo),
		daemon.Reads("lefthostaccess = no", yesNo),
		daemon.Reads("leftupdown =", form.Word),
	}
}

func ipsecIgnored() []daemon.Keyword {
	return slices.Concat(
		daemon.Ignores("EAP server identity", "aaa_identity"),
		daemon.Ignores("EAP identity", "eap_identity"),
		daemon.Ignores("marking of IKE packets", "ikedscp"),
		daemon.Ignores("second authentication", "leftca2", "leftcert2", "leftid2", "leftauth2", "authby2"),
		daemon.Ignores("policy OIDs of certificates", "leftcertpolicy"),
		daemon.Ignores("virtual addresses of roadwarriors", "leftdns", "leftsourceip"),
		daemon.Ignores("group membership of certificates", "leftgroups", "leftgroups2"),
		daemon.Ignores("public key", "lefthostkey"),
		daemon.Ignores("mediation between peers behind NAT", "mediation", "mediated_by", "me_peerid"),
		daemon.Ignores("direction of the mode config exchange", "modeconfig"),
		daemon.Ignores("number of the SA in the kernel", "reqid"),
		daemon.Ignores("padding against traffic analysis", "tfc"),
		daemon.Ignores("role in XAuth", "xauth"),
		daemon.Ignores("XAuth identity", "xauth_identity"),
		daemon.Ignores("of an older daemon", "leftnexthop", "eap", "auth"),
		daemon.Ignores("of an older daemon; ignored by this one", "pfs", "pfsgroup"),
		daemon.Ignores("authority", "cacert"),
		daemon.Ignores("mark of packets", "set_mark_in", "set_mark_out"),
	)
}

// The forms of values of ipsec.conf(5), where they are others than those of swanctl.conf(5).
var (
	// yesNo has no other words than these two.
	yesNo = form.ExactChoice("is neither yes nor no", form.As("yes", true), form.As("no", false))

	// span is a time: seconds, or a number with s, m, h or d behind it, in small letters.
	span = form.Form[time.Duration]{
		Read: func(text string) (time.Duration, error) {
			if strings.ToLower(text) != text {
				return 0, fmt.Errorf("%q is not a time (a number, with s, m, h or d behind it)", text)
			}
			return form.Time.Read(text)
		},
		Write: form.Time.Write,
	}

	percent = form.Form[int]{Read: func(text string) (int, error) { return strconv.Atoi(strings.TrimSuffix(text, "%")) }}

	connMethod = form.Form[ike.Method]{Read: readConnMethod}
)

func readEnd(text string) (model.Addresses, error) {
	if text == "%defaultroute" {
		return model.Addresses{{Text: "%any", Any: true}}, nil
	}
	return Addresses(text), nil
}

func readTries(text string) (int, error) {
	if text == "%forever" {
		return 0, nil
	}
	return form.CNumber.Read(text)
}

// connProposals are those of ipsec.conf: without "!" at the end the daemon's own are added to those written.
func connProposals(protocol ike.Protocol) form.Form[[]ike.Proposal] {
	read := func(text string) ([]ike.Proposal, error) {
		text, strict := strings.CutSuffix(strings.TrimSpace(text), "!")
		ps, err := Proposals(text, protocol)
		if !strict && err == nil {
			ps = append(ps, Default(protocol)...)
		}
		return ps, err
	}
	written := form.Proposals(",", nil, Write).Write
	return form.Form[[]ike.Proposal]{Read: read, Write: func(ps []ike.Proposal) (string, error) {
		text, err := written(ps)
		return text + "!", err
	}}
}

func readConnMethod(text string) (ike.Method, error) {
	if BySignature(text) {
		return ike.Certificate, nil
	}
	switch first, _, _ := strings.Cut(text, "-"); first {
	case "psk", "secret":
		return ike.PSK, nil
	case "rsasig", "ecdsasig", "never":
		return ike.Certificate, nil
	case "eap":
		return ike.EAP, nil
	case "xauth", "xauthpsk", "xauthrsasig":
		return ike.XAuth, nil
	}
	return 0, fmt.Errorf("%q is not a known method of authentication", text)
}

func readProtoPort(text string) (s ike.Selector, err error) {
	proto, port, _ := strings.Cut(text, "/")
	if s.Proto, err = literal.Proto(proto); err == nil {
		err = literal.SelectorPorts(port, &s)
	}
	return s, err
}
