package observe

import (
	"slices"

	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
)

// Predicted are the suites that an end's IKE SA may have by what is predicted of either initiator; none where nothing certain is.
func Predicted(attempts []negotiate.Attempt) []ike.Suite {
	var out []ike.Suite
	for i := range attempts {
		a := &attempts[i]
		if !a.Doubts.Certain() || a.Failure != nil {
			return nil
		}
		out = append(out, a.IKE)
	}
	return out
}

// PredictedChild are the suites that a child may have, from its set-up and from its rekeying, by either initiator.
func PredictedChild(attempts []negotiate.Attempt, k *model.Child) []ike.Suite {
	var out []ike.Suite
	for i := range attempts {
		a := &attempts[i]
		if !a.Doubts.Certain() {
			return nil
		}
		for _, c := range a.Children {
			if c.Outcome != negotiate.Agrees || c.Of != k && c.With != k {
				continue
			}
			out = append(out, c.Suite)
			if c.Rekey.Suite.Valid() {
				out = append(out, c.Rekey.Suite)
			}
		}
	}
	return out
}

// Fits reports whether a suite that was seen is one that was predicted. What status does not tell, as the PRF of a combined cipher or the
// key exchange of a child that came with its IKE SA, is no difference.
func Fits(seen ike.Suite, predicted []ike.Suite) bool {
	return slices.ContainsFunc(predicted, func(p ike.Suite) bool {
		for _, r := range []ike.Registry{ike.Encryption, ike.Integrity, ike.PRF, ike.KeyExchange} {
			a, b := seen.Transforms[r], p.Transforms[r]
			if a.Algorithm != nil && b.Algorithm != nil && b.ID != 0 && !a.Same(b) {
				return false
			}
			if a.Algorithm != nil && b.Algorithm == nil && (r == ike.Encryption || r == ike.Integrity && a.ID != 0) {
				return false
			}
		}
		return true
	})
}

// Offered reports whether some proposal of a list holds all of a suite that was seen.
func Offered(seen ike.Suite, ps []ike.Proposal) bool {
	return slices.ContainsFunc(ps, func(p ike.Proposal) bool {
		for _, r := range []ike.Registry{ike.Encryption, ike.Integrity, ike.PRF, ike.KeyExchange} {
			c := seen.Transforms[r]
			if c.Algorithm != nil && c.ID != 0 && len(p.Of(r)) > 0 && !p.Of(r).Has(c) {
				return false
			}
			if c.Algorithm != nil && len(p.Of(r)) == 0 && r == ike.Encryption {
				return false
			}
		}
		return true
	})
}

// Protects reports what of a child's selectors an SA, or several of them, leaves out: nothing where they are all there.
func Protects(t *pair.Tunnel, e pair.End, c *Child) (missing ike.Selectors, told bool) {
	local, remote := c.Of.Local.Value.At(t.Own(e)), c.Of.Remote.Value.At(t.Peer(e))
	if local.Dynamic() || remote.Dynamic() {
		return nil, false
	}
	var seenLocal, seenRemote ike.Selectors
	for _, sa := range c.SAs {
		seenLocal, seenRemote = append(seenLocal, sa.Local...), append(seenRemote, sa.Remote...)
	}
	if len(seenLocal) == 0 || len(seenRemote) == 0 {
		return nil, false
	}
	for _, side := range [][2]ike.Selectors{{local, seenLocal}, {remote, seenRemote}} {
		for _, s := range side[0] {
			if !slices.ContainsFunc(side[1], func(t ike.Selector) bool { return t.Holds(s) }) {
				missing = append(missing, s)
			}
		}
	}
	return missing, true
}
