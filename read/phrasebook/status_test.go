package phrasebook_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/phrasebook"
	"toril/read/readtest"
)

const statusBook = `language: lantern-status
title: status page of the router Lantern
files: ["*.status"]
begins: "lantern status"
syntax: {kind: lines}
vocabulary:
  encryption: {aes256gcm: ENCR_AES_GCM_16 256}
phrases:
- {say: "lantern status", moot: the heading}
- {say: "tunnel <c> with <p:address> up <t:minutes>", status: {connection: <c>, peer: <p>, age: <t>}}
- {say: "flow <c> <k> <l:network> <r:network> by <e:encryption> in <a:number> out <b:number>",
   status: {connection: <c>, child: <k>, local: <l>, remote: <r>, encryption: <e>, bytes-in: <a>, bytes-out: <b>}}
- {say: "flow <c> <k> down", status: {connection: <c>, child: <k>, up: "no"}}
examples:
- text: |
    lantern status
    flow a b down
  facts: {}
`

// TestStatusPages reads a device's status page through a phrasebook: what was seen stands beside the settings of other files.
func TestStatusPages(t *testing.T) {
	book, err := phrasebook.Load("lantern.yaml", []byte(statusBook))
	require.NoError(t, err)
	g := readtest.Read(book.Format(), "lantern.status", "lantern status\ntunnel quay with 192.0.2.9 up 90\n"+
		"flow quay tides 10.1.0.0/24 10.2.0.0/24 by aes256gcm in 0 out 840\nflow quay nets down\n", nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Empty(t, readtest.Problems(g))
	seen := &g.Observed
	_, listed := seen.Lists(model.ListSAs)
	assert.True(t, listed)
	require.Len(t, seen.IKE, 1)
	assert.Equal(t, "quay", seen.IKE[0].Connection)
	assert.True(t, seen.IKE[0].Up)
	assert.Equal(t, 90*time.Minute, seen.IKE[0].Age)
	require.Len(t, seen.Children, 2)
	k := seen.Children[0]
	assert.Equal(t, "tides", k.Name)
	assert.Equal(t, "10.1.0.0/24 to 10.2.0.0/24", k.Local.String()+" to "+k.Remote.String())
	assert.Equal(t, "AES-GCM-256 with a 16-byte ICV", k.Suite.String())
	assert.True(t, k.Out.Told)
	assert.EqualValues(t, 840, k.Out.Bytes)
	assert.Zero(t, k.In.Bytes)
	assert.False(t, seen.Children[1].Up)
}
