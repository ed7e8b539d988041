package statements_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/syntax/statements"
)

// outline writes statements with those within them, a line each.
func outline(list []*statements.Statement, indent string) string {
	var b strings.Builder
	for _, st := range list {
		var words []string
		for _, w := range st.Words {
			words = append(words, w.Text)
		}
		fmt.Fprintf(&b, "%s%d %s\n%s", indent, st.Line, strings.Join(words, " "), outline(st.Nested, indent+"  "))
	}
	return b.String()
}

// TestClausesAreStatementsWithin: a statement is cut where a clause's word stands; its first word and quoted words begin none.
func TestClausesAreStatementsWithin(t *testing.T) {
	m := statements.Manner{Kind: statements.Lines, Quotes: `"`, Join: true, Clauses: []string{"from", "to", "peer"}}
	const text = "go a from b c \\\n  to d \"from\" to e\nfrom here to there\nplain words\nouter peer x\n  inner to y\n"
	list, bad := statements.Parse([]byte(text), m)
	assert.Empty(t, bad)
	assert.Equal(t, `1 go a
  1 from b c
  2 to d from
  2 to e
3 from here to there
4 plain words
5 outer
  5 peer x
  6 inner
    6 to y
`, outline(list, ""))
	first := list[0].Nested[1]
	assert.Equal(t, `to d "from"`, text[first.Start:first.End], "it knows its bytes")
	assert.Equal(t, "go a", text[list[0].Start:list[0].End])
}

// TestMacrosStandForWords: those that are known at the line; in others' values, in nested statements, not in quotation marks.
func TestMacrosStandForWords(t *testing.T) {
	m := statements.Manner{Kind: statements.Braces, Quotes: `"`, End: ";", Macros: "$", Comments: []string{"#"}}
	const text = `near = "10.1.0.0/16 10.2.0.0/16"; far = 10.3.0.0/16; both = $near $far x;
a { b $near; c "$near" $gone $later; }
later = y;
d $both $later;
e = $later z = w;
f $e;
`
	list, bad := statements.Parse([]byte(text), m)
	assert.Empty(t, bad)
	assert.Equal(t, `2 a
  2 b 10.1.0.0/16 10.2.0.0/16
  2 c $near $gone $later
4 d 10.1.0.0/16 10.2.0.0/16 10.3.0.0/16 x y
6 f y z = w
`, outline(list, ""))
	require.Len(t, list[1].Words, 6)
	w := list[1].Words[1]
	assert.Equal(t, "$both", text[w.Start:w.End], "the word is where the macro is used")
}

// TestMacrosAreBounded: what they stand for grows no further than a bound, and that is said once.
func TestMacrosAreBounded(t *testing.T) {
	m := statements.Manner{Kind: statements.Lines, Macros: "$"}
	var b strings.Builder
	b.WriteString("m0 = a b c d e f g h\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&b, "m%d = %s\n", i, strings.Repeat(fmt.Sprintf("$m%d ", i-1), 8))
	}
	list, bad := statements.Parse([]byte(b.String()+"go $m11\ngo $m11\n"), m)
	require.Len(t, bad, 1)
	assert.Contains(t, bad[0].Why, "macros stand for more than")
	require.Len(t, list, 2)
	n := 0
	for _, st := range list {
		n += len(st.Words)
	}
	assert.Less(t, n, 3<<20)
}

// TestShapesNeverLoseWords: every word of a text is in a statement, whatever is cut.
func TestShapesNeverLoseWords(t *testing.T) {
	for _, kind := range []statements.Kind{statements.Lines, statements.Paths, statements.Braces} {
		for _, text := range []string{"a from b to c", "from a", "a from", "from from from", "a b\n from c to\n"} {
			m := statements.Manner{Kind: kind, Clauses: []string{"from", "to"}}
			list, _ := statements.Parse([]byte(text), m)
			var count func(list []*statements.Statement) int
			count = func(list []*statements.Statement) (n int) {
				for _, st := range list {
					n += len(st.Words) + count(st.Nested)
				}
				return n
			}
			assert.Equal(t, len(strings.Fields(text)), count(list), "%s %q", kind, text)
		}
	}
}
