package phrasebook_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/frr"
	"toril/read/phrasebook"
	"toril/read/readtest"
)

// routing is FRRouting's language as far as it tells of interfaces and static routes: a language that phrasebooks were not made for, and
// that a reader reads too.
const routing = `language: routing
title: FRRouting, as far as interfaces and static routes go
syntax: {kind: lines, comments: ["!", "#"], enter: [interface, router, address-family], leave: [exit, exit-address-family]}
phrases:
- {say: "frr ( version | defaults ) <x:text>", moot: who wrote it}
- {say: "( hostname | log | service ) <x:text>", moot: names and logging}
- {say: end, moot: the end}
- {say: "( ip | ipv6 ) route <n:network> Null0", route: {to: <n>, kind: blackhole}}
- {say: "( ip | ipv6 ) route <n:network> reject", route: {to: <n>, kind: unreachable}}
- {say: "( ip | ipv6 ) route <n:network> <g:address> [ <d:word> [ <_:number> ] ]", route: {to: <n>, via: <g>, device: <d>}}
- {say: "( ip | ipv6 ) route <n:network> <d:word>", route: {to: <n>, device: <d>}}
- say: interface <i>
  makes: interface
  named: <i>
  phrases:
  - {say: "( ip | ipv6 ) address <a:prefix>", interface: {address: <a>}}
  - {say: shutdown, interface: {down: "yes"}}
  - {say: "ip ospf <x:text>", moot: a routing protocol}
  - {say: exit, moot: its end}
- say: router <_:text>
  phrases:
  - {say: "( network | redistribute | neighbor ) <x:text>", moot: a routing protocol}
  - {say: exit, moot: its end}
  - say: address-family <_:text>
    phrases:
    - {say: "( network | redistribute ) <x:text>", moot: a routing protocol}
    - {say: exit-address-family, moot: its end}
`

// TestALanguageThatAReaderReadsToo: by phrases or by its reader, a file says the same of interfaces and routes, and nothing is left unread.
func TestALanguageThatAReaderReadsToo(t *testing.T) {
	b, err := phrasebook.Load("routing.yaml", []byte(routing))
	require.NoError(t, err)
	files, err := filepath.Glob("../../lab/formats/samples/frr/*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	told := func(g *model.Gateway) (out []string) {
		for _, i := range g.Interfaces {
			out = append(out, fmt.Sprint(i.Name, i.Addresses, i.Down))
		}
		for _, r := range g.Routes {
			out = append(out, fmt.Sprint(r.To, r.Via, r.Dev, r.Kind, r.Table, r.At.Line))
		}
		slices.Sort(out)
		return out
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		g := readtest.Read(b.Format(), "frr.conf", string(text), nil)
		assert.Empty(t, readtest.Unread(g))
		assert.Empty(t, readtest.Problems(g))
		got := told(g)
		assert.Greater(t, len(got), 5)
		assert.Equal(t, told(readtest.Read(frr.Format, "frr.conf", string(text), nil)), got)
	}
}
