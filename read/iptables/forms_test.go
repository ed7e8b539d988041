package iptables

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/readtest"
)

// TestEveryOption reads every option of every module and target by itself, as several modules have options of one name: whatever it
// means, a rule comes of it, and where nothing was refused, a module outside the model leaves a doubt.
func TestEveryOption(t *testing.T) {
	for owner, options := range forms() {
		for option, form := range options {
			line := "-A INPUT -p tcp -m " + owner + " " + option + strings.Repeat(" 1", len(form)) + " -j ACCEPT"
			if strings.ToUpper(owner[:1]) == owner[:1] {
				line = "-A INPUT -j " + owner + " " + option + strings.Repeat(" 1", len(form))
			}
			assert.NotPanics(t, func() {
				g := readtest.Read(Save, "a.rules", "*filter\n"+line+"\nCOMMIT\n", nil)
				if modules()[owner] && len(g.Refused) == 0 {
					assert.NotEmpty(t, g.Chains[0].Rules[0].Doubts, line)
				}
			}, line)
		}
	}
}
