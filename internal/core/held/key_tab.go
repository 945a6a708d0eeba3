package held

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// A key tab is a copy that was derived: it is judged by whether its keys are made of a
// value, and it is given further keys in place of other bytes.

// tabValue is what is found in a key tab: as secret as the password, for whoever has it
// can act as the account.
type tabValue struct {
	Version int    `json:"version"`
	Salts   string `json:"salts"`
	Content []byte `json:"content"`
	Of      string `json:"of"`
}

const tabPrefix = "key-tab:"

func findTab(content []byte, place Locator) (Span, error) {
	newest, err := keys.NewestKeys(content, place.Key)
	if err != nil {
		if errors.Is(err, keys.ErrNoPrincipal) {
			err = fmt.Errorf("%w: %w", layout.ErrNotThere, err)
		}
		return Span{}, err
	}
	raw, err := json.Marshal(tabValue{newest.Version, place.Salts, content, place.Key})
	return Span{Locator: place, Start: 0, End: len(content), Line: 1, Value: secret.New(tabPrefix + string(raw)), Certain: true}, err
}

// tabOf is what findTab found.
func tabOf(v secret.Value) (tabValue, bool) {
	rest, found := strings.CutPrefix(v.RevealString(), tabPrefix)
	var t tabValue
	return t, found && json.Unmarshal([]byte(rest), &t) == nil
}

// madeOf reports whether the newest keys are made of a password, and the salt.
func (t tabValue) madeOf(password secret.Value) (salt string, made bool) {
	newest, err := keys.NewestKeys(t.Content, t.Of)
	if err != nil || password.Empty() {
		return "", false
	}
	return newest.MadeOf(password, strings.Split(t.Salts, "\n"))
}

func sameTab(a, b secret.Value) bool {
	ta, isA := tabOf(a)
	tb, isB := tabOf(b)
	switch {
	case isA && isB:
		return a.Equal(b)
	case isA:
		_, made := ta.madeOf(b)
		return made
	case isB:
		_, made := tb.madeOf(a)
		return made
	}
	return a.Equal(b)
}

// spliceTab gives a key tab the keys of next beside those that are made of old.
func spliceTab(content []byte, place Locator, old, next secret.Value) ([]byte, error) {
	span, err := findTab(content, place)
	if err != nil {
		return nil, err
	}
	t, _ := tabOf(span.Value)
	salt, made := t.madeOf(old)
	if !made {
		if salt, made = t.madeOf(next); !made {
			return nil, fmt.Errorf("%w: the keys of %s are made neither of the old nor of the new value, or with a salt that is not known", layout.ErrCannotCarry, place.Key)
		}
	}
	out, err := keys.AddKeys(content, place.Key, next, salt, place.Version)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", layout.ErrCannotCarry, err)
	}
	return out, nil
}

// Replace returns content with next in place of old at a locator, like Splice; and what
// was derived of old is derived of next. Where two accounts take turns, the name beside it
// is replaced with it.
func Replace(content []byte, place Locator, old, next secret.Value) ([]byte, error) {
	switch turns := place.takesTurns(); {
	case turns && (place.Layout == layout.KeyTab || place.Part == PartVerifier):
		return nil, fmt.Errorf("%w: what was made of a value and a name is not made of another's", layout.ErrCannotCarry)
	case turns:
		return spliceTurn(content, place, next)
	}
	switch place.Layout {
	case layout.KeyTab:
		return spliceTab(content, place, old, next)
	case layout.Chain:
		return spliceChain(content, place, next)
	case layout.KeyFile:
		return spliceKeyFile(content, place, next)
	}
	if place.Part == PartVerifier {
		return spliceVerifier(content, place, next)
	}
	return Splice(content, place, next)
}
