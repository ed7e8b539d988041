package estate

import (
	"net/netip"
	"strings"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"

	"toril/ike"
	"toril/model"
	"toril/source"
)

// some are facts whose texts are parts of a file.
func some(file string) *Facts {
	word := func(w string) string { at := strings.Index(file, w); return file[at : at+len(w)] }
	address := func(w string) model.Addresses {
		a := netip.MustParseAddr(w)
		return model.Addresses{{Text: word(w), Lo: a, Hi: a, Name: word("name")}}
	}
	selectors := func(w string) ike.Selectors {
		return append(make(ike.Selectors, 0, 8), ike.SelectPrefix(netip.MustParsePrefix(w)))
	}
	return &Facts{
		Name: word("headland"),
		Files: []File{{
			Path: word("swanctl.conf"), Format: "swanctl", Why: "it says so",
			Unread: []Unread{{At: source.Pos{File: word("swanctl.conf"), Line: 3}, Text: word("statement"), Why: word("why")}},
		}},
		Connections: []Connection{
			{
				Name: word("to-skerry"), Local: address("192.0.2.1"), Remote: address("198.51.100.7"),
				Shows: ike.FQDN(word("headland")),
				Children: []Child{
					{word("lan"), selectors("10.1.0.0/16"), selectors("10.2.0.0/16"), false},
					{word("voice"), selectors("10.3.0.0/16"), nil, true},
				},
			},
			{Name: word("empty")},
		},
		Unloaded: []Connection{{Name: word("never"), Expects: ike.FQDN(word("name"))}},
	}
}

const inFile = "headland swanctl.conf statement why to-skerry 192.0.2.1 198.51.100.7 lan voice empty never name"

// TestFactsLieTogether: what is kept of a gateway says the same when it is laid out, and is no part of a file any more.
func TestFactsLieTogether(t *testing.T) {
	file := strings.Clone(inFile)
	f := some(file)
	f.tight()
	assert.Equal(t, some(inFile), f)
	first, size := uintptr(unsafe.Pointer(unsafe.StringData(f.Name))), 0
	f.texts(func(text *string) { size += len(*text) })
	from, to := uintptr(unsafe.Pointer(unsafe.StringData(file))), uintptr(len(file))
	f.texts(func(text *string) {
		if *text == "" {
			return
		}
		at := uintptr(unsafe.Pointer(unsafe.StringData(*text)))
		assert.Less(t, at-first, uintptr(size), "%q lies with the others", *text)
		assert.GreaterOrEqual(t, at-from, to, "%q is a part of the file", *text)
	})
	one := f.Connections[0]
	assert.Equal(t,
		unsafe.Pointer(uintptr(unsafe.Pointer(&one.Children[0].Local[0]))+unsafe.Sizeof(ike.Selector{})),
		unsafe.Pointer(&one.Children[0].Remote[0]), "selectors lie behind each other")
	for _, room := range []int{cap(one.Local), cap(one.Remote), cap(one.Children[0].Local)} {
		assert.Equal(t, 1, room, "whoever appends to it overwrites nothing of another")
	}
}
