package nft_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/source"
	"toril/syntax"
	"toril/syntax/nft"
	"toril/syntax/syntaxtest"
)

func tokens(text string) []nft.Token {
	var out []nft.Token
	for s := nft.Scan([]byte(text)); ; {
		t := s.Next()
		if t.Kind == nft.End {
			return out
		}
		out = append(out, t)
	}
}

func TestScan(t *testing.T) {
	for text, want := range map[string]string{
		"ip saddr 10.0.0.0/8 accept # x\n":   "1 ip|1 saddr|1 10.0.0.0/8|1 accept|1 \n",
		"add rule a b; drop":                 "1 add|1 rule|1 a|1 b|1 ;|1 drop",
		"iifname \"wan\\\" comment \"a b\nc": "1 iifname|1 'wan\\'|1 comment|1 'a b\nc'",
		"a \\\n b\nc":                        "1 a|2 b|2 \n|3 c",
		"{ 1.2.3.4 . 53 : accept }":          "1 {|1 1.2.3.4|1 .|1 53|1 :|1 accept|1 }",
		"fd00::1-fd00::9 . [fd00::2]:80":     "1 fd00::1-fd00::9|1 .|1 [fd00::2]|1 :|1 80",
		"ether saddr 02:00:00:00:00:01":      "1 ether|1 saddr|1 02:00:00:00:00:01",
		"mark and 0xff eq 1 tcp dport != 22": "1 mark|1 &|1 0xff|1 ==|1 1|1 tcp|1 dport|1 !=|1 22",
		"tcp flags & (syn|ack) == syn":       "1 tcp|1 flags|1 &|1 (|1 syn|1 ||1 ack|1 )|1 ==|1 syn",
		"":                                   "",
	} {
		var got []string
		for _, tok := range tokens(text) {
			s := tok.Text
			if tok.Kind == nft.Text {
				s = "'" + s + "'"
			}
			got = append(got, fmt.Sprintf("%d %s", tok.Line, s))
		}
		assert.Equal(t, want, strings.Join(got, "|"), "%q", text)
	}
}

func TestWhatIsOddIsNoted(t *testing.T) {
	s := nft.Scan([]byte("a \"b"))
	for s.Next().Kind != nft.End {
	}
	assert.True(t, s.Open)
	assert.False(t, s.Junk)
	s = nft.Scan([]byte("a\rb\r\n"))
	for s.Next().Kind != nft.End {
	}
	assert.True(t, s.Junk)
	object := syntax.Place{Line: 7, Col: 3, Range: source.Range{Start: 40, End: 60}}
	s = nft.ScanMade("a\nb", object)
	for {
		tok := s.Next()
		assert.Equal(t, object, tok.Place, "where that stands of which the text was made")
		if tok.Kind == nft.End {
			break
		}
	}
	assert.True(t, nft.Token{Kind: nft.Word, Text: "x"}.Is("x"))
	assert.False(t, nft.Token{Kind: nft.Text, Text: "x"}.Is("x"))
}

// back checks the promise of the syntax: what stands between tokens is blanks, comments, and line ends behind backslashes.
func back(t *testing.T, text string) {
	var places []syntax.Place
	for _, tok := range tokens(text) {
		places = append(places, tok.Place)
		if tok.Kind == nft.Word {
			assert.Equal(t, tok.Text, text[tok.Start:tok.End])
		}
	}
	for _, b := range syntaxtest.PrintedBack(t, text, places) {
		for line := range strings.Lines(b) {
			line, _, _ = strings.Cut(line, "#")
			assert.Empty(t, strings.Trim(strings.ReplaceAll(line, "\\\r", "\\"), " \t\r\n\\"), "%q", b)
		}
	}
}

func TestSamplesArePrintedBack(t *testing.T) {
	syntaxtest.Samples(t, "nftables/*", func(text string) { back(t, text) })
}

func FuzzScan(f *testing.F) {
	f.Add("table ip t {\n chain c { type filter hook input priority 0; policy drop; ip saddr { fd00::1, 1.2.3.4/8 } accept # x\n }\n}\n")
	f.Add("a \\\r\n\"b\n\\ c\" [x] a::b:: != <<")
	f.Fuzz(func(t *testing.T, text string) { back(t, text) })
}
