package phrasebook_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model/settings"
	"toril/read/phrasebook"
	"toril/source"
	"toril/syntax/statements"
)

func ploverRead(t *testing.T) *phrasebook.Book {
	b, err := phrasebook.Load("b.yaml", []byte(ploverBook))
	require.NoError(t, err)
	return b
}

// TestABookIsShown as phrases with what they mean, words, defaults.
func TestABookIsShown(t *testing.T) {
	b := ploverRead(t)
	assert.Equal(t, "lines; comments #; negated by not", b.SyntaxWords())
	assert.Equal(t, "destination translation, access rules, source translation, tunnel", phrasebook.OrderWords(b.Order))
	means := map[string]string{}
	for _, p := range b.Phrases() {
		means[p.Say] = p.Means
		assert.NotEmpty(t, p.Means, p.Say)
	}
	for say, want := range map[string]string{
		"plover <v>":                  "tells the version",
		"nets <n>":                    "begins networks",
		"tube <n>":                    "begins child",
		"secrecy as before":           "part of a proposal (child)",
		"hurried":                     "sets ike-version; sets ikev1-mode",
		"ask <l> in <i:interface>":    "rule: chain, in, list",
		"suite <s:suite>":             "sets ike-proposals",
		"by <i:interface>":            "connection: interface",
		"<a:network>...":              "adds to it",
		"like <o:interface>":          "interface: borrows",
		"child cipher <e:encryption>": "part of a proposal (child)",
	} {
		assert.Equal(t, want, means[say], say)
	}
	rows := map[string]string{}
	for _, r := range append(b.Words(), b.Defaults()...) {
		rows[r.Name] = r.Value
	}
	assert.Equal(t, "let = accept, stop = drop", rows["action"])
	assert.Equal(t, "110% of child-lifetime", rows["child-hard-lifetime"])
	assert.Contains(t, rows["ike key exchange"]+rows["ike PRF"]+fmt.Sprint(rows), "MODP 2048")
}

// TestAFileIsTried: everything that is found, with its line; what no phrase fits, the most consequential first, without secrets.
func TestAFileIsTried(t *testing.T) {
	const text = "plover 2.1\njack wan\n 192.0.2.1/24\njack t\n like wan\n dark\nspan a\n to 192.0.2.9\n by t\n each 60 minutes\n " +
		"weird 10.1.0.0/16 7\n" +
		" weird 10.2.0.0/16 8\n passphrase Jackdaw-4711\nodd thing\nodd thing\nodd thing\nclock 12\nnets idle\n 10.9.0.0/16\n" +
		"10 let from nets gone\ncover 10.1.0.0/24 out wan\n"
	tried := ploverRead(t).Try(context.Background(), source.NewFile("x", []byte(text)))
	rows := map[string]string{}
	for _, s := range tried.Sections {
		for _, r := range s.Rows {
			rows[s.Title+": "+r.Name] = fmt.Sprintf("%s, line %d", r.Value, r.Line)
		}
	}
	for name, want := range map[string]string{
		"connection a: peer-address":   "192.0.2.9, line 8",
		"connection a: ike-lifetime":   "1 h, line 10",
		"child a of a: child-lifetime": "1 h, line 0",
		"interfaces: t":                "192.0.2.1/32, xfrm, switched off, line 4",
		"rules of across: otherwise":   "drop, line 0",
		"names: networks idle":         "used nowhere, line 18",
		"names: networks gone":         "is not there, line 0",
		"rules of source translation: masquerade to an address of the interface": "10.1.0.0/24 > any out via wan, line 21",
		"rules of across: accept, if the networks gone are not there":            "all packets, line 20",
	} {
		assert.Equal(t, want, rows[name], "%s in %v", name, rows)
	}
	var forms []string
	for _, f := range tried.Missed {
		forms = append(forms, fmt.Sprintf("%d %s %d %d", f.Count, f.Text, f.Line, f.Within))
	}
	assert.Equal(
		t,
		[]string{"1 passphrase <secret> 13 1", "2 weird <prefix> <number> 11 2", "3 odd thing 14 0", "1 clock <number> 17 0"},
		forms,
	)
	require.Len(t, tried.Doubts, 1)
	assert.Contains(t, tried.Doubts[0].Why, "the networks gone are not there")
	assert.Equal(t, []string{"ike-lifetime/minutes"}, tried.Means[10])
	assert.Equal(t, []string{"interface.address"}, tried.Means[3])
}

