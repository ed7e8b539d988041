package cases

import "strings"

const policy = "esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"xyz\"\n"

// Policies are texts of iked.conf, with the policies that OpenIKED has after it: name, whether it begins, peer; "refused" where the
// daemon does not start with the file.
var Policies = []Text{
	{"plain", "ikev2 \"a\" active " + policy, "a active 192.0.2.2"},
	{"a comment that ends in a backslash", "# note \\\nikev2 \"a\" " + policy + "ikev2 \"b\" " + policy, "b passive 192.0.2.2"},
	{
		"a comment behind a policy that ends in a backslash",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"xyz\" # note \\\nikev2 \"b\" " + policy,
		"a passive 192.0.2.2",
	},
	{"a name without quotation marks", "ikev2 a active " + policy, "a active 192.0.2.2"},
	{"a line that goes on", "ikev2 \"a\" active \\\n " + policy, "a active 192.0.2.2"},
	{"a backslash and a blank", "ikev2 \"a\" active \\ \n " + policy, "refused"},
	{"a policy over two lines", "ikev2 \"a\" active\n " + policy, "refused"},
	{"a policy in capitals", "IKEV2 \"a\" " + policy, "refused"},
	{"a word in capitals", "ikev2 \"a\" ACTIVE " + policy, "refused"},
	{"a byte order mark", "\xef\xbb\xbfikev2 \"a\" " + policy, "refused"},
	{"a word that is none", "warble\nikev2 \"a\" " + policy, "refused"},
	{"a brace behind", "ikev2 \"a\" " + policy + "}\n", "refused"},
	{"a quotation mark that is not closed", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"xyz\n", "refused"},
	{"a text over two lines", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"xy\nz\"\n", "a passive 192.0.2.2"},
	{"a CR at a line's end", "ikev2 \"a\" " + strings.TrimSuffix(policy, "\n") + "\r\nikev2 \"b\" " + policy, "refused"},
	{"a line with a CR alone", "ikev2 \"a\" " + policy + "\r\nikev2 \"b\" " + policy, "refused"},
	{"a CR in a line", "ikev2 \"a\" " + policy + "ikev2 \"b\" \r" + policy, "refused"},
	{"a macro", "x=\"10.1.0.0/16\"\nikev2 \"a\" esp from $x to 10.2.0.0/16 peer 192.0.2.2 psk \"x\"\n", "a passive 192.0.2.2"},
	{"a macro that is not there", "ikev2 \"a\" esp from $nope to 10.2.0.0/16 peer 192.0.2.2 psk \"x\"\n", "refused"},
	{"a macro twice", "x = \"a\"\nx = \"b\"\nikev2 $x " + policy, "b passive 192.0.2.2"},
	{"a macro behind its use", "ikev2 $x " + policy + "x = \"b\"\n", "refused"},
	{
		"a macro of several words",
		"x = \"from 10.1.0.0/16 to 10.2.0.0/16\"\nikev2 \"a\" esp $x peer 192.0.2.2 psk \"x\"\n",
		"a passive 192.0.2.2",
	},
	{"a macro inside of quotation marks", "x = \"a\"\nikev2 \"$x\" " + policy, "$x passive 192.0.2.2"},
	{"a policy twice", "ikev2 \"a\" " + policy + "ikev2 \"a\" " + policy, "a passive 192.0.2.2; a passive 192.0.2.2"},
	{"a cipher that is none", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 ikesa enc warble psk \"x\"\n", "refused"},
	{
		"a hybrid key exchange",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 ikesa enc aes-256 group sntrup761x25519 psk \"x\"\n",
		"a passive 192.0.2.2",
	},
	{
		"a distinguished name",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 srcid \"/C=DE/CN=y\" dstid \"/C=DE/CN=z\"\n",
		"a passive 192.0.2.2",
	},
	{
		"a distinguished name by a macro",
		"id=\"/C=DE/CN=z\"\nikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 srcid $id\n",
		"refused",
	},
	{
		"a distinguished name without quotation marks",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 srcid /C=DE/CN=z\n",
		"refused",
	},
	{
		"a name by a macro",
		"id=\"gate.example\"\nikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 srcid $id\n",
		"a passive 192.0.2.2",
	},
	{"no name", "ikev2 " + policy, "policy1 passive 192.0.2.2"},
	{"a list in braces", "ikev2 \"a\" esp from { 10.1.0.0/16, 10.3.0.0/16 } to 10.2.0.0/16 peer 192.0.2.2 psk \"x\"\n", "refused"},
	{
		"a time in capitals",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 lifetime 8H psk \"x\"\n",
		"a passive 192.0.2.2",
	},
	{"a time that is none", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 lifetime soon psk \"x\"\n", "refused"},
	{"a setting that is none", "set passive\nset warble\nikev2 \"a\" " + policy, "refused"},
	{"a comment behind", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"x\" # c\n", "a passive 192.0.2.2"},
	{"a hash in a text", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"x#y\"#c\n", "a passive 192.0.2.2"},
	{
		"two policies on a line",
		"ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"x\"; ikev2 \"b\" " + policy,
		"refused",
	},
	{"no line end at the end", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"xyz\"", "a passive 192.0.2.2"},
	{"an indented policy", "\t ikev2 \"a\" " + policy, "a passive 192.0.2.2"},
	{"words in another order", "ikev2 \"a\" peer 192.0.2.2 esp from 10.1.0.0/16 to 10.2.0.0/16 psk \"x\"\n", "refused"},
	{"passive", "ikev2 \"a\" passive " + policy, "a passive 192.0.2.2"},
	{"an address that is none", "ikev2 \"a\" esp from 10.1.0.999/16 to 10.2.0.0/16 peer 192.0.2.2 psk \"x\"\n", "refused"},
	{"a user", "user \"u\" \"secret\"\nikev2 \"a\" " + policy, "a passive 192.0.2.2"},
	{"single quotation marks", "ikev2 'a' " + policy, "a passive 192.0.2.2"},
	{"a name that is a word of the language", "ikev2 ike active " + policy, "refused"},
	{"a name that is a word of the language, in quotation marks", "ikev2 \"ike\" active " + policy, "ike active 192.0.2.2"},
	{"a macro that is a word of the language", "x = \"ike\"\nikev2 $x " + policy, "refused"},
	{"a name that begins like a word of the language", "ikev2 ike-a active " + policy, "ike-a active 192.0.2.2"},
	{"a quoted word of the language", "ikev2 \"a\" \"active\" " + policy, "refused"},
}
