package strongswan_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/lab/cases"
	"toril/read/readtest"
	"toril/read/strongswan"
)

// understood is what Toril makes of a text: the connections that it says the daemon holds.
func understood(text string) string {
	g := readtest.Read(strongswan.Swanctl, "swanctl.conf", text, nil)
	var out []string
	for _, c := range g.Connections {
		if c.Unusable != nil {
			continue
		}
		var kids []string
		for _, k := range c.Children {
			kids = append(kids, k.Name)
		}
		slices.Sort(kids)
		out = append(
			out,
			fmt.Sprintf(
				"%s %v [%s]",
				c.Name,
				strings.Replace(c.Version.Value.String(), "IKEv1 or IKEv2", "IKEv1/2", 1),
				strings.Join(kids, " "),
			),
		)
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// TestLexicalRules: nothing that the daemon holds is hidden from Toril, and nothing is read that the daemon does not hold
// (lab/negotiation asks the daemon).
func TestLexicalRules(t *testing.T) {
	for _, c := range cases.Lexical {
		assert.Equal(t, c.Want, understood(c.Text), "%s\n%s", c.Name, c.Text)
	}
}
