package held

import (
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// A key file of a service identity is a JSON document with a private key and, beside it, the
// number by which the issuer knows the key. A program that has one without the other is
// refused: both are replaced at once, or neither is.

// findKeyFile finds the private key of a key file.
func findKeyFile(content []byte, place Locator) (Span, error) {
	private, number, err := keyFileValues(content, place)
	if err != nil {
		return Span{}, err
	}
	return Span{Locator: place, Start: private.Start, End: private.End, Line: private.Line, Value: secret.New(private.Text), Names: []string{number.Text}, Certain: true}, nil
}

// keyFileValues are the private key and its number: the pair of the same object.
func keyFileValues(content []byte, place Locator) (private, number layout.Value, err error) {
	if err := readable(content); err != nil {
		return private, number, err
	}
	values, _, err := layout.Scan(content, layout.KeyFile)
	if err != nil {
		return private, number, fmt.Errorf("%w: %w", layout.ErrNotThere, err)
	}
	for _, v := range values {
		switch {
		case v.Within != place.Key:
		case v.Name == layout.KeyFilePrivate && private.Name == "":
			private = v
		case v.Name == layout.KeyFileNumber && number.Name == "":
			number = v
		case v.Name == layout.KeyFilePrivate || v.Name == layout.KeyFileNumber:
			return private, number, fmt.Errorf("%w: it has %s more than once: which one counts is not known", layout.ErrCannotCarry, v.Name)
		}
	}
	if private.Name == "" || number.Name == "" || !strings.Contains(private.Text, "PRIVATE KEY") {
		return private, number, fmt.Errorf("%w: it has no private key with its number", layout.ErrNotThere)
	}
	return private, number, nil
}

// spliceKeyFile replaces the private key and its number.
func spliceKeyFile(content []byte, place Locator, next secret.Value) ([]byte, error) {
	private, number, err := keyFileValues(content, place)
	if err != nil {
		return nil, err
	}
	id, err := keys.NumberOf(next)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", layout.ErrCannotCarry, err)
	}
	edits := []edit{{number, id}}
	// The same key in another writing is left as it stands.
	if !keys.Same(secret.New(private.Text), next) {
		edits = append(edits, edit{private, next.RevealString()})
	}
	place.Layout = layout.KeyFile
	out, err := applied(content, place, edits)
	if err != nil {
		return nil, err
	}
	again, beside, err := keyFileValues(out, place)
	if err == nil && (!keys.Same(secret.New(again.Text), next) || beside.Text != id) {
		err = errors.New("the key or its number reads otherwise")
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s would not read back as written: %w", layout.ErrCannotCarry, place, err)
	}
	return out, nil
}
