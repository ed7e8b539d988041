package formats_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/lab/cases"
	"toril/model"
	"toril/read"
	"toril/read/libreswan"
	"toril/read/readtest"
	"toril/read/strongswan"
)

// held is what Toril says that a daemon holds after a text of ipsec.conf.
func held(format *read.Format, text string) string {
	g := readtest.Read(format, "ipsec.conf", text, nil)
	if g.RefusedOf(format.Name) != nil {
		return "refused"
	}
	var out []string
	for _, c := range g.Connections {
		if c.Unusable == nil {
			out = append(out, c.Name+" "+first(c.LocalAddrs.Value)+"..."+first(c.RemoteAddrs.Value))
		}
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

func first(list []model.Address) string {
	if len(list) == 0 {
		return ""
	}
	return list[0].Text
}

// TestLexicalRulesOfIPsecConf: nothing that a daemon holds is hidden from Toril, and nothing is read that it does not hold (lab/formats
// asks both daemons).
func TestLexicalRulesOfIPsecConf(t *testing.T) {
	for _, c := range cases.IPsecConf {
		assert.Equal(t, c.Strongswan, held(strongswan.IPsecConf, c.Text), "strongSwan: %s", c.Name)
		if c.Libreswan != cases.Unasked {
			assert.Equal(t, c.Libreswan, held(libreswan.Format, c.Text), "Libreswan: %s", c.Name)
		}
	}
}
