package strongswan

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

// The paths of the sections of swanctl.conf.
const (
	PathConn   = "connections.<conn>"
	PathLocal  = PathConn + ".local"
	PathRemote = PathConn + ".remote"
	PathChild  = PathConn + ".children.<child>"
)

// sections are those of the daemon's files whose keywords stand in rows: one row is all that is known of a keyword.
var sections = sync.OnceValue(func() []*daemon.Section {
	return []*daemon.Section{
		swanctl(PathConn, connKeywords(), connIgnored()),
		swanctl(PathLocal, localKeywords(), partyIgnored()),
		swanctl(PathRemote, remoteKeywords(), partyIgnored()),
		swanctl(PathLocal+".cert", []daemon.Keyword{daemon.Checks("file =", form.Word)}),
		swanctl(PathRemote+".cert", []daemon.Keyword{daemon.Checks("file =", form.Word)}),
		swanctl(PathChild, childKeywords(), childIgnored()),
		daemon.Described(
			daemon.Section{
				File:     IPsecConf,
				Format:   "ipsec.conf-strongswan",
				Path:     IPsecConn,
				Page:     connPage,
				Assigns:  "=",
				Quote:    quoted,
				Keywords: append(ipsecKeywords(), ipsecIgnored()...),
			},
		),
	}
})

func swanctl(path string, rows ...[]daemon.Keyword) *daemon.Section {
	return daemon.Described(daemon.Section{File: "swanctl.conf", Path: path, Page: swanctlPage, Assigns: " = ", Quote: quoted,
		Keywords: slices.Concat(rows...)})
}

// quoted puts a value into quotation marks where a character of it would end it, or mean something else (swanctl.conf(5)).
func quoted(text string) string {
	if strings.ContainsAny(text, "#{}\"=\n") || strings.TrimSpace(text) != text {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
	}
	return text
}

func connKeywords() []daemon.Keyword {
	return []daemon.Keyword{
		daemon.Sets("version = 0", settings.IKEVersion, versions),
		daemon.Sets("local_addrs = %any", settings.OwnAddress, addresses).Tells(),
		daemon.Sets("remote_addrs = %any", settings.PeerAddress, addresses).Tells(),
		daemon.Sets("local_port = 500", settings.OwnPort, form.CNumber),
		daemon.Sets("remote_port = 500", settings.PeerPort, form.CNumber),
		daemon.Follows("proposals ~ the daemon's own", settings.IKEProposals, proposalsOf(ike.IKE), unsetOf(ike.IKE)).Tells(),
		daemon.Sets("aggressive = no", settings.IKEv1Mode, form.Bool),
		daemon.Sets("encap = no", settings.Encapsulation, form.Bool),
		daemon.Sets("mobike = yes", settings.MOBIKE, form.Bool),
		daemon.Sets("dpd_delay = 0s", settings.Liveness, form.Time),
		daemon.Sets("dpd_timeout = 0s", settings.LivenessTimeout, form.Time),
		daemon.Sets("childless = allow", settings.Childless, form.Choice("is none of allow, force and never",
			form.As("allow", "allow"), form.As("force", "force"),
			form.As("never", "never"), form.As("prefer", "prefer")),
		).Newer("prefer", "5.9.9"), // 5.9.8 refuses it, 6.0.1 has it
		daemon.Sets("fragmentation = yes", settings.Fragmentation, form.Word),
		daemon.Sets("send_cert = ifasked", settings.OwnCertificateSent, Sent),
		daemon.Sets("send_certreq = yes", settings.PeerCertificateAskedFor, form.Bool),
		daemon.Sets("ppk_id =", settings.PostQuantumKey, form.Given),
		daemon.Sets("ppk_required = no", settings.PostQuantumKeyRequired, form.Bool),
		daemon.Sets("keyingtries = 1", settings.Attempts, form.CNumber),
		daemon.Sets("reauth_time = 0s", settings.Reauthentication, form.Time).Serving(settings.IKELifetime.Row),
		daemon.Sets("rekey_time = 4h; never where only reauth_time is set", settings.IKELifetime, form.Time).
			Tells().Then(reauthTurnsRekeyOff),
		daemon.Follows("over_time ~ 10% of the longer of rekey_time and reauth_time", settings.IKEOvertime, form.Time,
			func(s daemon.Subject) time.Duration {
				return max(s.Connection.Rekey.Value, s.Connection.Reauth.Value) / 10
			}),
		daemon.Reads("rand_time ~ over_time", form.Time),
		daemon.Reads("if_id_in = 0", InterfaceID),
		daemon.Reads("if_id_out = 0", InterfaceID),
	}
}

