package negotiate_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/negotiate"
)

// TestPartlyUp: the words differ for an IKE SA without children and for one that lacks some of its children.
func TestPartlyUp(t *testing.T) {
	fails, comes := negotiate.Child{Outcome: negotiate.Fails}, negotiate.Child{Outcome: negotiate.Agrees}
	none := negotiate.Attempt{Outcome: negotiate.Partly, Children: []negotiate.Child{fails}}
	some := negotiate.Attempt{Outcome: negotiate.Partly, Children: []negotiate.Child{fails, comes}}
	assert.Equal(t, "the IKE SA comes up, and no child", none.PartlyUp())
	assert.Equal(t, "the IKE SA comes up, but not every child", some.PartlyUp())
}
