package held

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// Where two accounts take turns, a copy is the value with the name of the account beside
// it: both are replaced together, or neither is.

// ErrNoName is what an error is where no name stands beside a value that could be replaced
// with it.
var ErrNoName = errors.New("the name of the account does not stand beside it")

// takesTurns: the name beside the value changes with it.
func (l Locator) takesTurns() bool { return l.Account != "" }

// Turned is the locator for going back.
func (l Locator) Turned() Locator {
	l.Account, l.Next = l.Next, l.Account
	return l
}

// renamed is how a name must be written that is the account's in one of its spellings, or
// is the other one's already.
func (l Locator) renamed(written string) (next string, is bool) {
	was, will := strings.Split(l.Account, "\n"), strings.Split(l.Next, "\n")
	for i := range min(len(was), len(will)) {
		if strings.EqualFold(written, was[i]) || written == will[i] {
			return will[i], true
		}
	}
	return "", false
}

// keys are those under which a value may stand: in a password file of PostgreSQL's clients
// the name is a part of the key.
func (l Locator) keys() []string {
	out := []string{l.Key}
	if l.Layout != layout.PGPass || !l.takesTurns() {
		return out
	}
	at := strings.LastIndexByte(l.Key, ':')
	for _, names := range []string{l.Account, l.Next} {
		name, _, _ := strings.Cut(names, "\n")
		out = append(out, l.Key[:at+1]+name)
	}
	return out
}

// beside are the values beside a secret that name the account, with their places.
func beside(v layout.Value, values []layout.Value, place Locator) (out []layout.Value) {
	for _, n := range valuesBeside(v, values) {
		if _, is := place.renamed(n.Text); is {
			out = append(out, n)
		}
	}
	return out
}

// spliceTurn replaces a value, and the name beside it.
func spliceTurn(content []byte, place Locator, next secret.Value) ([]byte, error) {
	v, i, err := at(content, place)
	if err != nil {
		return nil, err
	}
	text, err := rewrap(v.Name, v.Text, place.Part, next.RevealString())
	if err != nil {
		return nil, err
	}
	named := 0
	if text, named, err = rename(v.Name, text, place.Part, place); err != nil {
		return nil, err
	}
	var names []layout.Value
	if named == 0 {
		values, _, err := layout.Scan(content, place.Layout)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", layout.ErrNotThere, err)
		}
		if names = beside(v, values, place); len(names) == 0 {
			return nil, fmt.Errorf("%w: %w: %s has %s beside it", layout.ErrCannotCarry, ErrNoName, place, cmp.Or(strings.Join(i.names, ", "), "no name"))
		}
	}
	// From the end to the beginning, so that what is before stays where it is.
	edits := []edit{{v, text}}
	for _, n := range names {
		will, _ := place.renamed(n.Text)
		edits = append(edits, edit{n, will})
	}
	out, err := applied(content, place, edits)
	if err != nil {
		return nil, err
	}
	_, again, err := at(out, place)
	if err == nil && (again.text != next.RevealString() || !place.allTurned(again.names)) {
		err = errors.New("the value or the name reads otherwise")
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s would not read back as written: %w", layout.ErrCannotCarry, place, err)
	}
	return out, nil
}

// allTurned: none of the names is still the account's whose turn is over, and one is that
// of the next.
func (l Locator) allTurned(names []string) bool {
	turned := false
	for _, name := range names {
		will, is := l.renamed(name)
		if is && will != name {
			return false
		}
		turned = turned || is
	}
	return turned
}

// edit is a value with the text that shall stand in its place.
type edit struct {
	layout.Value
	next string
}

// applied makes edits of one content. Every byte outside of them is as it was.
func applied(content []byte, place Locator, edits []edit) ([]byte, error) {
	out := content
	for len(edits) > 0 {
		last := 0
		for i, e := range edits {
			if e.Start > edits[last].Start {
				last = i
			}
		}
		e := edits[last]
		edits = append(edits[:last], edits[last+1:]...)
		if e.next == e.Text {
			continue
		}
		encoded, err := layout.Encode(place.Layout, e.next, e.Value, content)
		if err != nil {
			return nil, err
		}
		out = append(append(append(make([]byte, 0, len(out)+len(encoded)), out[:e.Start]...), encoded...), out[e.End:]...)
	}
	return out, nil
}

// rename replaces the names of an account inside a value, along a part's steps, and says
// how many there were.
func rename(name, text, part string, place Locator) (string, int, error) {
	if part == PartValue || part == "" {
		return text, 0, nil
	}
	step, rest, more := strings.Cut(part, "/")
	w, i, ok := oneStep(name, text, step)
	if !ok || strings.HasPrefix(step, "document:") {
		return text, 0, nil // of a document in a value no names are replaced
	}
	if more {
		inner, n, err := rename(name, i.text, rest, place)
		if err != nil || n == 0 {
			return text, n, err
		}
		raw, err := w.encode(inner, text[i.start:i.end])
		return text[:i.start] + raw + text[i.end:], n, err
	}
	n := 0
	for k := len(i.named) - 1; k >= 0; k-- {
		at := i.named[k]
		will, is := place.renamed(at.text)
		if !is {
			continue
		}
		raw, err := at.encode(will, text[at.start:at.end])
		if err != nil {
			return text, 0, err
		}
		text = text[:at.start] + raw + text[at.end:]
		n++
	}
	return text, n, nil
}
