package audit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/baseline"
	"toril/ike"
	"toril/model"
	"toril/source"
)

// TestAWeakPartIsWhereItIsConfigured: a statement of its own that says a weak algorithm is where the finding stands; else the proposals.
func TestAWeakPartIsWhereItIsConfigured(t *testing.T) {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	p := ike.Proposal{Protocol: ike.IKE}
	p.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 12, 256)}
	p.Transforms[ike.Integrity] = ike.Choices{ike.Pick(ike.Integrity, 12, 0)}
	p.Transforms[ike.KeyExchange] = ike.Choices{ike.Pick(ike.KeyExchange, 2, 0)}
	j := audit.Judge(b, []ike.Proposal{p}, ike.IKE, ike.Encryption, ike.Integrity, ike.KeyExchange)
	require.Len(t, j.Weak, 1)
	at := func(line int) source.Pos { return source.Pos{File: "x", Line: line} }
	for _, c := range []struct {
		parts model.Parts
		line  int
		also  int
	}{
		{nil, 1, 0},
		{model.Parts{ike.Encryption: at(2)}, 1, 0},
		{model.Parts{ike.Encryption: at(2), ike.KeyExchange: at(3)}, 3, 1},
		{model.Parts{ike.KeyExchange: at(1)}, 1, 0},
	} {
		f := audit.Finding{At: audit.Evidence{Pos: at(1)}}
		f.Judged(j, c.parts)
		assert.Equal(t, c.line, f.At.Pos.Line)
		require.Len(t, f.Also, c.also)
		for _, a := range f.Also {
			assert.Equal(t, 1, a.Pos.Line)
		}
	}
}
