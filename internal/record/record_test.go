package record_test

import (
	"net/netip"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/record"
)

type leaf struct {
	Name string
	N    int16
}

type tree struct {
	Yes      bool
	Count    uint32
	Share    float64
	Print    [4]byte
	At       time.Time
	Addr     netip.Addr
	Leaves   []leaf
	Texts    []string
	More     *tree
	Nothing  *leaf
	Children []tree
	Data     []byte
	Own      [3]long
}

// long writes itself, in as many bytes as it says.
type long struct{ n int }

func (l long) MarshalBinary() ([]byte, error)           { return l.AppendBinary(nil) }
func (l long) AppendBinary(to []byte) ([]byte, error)   { return append(to, make([]byte, l.n)...), nil }
func (l *long) UnmarshalBinary(data []byte) (err error) { l.n = len(data); return nil }

func sample() tree {
	return tree{
		Yes: true, Count: 1 << 31, Share: -1.5, Print: [4]byte{1, 2, 3, 4}, At: time.Date(2026, 11, 27, 1, 2, 3, 4, time.UTC),
		Addr: netip.MustParseAddr("2001:db8::1"), Leaves: []leaf{{"a", -7}, {"", 300}}, Texts: []string{},
		More: &tree{At: time.Unix(0, 0).UTC()}, Children: []tree{{Count: 1, At: time.Unix(1, 0).UTC(), Data: []byte{}}},
		Data: []byte{0, 200, 255}, Own: [3]long{{127}, {128}, {300}},
	}
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	data := record.Append(nil, sample())
	var got tree
	require.NoError(t, record.Whole(data, &got))
	assert.Equal(t, sample(), got)
	assert.Nil(t, got.More.Texts, "nil stays apart from empty")
	assert.NotNil(t, got.Texts)

	two := record.Append(record.Append(nil, "a"), uint8(9))
	var text string
	var n uint8
	rest, err := record.Read(two, &text)
	require.NoError(t, err)
	require.NoError(t, record.Whole(rest, &n))
	assert.Equal(t, "a", text)
	assert.Equal(t, uint8(9), n)
}

// TestDataIsCopied: of what is read only texts are parts of the record.
func TestDataIsCopied(t *testing.T) {
	data := record.Append(nil, sample())
	var got tree
	require.NoError(t, record.Whole(data, &got))
	text := got.Leaves[0].Name
	assert.Equal(t, "a", text)
	clear(data)
	assert.Equal(t, sample().Data, got.Data)
	assert.Equal(t, sample().Print, got.Print)
}

func TestDamageIsSeen(t *testing.T) {
	data := record.Append(nil, sample())
	for cut := 0; cut < len(data); cut += 1 + cut/500 {
		var got tree
		assert.Error(t, record.Whole(data[:cut], &got), cut)
	}
	var got tree
	assert.ErrorIs(t, record.Whole(append(data, 0), &got), record.ErrDamaged, "something stands behind it")
	var small int8
	assert.ErrorIs(t, record.Whole(record.Append(nil, 300), &small), record.ErrDamaged)
}

// TestManyElements: a record may say that it has many, and has them, or takes no room for them.
func TestManyElements(t *testing.T) {
	many := make([]leaf, 1000)
	for i := range many {
		many[i] = leaf{string(rune('a' + i%26)), int16(i)}
	}
	data := record.Append(nil, many)
	var got []leaf
	require.NoError(t, record.Whole(data, &got))
	assert.Equal(t, many, got)

	claim := append([]byte{0xff, 0xff, 0x7f}, make([]byte, 1<<21)...) // two million, each with many of its own
	for i := 3; i < len(claim); i += 3 {
		copy(claim[i:], []byte{0xff, 0xff, 0x7f})
	}
	type nested struct {
		More []struct{ More []struct{ Room [64]uint64 } }
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	assert.ErrorIs(t, record.Whole(claim, &[]nested{}), record.ErrDamaged)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64<<20))
}

func TestTypesThatCannotBeWritten(t *testing.T) {
	assert.Panics(t, func() { record.Append(nil, struct{ own int }{1}) }, "a field would be lost")
	assert.Panics(t, func() { record.Append(nil, map[string]int{}) })
}

func FuzzRead(f *testing.F) {
	f.Add(record.Append(nil, sample()))
	f.Fuzz(func(t *testing.T, data []byte) {
		var got tree
		if record.Whole(data, &got) != nil {
			return
		}
		var again tree
		require.NoError(t, record.Whole(record.Append(nil, got), &again))
	})
}
