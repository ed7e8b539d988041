package report

import (
	"toril/negotiate"
	"toril/present"
)

// Later says when the other end would renew keys, where that is another time; "" where it is not.
func Later(r negotiate.Rekey) string {
	switch {
	case r.LaterBy == "" || r.Later == r.After:
		return ""
	case r.Later == 0:
		return "; " + r.LaterBy + " never does of itself"
	}
	return "; " + r.LaterBy + " would after " + present.Span(r.Later)
}
