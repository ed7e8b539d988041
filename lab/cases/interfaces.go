package cases

// Stanzas are texts of ifupdown's interfaces, with the addresses that ifquery says of eth0; "refused" where the file as a whole is not
// taken.
var Stanzas = []Text{
	{"plain", "auto eth0\niface eth0 inet static\n address 10.0.0.1/24\n", "10.0.0.1"},
	{"a comment that ends in a backslash", "iface eth0 inet static\n# c \\\n address 10.0.0.1/24\n", "10.0.0.1"},
	{"text behind an address", "iface eth0 inet static\n address 10.0.0.1/24 # x\n", "10.0.0.1"},
	{"a word that goes on", "iface eth0 inet static\n addr\\\ness 10.0.0.1/24\n", "10.0.0.1"},
	{"a value on the next line", "iface eth0 inet static\n address \\\n 10.0.0.1/24\n", "10.0.0.1"},
	{"a comment where a value goes on", "iface eth0 inet static\n address \\\n# x\n 10.0.0.1/24\n", "refused"},
	{"a byte order mark", "\xef\xbb\xbfauto eth0\niface eth0 inet static\n address 10.0.0.1/24\n", "refused"},
	{"an option in capitals", "iface eth0 inet static\n ADDRESS 10.0.0.1/24\n", ""},
	{"a method in capitals", "iface eth0 inet STATIC\n address 10.0.0.1/24\n", "refused"},
	{"a method that is none", "iface eth0 inet fixed\n address 10.0.0.1/24\n", "refused"},
	{"an address twice", "iface eth0 inet static\n address 10.0.0.1/24\n address 10.0.0.2/24\n", "10.0.0.1"},
	{
		"a stanza twice",
		"iface eth0 inet static\n address 10.0.0.1/24\niface eth0 inet static\n address 10.0.0.2/24\n",
		"10.0.0.1 10.0.0.2",
	},
	{"an option without a value", "iface eth0 inet static\n address\n", "refused"},
	{"a stanza without a family", "iface eth0\n address 10.0.0.1/24\n", "refused"},
	{"a stanza without a method", "iface eth0 inet\n address 10.0.0.1/24\n", "refused"},
	{"an option before every stanza", "address 10.0.0.9/24\niface eth0 inet static\n address 10.0.0.1/24\n", "refused"},
	{"a word that is none", "warble x\niface eth0 inet static\n address 10.0.0.1/24\n", "refused"},
	{"an unknown option", "iface eth0 inet static\n warble x\n address 10.0.0.1/24\n", "10.0.0.1"},
	{"empty lines", "iface eth0 inet static\n\n\n address 10.0.0.1/24", "10.0.0.1"},
	{"an indented stanza", "  iface eth0 inet static\naddress 10.0.0.1/24\n", "10.0.0.1"},
	{"an include that is not there", "source /nowhere/*\niface eth0 inet static\n address 10.0.0.1/24\n", "10.0.0.1"},
	{"a netmask behind", "iface eth0 inet static\n address 10.0.0.1\n netmask 255.255.255.0\n", "10.0.0.1"},
	{"CR in a line", "iface eth0 inet static\r\n address 10.0.0.1/24\n", "10.0.0.1"},
	{"both families", "iface eth0 inet static\n address 10.0.0.1/24\niface eth0 inet6 static\n address fd00::1/64\n", "10.0.0.1 fd00::1"},
}
