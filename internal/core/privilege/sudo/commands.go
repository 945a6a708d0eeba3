package sudo

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"
)

func (s *scanner) commands() ([]command, error) {
	var out []command
	for {
		c, err := s.command()
		if err != nil {
			return nil, err
		}
		out = append(out, c)
		if !s.take(',') {
			return out, nil
		}
	}
}

// commandPaths reads the commands of a setting, which have no arguments.
func (s *scanner) commandPaths() ([]command, error) {
	var out []command
	for {
		not := false
		for s.take('!') {
			not = !not
		}
		name, ok := s.word(",=:#")
		if !ok {
			return nil, s.expected("a command")
		}
		c := command{not: not, is: Command{Path: name}}
		switch {
		case name == "ALL":
			c.is = Command{All: true}
		case aliasName.MatchString(name):
			c.alias = name
		}
		out = append(out, c)
		if !s.take(',') {
			return out, nil
		}
	}
}

var digestWord = regexp.MustCompile(`^(sha224|sha256|sha384|sha512)[ \t]*:[ \t]*([0-9A-Za-z+/=]+)`)

var digestLength = map[string]int{"sha224": 28, "sha256": 32, "sha384": 48, "sha512": 64}

var errNoCommand = errors.New("a command is a path, a folder, ALL, sudoedit, an alias or a regular expression")

// command reads one with its digests and its negation.
func (s *scanner) command() (command, error) {
	var c command
	begin := s.at
	for s.take('!') {
		c.not = !c.not
	}
	for {
		s.blanks()
		m := digestWord.FindStringSubmatch(s.text[s.at:])
		if m == nil {
			break
		}
		sum, err := sumOf(m[1], m[2])
		if err != nil {
			return c, err
		}
		s.at += len(m[0])
		c.is.Digests = append(c.is.Digests, Digest{m[1], sum})
		if !s.take(',') {
			break
		}
	}
	if c.not && len(c.is.Digests) > 0 {
		return c, errors.New("a ! stands after digests, before the command")
	}
	for s.take('!') {
		c.not = !c.not
	}
	s.blanks()
	switch at := s.peek(); {
	case at == '/':
		if c.is.Path = s.path(); s.peek() == '\\' {
			return c, s.expected("a character after the backslash")
		}
	case at == '^':
		regular, ok := s.regular()
		if !ok {
			return c, s.expected("the end $ of a regular expression")
		}
		c.is.Path = regular
	default:
		name, ok := s.word(",=:#!()")
		switch {
		case !ok:
			return c, s.expected("a command")
		case name == "ALL":
			c.is.All = true
			c.text = strings.TrimSpace(s.text[begin:s.at])
			return c, nil
		case name == "sudoedit", name == "list":
			c.is.Path = name
		case aliasName.MatchString(name) && len(c.is.Digests) > 0:
			return c, errors.New("a digest is of a path, not of an alias")
		case aliasName.MatchString(name):
			c.alias = name
			c.text = strings.TrimSpace(s.text[begin:s.at])
			return c, nil
		default:
			return c, fmt.Errorf("%w, not %q", errNoCommand, name)
		}
	}
	s.args(&c.is)
	if strings.HasSuffix(c.is.Path, "/") && c.is.Given && c.is.Args != `""` {
		return c, fmt.Errorf("the folder %s has arguments", c.is.Path)
	}
	c.text = strings.TrimSpace(s.text[begin:s.at])
	return c, nil
}

func sumOf(algorithm, text string) (string, error) {
	n := digestLength[algorithm]
	if len(text) == 2*n {
		if _, err := hex.DecodeString(text); err == nil {
			return strings.ToLower(text), nil
		}
	}
	if raw, err := base64.StdEncoding.DecodeString(text); err == nil && len(raw) == n {
		return hex.EncodeToString(raw), nil
	}
	if raw, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(text, "=")); err == nil && len(raw) == n {
		return hex.EncodeToString(raw), nil
	}
	return "", fmt.Errorf("%q is not a %s digest", text, algorithm)
}

// path reads a path of a command: what has a meaning is escaped.
func (s *scanner) path() string {
	var out strings.Builder
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == '\\' {
			if s.at+1 == len(s.text) {
				break
			}
			s.at++
			if strings.IndexByte(",:= \t#", s.text[s.at]) < 0 { // of a pattern
				out.WriteByte('\\')
			}
			out.WriteByte(s.text[s.at])
			continue
		}
		if strings.IndexByte(",:= \t#", c) >= 0 {
			break
		}
		out.WriteByte(c)
	}
	return out.String()
}

// regular reads a regular expression: to the $ that ends a word.
func (s *scanner) regular() (string, bool) {
	var out strings.Builder
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			if s.text[s.at] != '#' {
				out.WriteByte('\\')
			}
			out.WriteByte(s.text[s.at])
			continue
		}
		if c == '#' {
			return "", false
		}
		out.WriteByte(c)
		if c == '$' && (s.at+1 == len(s.text) || strings.IndexByte(" \t,:=", s.text[s.at+1]) >= 0) {
			s.at++
			return out.String(), true
		}
	}
	return "", false
}

// args reads the arguments of a command, put together with single blanks as they are
// compared.
func (s *scanner) args(into *Command) {
	s.blanks()
	if s.peek() == '^' {
		start := s.at
		if regular, ok := s.regular(); ok {
			into.Args, into.Given = regular, true
			return
		}
		s.at = start
	}
	var out strings.Builder
	blank := false
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == ' ' || c == '\t' {
			blank = out.Len() > 0
			continue
		}
		if strings.IndexByte(",:#", c) >= 0 {
			break
		}
		if blank {
			out.WriteByte(' ')
			blank = false
		}
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			if strings.IndexByte(":\\,= \t#", s.text[s.at]) < 0 {
				out.WriteByte('\\')
			}
			out.WriteByte(s.text[s.at])
			continue
		}
		out.WriteByte(c)
	}
	into.Args, into.Given = out.String(), out.Len() > 0
}
