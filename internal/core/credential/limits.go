package credential

import (
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/secret"
)

// Limit is what a holder of a password can carry: the field of an old program that is
// short, or that takes some characters for something else. People say it, for no file tells.
type Limit struct {
	Of      string `json:"of,omitempty" doc:"Whose it is"`
	Longest int    `json:"longest,omitempty" minimum:"0" maximum:"256" doc:"Characters that it takes at most; absent for no limit"`
	Without string `json:"without,omitempty" maxLength:"100" doc:"Characters that it does not take"`
}

// String says it in words.
func (l Limit) String() string {
	var out []string
	if l.Longest > 0 {
		out = append(out, fmt.Sprintf("at most %d characters", l.Longest))
	}
	if l.Without != "" {
		out = append(out, "none of "+l.Without)
	}
	if l.Of == "" || len(out) == 0 {
		return strings.Join(out, ", ")
	}
	return l.Of + " takes " + strings.Join(out, ", ")
}

// Refuses says why the holder cannot carry a value; "" when it can.
func (l Limit) Refuses(value secret.Value) string {
	text := value.RevealString()
	switch n := len([]rune(text)); {
	case l.Longest > 0 && n > l.Longest:
		return fmt.Sprintf("it has %d characters, and %s takes at most %d", n, l.Of, l.Longest)
	case strings.ContainsAny(text, l.Without):
		return fmt.Sprintf("it has a character that %s does not take", l.Of)
	}
	return ""
}

const (
	// LeastBits is how many bits a password has at least that is made here.
	LeastBits = 64
	// leastLength is how many characters.
	leastLength = 12
)

// PasswordPolicy is how a password is drawn that is what is wanted: by the rules of the
// system, by what is asked for and by what every holder can carry. An error says who wants
// what.
func (w Wanted) PasswordPolicy() (secret.Policy, error) {
	policy := secret.DefaultPolicy()
	longest, takes := w.longest()
	if longest > 0 && longest < policy.Length {
		policy.Length = longest
	}
	policy.Length = max(policy.Length, w.Shortest)
	policy.Avoid = w.Avoid
	if w.Length == 0 && w.Without == "" && len(w.Limits) == 0 {
		return policy, nil // what the system takes is its own to answer for
	}
	switch {
	case longest > 0 && w.Length > longest:
		return policy, fmt.Errorf("%w: %d characters are asked for, and %s takes at most %d", ErrWanted, w.Length, takes, longest)
	case w.Length > 0 && w.Length < w.Shortest:
		return policy, fmt.Errorf("%w: %d characters are asked for, and the system takes at least %d", ErrWanted, w.Length, w.Shortest)
	case longest > 0 && longest < w.Shortest:
		return policy, fmt.Errorf("%w: the system takes at least %d characters, and %s at most %d", ErrWanted, w.Shortest, takes, longest)
	case longest > 0 && longest < leastLength && len(w.Limits) > 0:
		return policy, fmt.Errorf("%w: %s takes at most %d characters: fewer than are safe", ErrWanted, takes, longest)
	case w.Length > 0:
		policy.Length = w.Length
	}
	return w.characters(policy)
}

// longest is how many characters all take, and who takes no more.
func (w Wanted) longest() (longest int, takes string) {
	longest, takes = w.Longest, "the system"
	for _, l := range w.Limits {
		if l.Longest > 0 && (longest == 0 || l.Longest < longest) {
			longest, takes = l.Longest, l.Of
		}
	}
	return longest, takes
}

// characters leaves out those that somebody does not take.
func (w Wanted) characters(policy secret.Policy) (secret.Policy, error) {
	policy.Forbidden = w.Without
	var who []string
	for _, l := range w.Limits {
		if l.Without != "" {
			policy.Forbidden += l.Without
			who = append(who, l.Of)
		}
	}
	because := ""
	if len(who) > 0 {
		because = " (" + strings.Join(who, ", ") + ")"
	}
	left := 0
	for _, class := range policy.Classes {
		if strings.Trim(class, policy.Forbidden) != "" {
			left++
		}
	}
	if left < 3 { // as directories ask for
		return policy, fmt.Errorf("%w: without %q%s fewer than three of small letters, capitals, digits and symbols are left", ErrWanted, policy.Forbidden, because)
	}
	if bits := policy.Bits(); bits < LeastBits {
		return policy, fmt.Errorf("%w: %d characters of what is left without %q%s have about %d bits, fewer than the %d that are safe", ErrWanted, policy.Length, policy.Forbidden, because, bits, LeastBits)
	}
	return policy, nil
}

// Holders are the limits of several, each holder once.
func Holders(list []Limit) (out []Limit) {
	for _, l := range list {
		if l.String() != "" && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	return out
}
