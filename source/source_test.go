package source_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/source"
)

func TestLines(t *testing.T) {
	f := source.NewFile("a.conf", []byte("\xef\xbb\xbfone\r\ntwo\n\nfour"))
	assert.Equal(t, 4, f.Lines())
	assert.Equal(t, []string{"one", "two", "", "four", ""}, []string{f.Line(1), f.Line(2), f.Line(3), f.Line(4), f.Line(5)})
	assert.Equal(t, 1, f.LineAt(0))
	for n := 1; n <= f.Lines(); n++ {
		assert.Equal(t, n, f.LineAt(f.Start(n)), "line %d", n)
	}
	assert.Equal(t, f.Start(0), f.Start(5), "no such line")
	assert.Equal(t, 2, f.LineAt(5))
	assert.Equal(t, 4, f.LineAt(10))
	assert.Equal(t, "a.conf:3", f.At(3).String())
	assert.Zero(t, source.NewFile("empty", nil).Lines())
}

func TestQuoteIsHarmless(t *testing.T) {
	f := source.NewFile("a", []byte("\tname = \x1b[31mred\x07\xff \u202eabc\n"+strings.Repeat("x", 500)))
	assert.Equal(t, `name = \x1b[31mred\x07\xff \u202eabc`, f.Quote(f.At(1)))
	assert.Len(t, []rune(f.Quote(f.At(2))), source.MaxQuote)
}

func TestSecretsAreMasked(t *testing.T) {
	f := source.NewFile(
		"a",
		[]byte(
			"x = Zz9secretvalue and more\n  secret = \"never; seen\"\npsk 0sAAAA;\nkeyexchange = ikev2\nrekey_time = 4h\n"+
				"esp_proposals = aes\n",
		),
	)
	f.Hide(1, "Zz9secretvalue")
	assert.Equal(t, "x = [secret] and more", f.Quote(f.At(1)))
	assert.Equal(t, "secret = [secret]", f.Quote(f.At(2)))
	assert.Equal(t, "psk [secret];", f.Quote(f.At(3)))
	assert.Equal(t, "keyexchange = ikev2", f.Quote(f.At(4)))
	assert.Equal(t, "rekey_time = 4h", f.Quote(f.At(5)))
	assert.Equal(t, "esp_proposals = aes", f.Quote(f.At(6)))
}

func TestSecretCannotBePrinted(t *testing.T) {
	s := source.NewSecret("lantern")
	j, err := json.Marshal(map[string]any{"k": s, "p": &s})
	require.NoError(t, err)
	var log strings.Builder
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "s", s)
	for _, out := range []string{fmt.Sprint(s), fmt.Sprintf("%v %+v %#v %s %q", s, s, s, s, s), string(j), log.String(),
		fmt.Sprintf("%v", struct{ S source.Secret }{s}),
		fmt.Sprintf("%+v %#v", struct{ s source.Secret }{s}, struct{ s source.Secret }{s})} {
		assert.NotContains(t, out, "lantern")
	}
	assert.Equal(t, "lantern", s.Reveal())
	assert.Equal(t, s.Fingerprint(), source.NewSecret("lantern").Fingerprint())
	assert.NotEqual(t, s.Fingerprint(), source.NewSecret("lanterm").Fingerprint())
}

func TestPosOrder(t *testing.T) {
	a, b := source.Pos{File: "a", Line: 9}, source.Pos{File: "b", Line: 1}
	assert.Negative(t, a.Compare(b))
	assert.Positive(t, a.Compare(source.Pos{File: "a", Line: 2}))
	assert.Equal(t, "b:1: bad", source.Errorf(b, "bad").Error())
}

func TestRangeOf(t *testing.T) {
	assert.Equal(t, source.Range{Start: 5, End: 8}, source.RangeOf(" \ta b ", 3))
	assert.Equal(t, source.Range{Start: 9, End: 9}, source.RangeOf("  ", 7), "blanks alone end where they end")
	assert.Equal(t, source.Range{Start: 15, End: 18}, source.Range{Start: 5, End: 8}.From(10))
}

