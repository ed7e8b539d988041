// Package domain holds the checks of encryption domains: which packets a child protects.
package domain

import (
	"toril/audit"
	"toril/ike"
)

func shunted(s *audit.Subject) bool {
	return s.Child.Mode.Value == ike.Pass || s.Child.Mode.Value == ike.Drop
}
