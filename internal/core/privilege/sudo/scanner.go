package sudo

import (
	"fmt"
	"regexp"
	"strings"
)

// scanner goes along one line.
type scanner struct {
	text string
	at   int
}

func (s *scanner) blanks() {
	for s.at < len(s.text) && (s.text[s.at] == ' ' || s.text[s.at] == '\t') {
		s.at++
	}
}

func (s *scanner) peek() byte {
	if s.at < len(s.text) {
		return s.text[s.at]
	}
	return 0
}

// take takes a character that is next after blanks.
func (s *scanner) take(c byte) bool {
	s.blanks()
	if s.peek() == c && c != 0 {
		s.at++
		return true
	}
	return false
}

// end reports whether nothing but a comment follows.
func (s *scanner) end() bool {
	s.blanks()
	return s.at >= len(s.text) || s.text[s.at] == '#'
}

func (s *scanner) expected(what string) error {
	if s.at >= len(s.text) {
		return fmt.Errorf("%s is expected at the end of the line", what)
	}
	return fmt.Errorf("%s is expected at %q", what, s.text[s.at:min(len(s.text), s.at+20)])
}

var (
	aliasName = regexp.MustCompile(`^[A-Z][A-Z0-9_]*$`)
	idNumber  = regexp.MustCompile(`^-?[0-9]+`)
	address6  = regexp.MustCompile(`^(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f.]{0,15}(?:/[0-9A-Fa-f:.]+)?`)
)

// word reads a name: until a blank or a character that has a meaning, unless quoted or
// escaped.
func (s *scanner) word(stops string) (string, bool) {
	s.blanks()
	if s.peek() == '"' {
		closing := strings.IndexByte(s.text[s.at+1:], '"')
		if closing < 0 {
			return "", false
		}
		w := s.text[s.at+1 : s.at+1+closing]
		s.at += closing + 2
		return w, true
	}
	var out strings.Builder
	start := s.at
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			out.WriteByte(s.text[s.at])
			continue
		}
		if c == ' ' || c == '\t' || strings.IndexByte(stops, c) >= 0 {
			break
		}
		out.WriteByte(c)
	}
	return out.String(), s.at > start
}
