package formats_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/daemon"
	"toril/daemon/known"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/read/formats"
	"toril/read/readtest"
)

// values are texts of which each keyword takes one.
var values = strings.Fields("yes 1h 4 ike 10.1.0.0/16 psk secret tunnel start esp aes256-sha256-modp2048 aes256-sha256;modp2048 sha256 " +
	"allow always no 2 hold")

// around writes a file of a format in which one connection has a statement in a kind of section.
var around = map[string]func(path, statement string) string{
	"swanctl.conf": func(path, statement string) string {
		at := map[string]string{path: statement + "\n"}
		const cert = ".cert"
		return "connections {\n c {\n remote_addrs = 203.0.113.9\n" + at["connections.<conn>"] +
			" local {\n" + at["connections.<conn>.local"] + " cert {\n" + at["connections.<conn>.local"+cert] + "}\n }\n" +
			" remote {\n" + at["connections.<conn>.remote"] + " cert {\n" + at["connections.<conn>.remote"+cert] + "}\n }\n" +
			" children {\n k {\n" + at["connections.<conn>.children.<child>"] + " }\n }\n }\n}\n"
	},
	"ipsec.conf-strongswan": conn,
	"ipsec.conf-libreswan":  conn,
}

func conn(_, statement string) string {
	out := "conn c\n\t" + statement + "\n"
	for _, line := range []string{"left=192.0.2.1", "right=203.0.113.9", "auto=add"} {
		if key, _, _ := strings.Cut(line, "="); !strings.HasPrefix(statement, key+"=") {
			out += "\t" + line + "\n"
		}
	}
	return out
}

// TestEveryRowIsRead says every keyword that has a row, by each of its names: the reader knows what to do with it, so that nothing of it
// stays unread, and where it is a setting, that is said there.
func TestEveryRowIsRead(t *testing.T) {
	n := 0
	for _, f := range formats.All() {
		for _, s := range known.Writes(f.Name) {
			for i := range s.Keywords {
				for _, name := range s.Keywords[i].Names {
					n++
					assert.NoError(t, taken(t, f, s, &s.Keywords[i], name), "%s: %s %s", f.Name, s.Path, name)
				}
			}
		}
	}
	assert.Greater(t, n, 250)
}

// taken looks for a value with which the keyword is wholly understood.
func taken(t *testing.T, f *read.Format, s *daemon.Section, k *daemon.Keyword, name string) error {
	var why []string
	for _, value := range values {
		statement := name + s.Assigns + value
		text := around[f.Name](s.Path, statement)
		g := readtest.Read(f, f.Name, text, nil)
		require.NotEmpty(t, g.Files)
		connections := slices.Concat(g.Connections, g.Unloaded)
		if len(connections) != 1 {
			why = append(why, fmt.Sprintf("%d connections", len(connections)))
			continue
		}
		c := connections[0]
		unread := slices.DeleteFunc(slices.Clone(g.Files[0].Unread), func(u model.Unread) bool { return u.Doubt == nil })
		if c.Unusable != nil || len(unread) > 0 {
			why = append(why, fmt.Sprint(c.Unusable, unread))
			continue
		}
		if k.Sets != nil && len(c.Children) == 1 && !said(k, c) {
			why = append(why, value+" sets nothing")
			continue
		}
		return nil
	}
	return fmt.Errorf("%s", strings.Join(why, "\n"))
}

// said reports whether a file says the setting that a keyword is.
func said(k *daemon.Keyword, c *model.Connection) bool {
	v, ok := k.Sets.Get(settings.Subject{Connection: c, Child: c.Children[0]})
	return !ok || !v.Default
}