// TestForms: values by their kinds, several of a kind as one, words as they are where they may be shown.
func TestForms(t *testing.T) {
	for text, want := range map[string]string{
		"peer 192.0.2.1 192.0.2.2 up":              "peer <address>... up",
		"net 10.1.0.0 255.255.0.0":                 "net <address> <mask>",
		"net 10.1.0.0/16 10.2.0.1-10.2.0.9 x":      "net <prefix> <network> x",
		"life 3600 7 8":                            "life <number>...",
		"shared-key swordfish":                     "shared-key <secret>",
		"secret for 192.0.2.1 is":                  "secret <secret> <address> is",
		"key 192.0.2.1":                            "key <address>",
		"fd00::1 2001:db8::/32 ::1.2.3.4 1:2":      "<address> <prefix> <address> 1:2",
		"mask 255.255.255.255 0.0.0.0 255.0.255.0": "mask <mask> <address>...",
	} {
		var words []statements.Word
		for w := range strings.FieldsSeq(text) {
			words = append(words, statements.Word{Text: w})
		}
		assert.Equal(t, want, phrasebook.FormOf(words, func(int, string) bool { return true }), text)
		hidden := phrasebook.FormOf(words, func(i int, _ string) bool { return i == 0 })
		assert.NotContains(t, hidden, "swordfish")
	}
	assert.Equal(t, "text", phrasebook.KindOf(statements.Word{Text: "a b", Quoted: true}))
	for word, want := range map[string]bool{"pre-shared-key": true, "PSK": true, "Password": true, "key": true, "keyring": false,
		"monkey": false} {
		assert.Equal(t, want, phrasebook.SecretWord(word), word)
	}
}

// TestTheReferenceIsWhole: every setting, every part of a fact, every type stands in it, and the schema knows every key.
func TestTheReferenceIsWhole(t *testing.T) {
	page := phrasebook.Reference()
	for _, r := range settings.All() {
		if r.Takes() != nil && r.Name != "pfs" {
			assert.Contains(t, page, "| `"+r.Name+"` |")
		}
	}
	for name, typ := range phrasebook.BuiltIn() {
		assert.Contains(t, page, "| `"+name+"` | "+strings.ReplaceAll(typ.Says, "|", "\\|"))
	}
	for order := range phrasebook.Orders() {
		assert.Contains(t, page, "`["+strings.ReplaceAll(order, " ", ", ")+"]`")
	}
	text, err := json.Marshal(phrasebook.Schema())
	require.NoError(t, err)
	for _, key := range []string{"vocabulary", "clauses", "translation", "not-from", "answers", "child-hard-lifetime", "of"} {
		assert.Contains(t, string(text), `"`+key+`"`)
	}
	assert.NotContains(t, page, "|  |\n", "a key without a meaning")
}

// TestPhrasesPreferTheirWords: an optional choice, and a word of the phrase before one more value.
func TestPhrasesPreferTheirWords(t *testing.T) {
	for _, c := range []struct{ phrase, text, want string }{
		{"a [ b | c <n:number> ] d", "a d", ""},
		{"a [ b | c <n:number> ] d", "a c 5 d", "n=5"},
		{"a [ b | c <n:number> ] d", "a b c d", "no"},
		{"from <s>... to <d>... [ for <e>... ]", "from x y to z for w v", "s=x s=y d=z e=w e=v"},
		{"from <s>... to <d>...", "from to to to", "s=to d=to"},
		{"[ <f=first> ] <w>", "first", "w=first"},
		{"[ <f=first> ] <w>", "first last", "f=first w=last"},
		{"x <_:number> <w>", "x 5 y", "_=5 w=y"},
		{"<n:number>...", "1 2 3", "n=1 n=2 n=3"},
	} {
		p, err := phrasebook.ParsePhrase(c.phrase, phrasebook.BuiltIn(), false)
		require.NoError(t, err, c.phrase)
		var words []statements.Word
		for w := range strings.FieldsSeq(c.text) {
			words = append(words, statements.Word{Text: w})
		}
		fills, _, ok := p.Match(words, false)
		got := "no"
		if ok {
			var out []string
			for _, f := range fills {
				out = append(out, f.Slot.Name+"="+f.Text)
			}
			got = strings.Join(out, " ")
		}
		assert.Equal(t, c.want, got, "%s of %q", c.phrase, c.text)
	}
	for phrase, want := range map[string]string{
		"a <x=>":      "is not a slot for a word",
		"a <x:y=z>":   "is not a slot for a word",
		"a [ b | ]":   "an alternative is empty",
		"a [ b )":     `a "]" is missing`,
		"a <x=b> <x>": "slot x has two types",
	} {
		_, err := phrasebook.ParsePhrase(phrase, phrasebook.BuiltIn(), false)
		assert.ErrorContains(t, err, want, phrase)
	}
}
