package strength

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBits(t *testing.T) {
	names := []string{"lampwright", "buoyyard"}
	for _, c := range []struct {
		secret      string
		least, most float64
	}{
		{"", 0, 0},
		{"password", 0, 3},
		{"sunshine1", 0, 12},
		{"P@ssw0rd", 2, 8},
		{"drowssap", 1, 5},
		{"lampwright2019", 7, 10},
		{"Lampwright", 1, 2},
		{"qwertyuiop", 0, 10},
		{"abcdefghijkl", 4, 7},
		{"aaaaaaaaaaaaaaaaaaaaaaaa", 4, 10},
		{"tunneltunneltunnel", 8, 16},
		{"24121998", 10, 17},
		{"correcthorsebatterystaple", 30, 62},
		{"4f9a03c17be25d8860a1b3c4d5e6f708192a3b4c5d6e7f80", 150, 192},
		{"kX9vQ2mLrT8wZp4NcB6yHs3JdF7gAe5U", 150, 191},
		{"mF3vT9qLx2wR8sKzP5nB", 90, 120},
	} {
		got := NewNames(names).Bits(c.secret)
		assert.GreaterOrEqual(t, got, c.least, c.secret)
		assert.LessOrEqual(t, got, c.most, c.secret)
	}
	assert.Less(t, NewNames(names).Bits("Buoyyard"), NewNames(nil).Bits("Buoyyard"), "a name that is known is worth less")
	assert.Greater(t, len(common().lines), 50_000)
}

func TestEveryWordIsFound(t *testing.T) {
	none := NewNames(nil)
	d, last := common(), ""
	assert.Equal(t, len(d.lines), len(d.ranks))
	for at, rank := range d.ranks {
		word := d.word(at)
		if word <= last || rank == 0 {
			t.Fatalf("%q has rank %d and stands behind %q", word, rank, last)
		}
		if last = word; len(word) < shortest || len(word) > longest {
			continue
		}
		got := 0
		none.heads([]rune(word+"\x00"), func(length, rank int) {
			if length == len(word) {
				got = rank
			}
		})
		if got != int(rank) {
			t.Fatalf("%q: %d and not %d", word, got, rank)
		}
	}
	found := func(text string) map[int]int {
		out := map[int]int{}
		NewNames([]string{"Zürich", "pass"}).heads([]rune(text), func(length, rank int) { out[length] = rank })
		return out
	}
	assert.Equal(t, 1, found("zürichsee")[6], "a name")
	assert.Equal(t, 2, found("passworx")[4], "a name that is a common word is tried as a name")
	assert.Zero(t, found("passworx")[8])
}

func TestANameThatMakesUpASecret(t *testing.T) {
	n := NewNames([]string{"Buoyyard", "lamp", "abc"})
	assert.True(t, n.MostOf("xBUOYYARD12", 4))
	assert.True(t, n.MostOf("lamp123", 4))
	assert.False(t, n.MostOf("lamp1234", 4), "half of it is not most of it")
	assert.False(t, n.MostOf("abc", 4), "the name is too short")
	assert.False(t, n.MostOf("", 4))
}

func TestLongSecretsCostLittle(t *testing.T) {
	assert.Greater(t, NewNames(nil).Bits(strings.Repeat("aZ3$x", 40)), 10.0)
}

func FuzzBits(f *testing.F) {
	for _, s := range []string{"password", "ǅ1234", "\xff\xfe", "11112222", "aA1!"} {
		f.Add(s)
	}
	name := NewNames([]string{"name"})
	f.Fuzz(func(t *testing.T, s string) {
		if len(s) > 200 {
			return
		}
		if bits := name.Bits(s); bits < 0 || bits != bits {
			t.Errorf("%q: %v", s, bits)
		}
	})
}

// TestWhereNamesDoNotMatter: there a secret is worth the same without them; where one stands in it, in any way of writing, they do.
func TestWhereNamesDoNotMatter(t *testing.T) {
	names, none := NewNames([]string{"lampwright", "buoyyard", "Kiosk-7", "abc"}), NewNames(nil)
	for _, secret := range []string{"xLampwright9", "thgirwpmal", "l4mpwr1ght", "7-k5o1k", "zzABCzz", "8uoyyard"} {
		assert.True(t, names.Matter(secret), secret)
	}
	r, without := rand.New(rand.NewPCG(20261128, 9)), 0
	for range 2000 {
		var b strings.Builder
		for range 1 + r.IntN(40) {
			b.WriteByte("abcdef0123456789lipwrght!ü"[r.IntN(26)])
		}
		if secret := b.String(); !names.Matter(secret) {
			without++
			assert.Equal(t, none.Bits(secret), names.Bits(secret), secret)
		}
	}
	assert.Greater(t, without, 200)
}
