package libreswan

import (
	"maps"
	"strings"
	"sync"

	"toril/daemon"
	"toril/read/ipsecconf"
)

// For a keyword that it does not know, and for some that are set to a word that they do not have, the daemon takes nothing of a file
// (Libreswan 4.10's addconn --checkconfig, asked word by word in lab/formats).

func listed(fold bool, words string) ipsecconf.Words {
	return ipsecconf.Words{Any: strings.Fields(words), Fold: fold}
}

var words = sync.OnceValue(func() map[string]ipsecconf.Words {
	out := map[string]ipsecconf.Words{
		"type": listed(
			true,
			"tunnel transport passthrough pass drop reject",
		), "auto": listed(true, "ignore add ondemand route start up keep"),
		"ikev2": listed(
			true,
			"yes no insist propose permit never",
		), "ppk": listed(true, "yes no permit insist propose never"), "phase2": listed(true, "esp ah"),
		"dpdaction": listed(true, "hold clear restart restart_by_peer"), "fragmentation": listed(true, "yes no force"),
	}
	for _, k := range strings.Fields("aggressive aggrmode pfs rekey mobike compress narrowing sha2-truncbug overlapip " +
		"vti-routing vti-shared") {
		out[k] = listed(false, "yes no true false on off y n")
	}
	return out
})

// wordsOf are those of a version: before 5.0, keyexchange has the one word ike (addconn of 4.3, 4.10 and 5.2, asked).
func wordsOf(version string) map[string]ipsecconf.Words {
	out := maps.Clone(words())
	out["keyexchange"] = listed(true, "ike ikev1 ikev2")
	if version != "" && daemon.Compare(version, "5.0") < 0 {
		out["keyexchange"] = listed(true, "ike")
	}
	return out
}

// more are keywords beside those of the coverage: of version 5, and other spellings.
const more = `iptfs iptfs-fragmentation iptfs-packet-size iptfs-max-queue-size iptfs-init-delay iptfs-drop-time iptfs-reorder-window
	session-resumption share-lease remote_peer_type aggrmode
	intermediate alsoflip also sec-label nexthop ipsec-lifetime reauth ipsec-interface-managed reject-simultaneous-ike-auth sendcert
	redirect-to tcp-remoteport hostaddrfamily
	clientaddrfamily dpddelay dpdtimeout keyexchange leftcert leftcert2`

// knownConn are the keywords of a connection, right forms as left.
var knownConn = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, row := range coverage() {
		for part := range strings.SplitSeq(row.Statement, ",") {
			part = strings.TrimSpace(strings.ReplaceAll(part, "left|right", "left"))
			out[part] = true
		}
	}
	for _, w := range strings.Fields(more) {
		out[w] = true
	}
	return out
})

func known(key string) bool {
	if rest, ok := strings.CutPrefix(key, "right"); ok {
		key = "left" + rest
	}
	return knownConn()[key] || strings.HasPrefix(key, "x-") || strings.HasPrefix(key, "x_") || strings.HasSuffix(key, "-unity")
}

// setup are the keywords of "config setup", also those that a version of the daemon has dropped and passes over.
const setup = `audit-log bandwidth crl-strict crlcheckinterval curl-iface curl-timeout ctlbase ddos-ike-threshold ddos-mode debug
	debug- disable_port_floating dnssec-anchors dnssec-enable
	dnssec-rootkey-file drop-oppo-null dumpdir expire-lifetime expire-shunt-interval force-busy force_busy force_keepalive
	forwardcontrol fragicmp global-redirect global-redirect-to
	hidetos ike-socket-bufsize ike-socket-errqueue ikev1-policy ikev1-reject ikev1-secctx-attr-type interfaces ipsecdir keep-alive
	keep_alive klipsdebug listen listen-tcp
	listen-udp logappend logfile logip logtime manualstart max-halfopen-ike myid myvendorid nat-ikeport nat_traversal nflog-all
	nhelpers nssdir ocsp-cache-max-age
	ocsp-cache-min-age ocsp-cache-size ocsp-enable ocsp-method ocsp-strict ocsp-timeout ocsp-trustname ocsp-uri oe overridemtu
	packetdefault perpeerlog perpeerlogdir pluto
	plutodebug plutofork plutoopts plutorestartoncrash plutostderrlog plutostderrlogtime plutowait postpluto prepluto protostack
	rundir secctx-attr-type secctx_attr_value
	seccomp secretsfile seedbits shuntlifetime statsbin strictcrlpolicy syslog uniqueids virtual-private virtual_private`

var setupKeys = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(setup) {
		out[w] = true
	}
	return out
})

func knownSetup(key string) bool { return setupKeys()[key] || strings.HasPrefix(key, "x-") }

var setupWords = map[string]ipsecconf.Words{"uniqueids": listed(false, "yes no true false on off y n")}
