package walk_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab/cases"
	"toril/model"
	"toril/pair"
	"toril/walk"
)

// doubtsOf forwards a ping of the protected networks and returns what its only outcome rests on.
func doubtsOf(t *testing.T, e *pair.Whole, g *model.Gateway) model.Doubts {
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	got := p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))
	require.Len(t, got, 1)
	require.Equal(t, walk.Encrypted, got[0].Fate)
	return got[0].Doubts
}

// TestAFilterThatWasNotGiven: an answer about packets of one address family rests on the rules for that family alone.
func TestAFilterThatWasNotGiven(t *testing.T) {
	for _, given := range []struct{ v4, v6 bool }{{true, true}, {true, false}, {false, true}, {false, false}} {
		e, g := gatewayOf(t, "", "", "")
		g.Told.Filter4, g.Told.Filter6 = given.v4, given.v6
		p := walk.NewPath(g, e.Ends(g), walk.Options{})
		got := p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))
		require.NotEmpty(t, got)
		assert.Equal(t, !given.v4, got[0].Doubts.Lacks(), "%+v: %v", given, got[0].Doubts.Says())
	}
}

// TestAnInterfaceThatWasNotUnderstood: what leaves by it may do otherwise, and what leaves by another does not.
func TestAnInterfaceThatWasNotUnderstood(t *testing.T) {
	why := &model.Doubt{Cause: model.NotRead, Gateway: "g", Why: "an interface of a kind that is not known", Topic: model.AboutInterfaces}
	for dev, rests := range map[string]bool{"": false, "lan0": false, "wan0": true} {
		e, g := gatewayOf(t, "", cases.Nat(""), "")
		for _, i := range g.Interfaces {
			if i.Name == dev {
				i.Doubts.Add(why)
			}
		}
		assert.Equal(t, rests, doubtsOf(t, e, g).Hold(model.Doubts{why}), "%q", dev)
	}
}