func TestRegion(t *testing.T) {
	text := "a {\n  ä = \"b\nc\" # d\n}\n"
	statement := source.Range{Start: strings.Index(text, "ä"), End: strings.Index(text, " #")}
	want := source.Region{Line: 2, Column: 3, Character: 3, EndLine: 3, EndCharacter: 3, Offset: 6, Length: 10}
	f := source.NewFile("f", []byte(text))
	assert.Equal(t, want, f.Region(source.Pos{File: "f", Line: 2, Range: statement}))
	want.Offset += 3
	assert.Equal(t, want, source.NewFile("f", []byte("\xef\xbb\xbf"+text)).Region(source.Pos{File: "f", Line: 2, Range: statement}),
		"the mark counts in the file as it is stored, and in no column")
	value := source.Range{Start: statement.Start + len("ä = "), End: statement.End}
	want = source.Region{Line: 2, Column: 8, Character: 7, EndLine: 3, EndCharacter: 3, Offset: 11, Length: 5}
	assert.Equal(t, want, f.Region(source.Pos{File: "f", Line: 2, Range: value}), "columns of bytes and of characters")
	assert.Equal(t, source.Region{Line: 4, Column: 1, Character: 1, EndLine: 4, EndCharacter: 2, Offset: 21, Length: 1}, f.Region(f.At(4)))
	assert.Zero(t, f.Region(source.Pos{File: "f"}), "a file as a whole")
	assert.Zero(t, f.Region(f.At(9)), "no line of it")
}

func TestWhatIsAnnouncedIsMaskedInAnyCase(t *testing.T) {
	words := []string{"secret", "psk", "pre-shared-key", "passphrase", "password", "passwd", "private-key", "authkey", "enc-key",
		"keystring", "pin", "Token", "community", "key", "key2",
		"\u212aey", "p\u017fk"} // the signs of the kelvin and of a long s are k and s
	for _, w := range words {
		for _, w := range []string{w, strings.ToUpper(w)} {
			for _, line := range []string{w + " = Zz9value", "set " + w + ": Zz9value", "{" + w + "=Zz9value}"} {
				f := source.NewFile("f", []byte(line))
				assert.NotContains(t, f.Quote(f.At(1)), "Zz9value", "%s", line)
			}
		}
	}
	for _, w := range []string{"xauth", "eap", "ntlm", "ppk"} {
		f := source.NewFile("f", []byte(w+" Zz9value"))
		assert.Equal(t, w+" [secret]", f.Quote(f.At(1)))
	}
	for _, line := range []string{"ip saddr 10.0.0.0/8 accept", "s", "se", "sec", "toke = 1", "pas = 1"} {
		f := source.NewFile("f", []byte(line))
		assert.Equal(t, line, f.Quote(f.At(1)))
	}
}

// TestASecretAcrossACutIsMasked: of a line that is too long to be shown, nothing is left of a secret at the cut.
func TestASecretAcrossACutIsMasked(t *testing.T) {
	const secret = "correct horse battery staple"
	for pad := 4600; pad < 4800; pad++ { // blanks become one: what stands at the cut is in the quote
		text := "set key" + strings.Repeat(" ", pad) + secret + strings.Repeat(" y", 4000)
		f := source.NewFile("a", []byte(text))
		f.Hide(1, secret)
		quote := f.Quote(source.Pos{File: "a", Line: 1, Col: 1, Range: source.Range{Start: 0, End: len(text)}})
		assert.True(t, strings.HasPrefix(quote, "set key"), quote)
		for n := 6; n < len(secret); n++ {
			assert.NotContains(t, quote, secret[:n], pad)
		}
	}
}

// TestNames are those that people choose; a word that nobody thought of may be a secret.
func TestNames(t *testing.T) {
	for _, w := range []string{"partners", "conf.d", "eth0", "Harbour-2", "ftp-std", "VPN_07", "2026-12-01", "/etc/ipsec.d/b.conf", ""} {
		assert.True(t, source.IsName(w), w)
	}
	for _, w := range []string{"Zt7kQ9vLm2Xw4Rb8", "qVbkeLm", "0a1b2c3d4e", "b64-Qx9zP0aa"} {
		assert.False(t, source.IsName(w), w)
	}
	f := source.NewFile("a", []byte("include /etc/ipsec.d/qVbkeLm.conf # x\n"))
	f.As(&source.Manner{Comments: []string{"#"}})
	assert.Equal(t, "/etc/ipsec.d/[unread].conf", f.Named(1, "/etc/ipsec.d/qVbkeLm.conf"))
	assert.Equal(t, "include /etc/ipsec.d/[secret][unread] # [comment]", f.Quote(source.Pos{File: "a", Line: 1}))
	assert.Equal(t, "10.1.0.0/16,2001:db8::a1b", f.Named(1, "10.1.0.0/16,2001:db8::a1b"))
}
