package secret

import (
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
)

// Character classes of generated values. Symbols holds only characters that
// every format and shell quoting rule this product edits can carry unescaped,
// and that need no percent-encoding in a URL (RFC 3986, section 2.3).
const (
	Lower   = "abcdefghijkmnopqrstuvwxyz"
	Upper   = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	Digits  = "23456789"
	Symbols = "-_.~"
)

// Policy says what a generated value looks like. The zero Policy is replaced
// by DefaultPolicy in Generate.
type Policy struct {
	Length    int      // characters; 12 to 256
	Classes   []string // at least one character of each is used
	Forbidden string   // characters that some holder cannot carry
	Avoid     []string // words of three or more characters that must not appear, in any letter case (a directory's complexity rule: account and display name)
}

// DefaultPolicy gives 32 characters of four classes, about 185 bits.
func DefaultPolicy() Policy {
	return Policy{Length: 32, Classes: []string{Lower, Upper, Digits, Symbols}}
}

// Bits is about how many bits a value of it has: those of characters that are each drawn
// alike, less a few for the values that Generate turns down. 0 where none can be made.
func (p Policy) Bits() int {
	usable := 0
	for _, class := range p.Classes {
		for _, r := range class {
			if !strings.ContainsRune(p.Forbidden, r) {
				usable++
			}
		}
	}
	if usable == 0 {
		return 0
	}
	return int(float64(p.Length) * math.Log2(float64(usable)))
}

// ErrPolicy is wrapped by errors about a policy that no value can satisfy.
var ErrPolicy = errors.New("password policy cannot be met")

// Generate draws a value from random. Every character is drawn without bias.
func (p Policy) Generate(random io.Reader) (Value, error) {
	if p.Length == 0 && len(p.Classes) == 0 {
		base := DefaultPolicy()
		p.Length, p.Classes = base.Length, base.Classes
	}
	if p.Length < 12 || p.Length > 256 {
		return Value{}, fmt.Errorf("%w: length %d is outside 12 to 256", ErrPolicy, p.Length)
	}
	var all string
	classes := make([]string, 0, len(p.Classes))
	for _, class := range p.Classes {
		left := strings.Map(func(r rune) rune {
			if strings.ContainsRune(p.Forbidden, r) {
				return -1
			}
			return r
		}, class)
		if left == "" {
			continue
		}
		classes = append(classes, left)
		all += left
	}
	if len(classes) == 0 || len(classes) > p.Length {
		return Value{}, fmt.Errorf("%w: no usable characters are left", ErrPolicy)
	}
	for attempt := 0; attempt < 200; attempt++ {
		out := make([]byte, p.Length)
		for i := range out {
			c, err := pick(random, all)
			if err != nil {
				return Value{}, err
			}
			out[i] = c
		}
		// A leading symbol is taken for an option or a comment too easily.
		if strings.IndexByte(Symbols, out[0]) < 0 && p.accepts(string(out), classes) {
			return FromBytes(out), nil
		}
	}
	return Value{}, fmt.Errorf("%w: no value found in 200 attempts", ErrPolicy)
}

func (p Policy) accepts(text string, classes []string) bool {
	for _, class := range classes {
		if !strings.ContainsAny(text, class) {
			return false
		}
	}
	folded := strings.ToLower(text)
	for _, word := range p.Avoid {
		if len(word) >= 3 && strings.Contains(folded, strings.ToLower(word)) {
			return false
		}
	}
	return true
}

// pick draws one byte of alphabet by rejection sampling.
func pick(random io.Reader, alphabet string) (byte, error) {
	limit := 256 - 256%len(alphabet)
	var b [1]byte
	for {
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return 0, fmt.Errorf("draw a random byte: %w", err)
		}
		if int(b[0]) < limit {
			return alphabet[int(b[0])%len(alphabet)], nil
		}
	}
}
