package source

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"toril/internal/lazy"
)

// Secret is a value that cannot be printed: every way of turning it into text gives Mask. A reader makes it as soon as
// it meets a key; only Reveal gives the value back, for judging its strength.
type Secret struct{ value *value } // a pointer: even where a field is not exported, printing shows no text

// value is what a secret says, and its fingerprint, once it was asked for.
type value struct {
	text  string
	once  sync.Once
	print [sha256.Size]byte
}

// NewSecret wraps a value.
func NewSecret(text string) Secret { return Secret{&value{text: text}} }

// Reveal returns the value. Nothing that it returns may reach an output.
func (s Secret) Reveal() string {
	if s.value == nil {
		return ""
	}
	return s.value.text
}

// IsZero reports whether there is no value.
func (s Secret) IsZero() bool { return s.Reveal() == "" }

// String returns the mask.
func (Secret) String() string { return Mask }

// GoString returns the mask.
func (Secret) GoString() string { return Mask }

// MarshalText returns the mask.
func (Secret) MarshalText() ([]byte, error) { return []byte(Mask), nil }

// MarshalJSON returns the mask as a JSON string.
func (Secret) MarshalJSON() ([]byte, error) { return []byte(`"` + Mask + `"`), nil }

// LogValue returns the mask.
func (Secret) LogValue() slog.Value { return slog.StringValue(Mask) }

// ownKey is of this process alone.
var ownKey = sync.OnceValue(func() *[32]byte {
	key := new([32]byte)
	rand.Read(key[:]) // never fails (crypto/rand)
	return key
})

var givenKey atomic.Pointer[[32]byte]

// KeyFingerprints has fingerprints made with a key that other runs share; it must come before the first of them. Whoever has the key and a
// fingerprint can try secrets against it, so both must be kept where only those come to them who have the secrets anyway.
func KeyFingerprints(key [32]byte) { givenKey.Store(&key) }

// Fingerprint returns a keyed digest by which equal secrets are known as equal. The key lives as long as this
// process, where KeyFingerprints gave none, so that a fingerprint says nothing about the secret to anybody else.
func (s Secret) Fingerprint() [32]byte {
	if s.value == nil {
		return printOf("")
	}
	s.value.once.Do(func() { s.value.print = printOf(s.value.text) })
	return s.value.print
}

func printOf(text string) [sha256.Size]byte {
	key := givenKey.Load()
	if key == nil {
		key = ownKey()
	}
	mac := hmac.New(sha256.New, key[:])
	mac.Write([]byte(text))
	return [sha256.Size]byte(mac.Sum(nil))
}

// Words behind which formats put secrets. What a reader understood is masked by value; this net is for lines that no
// reader understood.
var announced = lazy.Regexp(`(?i)((?:^|[\s{;,"'(-])["']?(?:` +
	`(?:secret|psk|pre-?shared-?key|passphrase|password|passwd|private-?key|auth-?key|enc-?key|key-?string|pin|token|community|key)(?:-?\d+)?["']?\s*[=:]\s*|` +
	`(?:secret|psk|pre-?shared-?key|passphrase|password|passwd|xauth|eap|ntlm|ppk|private-?key|key-?string)["']?\s+))` +
	`("(?:[^"\\]|\\.)*"?|'[^']*'?|[^\s{]+)`)

// announcing are parts of the words in announced, one of each.
var announcing = [...]string{"secret", "psk", "key", "pass", "pin", "token", "community", "xauth", "eap", "ntlm", "ppk"}

// beginning is, for each letter, a bit for each that one of those words has behind it at its beginning.
var beginning = sync.OnceValue(func() *['z' + 1]uint32 {
	var of ['z' + 1]uint32
	for _, w := range announcing {
		of[w[0]] |= 1 << (w[1] - 'a')
	}
	return &of
})

// announces reports whether a text may have one of those words, whatever its case: looking for them is cheaper than for the expression.
func announces(text string) bool {
	begins := beginning()
	for i := range len(text) - 1 {
		if text[i] >= utf8.RuneSelf { // some characters are another case of these letters
			return true
		}
		first, second := text[i]|0x20, text[i+1]|0x20-'a'
		if first <= 'z' && begins[first]>>second&1 == 1 && slices.ContainsFunc(announcing[:], func(w string) bool {
			return len(w) <= len(text)-i && strings.EqualFold(text[i:i+len(w)], w)
		}) {
			return true
		}
	}
	return false
}

// The words of algorithms and settings that follow such a word without being secret.
var notSecret = lazy.Regexp(`(?i)^["']?(?:yes|no|none|true|false|never|always|\d{1,5}[a-z]?|0x[0-9a-f]{1,8})["',;]*$`)

// redactAnnounced masks what follows a word that announces a secret. In JSON, what a member "key" says is none where it is a word of the
// formats: "key": "hour".
func (f *File) redactAnnounced(text string) string {
	if !announces(text) {
		return text
	}
	var out strings.Builder
	done := 0
	for _, at := range announced().FindAllStringSubmatchIndex(text, -1) {
		word, value := text[at[2]:at[3]], text[at[4]:at[5]]
		if inner := strings.Trim(value, `"}], `); f.manner != nil && strings.Contains(word, `"key":`) && f.manner.Words[inner] {
			continue
		}
		if strings.HasPrefix(value, Mask) || notSecret().MatchString(value) {
			continue
		}
		out.WriteString(text[done:at[4]] + Mask)
		done = at[4] + len(strings.TrimRight(value, ";,)}"))
	}
	out.WriteString(text[done:])
	return out.String()
}
