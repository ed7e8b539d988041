package report

import "toril/daemon"

// Changes are the defaults of which versions differ.
func Changes(k *daemon.Known) []daemon.Default {
	var out []daemon.Default
	for _, d := range k.In("") {
		if d.Before != nil {
			out = append(out, d)
		}
	}
	return out
}
