package table_test

import (
	"errors"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon/strongswan"
	"toril/read/table"
	"toril/source"
)

// section is one of a swanctl.conf where the file says these values.
func section(path string, values ...*table.Value) *table.Section {
	return &table.Section{
		Values: values, Software: "strongSwan", Path: path,
		Defaults: table.By(strongswan.Known, "", "swanctl.conf", "connections.<conn>"),
	}
}

func TestADefaultIsReadOnceForAllFiles(t *testing.T) {
	var mu sync.Mutex
	asked := 0
	parse := func(text string) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		asked++
		return strings.ToUpper(text), nil
	}
	first := table.Take(section("one"), parse, "rekey_time")
	assert.Equal(t, "4H", first.Value)
	var all sync.WaitGroup
	for range 8 { // as gateways are read
		all.Go(func() { assert.Equal(t, "4H", table.Take(section("one"), parse, "rekey_time").Value) })
	}
	all.Wait()
	assert.Equal(t, 1, asked)
	assert.Equal(t, 4, table.Take(section("one"), func(string) (int, error) { return 4, nil }, "rekey_time").Value, "as something else")

	said := &table.Value{Key: "rekey_time", Text: "5m", At: source.Pos{File: "a", Line: 3}}
	assert.Equal(t, "5M", table.Take(section("one", said), parse, "rekey_time").Value)
	assert.Equal(t, "4H", table.Take(section("one"), parse, "rekey_time").Value, "what one file says is no default")
}

func TestADefaultIsOfItsSection(t *testing.T) {
	one, other := section("connections.<conn>"), section("somewhere")
	for range 2 {
		assert.Equal(t, "strongSwan default of connections.<conn>.mobike", one.Why("mobike"))
		assert.Equal(t, "strongSwan default of somewhere.mobike", other.Why("mobike"))
	}
	assert.PanicsWithValue(t, "no default of nothing", func() { one.Why("nothing") })
	assert.Panics(t, func() {
		table.Take(one, func(string) (bool, error) { return false, errors.New("no") }, "mobike")
	}, "a table that does not fit its reader")
}
