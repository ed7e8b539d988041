package ike_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
)

// registered are the values of IANA's registries that are assigned (reserved ones and ranges left out).
var registered = map[ike.Registry][]uint16{
	ike.Encryption: {
		1,
		2,
		3,
		4,
		5,
		6,
		7,
		8,
		9,
		11,
		12,
		13,
		14,
		15,
		16,
		18,
		19,
		20,
		21,
		23,
		24,
		25,
		26,
		27,
		28,
		29,
		30,
		31,
		32,
		33,
		34,
		35,
	},
	ike.PRF:          {1, 2, 3, 4, 5, 6, 7, 8, 9},
	ike.Integrity:    {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14},
	ike.KeyExchange:  {0, 1, 2, 5, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31, 32, 33, 34, 35, 36, 37},
	ike.Sequence:     {0, 1, 2},
	ike.AuthMethod:   {1, 2, 3, 9, 10, 11, 12, 13, 14},
	ike.V1Encryption: {1, 2, 3, 4, 5, 6, 7, 8},
	ike.V1Hash:       {1, 2, 3, 4, 5, 6},
	ike.V1Group:      {1, 2, 3, 4, 5, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30},
	ike.V1Auth:       {1, 2, 3, 4, 5, 9, 10, 11},
	ike.V1ESP:        {1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 18, 19, 20, 21, 22, 23},
	ike.V1AH:         {2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13},
	ike.V1Integrity:  {1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13},
}

func TestEveryRegistryValueIsThereOnceAndWhole(t *testing.T) {
	seen := map[ike.Registry]map[uint16]bool{}
	for _, a := range ike.Catalogue {
		if seen[a.Registry] == nil {
			seen[a.Registry] = map[uint16]bool{}
		}
		assert.False(t, seen[a.Registry][a.ID], "%s %d is there twice", a.Registry, a.ID)
		seen[a.Registry][a.ID] = true
		assert.NotEmpty(t, a.Name)
		assert.NotEmpty(t, a.Common, a.Name)
		assert.NotEmpty(t, a.Source, a.Name)
		assert.True(t, a.Known())
		assert.Contains(t, []int{0, 64, 128}, a.Block, a.Name)
		assert.LessOrEqual(t, a.Bits, 512, a.Name)
		if a.Combined {
			assert.NotZero(t, a.Tag, a.Name)
		}
		assert.NotEmpty(t, a.Registry.String())
	}
	for r, ids := range registered {
		for _, id := range ids {
			assert.True(t, seen[r][id], "%s %d is missing", r, id)
		}
	}
}

func TestWhatTripsPeopleUp(t *testing.T) {
	group2 := ike.ByID(ike.KeyExchange, 2)
	assert.Equal(t, group2, ike.ByName(ike.V1Group, "Alternate 1024-bit MODP group").Equivalent(), "group 2 by its IKEv1 name")
	assert.Equal(t, ike.ByName(ike.PRF, "PRF_HMAC_SHA1"), ike.ByName(ike.V1Hash, "SHA").Equivalent(), "SHA as IKEv1 hash is a PRF")
	assert.Equal(
		t,
		ike.ByName(ike.Integrity, "AUTH_HMAC_SHA1_96"),
		ike.ByName(ike.V1Integrity, "HMAC-SHA").Equivalent(),
		"SHA in ESP is an integrity algorithm",
	)
	assert.Nil(t, ike.ByName(ike.V1ESP, "ESP_RC4").Equivalent())
	assert.Equal(t, group2, group2.Equivalent())
	cut128, cut96 := ike.ByName(ike.Integrity, "AUTH_HMAC_SHA2_256_128"), ike.ByName(ike.Integrity, "AUTH_HMAC_SHA2_256_96")
	assert.NotEqual(t, cut128.ID, cut96.ID)
	assert.Equal(t, []int{128, 96}, []int{cut128.Tag, cut96.Tag})
	tags := []int{}
	for _, name := range []string{"ENCR_AES_GCM_8", "ENCR_AES_GCM_12", "ENCR_AES_GCM_16"} {
		tags = append(tags, ike.ByName(ike.Encryption, name).Tag)
	}
	assert.Equal(t, []int{64, 96, 128}, tags)
	assert.Equal(t, "AES-GCM-256 with a 16-byte ICV", ike.Pick(ike.Encryption, 20, 256).String())
	assert.Equal(t, "ENCR_AES_CBC-256", ike.Pick(ike.Encryption, 12, 256).IANA())
	assert.Equal(t, "group 14 (MODP 2048)", ike.Pick(ike.KeyExchange, 14, 0).Label())
	assert.Equal(t, ike.ByID(ike.KeyExchange, 36), ike.ByID(ike.Additional1+2, 36), "additional key exchanges have the same methods")
	unknown := ike.ByID(ike.Encryption, 999)
	assert.False(t, unknown.Known())
	assert.Equal(t, "unknown encryption 999", unknown.Common)
}

