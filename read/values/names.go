package values

// ICMPTypes and ICMPv6Types are the names of ICMP types (IANA, as nft writes them).
var ICMPTypes = map[string]uint64{"echo-reply": 0, "destination-unreachable": 3, "source-quench": 4, "redirect": 5, "echo-request": 8, "router-advertisement": 9,
	"router-solicitation": 10, "time-exceeded": 11, "parameter-problem": 12, "timestamp-request": 13, "timestamp-reply": 14, "info-request": 15, "info-reply": 16,
	"address-mask-request": 17, "address-mask-reply": 18}

// ICMPv6Types are those of ICMPv6.
var ICMPv6Types = map[string]uint64{"destination-unreachable": 1, "packet-too-big": 2, "time-exceeded": 3, "parameter-problem": 4, "echo-request": 128,
	"echo-reply": 129, "mld-listener-query": 130, "mld-listener-report": 131, "mld-listener-done": 132, "mld-listener-reduction": 132, "nd-router-solicit": 133,
	"nd-router-advert": 134, "nd-neighbor-solicit": 135, "nd-neighbor-advert": 136, "nd-redirect": 137, "router-renumbering": 138, "ind-neighbor-solicit": 141,
	"ind-neighbor-advert": 142, "mld2-listener-report": 143}

// Services are the names of ports that nft prints with -n left out, and that people write (IANA).
var Services = map[string]uint64{"ftp-data": 20, "ftp": 21, "ssh": 22, "telnet": 23, "smtp": 25, "time": 37, "whois": 43, "domain": 53, "bootps": 67, "bootpc": 68,
	"tftp": 69, "http": 80, "kerberos": 88, "pop3": 110, "sunrpc": 111, "ntp": 123, "netbios-ns": 137, "netbios-dgm": 138, "netbios-ssn": 139, "imap2": 143,
	"imap": 143, "snmp": 161, "snmp-trap": 162, "bgp": 179, "ldap": 389, "https": 443, "microsoft-ds": 445, "isakmp": 500, "syslog": 514, "submission": 587,
	"ldaps": 636, "domain-s": 853, "imaps": 993, "pop3s": 995, "ms-sql-s": 1433, "l2f": 1701, "l2tp": 1701, "pptp": 1723, "radius": 1812, "radius-acct": 1813,
	"nfs": 2049, "mysql": 3306, "ms-wbt-server": 3389, "ipsec-nat-t": 4500, "sip": 5060, "sip-tls": 5061, "postgresql": 5432, "ipsec": 500, "x11": 6000, "http-alt": 8080,
	"rsync": 873, "ike": 500}
