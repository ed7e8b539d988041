package phrasebook_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/read/phrasebook"
	"toril/read/readtest"
	"toril/source"
)

// TestKeysInNamedSettings: what named settings say beside settings belongs to whoever uses them.
func TestKeysInNamedSettings(t *testing.T) {
	const book = "language: a\ntitle: b\nsyntax: {kind: lines}\nphrases:\n" +
		"- {say: \"ways <n>\", makes: object, kind: settings, named: <n>, phrases: [{say: \"word <k:secret>\", key: {value: <k>}}]}\n" +
		"- {say: \"span <n> by <w:settings>\", makes: connection, named: <n>, uses: <w>}\n"
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	g := readtest.Read(
		b.Format(),
		"x",
		"span x by shared\nspan y by shared\nways shared\n word Jackdaw-4711\nways idle\n word Jackdaw-4712\n",
		nil,
	)
	require.Len(t, g.Keys, 2)
	for i, k := range g.Keys {
		assert.Same(t, g.Connections[i], k.For)
		assert.Equal(t, 4, k.At.Line)
		assert.Equal(t, "Jackdaw-4711", k.Secret.Reveal())
	}
	assert.NotContains(t, g.Files[0].Quote(source.Pos{File: "x", Line: 6}), "Jackdaw")
}

// TestFilesAreRecognised by a line that all of them have; else by how many of their statements are of the language.
func TestFilesAreRecognised(t *testing.T) {
	const book = "language: a\ntitle: b\nsyntax: {kind: lines}\nphrases:\n- say: span <n>\n  makes: connection\n  named: <n>\n" +
		"  phrases: [{say: \"to <a:address>\", sets: {peer-address: <a>}}]\n"
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	for text, want := range map[string]int{
		"span a\n to 192.0.2.1\nspan b\n to 192.0.2.2\n": 80, "span a\n to 192.0.2.1\n from 192.0.2.2\nclock 12\n": 50,
		"span a\nother\nwords\nhere\n": 0, "": 0,
	} {
		score, why := b.Format().Looks(source.NewFile("x", []byte(text)))
		assert.Equal(t, want, score, text)
		assert.Equal(t, want > 0, why != "")
	}
}

// TestWarnings: without examples nothing is shown, and what has no default leaves connections unsure.
func TestWarnings(t *testing.T) {
	const head = "language: a\ntitle: b\nsyntax: {kind: lines}\ndefaults:\n- {sets: ike-version, value: both, source: x}\nphrases:\n"
	b, err := phrasebook.Load("b.yaml", []byte(head+"- {say: span <n>, makes: connection, named: <n>}\n"))
	require.NoError(t, err)
	require.Len(t, b.Warnings, 2)
	assert.Contains(t, b.Warnings[0].Error(), "no default for peer-address")
	assert.NotContains(t, b.Warnings[0].Error(), "ike-version")
	assert.Contains(t, b.Warnings[1].Error(), "b.yaml:1: it has no examples")
	b, err = phrasebook.Load("b.yaml", []byte(head+"- {say: x, moot: y}\n"))
	require.NoError(t, err)
	assert.Len(t, b.Warnings, 1)
}

// TestManyByManyIsBounded: rules that are inserted among many, and named settings of many statements that many use. What is more than the
// file's size allows is said, and makes nothing sure.
func TestManyByManyIsBounded(t *testing.T) {
	b := ploverRead(t)
	var s strings.Builder
	for i := range 20000 {
		fmt.Fprintf(&s, "%d let from 10.%d.%d.0/24 at 1\n", i, i/250%250, i%250)
	}
	g := readtest.Read(b.Format(), "x", s.String(), nil)
	require.NotEmpty(t, g.Chains)
	assert.Len(t, g.Chains[0].Rules, 20001, "none is lost")
	assert.Contains(t, readtest.Unread(g)[0], "come to more than can be looked at")
	doubt := 0
	for _, r := range g.Chains[0].Rules {
		doubt += len(r.Doubts)
	}
	assert.Equal(t, len(readtest.Unread(g)), doubt)
	s.Reset()
	for i := range 3000 {
		fmt.Fprintf(&s, "span s%d\n to 192.0.2.1\n ways w\n", i)
	}
	s.WriteString("ways w\n")
	for i := range 3000 {
		fmt.Fprintf(&s, " each %d minutes\n", i%100+1)
	}
	g = readtest.Read(b.Format(), "x", s.String(), nil)
	require.Len(t, g.Connections, 3000)
	assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), "come to more than can be looked at")
	scopes := map[string]bool{}
	for _, u := range g.Files[0].Unread {
		scopes[u.Scope] = true
	}
	assert.Greater(t, len(scopes), 2000, "it is said of each connection")
}

// TestTimesWithTheirUnits: a slot may take the unit from the value.
func TestTimesWithTheirUnits(t *testing.T) {
	const book = "language: a\ntitle: b\nsyntax: {kind: paths}\nphrases:\n" +
		"- {say: \"span <n> lasts <t:time>\", makes: connection, named: <n>, sets: {ike-lifetime: <t>}}\n"
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	for text, want := range map[string]string{"8h": "8 h", "90m": "1 h 30 min", "3600": "1 h", "1d": "24 h"} {
		assert.Equal(t, want, shown(readtest.Read(b.Format(), "x", "span a lasts "+text+"\n", nil), "a", "ike-lifetime"), text)
	}
	assert.Len(t, readtest.Unread(readtest.Read(b.Format(), "x", "span a lasts long\n", nil)), 1)
}
