package audit_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/baseline"
	"toril/ike"
	"toril/pair"
	"toril/read/readtest"
	"toril/read/strongswan"
)

// offering is an end whose connection offers ike and whose children offer what esp lists, one a child; line 3 is that of the
// IKE proposals, line 6 that of the first child's.
func offering(t *testing.T, ike string, esp ...string) pair.End {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "connections {\n  c {\n    proposals = %s\n    children {\n", ike)
	for i, p := range esp {
		fmt.Fprintf(&b, "      k%d {\n        esp_proposals = %s\n      }\n", i, p)
	}
	b.WriteString("    }\n  }\n}\n")
	g := readtest.Read(strongswan.Swanctl, "swanctl.conf", b.String(), nil)
	require.Empty(t, readtest.Problems(g))
	return pair.End{Gateway: g, Connection: g.Connections[0]}
}

// TestExposure: what one end offers counts in full, unless the far end is known and takes none of it.
func TestExposure(t *testing.T) {
	const weakIKE, strongIKE, weakESP, strongESP = "3des-sha1-modp1024", "aes256-sha256-ecp256", "3des-sha1", "aes256gcm16-ecp256"
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	types := []ike.Registry{ike.Encryption, ike.Integrity, ike.KeyExchange}
	for _, c := range []struct {
		name    string
		ofChild bool
		far     []string // its IKE proposals, then those of its children; none: it is not given
		line    int      // of what the far end offers; 0: the finding stays as it is
	}{
		{name: "the far end is not given"},
		{name: "the far end takes what is weak", far: []string{weakIKE, strongESP}},
		{name: "the far end takes it beside strong things", far: []string{strongIKE + "," + weakIKE, strongESP}},
		{name: "the far end takes none of it, whatever its children take", far: []string{strongIKE, weakESP}, line: 3},
		{name: "a child of the far end that is not given", ofChild: true},
		{name: "a child of the far end takes it", ofChild: true, far: []string{strongIKE, weakESP, strongESP}},
		{name: "no child of the far end takes it, whatever its IKE takes", ofChild: true, far: []string{weakIKE, strongESP}, line: 6},
	} {
		t.Run(c.name, func(t *testing.T) {
			own := offering(t, weakIKE, weakESP)
			own.Gateway.Name = "near"
			s := &audit.Subject{End: own, Tunnel: &pair.Tunnel{Ends: []pair.End{own}}, Baseline: b}
			judged := audit.Judge(b, own.Connection.Proposals.Value, ike.IKE, types...)
			if c.ofChild {
				s.Child = own.Connection.Children[0]
				judged = audit.Judge(b, s.Child.Proposals.Value, ike.ESP, types...)
			}
			require.NotEmpty(t, judged.Weak)
			if len(c.far) > 0 {
				far := offering(t, c.far[0], c.far[1:]...)
				far.Gateway.Name = "distant"
				s.Tunnel.Ends = append(s.Tunnel.Ends, far)
			}
			f := audit.Finding{Message: "weak things are offered"}
			audit.Exposure(&f, s, judged)
			if c.line == 0 {
				assert.Equal(t, audit.Finding{Message: "weak things are offered"}, f)
				return
			}
			assert.Equal(t, audit.Low, (&audit.Pass{Check: &audit.Check{Severity: audit.High}}).Severity(f))
			assert.Equal(t, "weak things are offered; distant offers none of them, so as both ends stand they are not used", f.Message)
			require.Len(t, f.Also, 1)
			assert.Equal(
				t,
				fmt.Sprintf("swanctl.conf:%d what the far end offers", c.line),
				fmt.Sprintf("%s:%d %s", f.Also[0].File, f.Also[0].Line, f.Also[0].Note),
			)
		})
	}
	t.Run("nothing is weak", func(t *testing.T) {
		own, far := offering(t, strongIKE), offering(t, strongIKE)
		f := audit.Finding{}
		audit.Exposure(&f, &audit.Subject{End: own, Tunnel: &pair.Tunnel{Ends: []pair.End{own, far}}}, audit.Judged{})
		assert.Equal(t, audit.Finding{}, f)
	})
}
