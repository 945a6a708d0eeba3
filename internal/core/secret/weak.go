package secret

import (
	"fmt"
	"math"
	"strings"

	"github.com/trustelem/zxcvbn"
)

// leastBits is what a value must have: what is easier to guess may stand
// anywhere without being the secret.
const leastBits = 40

// Weak says of a value why its mere text proves nothing: that it is short, a
// word, a name, or easily guessed. "" for a value that stands nowhere by
// chance. names are those of accounts and systems around.
func Weak(v Value, names ...string) string {
	text := v.RevealString()
	if len(text) < 8 {
		return "it is shorter than eight characters"
	}
	for _, name := range names {
		if strings.EqualFold(text, name) {
			return "it is a name"
		}
	}
	if len(text) <= 64 && bitsOf(text, names) < leastBits {
		return "it is a word, or easily guessed"
	}
	return ""
}

// Guessable says of a value that a person made why it is no password of a program: "" when
// it would take as many guesses as bits says. Words, names, well-known passwords, rows of
// keys and dates count for little.
func Guessable(v Value, bits int, names ...string) string {
	text := v.RevealString()
	folded := strings.ToLower(text)
	for _, name := range names {
		if len(name) >= 3 && strings.Contains(folded, strings.ToLower(name)) {
			return "a name stands in it"
		}
	}
	// A beginning that is hard enough is enough, and quick to judge: more makes it no easier.
	got := 0
	for _, n := range []int{16, 28, 64} {
		if got = int(bitsOf(text[:min(n, len(text))], names)); got >= bits {
			return ""
		}
	}
	return fmt.Sprintf("it has about %d bits, and %d are needed", got, bits)
}

// bitsOf estimates how hard a text is to guess. Where words, names, rows of keys,
// dates or repetitions make up half of it, it is as hard as those; else each
// character counts by the kinds of characters that are used.
func bitsOf(text string, names []string) float64 {
	known := 0
	estimate := zxcvbn.PasswordStrength(text, names)
	for _, m := range estimate.Sequence {
		if m.Pattern != "bruteforce" {
			known += len(m.Token)
		}
	}
	if known*2 >= len(text) {
		return math.Log2(estimate.Guesses)
	}
	kinds := 0.0
	for _, class := range []struct {
		letters string
		size    float64
	}{{"abcdefghijklmnopqrstuvwxyz", 26}, {"ABCDEFGHIJKLMNOPQRSTUVWXYZ", 26}, {"0123456789", 10}, {"!\"#$%&'()*+,-./:;<=>?@[\\]^_`{|}~ ", 33}} {
		if strings.ContainsAny(text, class.letters) {
			kinds += class.size
		}
	}
	return float64(len(text)-known) * math.Log2(max(kinds, 26))
}
