// Package ike holds the checks of what protects the IKE SA itself.
package ike

import (
	"slices"

	algo "toril/ike"
)

// ikeTypes are the types of transform of an IKE SA: all but sequence numbers.
var ikeTypes = slices.DeleteFunc(slices.Clone(algo.TypesShown()), func(r algo.Registry) bool { return r == algo.Sequence })
