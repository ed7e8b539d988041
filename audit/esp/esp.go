// Package esp holds the checks of what protects the packets: the ESP or AH of a child SA.
package esp

import (
	"toril/audit"
	"toril/gateway"
	"toril/ike"
)

// shunted reports whether a child protects nothing by intent.
func shunted(s *audit.Subject) bool {
	return s.Child.Mode.Value == ike.Pass || s.Child.Mode.Value == ike.Drop
}

func byDefault[T any](s gateway.Setting[T]) string {
	if s.IsDefault() {
		return ", by default: nothing is written"
	}
	return ""
}

// hides reports whether a cipher hides anything.
func hides(c ike.Choice) bool { return c.Bits > 0 }
