package known_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon"
	"toril/daemon/known"
	"toril/ike"
	"toril/model"
)

// keywords calls a function for every keyword that stands in a row.
func keywords(each func(s *daemon.Section, k *daemon.Keyword)) (n int) {
	for _, d := range known.All() {
		for _, s := range d.Described() {
			for i := range s.Keywords {
				each(s, &s.Keywords[i])
				n++
			}
		}
	}
	return n
}

// TestRowsAreWhole holds every row to say what is done with its keyword, and only once.
func TestRowsAreWhole(t *testing.T) {
	seen := map[[3]string]bool{}
	n := keywords(func(s *daemon.Section, k *daemon.Keyword) {
		for _, name := range k.Names {
			key := [3]string{s.File, s.Path, name}
			assert.True(t, !seen[key] || name != k.Name(), "%v stands twice", key)
			seen[key] = true
		}
		assert.Same(t, k, s.Named(k.Name()))
		assert.NotEqual(t, k.Ignored == "", k.Lines == "", "%s has a default, or is passed over for a reason", k.Name())
		if k.Sets != nil && !k.Sets.Derived {
			assert.NotNil(t, k.Sets.Takes(), k.Name())
		}
	})
	assert.Greater(t, n, 100)
}

// FuzzWritten holds what is written of a value to be read as that value.
func FuzzWritten(f *testing.F) {
	for _, text := range []string{"", "0", "1", "2", "017", "0x1f", "-1", "yes", "No", "true", "1h", "90m", "4d", "12 s", "500k", "3G",
		"%any",
		"%unique", "dynamic", "10.1.0.0/16, 10.2.0.7", "10.0.0.1-10.0.0.9[tcp/443]", "fd00::/64[17/500-4500]", "dynamic[/opaque]",
		"aes128-sha256-modp2048", "default", "aes256gcm16-prfsha384-ecp384, 3des-sha1-modp1024", "psk", "pubkey-sha256", "eap-md5",
		"trap | start", "route", "tunnel", "transport_proxy", "pass", "never", "ifasked", "prefer", "gate.example", "@#00ff",
		"C=AT, CN=gate, O=x", "192.0.2.1", "a, b ,,c"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		keywords(func(s *daemon.Section, k *daemon.Keyword) {
			if !k.Reads() {
				return
			}
			v, err := k.Read(text, "")
			if err != nil {
				return
			}
			written, err := k.Write(daemon.Subject{}, v)
			if err != nil {
				return
			}
			again, err := k.Read(written, "")
			if assert.NoError(t, err, "%s %s: %q, read as %v, is written as %q", s.Path, k.Name(), text, v, written) {
				assert.Equal(t, plain(v), plain(again), "%s %s: %q is written as %q", s.Path, k.Name(), text, written)
			}
		})
	})
}

// plain returns a value without what only tells how it was written.
func plain(v any) any {
	switch v := v.(type) {
	case []ike.Proposal:
		var out []string
		for _, p := range v {
			if text := p.Names(); !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
		return out
	case model.Addresses:
		out := slices.Clone(v)
		for i := range out {
			out[i].Text = ""
		}
		return out
	}
	return v
}
