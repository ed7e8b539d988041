package strength

import (
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/trustelem/zxcvbn"
)

// peoplesSecrets are secrets as people make them: words, quotations, rows of the keyboard, dates, repetitions, and how they change them.
func peoplesSecrets(n int) []string {
	words := strings.Fields("summer winter spring tunnel office branch london berlin secret password dragon monkey football welcome " +
		"shadow master sunshine princess charlie thomas michael network firewall harbour company internet security vpn gateway server " +
		"coffee orange purple silver golden tiger eagle mountain river bridge castle garden window kitchen letter market")
	walks := strings.Fields("qwertyuiop asdfghjkl zxcvbnm 1qaz2wsx3edc4rfv qazwsxedcrfvtgb zaq12wsx 1q2w3e4r5t6y qweasdzxc poiuytrewq " +
		"!qaz@wsx#edc 0okm9ijn8uhb asdfjkl; qwerty123456 zxcvbnm,./ 1234qwerasdfzxcv")
	quotes := []string{
		"to be or not to be that is the question", "the quick brown fox jumps over the lazy dog", "may the force be with you",
		"all work and no play makes jack a dull boy", "in the beginning was the word", "houston we have a problem",
		"i think therefore i am", "once upon a time", "an apple a day keeps the doctor away", "we the people of the united states",
		"let it be let it be let it be", "elementary my dear watson", "winter is coming", "hello darkness my old friend",
	}
	r := rand.New(rand.NewPCG(20261201, 5))
	pick := func(from []string) string { return from[r.IntN(len(from))] }
	year := func() string { return fmt.Sprint(1950 + r.IntN(80)) }
	date := func() string {
		form := []string{"%02d%02d%d", "%02d.%02d.%d", "%02d-%02d-%d", "%02d/%02d/%d"}[r.IntN(4)]
		return fmt.Sprintf(form, 1+r.IntN(28), 1+r.IntN(12), 1950+r.IntN(80))
	}
	upper := func(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
	signs := strings.NewReplacer("a", "@", "e", "3", "o", "0", "i", "1", "s", "$")
	makers := []func() string{
		func() string { return pick(words) + pick(words) + pick(words) + year() },
		func() string {
			return strings.Join([]string{pick(words), pick(words), pick(words), pick(words)}, pick([]string{" ", "-", "_", "."}))
		},
		func() string { return signs.Replace(pick(words)+pick(words)) + year() + "!" },
		func() string { return pick(walks) + pick(walks) },
		func() string { return strings.Repeat(pick(words)+fmt.Sprint(r.IntN(100)), 3) },
		func() string { return date() + date() + date() },
		func() string { return pick(quotes) },
		func() string { return strings.ReplaceAll(pick(quotes), " ", pick([]string{"", "-", "_"})) },
		func() string { return strings.ToUpper(pick(words)) + pick(walks) + year() },
		func() string { return pick(words) + date() + pick(words) },
		func() string {
			return strings.Repeat(string(rune('a'+r.IntN(26))), 10) + strings.Repeat(fmt.Sprint(r.IntN(10)), 12)
		},
		func() string {
			s := fmt.Sprintf("%c%c%c%d", 'a'+r.IntN(26), 'A'+r.IntN(26), 'a'+r.IntN(26), r.IntN(10))
			return strings.Repeat(s, 6)
		},
		func() string { return upper(pick(words)) + upper(pick(words)) + "123456789!" },
		func() string { return "abcdefghijklmnopqrstuvwxyz"[r.IntN(5):20] + "0123456789" },
		func() string { w := pick(words); return w + w + w + w },
		func() string { return pick(words) + "@" + pick(words) + "." + pick(words) + year() + year() },
		func() string { return "Password" + year() + pick(words) + "!!!!!!!!" },
		func() string {
			return fmt.Sprintf("%d.%d.%d.%d-%d.%d.%d.%d", 10, r.IntN(256), r.IntN(256), 1, 192, 168, r.IntN(256), 1)
		},
	}
	var out []string
	for i := range n {
		out = append(out, makers[i%len(makers)]())
	}
	return out
}

// TestBesideAnotherEstimator: no secret that a general-purpose estimator takes for worth less than 70 bits is worth as much here as a key
// has to be; and keys drawn at random are.
func TestBesideAnotherEstimator(t *testing.T) {
	none := NewNames(nil)
	for _, s := range peoplesSecrets(340) {
		if other := math.Log2(zxcvbn.PasswordStrength(s, nil).Guesses); other < 70 {
			assert.Less(t, none.Bits(s), 80.0, "%q, worth %.0f elsewhere", s, other)
		}
	}
	r := rand.New(rand.NewPCG(20261201, 6))
	bytes := func(n int) []byte {
		out := make([]byte, n)
		for i := range out {
			out[i] = byte(r.Uint32())
		}
		return out
	}
	from := func(alphabet string, n int) string {
		var b strings.Builder
		for range n {
			b.WriteByte(alphabet[r.IntN(len(alphabet))])
		}
		return b.String()
	}
	short := 0
	const letters = "abcdefghijklmnopqrstuvwxyz"
	for range 2000 {
		for _, s := range []string{
			base64.StdEncoding.EncodeToString(bytes(33)), base64.StdEncoding.EncodeToString(bytes(18)), hex.EncodeToString(bytes(16)),
			from(letters+strings.ToUpper(letters)+"0123456789", 20),
		} {
			bits := none.Bits(s)
			if assert.Greater(t, bits, 70.0, s); bits < 80 {
				short++
			}
		}
	}
	assert.LessOrEqual(t, short, 8, "of 8000: now and then there are words in what is drawn at random")
}

// TestWhatPeopleWrite: words of other languages, sentences, addresses, and what is only written otherwise, are worth what they are.
func TestWhatPeopleWrite(t *testing.T) {
	sum := md5.Sum([]byte("password"))
	for secret, most := range map[string]float64{
		"Sonnenblumenkernbrot und Butter": 80, "liberteegalitefraternite": 70, "donaudampfschifffahrtskapitaen": 80,
		"el perro de san roque no tiene rabo": 75, "this is the pre-shared key for the branch office tunnel": 75,
		hex.EncodeToString(sum[:]): 10, base64.StdEncoding.EncodeToString([]byte("correct horse battery")): 50,
		hex.EncodeToString([]byte("correct horse battery")): 50, "10.55.26.1-192.168.30.1": 60, "00:1a:2b:3c:4d:5e 00:1a:2b:3c:4d:5f": 70,
		"21.05.1988-04/11/1981-2001-01-13": 80, "let it be let it be let it be": 50, "v+NkxY9LLZvwj4qCC2o/gGrWDF2d21jL": 2,
		"secret shared by two hosts": 2, "\x45\xa3\x07\x59\xdf\x97\xdc\x26\xa1\x5b\x88\xff": 2,
	} {
		assert.LessOrEqual(t, NewNames(nil).Bits(secret), most, "%q", secret)
	}
}