func connIgnored() []daemon.Keyword {
	return slices.Concat(
		daemon.Ignores("direction of the mode config exchange", "pull"),
		daemon.Ignores("marking of IKE packets", "dscp"),
		daemon.Ignores("virtual addresses of roadwarriors", "vips", "pools"),
		daemon.Ignores("mediation between peers behind NAT", "mediation", "mediated_by", "mediation_peer"),
		daemon.Ignores("what happens to an older SA of the same peer", "unique"),
	)
}

func localKeywords() []daemon.Keyword {
	return []daemon.Keyword{
		daemon.Sets("auth = pubkey", settings.OwnAuthentication, method),
		daemon.Follows("id ~ the address, or the subject of the certificate", settings.OwnIdentity, identity,
			func(daemon.Subject) ike.Identity { return ike.Identity{Kind: ike.NoID} }),
		daemon.Sets("certs =", settings.OwnCertificates, form.List),
		daemon.Reads("cacerts =", form.List),
		daemon.Reads("pubkeys =", form.List),
		daemon.Reads("revocation = relaxed", form.Word),
	}
}

func remoteKeywords() []daemon.Keyword {
	return []daemon.Keyword{
		daemon.Follows("auth ~ any that the peer uses # "+asked, settings.PeerAuthentication, method,
			func(daemon.Subject) ike.Method { return ike.AnyMethod }),
		daemon.Follows("id ~ any", settings.PeerIdentity, identity,
			func(daemon.Subject) ike.Identity { return ike.Identity{Kind: ike.AnyID} }),
		daemon.Sets("certs =", settings.PeerCertificates, form.List),
		daemon.Sets("cacerts =", settings.PeerAuthorities, form.List),
		daemon.Reads("pubkeys =", form.List),
		daemon.Reads("revocation = relaxed", form.Word),
	}
}

func partyIgnored() []daemon.Keyword {
	return slices.Concat(
		daemon.Ignores("order of authentication rounds", "round"),
		daemon.Ignores("EAP identity", "eap_id"),
		daemon.Ignores("EAP server identity", "aaa_id"),
		daemon.Ignores("XAuth identity", "xauth_id"),
		daemon.Ignores("group membership of certificates", "groups"),
		daemon.Ignores("policy OIDs of certificates", "cert_policy"),
		daemon.Ignores("identity in the CA certificate", "ca_id"),
	)
}

func childKeywords() []daemon.Keyword {
	return []daemon.Keyword{
		daemon.Follows("esp_proposals ~ the daemon's own", settings.ChildProposals, proposalsOf(ike.ESP), unsetOf(ike.ESP)).Tells(),
		daemon.Reads("ah_proposals =", proposalsOf(ike.AH)).Serving(settings.ChildProposals.Row),
		daemon.Sets("sha256_96 = no", settings.Cut96, form.Bool),
		daemon.Sets("local_ts = dynamic", settings.OwnNetworks, selectors).Tells(),
		daemon.Sets("remote_ts = dynamic", settings.PeerNetworks, selectors).Tells(),
		daemon.Sets("rekey_time = 1h\nrekey_time@6.0.1 = 1h; life_time less 10% where only that is set", settings.ChildLifetime, form.Time).
			Tells(),
		daemon.Follows("life_time ~ rekey_time and 10%", settings.ChildHardLifetime, form.Time,
			func(s daemon.Subject) time.Duration { return s.Child.Rekey.Value + s.Child.Rekey.Value/10 }).
			Tells().Then(func(s daemon.Subject) { lessThanHard(s, &s.Child.Rekey, s.Child.Life) }),
		daemon.Reads("rand_time ~ life_time less rekey_time", form.Time),
		daemon.Sets("rekey_bytes = 0\nrekey_bytes@6.0.1 = 0; life_bytes less 10% where only that is set",
			settings.ChildLifetimeBytes, form.Size),
		daemon.Follows("life_bytes ~ rekey_bytes and 10%", settings.ChildHardLifetimeBytes, form.Size,
			func(s daemon.Subject) uint64 { return s.Child.RekeyBytes.Value + s.Child.RekeyBytes.Value/10 }).
			Then(func(s daemon.Subject) { lessThanHard(s, &s.Child.RekeyBytes, s.Child.LifeBytes) }),
		daemon.Checks("rand_bytes = 0", form.Size),
		daemon.Sets("rekey_packets = 0\nrekey_packets@6.0.1 = 0; life_packets less 10% where only that is set",
			settings.ChildLifetimePackets, form.Size),
		daemon.Follows("life_packets ~ rekey_packets and 10%", settings.ChildHardLifetimePackets, form.Size,
			func(s daemon.Subject) uint64 { return s.Child.RekeyPackets.Value + s.Child.RekeyPackets.Value/10 }).
			Then(func(s daemon.Subject) { lessThanHard(s, &s.Child.RekeyPackets, s.Child.LifePackets) }),
		daemon.Checks("rand_packets = 0", form.Size),
		daemon.Reads("updown =", form.Word),
		daemon.Reads("hostaccess = no", form.Bool),
		daemon.Sets("mode = tunnel", settings.Mode, modes),
		daemon.Sets("policies = yes", settings.Policies, form.Bool),
		daemon.Reads("policies_fwd_out = no", form.Bool),
		daemon.Sets("dpd_action = clear", settings.LivenessAction, form.Word),
		daemon.Sets("ipcomp = no", settings.IPComp, form.Bool),
		daemon.Sets("inactivity = 0s", settings.Inactivity, form.Time),
		daemon.Sets("mark_in =", settings.MarkIn, form.Word),
		daemon.Sets("mark_out =", settings.MarkOut, form.Word),
		daemon.Follows("if_id_in ~ the connection's", settings.InterfaceIn, InterfaceID,
			func(s daemon.Subject) uint32 { return s.Connection.IfIDIn.Value }),
		daemon.Follows("if_id_out ~ the connection's", settings.InterfaceOut, InterfaceID,
			func(s daemon.Subject) uint32 { return s.Connection.IfIDOut.Value }),
		daemon.Follows("replay_window ~ charon.replay_window", settings.ReplayWindow, form.CNumber,
			func(daemon.Subject) int { return 0 }), // the reader asks when strongswan.conf is read
		daemon.Sets("start_action = none", settings.Start, Starts).Tells(),
		daemon.Sets("close_action = none", settings.CloseAction, Starts),
	}
}

