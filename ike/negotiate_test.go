package ike_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/ike"
)

func enc(bits ...int) ike.Choices {
	var out ike.Choices
	for _, b := range bits {
		out = append(out, ike.Pick(ike.Encryption, 12, b))
	}
	return out
}

func of(r ike.Registry, ids ...uint16) ike.Choices {
	var out ike.Choices
	for _, id := range ids {
		out = append(out, ike.Pick(r, id, 0))
	}
	return out
}

func TestTheRespondersOrderWins(t *testing.T) {
	i := []ike.Proposal{
		{
			Protocol: ike.IKE,
			Transforms: ike.Transforms{
				ike.Encryption:  enc(128, 256),
				ike.PRF:         of(ike.PRF, 5),
				ike.Integrity:   of(ike.Integrity, 12),
				ike.KeyExchange: of(ike.KeyExchange, 14, 19),
			},
		},
	}
	r := []ike.Proposal{
		{
			Protocol: ike.IKE,
			Transforms: ike.Transforms{
				ike.Encryption:  enc(256, 128),
				ike.PRF:         of(ike.PRF, 5),
				ike.Integrity:   of(ike.Integrity, 12),
				ike.KeyExchange: of(ike.KeyExchange, 19, 14),
			},
		},
	}
	s, _, ok := ike.Choose(r, i, ike.OwnOrder)
	assert.True(t, ok)
	assert.Equal(t, "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 19 (NIST P-256)", s.String())
	s, _, ok = ike.Choose(r, i, ike.PeerOrder)
	assert.True(t, ok)
	assert.Equal(t, "AES-CBC-128 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)", s.String())
	assert.Equal(t, 112, s.Strength(), "that of the group")
}

func TestASuiteComesFromOneProposalOfEach(t *testing.T) {
	i := []ike.Proposal{
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(128), ike.Integrity: of(ike.Integrity, 2)}},
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(256), ike.Integrity: of(ike.Integrity, 12)}}}
	r := []ike.Proposal{
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(128), ike.Integrity: of(ike.Integrity, 12)}},
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(256), ike.Integrity: of(ike.Integrity, 2)}}}
	_, _, ok := ike.Choose(r, i, ike.OwnOrder)
	assert.False(t, ok, "crossed lists have no proposal in common")
	r = append(
		r,
		ike.Proposal{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(256), ike.Integrity: of(ike.Integrity, 2, 12)}},
	)
	_, at, ok := ike.Choose(r, i, ike.OwnOrder)
	assert.True(t, ok)
	assert.Equal(t, 1, at)
}

func TestNoneIsAChoiceOfKeyExchange(t *testing.T) {
	with := func(ids ...uint16) ike.Proposal {
		return ike.Proposal{
			Protocol: ike.ESP,
			Transforms: ike.Transforms{
				ike.Encryption:  enc(128),
				ike.Integrity:   of(ike.Integrity, 12),
				ike.KeyExchange: of(ike.KeyExchange, ids...),
			},
		}
	}
	for _, c := range []struct {
		a, b ike.Proposal
		ok   bool
		want uint16
	}{{with(), with(), true, 0}, {with(14), with(), false, 0}, {with(14, 0), with(), true, 0}, {with(0, 14), with(14), true, 14},
		{with(14), with(19), false, 0}, {with(19, 14), with(14, 19), true, 19}} {
		s, ok := c.a.Agree(c.b)
		assert.Equal(t, c.ok, ok, "%v %v", c.a.Transforms[ike.KeyExchange], c.b.Transforms[ike.KeyExchange])
		if c.want > 0 {
			assert.Equal(t, c.want, s.Transforms[ike.KeyExchange].ID)
		}
	}
}

func TestExtendedSequenceNumbers(t *testing.T) {
	with := func(ids ...uint16) ike.Proposal {
		return ike.Proposal{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(128), ike.Sequence: of(ike.Sequence, ids...)}}
	}
	_, ok := with(1).Agree(with())
	assert.False(t, ok, "nothing said is no ESN")
	s, ok := with(1, 0).Agree(with(1))
	assert.True(t, ok && s.ESN())
	s, ok = with(1, 0).Agree(with())
	assert.True(t, ok && !s.ESN())
}

func TestProtocolsAndTypesMustMatch(t *testing.T) {
	_, ok := ike.Proposal{
		Protocol:   ike.ESP,
		Transforms: ike.Transforms{ike.Encryption: enc(128)},
	}.Agree(
		ike.Proposal{Protocol: ike.AH, Transforms: ike.Transforms{ike.Encryption: enc(128)}},
	)
	assert.False(t, ok)
	_, ok = ike.Proposal{
		Protocol:   ike.ESP,
		Transforms: ike.Transforms{ike.Encryption: enc(128)},
	}.Agree(
		ike.Proposal{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(128), ike.Integrity: of(ike.Integrity, 12)}},
	)
	assert.False(t, ok, "without integrity is not with it")
	_, ok = ike.Proposal{
		Protocol:   ike.ESP,
		Transforms: ike.Transforms{ike.Encryption: enc(128)},
	}.Agree(
		ike.Proposal{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: enc(256)}},
	)
	assert.False(t, ok, "the size of the key counts")
}

func TestIKEv1SendsTheFirstOfEachType(t *testing.T) {
	all := []ike.Proposal{
		{
			Protocol: ike.IKE,
			Transforms: ike.Transforms{
				ike.Encryption:  enc(256, 128),
				ike.PRF:         of(ike.PRF, 5, 2),
				ike.Integrity:   of(ike.Integrity, 12, 2),
				ike.KeyExchange: of(ike.KeyExchange, 14, 2),
			},
		},
		{
			Protocol: ike.IKE,
			Transforms: ike.Transforms{
				ike.Encryption:  of(ike.Encryption, 20),
				ike.PRF:         of(ike.PRF, 5),
				ike.KeyExchange: of(ike.KeyExchange, 14),
			},
		},
		{
			Protocol: ike.IKE,
			Transforms: ike.Transforms{
				ike.Encryption:  enc(128),
				ike.PRF:         of(ike.PRF, 7),
				ike.Integrity:   of(ike.Integrity, 12),
				ike.KeyExchange: of(ike.KeyExchange, 14),
			},
		}}
	sent := ike.OfferV1(all)
	assert.Len(t, sent, 1, "neither a combined cipher nor a PRF of another hash can be said")
	assert.Equal(t, "AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)", sent[0].Names())
	esp := []ike.Proposal{
		{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: of(ike.Encryption, 28)}},
		{
			Protocol: ike.ESP,
			Transforms: ike.Transforms{
				ike.Encryption:  enc(128),
				ike.Integrity:   of(ike.Integrity, 2),
				ike.KeyExchange: of(ike.KeyExchange, 19, 14),
			},
		},
	}
	assert.Len(t, ike.OfferV1(esp), 1)
	assert.Equal(t, uint16(14), ike.QuickModeGroup(esp, ike.Pick(ike.KeyExchange, 14, 0)).ID, "the group of the IKE SA where it may be")
	assert.Equal(t, uint16(19), ike.QuickModeGroup(esp, ike.Pick(ike.KeyExchange, 2, 0)).ID)
	assert.Nil(t, ike.QuickModeGroup(esp[:1], ike.Pick(ike.KeyExchange, 2, 0)).Algorithm)
}
