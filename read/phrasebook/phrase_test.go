package phrasebook_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/internal/cputime"
	"toril/read/phrasebook"
	"toril/syntax/statements"
)

func words(t testing.TB, text string) []statements.Word {
	list, _ := statements.Parse([]byte(text), statements.Manner{Kind: statements.Paths, Quotes: `"`})
	require.LessOrEqual(t, len(list), 1)
	if len(list) == 0 {
		return nil
	}
	return list[0].Words
}

func phrase(t testing.TB, text string) *phrasebook.Phrase {
	types := phrasebook.BuiltIn()
	types["cipher"] = phrasebook.Vocabulary("cipher", "a cipher", map[string]string{"strong": "AES-CBC-256", "old": "3DES"}, true)
	p, err := phrasebook.ParsePhrase(text, types, false)
	require.NoError(t, err, text)
	return p
}

func TestPhrases(t *testing.T) {
	for _, c := range []struct{ phrase, statement, want string }{
		{"peer <a:address>", "peer 192.0.2.1", "a=192.0.2.1"},
		{"peer <a:address>", "peer wan", `1: "wan" is not an address`},
		{"peer <a:address>", "peer", "1: "},
		{"peer <a:address>", "peer 192.0.2.1 now", "2: "},
		{"peer <a:address>", "far 192.0.2.1", "0: "},
		{"peer <a:host> [port <p:number>] [quiet]", "peer far.example quiet", "a=far.example"},
		{"peer <a:host> [port <p:number>] [quiet]", "peer far.example port 500", "a=far.example p=500"},
		{"mode ( main | aggressive <n:number> ) end", "mode aggressive 3 end", "n=3"},
		{"mode ( main | aggressive <n:number> ) end", "mode main end", ""},
		{"mode ( main | aggressive <n:number> ) end", "mode quick end", "1: "},
		{"use <c:cipher>...", "use strong OLD", "c=strong c=OLD"},
		{"use <c:cipher>...", "use strong modern", `2: "modern" is not in the vocabulary cipher`},
		{"use <c:cipher>...", "use", "1: "},
		{"nets ( <n:network> , )... <l:network>", "nets 10.0.0.0/8 , 10.1.0.0/16", "n=10.0.0.0/8 l=10.1.0.0/16"},
		{"a [b [c]]... d", "a b c b d", ""},
		{"[a]... b", "b", ""},
		{"net <n:address-mask> to <m:address-wildcard>", "net 10.1.0.0 255.255.0.0 to 10.2.0.0 0.0.0.255",
			"n=10.1.0.0 255.255.0.0 m=10.2.0.0 0.0.0.255"},
		{"note <x:text>", "note a \"b c\" d", "x=a b c d"},
		{"'[' <w> ']'", "[ x ]", "w=x"},
		{"net <n:address-mask>", "net 10.1.0.0", "1: "},
		{"'a b' c", "\"a b\" c", ""},
	} {
		fills, near, ok := phrase(t, c.phrase).Match(words(t, c.statement), false)
		var got []string
		for _, f := range fills {
			got = append(got, f.Slot.Name+"="+f.Text)
			assert.Contains(t, c.statement, strings.Fields(f.Text)[0])
			assert.Positive(t, f.At.End)
		}
		text := strings.Join(got, " ")
		if !ok {
			text = fmt.Sprintf("%d: %s", near.Words, strings.Split(near.Why, ";")[0])
		}
		assert.Equal(t, c.want, text, "%s: %s", c.phrase, c.statement)
	}
	_, _, ok := phrase(t, "Peer <a:address>").Match(words(t, "PEER 192.0.2.1"), true)
	assert.True(t, ok)
	_, _, ok = phrase(t, "Peer <a:address>").Match(words(t, "PEER 192.0.2.1"), false)
	assert.False(t, ok)
	p := phrase(t, "a <b:number>")
	assert.Equal(t, "a <b:number>", p.String())
	assert.Equal(t, "number", p.Slot("b").Type.Name)
	assert.Nil(t, p.Slot("c"))
}

func TestPhrasesThatAreNone(t *testing.T) {
	for text, why := range map[string]string{
		"":                            "at least one word",
		"a [b":                        `a "]" is missing`,
		"a )":                         "closes nothing",
		"( a | )":                     "an alternative is empty",
		"( a b":                       `a ")" is missing`,
		"... a":                       "stands behind what may stand again",
		"<a:adress>":                  `did you mean "address"?`,
		"<A:address>":                 "not a name of a slot",
		"<a:address> <a:number>":      "slot a has two types",
		"<a:address":                  "a slot is not closed",
		"a>b":                         "neither a word nor a slot",
		strings.Repeat("[", 40) + "a": "more than 16 deep",
		strings.Repeat("a ", 600):     "more than 500 parts",
		strings.Repeat("a", 3000):     "at most 2000 characters",
	} {
		_, err := phrasebook.ParsePhrase(text, phrasebook.BuiltIn(), false)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), why, text)
	}
}

