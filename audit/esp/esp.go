// Package esp holds the checks of what protects the packets: the ESP or AH of a child SA.
package esp

import (
	"toril/ike"
)

// hides reports whether a cipher hides anything.
func hides(c ike.Choice) bool { return c.Bits > 0 }
