// Package route holds the checks of routes where they meet tunnels.
package route

import (
	"toril/audit"
	"toril/gateway"
)

// tunnelInterface is the interface of a route-based child; nil where the files do not tell.
func tunnelInterface(s *audit.Subject) *gateway.Interface {
	for _, i := range s.Gateway.Interfaces {
		if i.Kind == "xfrm" && i.IfID == s.Child.IfIDOut.Value {
			return i
		}
	}
	return nil
}