func TestTypes(t *testing.T) {
	types := phrasebook.BuiltIn()
	for _, c := range [][3]string{
		{"address", "10.0.0.1", "10.0.0.1"}, {"address", "fe80::1%wan", "!"}, {"host", "far.example", "far.example"},
		{"network", "10.1.0.0/16", "10.1.0.0/16"}, {"network", "10.1.0.1-10.1.0.9", "10.1.0.1-10.1.0.9"}, {"network", "x", "!"},
		{"network", "dynamic", "!"},
		{"address-mask", "10.1.2.3 255.255.0.0", "10.1.0.0/16"}, {"address-mask", "10.1.0.0 255.0.255.0", "!"},
		{"address-mask", "10.1.0.0 ffff::", "!"}, {"address-mask", "x 255.0.0.0", "!"},
		{"address-wildcard", "10.1.2.0 0.0.0.255", "10.1.2.0/24"}, {"address-wildcard", "10.1.2.0 0.255.0.255", "!"},
		{"address-wildcard", "10.1.2.0 x", "!"},
		{"address-range", "10.1.2.3 10.1.2.9", "10.1.2.3-10.1.2.9"}, {"address-range", "10.1.2.9 10.1.2.3", "!"},
		{"address-range", "a b", "!"},
		{"number", "12", "12"}, {"number", "-1", "!"}, {"group", "14", "group 14 (MODP 2048)"}, {"group", "2048", "group 14 (MODP 2048)"},
		{"group", "20", "group 20 (NIST P-384)"}, {"group", "0", "!"}, {"group", "9999", "!"}, {"group", "x", "!"},
		{"seconds", "3600", "1h0m0s"}, {"minutes", "60", "1h0m0s"}, {"hours", "24", "24h0m0s"}, {"days", "99999999999", "!"},
		{"kilobytes", "2", "2048"}, {"megabytes", "99999999999999999", "!"}, {"bytes", "x", "!"},
		{"port", "443", "443"}, {"port", "x-y", "!"},
		{"protocol", "tcp", "6"}, {"secret", "hidden", "[secret]"}, {"word", "x", "x"},
	} {
		v, err := types[c[0]].Parse(strings.Fields(c[1]))
		if c[2] == "!" {
			assert.Error(t, err, "%v", c)
			continue
		}
		require.NoError(t, err, "%v", c)
		got := fmt.Sprint(v)
		switch v := v.(type) {
		case ike.Selector:
			got = ike.Selectors{v}.String()
		case ike.Choice:
			got = v.Label()
		}
		assert.Contains(t, got, c[2], "%v", c)
		assert.NotEmpty(t, types[c[0]].Says)
	}
}

// TestMatchingIsLinear: no phrase takes more than its length times the statement's.
func TestMatchingIsLinear(t *testing.T) {
	p := phrase(t, "a [[[x]... [x]...]... [x]...]... [<w:word>...]... [x]... b")
	long := words(t, "a"+strings.Repeat(" x", 20_000))
	began := cputime.Spent()
	_, _, ok := p.Match(long, false)
	assert.False(t, ok)
	assert.Less(t, cputime.Spent()-began, 5*time.Second)
}

func FuzzPhrases(f *testing.F) {
	f.Add("peer <a:address> [port <p:number>]... ( a | b )", "peer 192.0.2.1 port 5 a")
	f.Add("<x:text> [a]", "b \"c d\"")
	f.Fuzz(func(t *testing.T, text, statement string) {
		p, err := phrasebook.ParsePhrase(text, phrasebook.BuiltIn(), false)
		if err != nil {
			assert.NotEmpty(t, err.Error())
			return
		}
		list, _ := statements.Parse([]byte(statement), statements.Manner{Kind: statements.Lines, Quotes: `"`})
		for _, st := range list {
			fills, near, ok := p.Match(st.Words, true)
			assert.LessOrEqual(t, near.Words, len(st.Words))
			if !ok {
				assert.Empty(t, fills)
			}
			end := 0
			for _, f := range fills {
				assert.LessOrEqual(t, end, f.At.Start, "in the order of the words")
				end = f.At.End
			}
		}
	})
}
