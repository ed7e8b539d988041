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

// ChangeText says since when a default is what it is; "" where it always was.
func ChangeText(d daemon.Default) string {
	if d.Before == nil {
		return ""
	}
	return "since " + d.Since + "; before: " + d.Before.Text()
}
