package held

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/secret"
)

// Errors of Find and Splice.
var (
	ErrNotThere    = errors.New("nothing stands at that place any more")
	ErrCannotCarry = errors.New("the layout cannot carry that value")
)

// at finds the value at a locator.
func at(content []byte, place Locator) (value, inside, error) {
	if err := readable(content); err != nil {
		return value{}, inside{}, err
	}
	values, _, err := scanAs(content, place.Layout)
	if err != nil {
		return value{}, inside{}, fmt.Errorf("%w: %w", ErrNotThere, err)
	}
	nth := 0
	for _, v := range values {
		if v.key != place.Key {
			continue
		}
		if nth == place.Nth {
			i, ok := lookup(v.name, v.text, place.Part)
			if !ok {
				return v, i, fmt.Errorf("%w: %s holds no %s", ErrNotThere, place, place.Part)
			}
			if len(i.names) == 0 {
				i.names = besideValue(v, values)
			}
			return v, i, nil
		}
		nth++
	}
	return value{}, inside{}, fmt.Errorf("%w: %s", ErrNotThere, place)
}

// Find returns the span at a locator.
func Find(content []byte, place Locator) (Span, error) {
	v, i, err := at(content, place)
	if err != nil {
		return Span{}, err
	}
	return Span{Locator: place, Start: v.start, End: v.end, Line: v.line, Value: secret.New(i.text), Names: i.names, Certain: true}, nil
}

// Splice returns content with the secret at the locator replaced. Every byte
// outside the span is as it was. The result is read again and compared before
// it is returned.
func Splice(content []byte, place Locator, next secret.Value) ([]byte, error) {
	v, _, err := at(content, place)
	if err != nil {
		return nil, err
	}
	text, err := rewrap(v.name, v.text, place.Part, next.RevealString())
	if err != nil {
		return nil, err
	}
	encoded, err := layouts[place.Layout].encode(text, content[v.start:v.end], v, content)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 0, len(content)+len(encoded))
	out = append(out, content[:v.start]...)
	out = append(out, encoded...)
	out = append(out, content[v.end:]...)
	again, i, err := at(out, place)
	if err != nil || !Same(place.Layout, secret.New(i.text), next) || place.Layout != LayoutPEM && again.text != text || again.start != v.start || !bytes.Equal(out[again.end:], content[v.end:]) {
		return nil, fmt.Errorf("%w: %s would not read back as written", ErrCannotCarry, place)
	}
	return out, nil
}

// oneLine refuses line ends.
func oneLine(text string) error {
	if strings.ContainsAny(text, "\x00\r\n") {
		return fmt.Errorf("%w: it contains a line end or NUL", ErrCannotCarry)
	}
	return nil
}
