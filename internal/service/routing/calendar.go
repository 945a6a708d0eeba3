package routing

import (
	"strings"
	"unicode"
)

// CalendarText is a text as a calendar may have it: systems call things what they like, and a
// control character is no part of a text there (RFC 5545, section 3.3.11), while some readers
// take one for the end of a line. A new line stays one; it is escaped by who writes it.
func CalendarText(text string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "\uFFFD"))
}
