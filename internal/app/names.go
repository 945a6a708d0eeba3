package app

import (
	"fmt"

	"mossledger.example/moss/internal/core/rules"
)

// CheckName refuses what cannot be typed or told apart easily.
func CheckName(what, name string) error {
	if err := rules.CheckLabel(name); err != nil {
		return fmt.Errorf("%w: %q cannot be the name of %s: small letters, digits, dots, dashes and underscores, a letter or digit first, at most 63", ErrInput, name, what)
	}
	return nil
}
