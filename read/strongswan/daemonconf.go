package strongswan

import (
	"slices"
	"strings"

	"toril/daemon/form"
	"toril/daemon/strongswan"
	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/read/table"
	"toril/source"
)

// DaemonConf is the format of strongswan.conf: settings of the daemon as a whole.
var DaemonConf = &read.Format{
	Name:     "strongswan.conf",
	Comments: []string{"#"},
	Title:    "IKE daemon strongSwan: settings of the daemon as a whole",
	Software: software,
	About:    model.AboutIKE,
	Hints:    []string{"strongswan.conf", "charon.conf"},
	Order:    15,
	Looks:    looksLikeDaemonConf,
	Read:     readDaemonConf,
	Covers: read.Rows(
		read.Coverage{Statement: "charon.prefer_configured_proposals", Use: read.Used, Note: "whose order of proposals decides"},
		read.Coverage{Statement: "charon.install_routes", Use: read.Used},
		read.Coverage{Statement: "charon.replay_window", Use: read.Used, Note: "the default of children"},
		read.Coverage{Statement: "charon.reuse_ikesa", Use: read.Used},
		read.Coverage{Statement: "charon.i_dont_care_about_security_and_use_aggressive_mode_psk", Use: read.Used},
		read.Coverage{Statement: "everything else", Use: read.Irrelevant, Note: "logging, plugins, threads, sizes"},
	),
}

var charonOpens = lazy.NewSearch(`(?m)^[ \t]*(charon|charon-systemd|libstrongswan|swanctl|starter|pki)[ \t]*\{`)

func looksLikeDaemonConf(f *source.File) (int, string) {
	if m := charonOpens.FindSubmatch(f.Head()); m != nil {
		return 70, "it opens the section " + string(m[1])
	}
	return 0, ""
}

func readDaemonConf(in *read.Input) {
	in.Gateway.Told.Daemon = true
	root := parse(in)
	defaults := table.By(strongswan.Known, in.Gateway.VersionOf(software), "strongswan.conf", "charon")
	of := read.Owner{Name: "(daemon)", Topic: model.AboutIKE | model.AboutRoutes}
	for _, s := range root.subs {
		if s.name != "charon" && s.name != "charon-systemd" {
			if !slices.Contains(otherSections, s.name) {
				in.Unread(s.at, of, "%q is not a section that is known", source.Clean(s.name))
			}
			continue
		}
		f := &table.Section{
			In:       in,
			Values:   s.values,
			Software: software,
			Path:     s.name,
			Defaults: defaults,
			Owner:    of,
		}
		o := &in.Gateway.Options
		invert := func(t string) (bool, error) {
			b, err := form.Bool.Read(t)
			return !b, err
		}
		settle(f, &o.InitiatorDecides, invert, "prefer_configured_proposals")
		settle(f, &o.NoRoutes, invert, "install_routes")
		settle(f, &o.ReplayWindow, form.CNumber.Read, "replay_window")
		settle(f, &o.NoReuse, invert, "reuse_ikesa")
		settle(f, &o.AggressiveKeys, form.Bool.Read, "i_dont_care_about_security_and_use_aggressive_mode_psk")
		for key, to := range map[string]*model.Setting[bool]{
			"accept_private_algs": &o.PrivateAlgorithms, "send_vendor_id": &o.ShowsVendor,
		} {
			if v := f.Lookup(key); v != nil {
				if yes, err := form.Bool.Read(v.Text); err == nil {
					*to = model.Say(yes, v.At)
				}
			}
		}
		f.Rest(nil, strings.Fields(charonOptions)...)
	}
}

// otherSections are those of other programs and libraries (strongswan.conf(5)).
var otherSections = strings.Fields("aikgen attest charon-cmd charon-nm charon-svc libimcv libtls libtnccs manager medcli medsrv pki pool " +
	"pt-tls-client scepclient sec-updater starter sw-collector swanctl charon-logging")

// charonOptions are the options of the daemon on which nothing depends that is asked, as 5.9 and 6.0 know them (strongswan.conf(5)).
const charonOptions = "accept_private_algs accept_unencrypted_mainmode_messages block_threshold cache_crls cert_cache check_current_path " +
	"childless close_ike_on_child_failure cookie_threshold cookie_threshold_ip delete_rekeyed " +
	"delete_rekeyed_delay dh_exponent_ansi_x9_42 dlopen_use_rtld_now dns1 dns2 dns3 dos_protection ecp_x_coordinate_only " +
	"flush_auth_cfg follow_redirects force_eap_only_authentication fragment_size group half_open_timeout hash_and_url ignore_acquire_ts " +
	"ignore_routing_tables ikesa_limit ikesa_table_segments ikesa_table_size inactivity_close_ike init_limit_half_open " +
	"init_limit_job_load initiator_only install_virtual_ip install_virtual_ip_on integrity_test interfaces_ignore interfaces_use " +
	"keep_alive keep_alive_dpd_margin leak_detective load load_modular make_before_break max_ikev1_exchanges max_packet " +
	"multiple_authentication nbns1 nbns2 ocsp_nonce_len port port_nat_t prefer_best_path prefer_temporary_addrs process_route " +
	"rdn_matching receive_delay receive_delay_request receive_delay_response receive_delay_type reject_trusted_end_entity " +
	"retransmit_base retransmit_jitter retransmit_limit retransmit_timeout retransmit_tries retry_initiate_interval routing_table " +
	"routing_table_prio rsa_pss rsa_pss_trailerfield send_certreq_authorities send_delay send_delay_request send_delay_response " +
	"send_delay_type send_vendor_id signature_authentication signature_authentication_constraints spi_label spi_mask spi_max spi_min " +
	"threads user vendor_id_dbg journal logger start-scripts stop-scripts"

// replayWindow returns what strongswan.conf says of the window, in packets, or the daemon's default.
func replayWindow(g *model.Gateway) int {
	if o := g.Options.ReplayWindow; !o.IsDefault() {
		return o.Value
	}
	d := strongswan.Known.For(g.VersionOf(software), "strongswan.conf", "charon")["replay_window"]
	n, _ := form.CNumber.Read(d.Value)
	return n
}

// settle takes a setting only where it is said: several files may say parts.
func settle[T any](f *table.Section, to *model.Setting[T], parse func(string) (T, error), key string) {
	if set := table.TakeOr(f, to.Value, parse, key); !set.IsDefault() {
		*to = set
	}
}
