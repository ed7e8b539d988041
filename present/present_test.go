package present_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"toril/ike"
	"toril/present"
)

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "0 s", time.Second: "1 s", 90 * time.Minute: "1 h 30 min", 24 * time.Hour: "24 h", 48 * time.Hour: "2 d",
		49*time.Hour + time.Second: "2 d 1 h 1 s",
	} {
		assert.Equal(t, want, present.Span(d))
	}
	assert.Equal(t, "off", present.SpanOr("off")(0))
	assert.Equal(t, "1 h", present.SpanOr("off")(time.Hour))
}

func TestWords(t *testing.T) {
	assert.Equal(t, "none", present.Number[int]("none")(0))
	assert.Equal(t, "7", present.Number[uint32]("none")(7))
	for n, want := range map[uint64]string{0: "none", 1: "1 bytes", 1000: "1000 bytes", 2048: "2 KiB", 7 << 20: "7 MiB",
		4 << 30: "4 GiB", 1<<40 + 1<<30: "1025 GiB"} {
		assert.Equal(t, want, present.Bytes("none")(n))
	}
	assert.Equal(t, "yes", present.Choice("yes", "no")(true))
	assert.Equal(t, "no", present.Choice("yes", "no")(false))
	assert.Equal(t, "nothing", present.Text("nothing")(""))
	assert.Equal(t, "a", present.Text("nothing")("a"))
	assert.Equal(t, "a, b", present.List("none")([]string{"a", "b"}))
	assert.Equal(t, "none", present.List("none")(nil))
}

func TestProposals(t *testing.T) {
	one := func(text string, groups ...uint16) ike.Proposal {
		p := ike.Proposal{Text: text, Protocol: ike.ESP}
		p.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 20, 256)}
		p.Transforms[ike.KeyExchange] = ike.Picks(ike.KeyExchange, groups...)
		return p
	}
	a, b, own := one("a", 14), one("b"), one("", 14, 15, 16, 19)
	assert.Equal(t, "a, b", present.Proposals([]ike.Proposal{a, b}))
	assert.Equal(t, "2 of the daemon's own, AES-GCM-256 with a 16-byte ICV and more", present.Proposals([]ike.Proposal{own, own}))
	assert.Equal(t, "a, then 1 of the daemon's own, AES-GCM-256 with a 16-byte ICV and more", present.Proposals([]ike.Proposal{a, own}))
	assert.Equal(t, a.Names(), present.Names([]ike.Proposal{a, a}), "each once")
	assert.Equal(t, "none", present.PFS([]ike.Proposal{b}))
	assert.Equal(t, "group 14 (MODP 2048)", present.PFS([]ike.Proposal{a}))
	assert.Equal(t, "optional, group 14 (MODP 2048)", present.PFS([]ike.Proposal{a, b}))
	assert.Equal(t, "group 14 (MODP 2048), group 15 (MODP 3072), group 16 (MODP 4096) and 1 more", present.PFS([]ike.Proposal{own}))
}
