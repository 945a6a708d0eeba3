package naming_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/naming"
)

// A distinguished name means to us what it means to a parser that nobody here wrote,
// in whatever way it is escaped, and our normal form is read by it.
func TestDistinguishedNamesAsOthersReadThem(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 77))
	letters := []rune("abcXYZ019 ,+\"\\<>;=#/@-._&'()ü日")
	value := func() string {
		for {
			var out strings.Builder
			for range 1 + r.IntN(8) {
				out.WriteRune(letters[r.IntN(len(letters))])
			}
			// Blanks are compared as one (RFC 4518, section 2.6.1), which the other
			// parser leaves to its caller.
			if s := out.String(); !strings.Contains(s, "  ") && strings.TrimSpace(s) == s && s != "" {
				return s
			}
		}
	}
	type pair struct{ attribute, value string }
	// written in one of the ways of RFC 4514.
	written := func(rdns [][]pair) string {
		var names []string
		blank := func() string { return strings.Repeat(" ", r.IntN(2)) }
		for _, rdn := range rdns {
			var parts []string
			for _, p := range rdn {
				attribute := p.attribute
				if r.IntN(2) == 0 {
					attribute = strings.ToUpper(attribute)
				}
				var out strings.Builder
				for i, c := range p.value {
					special := strings.ContainsRune(",+\"\\<>;", c) || c == '#' && i == 0
					switch {
					case special && r.IntN(2) == 0, r.IntN(12) == 0:
						for _, b := range []byte(string(c)) {
							fmt.Fprintf(&out, `\%02x`, b)
						}
					case special:
						out.WriteString(`\` + string(c))
					case c == '=' && r.IntN(2) == 0:
						out.WriteString(`\=`)
					case r.IntN(3) == 0 && c < 0x80:
						out.WriteString(strings.ToUpper(string(c)))
					default:
						out.WriteRune(c)
					}
				}
				parts = append(parts, attribute+"="+out.String())
			}
			names = append(names, strings.Join(parts, "+"))
		}
		return strings.Join(names, ","+blank())
	}
	name := func() [][]pair {
		var out [][]pair
		for range 1 + r.IntN(3) {
			out = append(out, []pair{{[]string{"cn", "ou", "dc", "uid", "o"}[r.IntN(5)], value()}})
		}
		return out
	}
	folded := func(text string) string {
		dn, err := ldap.ParseDN(text)
		require.NoError(t, err, text)
		var out []string
		for _, rdn := range dn.RDNs {
			for _, a := range rdn.Attributes {
				out = append(out, strings.ToLower(a.Type)+"\x00"+strings.ToLower(a.Value))
			}
		}
		return strings.Join(out, "\x01")
	}
	same, different := 0, 0
	for range 20_000 {
		rdns := name()
		a, b := written(rdns), written(rdns)
		if r.IntN(3) == 0 { // another name that is nearly this one
			other := name()
			b = written(append(rdns[:len(rdns)-1:len(rdns)-1], other[0]))
		}
		normalA, err := naming.NormalDN(a)
		require.NoError(t, err, "%q", a)
		normalB, err := naming.NormalDN(b)
		require.NoError(t, err, "%q", b)
		if folded(a) == folded(b) {
			same++
			require.Equal(t, normalA, normalB, "%q and %q are one name", a, b)
		} else {
			different++
			require.NotEqual(t, normalA, normalB, "%q and %q are two names", a, b)
		}
		require.Equal(t, folded(a), folded(normalA), "the normal form of %q is the same name: %q", a, normalA)
	}
	require.Greater(t, same, 5000)
	require.Greater(t, different, 3000)
}