func childIgnored() []daemon.Keyword {
	return slices.Concat(
		daemon.Ignores("number of the SA in the kernel", "reqid"),
		daemon.Ignores("outbound interface for hardware", "interface"),
		daemon.Ignores("order of policies, set by hand", "priority"),
		daemon.Ignores("form of the mark", "mark_in_sa"),
		daemon.Ignores("mark of packets after decryption", "set_mark_in"),
		daemon.Ignores("mark of packets after encryption", "set_mark_out"),
		daemon.Ignores("security label", "label", "label_mode"),
		daemon.Ignores("padding against traffic analysis", "tfc_padding"),
		daemon.Ignores("who computes", "hw_offload"),
		daemon.Ignores("fragmentation of the outer packet", "copy_df"),
		daemon.Ignores("congestion marks", "copy_ecn"),
		daemon.Ignores("marking of the outer packet", "copy_dscp"),
	)
}

// reauthTurnsRekeyOff: setting reauth_time turns rekeying off unless it is set too.
func reauthTurnsRekeyOff(s daemon.Subject) {
	if c := s.Connection; c.Reauth.Value > 0 && c.Rekey.IsDefault() {
		c.Rekey.Value = 0
	}
}

// lessThanHard makes a renewal that is not configured come a tenth before a hard limit that is: since 6.0 (swanctl.conf(5)).
func lessThanHard[T time.Duration | uint64](s daemon.Subject, rekey *model.Setting[T], hard model.Setting[T]) {
	if s.Has("6.0.1") && rekey.IsDefault() && !hard.IsDefault() && hard.Value > 0 {
		rekey.Value = hard.Value - hard.Value/10
		if s.Version == "" {
			rekey.Why += " (since 6.0.1; earlier versions pass over the hard limit)"
		}
	}
}

func unsetOf(protocol ike.Protocol) func(daemon.Subject) []ike.Proposal {
	return func(daemon.Subject) []ike.Proposal { return Unset(protocol) }
}

