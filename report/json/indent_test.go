package json

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestValuesAreLaidOutAsTheStandardDoes(t *testing.T) {
	deep := strings.Repeat("[", 30) + "1" + strings.Repeat("]", 30)
	for _, compact := range []string{
		`""`, `1`, `null`, `{}`, `[]`, `[[],{},[{}]]`, `{"a":[],"b":{}}`, `[1,-2.5,true,null]`,
		`{"a":"{[,:]}","b\"":"\\","c\\\"":"\\\\\" \"","d":["",",\\"]}`, deep, `{"x":` + deep + `}`,
	} {
		for _, before := range []string{"", "    "} {
			var want bytes.Buffer
			require.NoError(t, json.Indent(&want, []byte(compact), before, "  "))
			assert.Equal(t, want.String(), string(indented(nil, []byte(compact), before)), compact)
		}
	}
}

func TestTextsAreEncodedAsTheStandardDoes(t *testing.T) {
	all := []string{"", "\"\\/\b\f\n\r\t\x00\x1f\x7f", "<>&", "größe 漢字 \u2028\u2029\ufeff\u202e", "no UTF-8: \xff\xc3(\xed\xa0\x80", "🔑"}
	var want bytes.Buffer
	e := json.NewEncoder(&want)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	require.NoError(t, e.Encode(map[string][]string{"z": all, "a\"": nil, "größe": {}}))
	var got bytes.Buffer
	require.NoError(t, encode(&got, map[string][]string{"z": all, "a\"": nil, "größe": {}}))
	assert.Equal(t, want.String(), got.String())
}

func TestWhatCannotBeEncodedIsAnError(t *testing.T) {
	odd := struct {
		Text string
		C    chan int
	}{Text: "text"}
	var out bytes.Buffer
	assert.Error(t, encode(&out, odd))
	assert.Error(t, encode(&out, []any{"a", map[string]any{"b": odd}}))
	assert.Empty(t, out.String())
}

func TestLongListsComeInTheirOrder(t *testing.T) {
	type lists struct {
		Before int      `json:"before"`
		All    []int    `json:"all"`
		Behind int      `json:"behind"`
		Texts  []string `json:"texts"`
	}
	none := lists{1, []int{}, 2, []string{}}
	number := func(i int, into *int) { *into = i }
	squares := func(i int, into *string) { *into = fmt.Sprint("\"all\": [] ", i*i) }
	for _, n := range []int{0, 1, perShare, perShare + 1, 9 * perShare} {
		whole := lists{1, make([]int, n), 2, make([]string, 2*n)}
		for i := range whole.Texts {
			squares(i, &whole.Texts[i])
		}
		for i := range n {
			whole.All[i] = i
		}
		var want, got bytes.Buffer
		require.NoError(t, encode(&want, whole))
		require.NoError(t, encodeWith(&got, none, listOf("all", n, number), listOf("texts", 2*n, squares)))
		assert.Equal(t, want.String(), got.String(), "%d elements", n)
	}
	assert.Error(t, encodeWith(&bytes.Buffer{}, none, listOf("none", 0, number)), "there is no such list")
	full := errors.New("full")
	assert.ErrorIs(t, encodeWith(failing{full}, none, listOf("all", 90*perShare, number)), full)
}

type failing struct{ error }

func (f failing) Write([]byte) (int, error) { return 0, f.error }
