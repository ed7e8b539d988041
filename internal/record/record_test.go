package record_test

import (
	"net/netip"
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
}

func sample() tree {
	return tree{
		Yes: true, Count: 1 << 31, Share: -1.5, Print: [4]byte{1, 2, 3, 4}, At: time.Date(2026, 11, 27, 1, 2, 3, 4, time.UTC),
		Addr: netip.MustParseAddr("2001:db8::1"), Leaves: []leaf{{"a", -7}, {"", 300}}, Texts: []string{},
		More: &tree{At: time.Unix(0, 0).UTC()}, Children: []tree{{Count: 1, At: time.Unix(1, 0).UTC()}},
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

func TestDamageIsSeen(t *testing.T) {
	data := record.Append(nil, sample())
	for cut := range data {
		var got tree
		assert.Error(t, record.Whole(data[:cut], &got), cut)
	}
	var got tree
	assert.ErrorIs(t, record.Whole(append(data, 0), &got), record.ErrDamaged, "something stands behind it")
	var small int8
	assert.ErrorIs(t, record.Whole(record.Append(nil, 300), &small), record.ErrDamaged)
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