// The forms of values (swanctl.conf(5)).
var (
	versions = form.ExactChoice("is none of 0, 1 and 2",
		form.As("0", ike.Either), form.As("1", ike.V1),
		form.As("2", ike.V2))

	addresses = form.Form[model.Addresses]{
		Read: func(text string) (model.Addresses, error) {
			if strings.Contains(text, "\n") {
				return nil, ErrLines
			}
			return Addresses(text), nil
		},
		Write: func(as model.Addresses) (string, error) {
			if again := Addresses(as.String()); !slices.Equal(again, as) {
				return "", fmt.Errorf("%s is not an address that a file can have", as)
			}
			return as.String(), nil
		},
	}

	// Sent is when an end sends its certificate.
	Sent = form.Choice("is none of always, ifasked and never",
		form.As("always", model.SentAlways), form.As("yes", model.SentAlways),
		form.As("ifasked", model.SentWhenAsked),
		form.As("never", model.SentNever), form.As("no", model.SentNever))

	// InterfaceID is the number of an interface. One that is only chosen when the tunnel comes up counts as set.
	InterfaceID = form.Form[uint32]{
		Read: func(text string) (uint32, error) {
			if strings.HasPrefix(strings.ToLower(text), "%unique") {
				return ^uint32(0), nil
			}
			return form.Number.Read(text)
		},
		Write: func(n uint32) (string, error) { return strconv.FormatUint(uint64(n), 10), nil },
	}

	// Starts is what sets a child up.
	Starts = form.Form[model.Start]{
		Read: func(text string) (model.Start, error) {
			start, err := starts.Read(strings.ReplaceAll(text, " ", ""))
			if err != nil {
				err = fmt.Errorf("%q is none of none, trap, start and trap|start", text)
			}
			return start, err
		},
		Write: func(s model.Start) (string, error) { return starts.Write(s) },
	}

	starts = form.Choice("",
		form.As("none", model.StartNever), form.As("clear", model.StartNever),
		form.As("trap", model.StartTraffic), form.As("route", model.StartTraffic),
		form.As("hold", model.StartTraffic),
		form.As("start", model.StartBoot), form.As("restart", model.StartBoot),
		form.As("trap|start", model.StartBoth), form.As("start|trap", model.StartBoth))

	modes = form.Choice("is not a mode",
		form.As("tunnel", ike.Tunnel), form.As("transport", ike.Transport),
		form.As("transport_proxy", ike.Transport), form.As("beet", ike.BEET),
		form.As("pass", ike.Pass), form.As("drop", ike.Drop))

	identity = form.Form[ike.Identity]{
		Read:  func(text string) (ike.Identity, error) { return ParseIdentity(text), nil },
		Write: writeIdentity,
	}

	method = form.Form[ike.Method]{
		Read: readMethod,
		Write: func(m ike.Method) (string, error) {
			switch m {
			case ike.PSK:
				return "psk", nil
			case ike.Certificate:
				return "pubkey", nil
			}
			return "", fmt.Errorf("%s is no method that Toril writes", m)
		},
	}

	selectors = form.Form[ike.Selectors]{Read: Selectors, Write: writeSelectors}
)

func proposalsOf(protocol ike.Protocol) form.Form[[]ike.Proposal] {
	return form.Proposals(", ", func(text string) ([]ike.Proposal, error) { return Proposals(text, protocol) }, Write)
}

// writeIdentity writes an identity by its value alone where that is read as it, and with the prefix of its kind where not.
func writeIdentity(id ike.Identity) (string, error) {
	prefix := map[ike.IDKind]string{ike.IDKey: "keyid:", ike.IDFQDN: "fqdn:", ike.IDMail: "rfc822:", ike.IDDN: "asn1dn:"}[id.Kind]
	for _, text := range []string{id.String(), prefix + id.Value} {
		if ParseIdentity(text) == id {
			return text, nil
		}
	}
	return "", fmt.Errorf("the identity %s has no form in a file", id)
}

func readMethod(text string) (ike.Method, error) {
	if strings.EqualFold(text, "psk") {
		return ike.PSK, nil
	}
	if BySignature(text) {
		return ike.Certificate, nil
	}
	switch first, _, _ := strings.Cut(text, "-"); first {
	case "any":
		return ike.Certificate, nil
	case "eap":
		return ike.EAP, nil
	case "xauth":
		return ike.XAuth, nil
	}
	return 0, fmt.Errorf("%q is not a known method of authentication", text)
}

// writeSelectors writes traffic selectors: "10.1.0.0/16[tcp/443], dynamic".
func writeSelectors(ss ike.Selectors) (string, error) {
	var out []string
	for _, s := range ss {
		text := "dynamic"
		if !s.Dynamic {
			text = s.Lo.String() + "-" + s.Hi.String()
			if a := s.Addresses(); !strings.Contains(a, "-") {
				text = a
			}
		}
		proto := ""
		if s.Proto != 0 {
			proto = strconv.Itoa(int(s.Proto))
		}
		switch {
		case s.Opaque:
			text += "[" + proto + "/opaque]"
		case s.Proto == 0 && s.AllPorts():
		case s.AllPorts():
			text += "[" + proto + "]"
		case s.LoPort == s.HiPort:
			text += fmt.Sprintf("[%s/%d]", proto, s.LoPort)
		default:
			text += fmt.Sprintf("[%s/%d-%d]", proto, s.LoPort, s.HiPort)
		}
		out = append(out, text)
	}
	return strings.Join(out, ", "), nil
}
