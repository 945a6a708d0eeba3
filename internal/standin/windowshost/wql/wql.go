// Package wql reads the queries that windows hosts are asked over WS-Management and
// applies them to instances.
package wql

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// Query is a parsed "select * from Class [where ...]".
type Query struct {
	Class string
	Where func(Record) bool
	Names []string // properties that it compares
}

// ParseQuery reads the part of WQL that such hosts are asked: comparisons,
// like, is null, and, or, not and parentheses.
func ParseQuery(text string) (Query, error) {
	p := &queryParser{}
	if err := p.scan(text); err != nil {
		return Query{}, err
	}
	if !p.word("select") || !p.symbol("*") || !p.word("from") {
		return Query{}, fmt.Errorf("only 'select * from' is answered with whole instances")
	}
	q := Query{Class: p.take().text, Where: func(Record) bool { return true }}
	if p.at < len(p.tokens) {
		if !p.word("where") {
			return Query{}, fmt.Errorf("unexpected %q", p.tokens[p.at].text)
		}
		var err error
		if q.Where, err = p.either(); err != nil {
			return Query{}, err
		}
		if p.at < len(p.tokens) {
			return Query{}, fmt.Errorf("unexpected %q", p.tokens[p.at].text)
		}
	}
	q.Names = p.names
	return q, nil
}

type queryToken struct {
	kind rune // w word, s string, n number, o operator
	text string
}

type queryParser struct {
	tokens []queryToken
	at     int
	names  []string
}

func (p *queryParser) scan(text string) error {
	in := []rune(text)
	for i := 0; i < len(in); {
		c := in[i]
		switch {
		case unicode.IsSpace(c):
			i++
		case c == '\'' || c == '"':
			var out strings.Builder
			j := i + 1
			for j < len(in) && in[j] != c {
				if in[j] == '\\' && j+1 < len(in) {
					j++
				}
				out.WriteRune(in[j])
				j++
			}
			if j >= len(in) {
				return fmt.Errorf("a string does not end")
			}
			p.tokens = append(p.tokens, queryToken{'s', out.String()})
			i = j + 1
		case unicode.IsLetter(c) || c == '_':
			j := i
			for j < len(in) && (unicode.IsLetter(in[j]) || unicode.IsDigit(in[j]) || in[j] == '_') {
				j++
			}
			p.tokens = append(p.tokens, queryToken{'w', string(in[i:j])})
			i = j
		case unicode.IsDigit(c) || c == '-':
			j := i + 1
			for j < len(in) && unicode.IsDigit(in[j]) {
				j++
			}
			p.tokens = append(p.tokens, queryToken{'n', string(in[i:j])})
			i = j
		default:
			width := 1
			if i+1 < len(in) && strings.Contains("<= >= <> !=", string(in[i:i+2])) && in[i+1] != ' ' {
				width = 2
			}
			p.tokens = append(p.tokens, queryToken{'o', string(in[i : i+width])})
			i += width
		}
	}
	return nil
}

func (p *queryParser) take() queryToken {
	if p.at >= len(p.tokens) {
		return queryToken{}
	}
	p.at++
	return p.tokens[p.at-1]
}

func (p *queryParser) word(want string) bool {
	if p.at < len(p.tokens) && p.tokens[p.at].kind == 'w' && strings.EqualFold(p.tokens[p.at].text, want) {
		p.at++
		return true
	}
	return false
}

func (p *queryParser) symbol(want string) bool {
	if p.at < len(p.tokens) && p.tokens[p.at].kind == 'o' && p.tokens[p.at].text == want {
		p.at++
		return true
	}
	return false
}

func (p *queryParser) either() (func(Record) bool, error) {
	left, err := p.both()
	for err == nil && p.word("or") {
		var right func(Record) bool
		before := left
		right, err = p.both()
		left = func(r Record) bool { return before(r) || right(r) }
	}
	return left, err
}

func (p *queryParser) both() (func(Record) bool, error) {
	left, err := p.one()
	for err == nil && p.word("and") {
		var right func(Record) bool
		before := left
		right, err = p.one()
		left = func(r Record) bool { return before(r) && right(r) }
	}
	return left, err
}

func (p *queryParser) one() (func(Record) bool, error) {
	if p.word("not") {
		inner, err := p.one()
		return func(r Record) bool { return !inner(r) }, err
	}
	if p.symbol("(") {
		inner, err := p.either()
		if err == nil && !p.symbol(")") {
			err = fmt.Errorf("a parenthesis is not closed")
		}
		return inner, err
	}
	name := p.take()
	if name.kind != 'w' {
		return nil, fmt.Errorf("a property is expected, not %q", name.text)
	}
	p.names = append(p.names, name.text)
	if p.word("is") {
		not := p.word("not")
		if !p.word("null") {
			return nil, fmt.Errorf("null is expected after is")
		}
		return func(r Record) bool { return (r.Get(name.text) == nil) != not }, nil
	}
	operator := p.take()
	if operator.kind == 'w' && strings.EqualFold(operator.text, "like") {
		pattern, err := likePattern(p.take().text)
		return func(r Record) bool { return pattern.MatchString(AsText(r.Get(name.text))) }, err
	}
	if operator.kind != 'o' {
		return nil, fmt.Errorf("an operator is expected, not %q", operator.text)
	}
	value := p.take()
	if value.kind == 0 {
		return nil, fmt.Errorf("the query ends after an operator")
	}
	return func(r Record) bool { return compare(r.Get(name.text), operator.text, value) }, nil
}

func likePattern(text string) (*regexp.Regexp, error) {
	var out strings.Builder
	out.WriteString("(?is)^")
	for _, c := range text {
		switch c {
		case '%':
			out.WriteString(".*")
		case '_':
			out.WriteString(".")
		default:
			out.WriteString(regexp.QuoteMeta(string(c)))
		}
	}
	return regexp.Compile(out.String() + "$")
}

func AsText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		return strings.ToUpper(strconv.FormatBool(v))
	case time.Time:
		return v.UTC().Format("20060102150405.000000-000")
	case Reference:
		return v.path()
	}
	return fmt.Sprint(v)
}

func compare(have any, operator string, want queryToken) bool {
	if have == nil {
		return false
	}
	order := 0
	switch have := have.(type) {
	case int:
		n, err := strconv.Atoi(want.text)
		if err != nil {
			return false
		}
		order = have - n
	case time.Time:
		// Both are UTC in the form of asText.
		order = strings.Compare(AsText(have)[:21], (want.text + strings.Repeat("0", 21))[:21])
	case Reference:
		same := strings.NewReplacer(`"`, "'")
		order = strings.Compare(strings.ToLower(same.Replace(have.path())), strings.ToLower(same.Replace(want.text)))
	default:
		order = strings.Compare(strings.ToLower(AsText(have)), strings.ToLower(want.text))
	}
	switch operator {
	case "=":
		return order == 0
	case "<>", "!=":
		return order != 0
	case "<":
		return order < 0
	case ">":
		return order > 0
	case "<=":
		return order <= 0
	case ">=":
		return order >= 0
	}
	return false
}
