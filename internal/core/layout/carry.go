package layout

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What a layout can say of a value.
var (
	ErrNotThere    = errors.New("nothing stands at that place any more")
	ErrCannotCarry = errors.New("the layout cannot carry that value")
)

// oneLine refuses line ends.
func oneLine(text string) error {
	if strings.ContainsAny(text, "\x00\r\n") {
		return fmt.Errorf("%w: it contains a line end or NUL", ErrCannotCarry)
	}
	return nil
}

// Unbackslash takes away the backslashes that keep the next character.
func Unbackslash(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) {
			i++
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

// DecodeBase64 decodes base64 (RFC 4648, section 4) of printable text.
func DecodeBase64(text string) (string, bool) {
	if len(text) < 8 || len(text)%4 != 0 {
		return "", false
	}
	raw, err := base64.StdEncoding.Strict().DecodeString(text)
	if err != nil || !utf8.Valid(raw) || strings.ContainsFunc(string(raw), func(r rune) bool { return !unicode.IsPrint(r) && r != '\n' }) {
		return "", false
	}
	return string(raw), true
}
