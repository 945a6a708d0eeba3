// Package secret holds values that must not be seen.
//
// A Value carries a password, key or token through the program. It prints as
// a placeholder through fmt, log/slog, encoding/json, encoding.TextMarshaler
// and database/sql, also when it sits in an unexported field of a struct that
// someone prints with %+v: the bytes live behind a closure, which no
// reflection-based printer can look into. The only ways out are Reveal and
// RevealString, which are easy to find in a review.
//
// Sealer turns a Value into bytes that may be stored (envelope encryption
// bound to the record it belongs to), Policy makes new values, Scrub removes
// known values from words that another system said, and Fingerprinter tells
// that two values are equal without keeping either.
package secret

import (
	"crypto/subtle"
	"database/sql/driver"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"unsafe"
)

// Placeholder is what a Value prints as.
const Placeholder = "[secret]"

// ErrNotStorable is returned when a Value is handed to database/sql. Seal it
// and store the sealed bytes instead.
var ErrNotStorable = errors.New("a secret value is never stored in clear: seal it first")

// Value is a secret. The zero Value is empty. Values are immutable and may be
// copied and shared between goroutines.
type Value struct {
	reveal func() string
	wipe   func()
}

// New makes a Value of a string.
func New(text string) Value {
	if text == "" {
		return Value{}
	}
	return Value{reveal: func() string { return text }}
}

// Hold makes a Value of the bytes themselves, which belong to it from then on.
// It may be wiped.
func Hold(text []byte) Value {
	if len(text) == 0 {
		return Value{}
	}
	return Value{reveal: func() string { return unsafe.String(&text[0], len(text)) }, wipe: func() { clear(text) }} //nolint:gosec // the bytes are never written again before they are wiped
}

// Wipe overwrites a Value that was made with Hold; all copies of it are zeros
// afterwards, and so is what RevealString returned. Only who knows that nobody
// uses it any more may do that. Other Values stay as they are.
func (v Value) Wipe() {
	if v.wipe != nil {
		v.wipe()
	}
}

// FromBytes makes a Value of a copy of the bytes.
func FromBytes(b []byte) Value { return New(string(b)) }

// RevealString returns the secret itself. Callers hand it directly to the
// protocol that needs it and keep no copy.
func (v Value) RevealString() string {
	if v.reveal == nil {
		return ""
	}
	return v.reveal()
}

// Reveal returns the secret itself as a fresh slice.
func (v Value) Reveal() []byte { return []byte(v.RevealString()) }

// Empty reports whether there is nothing in it.
func (v Value) Empty() bool { return v.RevealString() == "" }

// Equal compares two values in constant time for equal lengths.
func (v Value) Equal(other Value) bool {
	return subtle.ConstantTimeCompare(v.Reveal(), other.Reveal()) == 1
}

// String returns the placeholder.
func (v Value) String() string { return Placeholder }

// GoString returns the placeholder (%#v).
func (v Value) GoString() string { return Placeholder }

// Format writes the placeholder whatever the verb.
func (v Value) Format(s fmt.State, _ rune) { _, _ = s.Write([]byte(Placeholder)) }

// LogValue returns the placeholder.
func (v Value) LogValue() slog.Value { return slog.StringValue(Placeholder) }

// MarshalJSON returns the placeholder.
func (v Value) MarshalJSON() ([]byte, error) { return []byte(`"` + Placeholder + `"`), nil }

// MarshalText returns the placeholder; encoders such as YAML and XML use it.
func (v Value) MarshalText() ([]byte, error) { return []byte(Placeholder), nil }

// Value makes database/sql refuse it.
func (v Value) Value() (driver.Value, error) { return nil, ErrNotStorable }

// Scrub replaces every appearance of the values in a text, also in the
// encodings in which systems like to repeat them (base64, URL), with the
// placeholder. Values shorter than four bytes are left alone: replacing them
// would shred the text and tell nothing.
func Scrub(text string, values ...Value) string {
	for _, v := range values {
		plain := v.RevealString()
		if len(plain) < 4 {
			continue
		}
		for _, form := range []string{
			plain,
			base64.StdEncoding.EncodeToString([]byte(plain)),
			base64.RawStdEncoding.EncodeToString([]byte(plain)),
			url.QueryEscape(plain),
			url.PathEscape(plain),
		} {
			text = strings.ReplaceAll(text, form, Placeholder)
		}
	}
	return text
}
