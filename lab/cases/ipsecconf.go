package cases

// Twin is a text of ipsec.conf, and what each of the two daemons that have such a file holds after it: "name left...right" of every
// connection, "" for none, "refused" where the file as a whole is not taken.
type Twin struct{ Name, Text, Strongswan, Libreswan string }

// Unasked stands where a daemon responds only as it runs.
const Unasked = "?"

const (
	sides = "\tauto=add\n\tleft=192.0.2.1\n\tright=192.0.2.2\n"
	other = "\tauto=add\n\tleft=192.0.2.1\n\tright=192.0.2.3\n"
	both  = "a 192.0.2.1...192.0.2.2"
)

// IPsecConf are texts that the two daemons, or a careless reader, take apart differently.
var IPsecConf = []Twin{
	{"plain", "conn a\n" + sides, both, both},
	{
		"a comment that ends in a backslash",
		"conn a\n\tauto=add\n\tleft=192.0.2.1\n\t# note \\\n\tleft=192.0.2.9\n\tright=192.0.2.2\n",
		"a 192.0.2.9...192.0.2.2",
		"",
	},
	{"a comment behind a value", "conn a\n\tauto=add\n\tleft=192.0.2.1 # x\n\tright=192.0.2.2\n", both, both},
	{"a hash in a value", "conn a\n" + sides + "\tleftid=a#b\n", both, both},
	{"an empty line inside a section", "conn a\n\tauto=add\n\tleft=192.0.2.1\n\n\tright=192.0.2.2\n", both, both},
	{"a key at the margin", "conn a\n\tauto=add\n\tleft=192.0.2.1\nright=192.0.2.2\n", "refused", "refused"},
	{"an indented section", "  conn a\n" + sides, "refused", "refused"},
	{"keys in capitals", "conn a\n\tAUTO=add\n\tLEFT=192.0.2.1\n\tright=192.0.2.2\n", "", both},
	{"a section in capitals", "Conn a\n" + sides, "refused", "refused"},
	{
		"an unknown keyword",
		"conn a\n" + sides + "\twarble=1\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"refused",
	},
	{
		"values in capitals",
		"conn a\n" + sides + "\ttype=TUNNEL\nconn b\n" + other,
		"b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{
		"auto in capitals",
		"conn a\n\tauto=ADD\n\tleft=192.0.2.1\n\tright=192.0.2.2\nconn b\n" + other,
		"b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{"a value that is none", "conn a\n" + sides + "\ttype=sometimes\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", "refused"},
	{"a value in quotation marks", "conn a\n\tauto=add\n\tleft=\"192.0.2.1\"\n\tright=192.0.2.2\n", both, both},
	{"a value in braces", "conn a\n\tauto=add\n\tleft={192.0.2.1}\n\tright=192.0.2.2\n", "a {192.0.2.1}...192.0.2.2", both},
	{"a line that goes on", "conn a\n\tauto=add\n\tleft=\\\n192.0.2.1\n\tright=192.0.2.2\n", "refused", "refused"},
	{"a value that goes on", "conn a\n" + sides + "\tleftsubnet=10.1.0.0/24,\\\n10.2.0.0/24\n", "refused", "refused"},
	{"a byte order mark", "\xef\xbb\xbfconn a\n" + sides, "refused", "refused"},
	{"a CR inside a comment", "conn a\n\tauto=add\n\t# x\r\tleft=192.0.2.9\n\tleft=192.0.2.1\n\tright=192.0.2.2\n", both, both},
	{"blanks around the sign", "conn a\n\tauto = add\n\tleft = 192.0.2.1\n\tright= 192.0.2.2\n", both, both},
	{"a key twice", "conn a\n" + sides + "\tleft=192.0.2.3\n", "a 192.0.2.3...192.0.2.2", ""},
	{"a section of two names", "conn a b\n" + sides, "refused", "refused"},
	{"a section without a name", "conn\n" + sides, "refused", "refused"},
	{"also without its section", "conn a\n" + sides + "\talso=gone\nconn b\n" + other, "refused", "b 192.0.2.1...192.0.2.3"},
	{"also in a circle", "conn a\n" + sides + "\talso=b\nconn b\n" + other + "\talso=a\n", "refused", ""},
	{"a version line", "version 2.0\nconn a\n" + sides, both, both},
	{"a section of an unknown kind", "warble a\n\tx=1\nconn a\n" + sides, "refused", "refused"},
	{"a key without a value", "conn a\n" + sides + "\tleftid\n", "refused", "refused"},
	{
		"a key with an empty value",
		"conn a\n" + sides + "\tleftid=\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{
		"a quotation mark that is not closed",
		"conn a\n" + sides + "\tleftid=\"a\nconn b\n" + other,
		"refused",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{"two values on a line", "conn a\n" + sides + "\tleftid=a rightid=b\n", "refused", "refused"},
	{"a default section behind", "conn a\n\tauto=add\n\tright=192.0.2.2\nconn %default\n\tleft=192.0.2.1\n", both, both},
	{"an include that is not there", "include /nowhere/*.conf\nconn a\n" + sides, both, both},
	{
		"blanks only between sections",
		"conn a\n" + sides + "   \t\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{"a comment at the margin inside a section", "conn a\n\tauto=add\n\tleft=192.0.2.1\n# x\n\tright=192.0.2.2\n", both, both},
	{"no line end at the end", "conn a\n\tauto=add\n\tleft=192.0.2.1\n\tright=192.0.2.2", both, both},
	{
		"blanks in a value",
		"conn a\n" + sides + "\tleftsubnet=10.1.0.0/24, 10.2.0.0/24\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"refused",
	},
	{
		"an equals sign in a value",
		"conn a\n" + sides + "\tleftid=CN=x\nconn b\n" + other,
		"refused",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{
		"blanks in quotation marks",
		"conn a\n" + sides + "\tleftid=\"CN=x, O=y\"\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{
		"text behind a closing mark",
		"conn a\n" + sides + "\tleftid=\"a\"b\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{
		"blank text behind a closing mark",
		"conn a\n" + sides + "\tleftid=\"a\" b\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"refused",
	},
	{
		"single quotation marks",
		"conn a\n" + sides + "\tleftid='a b'\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"refused",
	},
	{
		"a backslash in a value",
		"conn a\n" + sides + "\tleftid=a\\b\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{"a time that is none", "conn a\n" + sides + "\tikelifetime=soon\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", Unasked},
	{"a time in capitals", "conn a\n" + sides + "\tikelifetime=8H\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", Unasked},
	{
		"a network that is none",
		"conn a\n" + sides + "\tleftsubnet=10.1.0.0/99\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"b 192.0.2.1...192.0.2.3",
	},
	{"a proposal that is none", "conn a\n" + sides + "\tike=warble\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", Unasked},
	{"a proposal of a child that is none", "conn a\n" + sides + "\tesp=warble\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", Unasked},
	{
		"a number that is none",
		"conn a\n" + sides + "\treplay-window=many\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		Unasked,
	},
	{"yes in capitals", "conn a\n" + sides + "\taggressive=YES\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", "refused"},
	{"an answer that is none", "conn a\n" + sides + "\taggressive=perhaps\nconn b\n" + other, "b 192.0.2.1...192.0.2.3", "refused"},
	{
		"another word for yes",
		"conn a\n" + sides + "\taggressive=true\nconn b\n" + other,
		"b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{
		"an empty line of a default section",
		"conn a\n" + sides + "\n\n\nconn b\n" + other,
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
		"a 192.0.2.1...192.0.2.2; b 192.0.2.1...192.0.2.3",
	},
	{"an unknown keyword of the setup", "config setup\n\twarble=1\nconn a\n" + sides, both, "refused"},
	{"a value of the setup that is none", "config setup\n\tuniqueids=perhaps\nconn a\n" + sides, "refused", "refused"},
	{"a section of certificates", "ca x\n\tauto=ignore\nconn a\n" + sides, both, "refused"},
	{"an unknown keyword of the default section", "conn %default\n\twarble=1\nconn a\n" + sides, both, "refused"},
	{"a bad value of the default section", "conn %default\n\ttype=perhaps\nconn a\n" + sides, "", "refused"},
	{"a bad value of a section that is not loaded", "conn x\n\ttype=perhaps\nconn a\n" + sides, both, "refused"},
	{
		"a bad value of a section that another refers to",
		"conn x\n\ttype=perhaps\nconn a\n" + sides + "\talso=x\nconn b\n" + other,
		"b 192.0.2.1...192.0.2.3",
		"refused",
	},
	{"a key before every section", "left=192.0.2.1\nconn a\n" + sides, "refused", "refused"},
	{"an indented key before every section", "\tleft=192.0.2.1\nconn a\n" + sides, both, "refused"},
	{"an include inside a section", "conn a\n" + sides + "\tinclude /nowhere/*.conf\n\tleftid=x\n", both, "refused"},
	{"an include that names one file that is not there", "include /nowhere/x.conf\nconn a\n" + sides, both, both},
	{"a version that is none", "version 1.0\nconn a\n" + sides, both, both},
	{"a name in quotation marks", "conn \"a\"\n" + sides, both, both},
	{"a name with signs", "conn a/b.c\n" + sides, "a/b.c 192.0.2.1...192.0.2.2", "a/b.c 192.0.2.1...192.0.2.2"},
	{"blanks at the ends of lines", "conn a  \n\tauto=add  \n\tleft=192.0.2.1 \t\n\tright=192.0.2.2\n", both, both},
}