func TestStrengths(t *testing.T) {
	for c, want := range map[ike.Choice]int{
		ike.Pick(ike.Encryption, 12, 128): 128, ike.Pick(ike.Encryption, 12, 256): 256, ike.Pick(ike.Encryption, 3, 0): 112,
		ike.Pick(ike.Encryption, 11, 0): 0,
		ike.Pick(ike.KeyExchange, 2, 0): 80, ike.Pick(ike.KeyExchange, 14, 0): 112, ike.Pick(ike.KeyExchange, 15, 0): 128,
		ike.Pick(ike.KeyExchange, 19, 0): 128,
		ike.Pick(ike.KeyExchange, 20, 0): 192, ike.Pick(ike.KeyExchange, 21, 0): 256,
	} {
		assert.Equal(t, want, c.Strength(), c.String())
	}
	assert.True(t, ike.Pick(ike.Encryption, 20, 256).Resists())
	assert.False(t, ike.Pick(ike.Encryption, 20, 128).Resists())
	assert.True(t, ike.Pick(ike.KeyExchange, 37, 0).Resists())
	assert.False(t, ike.Pick(ike.KeyExchange, 21, 0).Resists())
	assert.InDelta(t, 32<<30, ike.BirthdayBytes(64), 1)
}

func TestSelectors(t *testing.T) {
	sel := func(s string) ike.Selector { return ike.SelectPrefix(prefix(s)) }
	a := ike.Selectors{sel("10.1.0.0/16"), sel("10.2.0.0/24")}
	b := ike.Selectors{sel("10.1.5.0/24"), sel("10.1.0.0/17"), sel("10.3.0.0/24")}
	assert.Equal(t, "10.1.0.0/17", a.Meet(b).String(), "what lies within another goes")
	assert.Equal(t, "10.1.0.0/17", b.Meet(a).String())
	tcp := sel("10.1.0.0/24")
	tcp.Proto, tcp.LoPort, tcp.HiPort = 6, 80, 90
	udp := tcp
	udp.Proto = 17
	_, ok := tcp.Meet(udp)
	assert.False(t, ok)
	both, ok := tcp.Meet(sel("10.0.0.0/8"))
	require.True(t, ok)
	assert.Equal(t, "10.1.0.0/24 tcp 80-90", both.String())
	_, ok = sel("::/0").Meet(sel("0.0.0.0/0"))
	assert.False(t, ok)
	assert.True(t, sel("0.0.0.0/0").AnyAddress())
	own := ike.Selector{Dynamic: true, HiPort: 65535}
	assert.Equal(t, "own address", own.String())

	at, none := netip.MustParseAddr("192.0.2.1"), netip.Addr{}
	assert.Equal(t, "10.1.0.0/16, 192.0.2.1", ike.Selectors{a[0], own}.At(at).String())
	assert.Equal(t, "10.1.0.0/16, own address", ike.Selectors{a[0], own}.At(none).String())
	assert.Equal(t, a, a.At(at))
	_ = append(a[:1].At(at), own)
	assert.Equal(t, "10.1.0.0/16, 10.2.0.0/24", a.String(), "what is appended to it is no part of the other list")
	assert.True(t, ike.Selectors{a[0], own}.Packets().Equal(a[:1].Packets()), "an address that is not known has no packets")
	assert.True(t, ike.Selectors{own}.Packets().Empty())
}
