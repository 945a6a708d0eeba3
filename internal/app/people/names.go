package people

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/secure/precis"

	"mossledger.example/moss/internal/app"
)

// Names that the program itself signs with, or that look like it.
var reservedNames = []string{"service", "policy", "system", "moss", "mossledger", "moss ledger", "unknown", "nobody", "console"}

// imitated maps letters to the latin ones that they look like. It holds what
// the scripts have that are used for imitating names most; a name that mixes
// scripts is refused before.
var imitated = map[rune]rune{
	'а': 'a', 'в': 'b', 'с': 'c', 'ԁ': 'd', 'е': 'e', 'һ': 'h', 'і': 'i', 'ј': 'j', 'к': 'k', 'ӏ': 'l', 'м': 'm', 'п': 'n', 'о': 'o', 'р': 'p', 'ԛ': 'q', 'г': 'r', 'ѕ': 's', 'т': 't', 'ц': 'u', 'ѵ': 'v', 'ԝ': 'w', 'х': 'x', 'у': 'y',
	'α': 'a', 'β': 'b', 'ε': 'e', 'η': 'n', 'ι': 'i', 'κ': 'k', 'ν': 'v', 'ο': 'o', 'ρ': 'p', 'τ': 't', 'υ': 'u', 'χ': 'x', 'γ': 'y', 'ω': 'w',
	'ı': 'i', 'ł': 'l', 'ø': 'o', 'ɑ': 'a', 'ɡ': 'g', 'ʋ': 'v', '0': 'o', '1': 'l', 'ⅼ': 'l',
}

// skeleton is what a name looks like: two names with one skeleton are taken
// for each other.
func skeleton(name string) string {
	var out strings.Builder
	for _, r := range strings.ToLower(name) {
		if to, found := imitated[r]; found {
			r = to
		}
		if r == 'i' { // beside l and 1, in many typefaces
			r = 'l'
		}
		out.WriteRune(r)
	}
	return strings.NewReplacer("rn", "m", "vv", "w", "-", "", "_", "", ".", "", " ", "").Replace(out.String())
}

// checkPersonName prepares a name by the rules for user names (RFC 8265,
// section 3.4) and refuses one that passes for another: with characters of
// several scripts, like a name of the program, or like one of taken.
func checkPersonName(name string, taken []string) (string, error) {
	name = strings.TrimSpace(name)
	prepared, err := precis.UsernameCasePreserved.String(name)
	if err != nil || prepared == "" || strings.ContainsAny(name, `/\:`) {
		return "", fmt.Errorf("%w: a name is made of letters, digits and single marks, without spaces, slashes, colons, control or direction characters (RFC 8265)", app.ErrInput)
	}
	script := ""
	for _, r := range prepared {
		if !unicode.IsLetter(r) {
			continue
		}
		for of, table := range unicode.Scripts {
			if of != "Common" && of != "Inherited" && unicode.Is(table, r) {
				if script != "" && of != script {
					return "", fmt.Errorf("%w: the name mixes the scripts %s and %s: it could pass for another", app.ErrInput, min(of, script), max(of, script))
				}
				script = of
			}
		}
	}
	for _, reserved := range reservedNames {
		if skeleton(prepared) == skeleton(reserved) {
			return "", fmt.Errorf("%w: this name is the program's own, or looks like it: take another", app.ErrInput)
		}
	}
	if i := slices.IndexFunc(taken, func(other string) bool {
		return !strings.EqualFold(other, prepared) && skeleton(other) == skeleton(prepared)
	}); i >= 0 {
		return "", fmt.Errorf("%w: this name can be taken for %q, which is there already: take another", app.ErrInput, taken[i])
	}
	return prepared, nil
}
