package estate

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestExceptionsAreReadStrictly(t *testing.T) {
	good := "exceptions:\n  - check: ike/version-1\n    gateway: g\n    reason: r\n    owner: o\n    until: 2027-05-31\n" +
		"  - findings: [0123456789abcdef]\n    reason: r2\n    owner: o2\n    until: 2027-06-30\n"
	xs, err := ParseExceptions("x.yaml", []byte(good))
	require.NoError(t, err)
	require.Len(t, xs, 2)
	assert.Equal(t, "x.yaml:2", xs[0].At.String())
	assert.Equal(t, []string{"0123456789abcdef"}, xs[1].Findings)
	day := func(text string) time.Time {
		d, err := time.Parse(time.DateTime, text)
		require.NoError(t, err)
		return d
	}
	assert.False(t, xs[0].Expired(day("2027-05-31 23:59:59")), "the last day counts")
	assert.True(t, xs[0].Expired(day("2027-06-01 00:00:00")))
	for text, want := range map[string]string{
		"exceptions:\n  - {check: a/b, owner: o, until: 2027-01-01}\n":                                          "x.yaml:2: exception: reason is required",
		"exceptions:\n  - {check: a/b, reason: r, until: 2027-01-01}\n":                                         "owner is required",
		"exceptions:\n  - {check: a/b, reason: r, owner: o}\n":                                                  "until is required",
		"exceptions:\n  - {reason: r, owner: o, until: 2027-01-01}\n":                                           "never for everything",
		"exceptions:\n  - {check: a/b, reason: r, owner: o, until: soon}\n":                                     `"soon" is not a day`,
		"exceptions:\n  - {findings: [12], reason: r, owner: o, until: 2027-01-01}\n":                           "16 hexadecimal digits",
		"exceptions:\n  - {chekc: a/b, reason: r, owner: o, until: 2027-01-01}\n":                               `did you mean "check"`,
		"exceptions:\n  - {check: a/b, gateway: g, reason: \"  \", owner: o, until: 2027-01-01}\n# more here\n": "reason is required",
	} {
		_, err := ParseExceptions("x.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

// TestAddingAnExceptionChangesNothingElse: whatever stands in the file stays, byte for byte, and the file has one exception more.
func TestAddingAnExceptionChangesNothingElse(t *testing.T) {
	x := ExceptionText{Check: "ike/version-1", Gateway: "g", Reason: "it: is \"so\" # no", Owner: "Ada", Until: "2027-05-31"}
	one := "  - check: a/b\n    reason: r\n    owner: o\n    until: 2027-01-01\n"
	for name, text := range map[string]string{
		"empty":          "",
		"other keys":     "# head\nformats:\n  \"*.txt\": skip # why\n",
		"no line end":    "formats:\n  \"*.txt\": skip",
		"one":            "exceptions:\n" + one,
		"indented less":  "exceptions:\n- check: a/b\n  reason: r\n  owner: o\n  until: 2027-01-01\n",
		"in the middle":  "# head\nexceptions: # why\n" + one + "\n# about versions\nversions:\n  g: strongSwan 5.9.8\n",
		"comment behind": "exceptions:\n" + one + "    # a last word\n# and more\n",
		"two":            "exceptions:\n" + one + one,
		"none yet":       "exceptions: []\nformats: {}\n",
		"null":           "exceptions:\n",
		"carriage":       "versions:\n  g: strongSwan 5.9.8\n\n\n",
	} {
		out, err := AddException("toril.yaml", []byte(text), x)
		require.NoError(t, err, name)
		before := 0
		if xs, err := parsed(text); err == nil {
			before = len(xs)
		}
		xs, err := parsed(string(out))
		require.NoError(t, err, "%s\n%s", name, out)
		require.Len(t, xs, before+1, "%s\n%s", name, out)
		last := xs[len(xs)-1]
		assert.Equal(t, x.Reason, last.Reason, name)
		assert.Equal(t, "Ada", last.Owner)
		rest := string(out)
		for line := range strings.Lines(text) {
			line = strings.TrimSuffix(strings.Replace(line, " []", "", 1), "\n")
			i := strings.Index(rest, line)
			require.GreaterOrEqual(t, i, 0, "%s: %q is gone or moved:\n%s", name, line, out)
			rest = rest[i+len(line):]
		}
		again, err := AddException("toril.yaml", out, x)
		require.NoError(t, err, name)
		assert.Greater(t, len(again), len(out), "a second one goes behind the first")
	}
	for text, want := range map[string]string{
		"exceptions: [{check: a/b, reason: r, owner: o, until: 2027-01-01}]\n": "toril.yaml:1: exceptions are written in one line",
		"exceptions: {a: b\n": "",
		"a: [\n":              "cannot be read as YAML",
	} {
		_, err := AddException("toril.yaml", []byte(text), x)
		assert.ErrorContains(t, err, want, text)
	}
	x.Owner = ""
	_, err := AddException("toril.yaml", nil, x)
	assert.ErrorContains(t, err, "owner is required")
}

func parsed(text string) ([]*Exception, error) {
	c, err := ParseConfig("toril.yaml", []byte(text), nil, func(string) ([]byte, error) { return nil, os.ErrNotExist })
	if err != nil {
		return nil, err
	}
	return c.Exceptions, nil
}

func FuzzAddException(f *testing.F) {
	f.Add("exceptions:\n  - check: a/b\n    reason: r\n    owner: o\n    until: 2027-01-01\n", "r", "o")
	f.Add("a: b\n# c\nexceptions:\n- {}\n", "\"", "# :")
	f.Fuzz(func(t *testing.T, text, reason, owner string) {
		out, err := AddException("toril.yaml", []byte(text), ExceptionText{Check: "a/b", Reason: reason, Owner: owner, Until: "2027-05-31"})
		if err != nil {
			return
		}
		xs, err := ParseExceptions("toril.yaml", out)
		if err != nil {
			return // the file has other keys, or mistakes of its own
		}
		if last := xs[len(xs)-1]; last.Reason != reason || last.Owner != owner {
			t.Errorf("%q by %q became %q by %q", reason, owner, last.Reason, last.Owner)
		}
	})
}
