package held

import (
	"bytes"
	"fmt"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// at finds the value at a locator.
func at(content []byte, place Locator) (layout.Value, inside, error) {
	if err := readable(content); err != nil {
		return layout.Value{}, inside{}, err
	}
	values, _, err := layout.Scan(content, place.Layout)
	if err != nil {
		return layout.Value{}, inside{}, fmt.Errorf("%w: %w", layout.ErrNotThere, err)
	}
	for _, key := range place.keys() {
		v, i, err := atKey(values, place, key)
		if err == nil || v.Key != "" {
			return v, i, err
		}
	}
	return layout.Value{}, inside{}, fmt.Errorf("%w: %s", layout.ErrNotThere, place)
}

// atKey finds the value under one key.
func atKey(values []layout.Value, place Locator, key string) (layout.Value, inside, error) {
	nth := 0
	for _, v := range values {
		if v.Key != key {
			continue
		}
		if nth == place.Nth {
			i, ok := lookup(v.Name, v.Text, place.Part)
			if !ok {
				return v, i, fmt.Errorf("%w: %s holds no %s", layout.ErrNotThere, place, place.Part)
			}
			if len(i.names) == 0 {
				i.names = besideValue(v, values)
			}
			return v, i, nil
		}
		nth++
	}
	return layout.Value{}, inside{}, fmt.Errorf("%w: %s", layout.ErrNotThere, place)
}

// Find returns the span at a locator.
func Find(content []byte, place Locator) (Span, error) {
	if place.Layout == layout.KeyTab {
		return findTab(content, place)
	}
	if place.Layout == layout.Chain {
		return findChain(content, place)
	}
	if place.Layout == layout.KeyFile {
		return findKeyFile(content, place)
	}
	if place.Part == PartVerifier {
		return findVerifier(content, place)
	}
	v, i, err := at(content, place)
	if err != nil {
		return Span{}, err
	}
	return Span{Locator: place, Start: v.Start, End: v.End, Line: v.Line, Value: secret.New(i.text), Names: i.names, Certain: true}, nil
}

// Splice returns content with the secret at the locator replaced. Every byte
// outside the span is as it was. The result is read again and compared before
// it is returned.
func Splice(content []byte, place Locator, next secret.Value) ([]byte, error) {
	v, _, err := at(content, place)
	if err != nil {
		return nil, err
	}
	text, err := rewrap(v.Name, v.Text, place.Part, next.RevealString())
	if err != nil {
		return nil, err
	}
	encoded, err := layout.Encode(place.Layout, text, v, content)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 0, len(content)+len(encoded))
	out = append(out, content[:v.Start]...)
	out = append(out, encoded...)
	out = append(out, content[v.End:]...)
	again, i, err := at(out, place)
	if err != nil || !Same(place.Layout, secret.New(i.text), next) || place.Layout != layout.PEM && again.Text != text || again.Start != v.Start || !bytes.Equal(out[again.End:], content[v.End:]) {
		return nil, fmt.Errorf("%w: %s would not read back as written", layout.ErrCannotCarry, place)
	}
	return out, nil
}

// Same reports whether two values are the same for a layout: a private key may
// be written down in several ways.
func Same(in layout.Layout, a, b secret.Value) bool {
	switch in {
	case layout.PEM, layout.KeyFile:
		return keys.Same(a, b)
	case layout.Chain:
		return keys.SameCertificate(a, b)
	case layout.KeyTab:
		return sameTab(a, b)
	case layout.UserList:
		return sameVerifier(a, b)
	}
	return a.Equal(b)
}
