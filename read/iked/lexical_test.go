package iked_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/lab/cases"
	"toril/model"
	"toril/read/iked"
	"toril/read/readtest"
)

// TestLexicalRules: nothing that the daemon holds is hidden from Toril, and nothing is read that it does not hold (lab/formats asks it).
func TestLexicalRules(t *testing.T) {
	for _, c := range cases.Policies {
		assert.Equal(t, c.Want, policies(c.Text), "%s\n%s", c.Name, c.Text)
	}
}

func policies(text string) string {
	g := readtest.Read(iked.Format, "iked.conf", text, nil)
	if g.RefusedOf(iked.Format.Name) != nil {
		return "refused"
	}
	var out []string
	for _, c := range g.Connections {
		begins := "passive"
		if c.Children[0].Start.Value == model.StartBoot {
			begins = "active"
		}
		out = append(out, c.Name+" "+begins+" "+c.RemoteAddrs.Value[0].Text)
	}
	return strings.Join(out, "; ")
}
