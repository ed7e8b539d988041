package phrasebook_test

import (
	"context"
	"fmt"
	"os"
	"testing"

	"toril/read/phrasebook"
	"toril/read/readtest"
)

func TestZZ(t *testing.T) {
	for _, n := range []string{"wharfgate fogbank/fogbank.wharfgate", "tidewheel breakwater/breakwater.tidewheel", "orrery almanac/almanac.orrery.xml"} {
		var book, file string
		fmt.Sscan(n, &book, &file)
		text, err := os.ReadFile("../../demo/estate/phrasebooks/" + book + ".yaml")
		if err != nil {
			continue
		}
		b, err := phrasebook.Load(book, text)
		if err != nil {
			t.Log(err)
			continue
		}
		for _, d := range b.Test(context.Background()) {
			t.Log(d)
		}
		conf, err := os.ReadFile("../../demo/estate/" + file)
		if err != nil {
			continue
		}
		g := readtest.Read(b.Format(), file, string(conf), nil)
		for _, u := range readtest.Unread(g) {
			t.Log(u)
		}
		for _, p := range g.Problems {
			t.Log(p)
		}
		t.Log(readtest.Rules(g))
		for _, c := range g.Connections {
			t.Log(c.Name, c.LocalAddrs.Value, c.RemoteAddrs.Value, c.Unsure, c.Proposals.Value)
			for _, k := range c.Children {
				t.Log(k.Name, k.Local.Value, k.Remote.Value, k.Unsure, k.Proposals.Value, k.IfIDIn.Value)
			}
		}
	}
}
