package least

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
)

// Of a statement only this is read: its verb, the tables that it reads and writes, and the
// routine that it calls. It is no parser of SQL: what it is not sure of it says.

// table is a name with up to three parts.
type table struct{ parts []string }

// use is what a statement does to one table or routine.
type use struct {
	verb string
	on   table
	kind string // of what it is done to; a table, or a routine that is called, where it is ""
}

const manageRoles = "manage roles"

type token struct {
	text   string // small letters where it is a word; as it is where quoted
	quoted bool
	word   bool
}

var errNotRead = errors.New("the statement is not understood")

// tokens takes a statement apart. Strings and numbers are one token each, comments none.
func tokens(text string) ([]token, error) {
	var out []token
	r := []rune(text)
	for i := 0; i < len(r); {
		c := r[i]
		switch {
		case unicode.IsSpace(c):
			i++
		case c == '-' && i+1 < len(r) && r[i+1] == '-':
			for i < len(r) && r[i] != '\n' {
				i++
			}
		case c == '/' && i+1 < len(r) && r[i+1] == '*':
			end := strings.Index(string(r[i+2:]), "*/")
			if end < 0 {
				return nil, errNotRead
			}
			i += 2 + len([]rune(string(r[i+2:])[:end])) + 2
		case c == '\'' || c == '"' || c == '`':
			text, next, ok := quotedAt(r, i)
			if !ok {
				return nil, errNotRead
			}
			i = next
			out = append(out, token{text: text, quoted: true, word: c != '\''})
		case unicode.IsLetter(c) || c == '_':
			from := i
			for i < len(r) && (unicode.IsLetter(r[i]) || unicode.IsDigit(r[i]) || r[i] == '_' || r[i] == '$') {
				i++
			}
			out = append(out, token{text: strings.ToLower(string(r[from:i])), word: true})
		default:
			out = append(out, token{text: string(c)})
			i++
		}
	}
	return out, nil
}

// quotedAt reads what stands in quotes; two of them are one in it.
func quotedAt(r []rune, at int) (text string, next int, ok bool) {
	var b strings.Builder
	c := r[at]
	for i := at + 1; i < len(r); i++ {
		switch {
		case r[i] == '\\' && c == '\'' && i+1 < len(r):
			i++
		case r[i] == c && i+1 < len(r) && r[i+1] == c:
			b.WriteRune(c)
			i++
		case r[i] == c:
			return b.String(), i + 1, true
		default:
			b.WriteRune(r[i])
		}
	}
	return "", 0, false
}

// words after which no name of a table stands, or that end a list of them.
var reserved = map[string]bool{"where": true, "group": true, "order": true, "having": true, "limit": true, "union": true, "set": true, "on": true, "using": true, "left": true, "right": true, "inner": true, "outer": true, "cross": true, "natural": true, "join": true, "values": true, "select": true, "returning": true, "for": true, "as": true, "lateral": true, "full": true, "intersect": true, "except": true, "window": true, "offset": true, "fetch": true}

// name reads a name with its parts.
func name(ts []token, at int) (table, int, bool) {
	var t table
	for at < len(ts) && ts[at].word && (ts[at].quoted || !reserved[ts[at].text]) {
		t.parts = append(t.parts, ts[at].text)
		at++
		if at >= len(ts) || ts[at].text != "." || ts[at].quoted {
			break
		}
		at++
	}
	return t, at, len(t.parts) > 0
}

func is(ts []token, at int, words ...string) bool {
	for i, w := range words {
		if at+i >= len(ts) || ts[at+i].quoted || ts[at+i].text != w {
			return false
		}
	}
	return true
}

// parse reads what a statement does.
func parse(text string) ([]use, error) {
	ts, err := tokens(strings.TrimSuffix(strings.TrimSpace(text), ";"))
	if err != nil {
		return nil, err
	}
	if len(ts) == 0 {
		return nil, nil
	}
	for _, t := range ts {
		if t.text == ";" && !t.quoted {
			return nil, fmt.Errorf("it is more than one statement")
		}
	}
	first := ts[0].text
	switch first {
	case "begin", "commit", "rollback", "start", "set", "show", "savepoint", "release", "use", "ping", "reset", "discard":
		return nil, nil
	case "call":
		t, _, ok := name(ts, 1)
		if !ok {
			return nil, errNotRead
		}
		return []use{{verb: "execute", on: t}}, nil
	case "alter", "create", "drop":
		if len(ts) > 1 && (ts[1].text == "role" || ts[1].text == "user") {
			return []use{{verb: manageRoles}}, nil
		}
		return defines(ts)
	case "grant", "revoke":
		return nil, fmt.Errorf("what it takes to give rights is not read: who gives must have them, with the option to give them on")
	case "select", "insert", "update", "delete", "with", "replace", "truncate":
	default:
		return nil, errNotRead
	}
	return tables(ts)
}

// reading is a statement about data while it is read.
type reading struct {
	ts       []token
	own      map[string]bool // names that the statement gives to parts of itself
	out      []use
	open     []bool // for each parenthesis around: whether a part of its own is in it
	inserted table
}

func (r *reading) add(verb string, t table) {
	if len(t.parts) == 1 && r.own[t.parts[0]] {
		return
	}
	for _, u := range r.out {
		if u.verb == verb && strings.Join(u.on.parts, ".") == strings.Join(t.parts, ".") {
			return
		}
	}
	r.out = append(r.out, use{verb: verb, on: t})
}

// tables reads which tables a statement about data reads and writes.
func tables(ts []token) ([]use, error) {
	r := &reading{ts: ts, own: map[string]bool{}}
	for i := range ts {
		at := i + 1
		if ts[i].word && is(ts, at, "(") { // the names of its columns
			at = closed(ts, at)
		}
		if ts[i].word && at > 0 && (is(ts, at, "as", "(") || is(ts, at, "as", "materialized", "(") || is(ts, at, "as", "not", "materialized", "(")) {
			r.own[ts[i].text] = true
		}
	}
	for i := range ts {
		if ts[i].quoted {
			continue
		}
		switch ts[i].text {
		case "(":
			r.open = append(r.open, r.part(i))
		case ")":
			if len(r.open) > 0 {
				r.open = r.open[:len(r.open)-1]
			}
		default:
			verb, at := r.clause(i)
			if verb == "" {
				continue
			}
			if err := r.named(i, at, verb); err != nil {
				return nil, err
			}
		}
	}
	r.locked()
	return r.out, nil
}

// part: a parenthesis begins a part of its own, and no arguments or columns.
func (r *reading) part(i int) bool {
	for _, word := range []string{"select", "with", "values", "insert", "update", "delete", "("} {
		if is(r.ts, i+1, word) {
			return true
		}
	}
	return i > 0 && r.ts[i-1].text == "from"
}

// clause says what a word does to the tables that are named behind it; "" for nothing.
func (r *reading) clause(i int) (verb string, at int) {
	ts := r.ts
	before := ""
	if i > 0 {
		before = ts[i-1].text
	}
	begins := i == 0 || before == "(" || before == ")"
	within := len(r.open) == 0 || r.open[len(r.open)-1] // else FROM is a word of a function, as in EXTRACT
	switch {
	case is(ts, i, "insert", "into") || is(ts, i, "replace", "into"):
		return "insert", i + 2
	case is(ts, i, "do", "update"), is(ts, i, "duplicate", "key", "update"):
		r.add("update", r.inserted)
		r.add("select", r.inserted)
	case is(ts, i, "do", "nothing"):
		r.add("select", r.inserted)
	case is(ts, i, "update") && begins:
		return "update", i + 1
	case is(ts, i, "delete", "from"):
		return "delete", i + 2
	case is(ts, i, "truncate") && begins && is(ts, i+1, "table"):
		return "truncate", i + 2
	case is(ts, i, "truncate") && begins:
		return "truncate", i + 1
	case is(ts, i, "from") && within && before != "delete" && before != "distinct", is(ts, i, "join"), is(ts, i, "using") && !is(ts, i+1, "("):
		return "select", i + 1
	}
	return "", 0
}

// named reads the names behind a clause: one that is written to, or a list that is read.
func (r *reading) named(i, at int, verb string) (err error) {
	ts := r.ts
	if is(ts, at, "only") {
		at++
	}
	for {
		if is(ts, at, "lateral") {
			at++
		}
		if at, err = r.one(i, at, verb); err != nil {
			return err
		}
		if verb != "select" {
			break
		}
		if is(ts, at, "as") {
			at++
		}
		if at < len(ts) && ts[at].word && !reserved[ts[at].text] { // its other name
			at++
		}
		if !is(ts, at, ",") {
			break
		}
		at++
	}
	if verb == "insert" && returns(ts[at:]) {
		r.add("select", r.inserted)
	}
	return nil
}

// one reads one name, or passes over what gives rows and has none: that is read further on.
func (r *reading) one(i, at int, verb string) (next int, err error) {
	ts := r.ts
	if verb == "select" && is(ts, at, "(") {
		if at = closed(ts, at); at < 0 {
			return 0, errNotRead
		}
		return at, nil
	}
	t, at, ok := name(ts, at)
	if !ok {
		return 0, errNotRead
	}
	if verb == "insert" {
		r.inserted = t
	}
	if verb == "select" && is(ts, at, "(") { // a function that gives rows
		if at = closed(ts, at); at < 0 {
			return 0, errNotRead
		}
		return at, nil
	}
	r.add(verb, t)
	// Whoever says which rows, or computes from what is there, reads them.
	if (verb == "update" || verb == "delete") && reads(ts[at:]) {
		r.add("select", t)
	}
	if is(ts, i, "replace") {
		r.add("delete", t)
	}
	return at, nil
}

// locked: rows that are locked could be changed.
func (r *reading) locked() {
	for i := range r.ts {
		if is(r.ts, i, "for", "update") || is(r.ts, i, "for", "share") || is(r.ts, i, "for", "no", "key") || is(r.ts, i, "for", "key", "share") {
			for _, u := range append([]use{}, r.out...) {
				r.add("update", u.on)
			}
		}
	}
}

// closed is behind the parenthesis that ends what one at a place begins; -1 where nothing does.
func closed(ts []token, at int) int {
	depth := 0
	for i := at; i < len(ts); i++ {
		switch {
		case is(ts, i, "("):
			depth++
		case is(ts, i, ")"):
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return -1
}

func returns(ts []token) bool {
	for i := range ts {
		if is(ts, i, "returning") {
			return true
		}
	}
	return false
}

// constants are words that say no column.
var constants = map[string]bool{"null": true, "true": true, "false": true, "default": true, "current_timestamp": true, "current_date": true, "localtime": true}

// reads: a change looks at columns of the rows that it changes.
func reads(ts []token) bool {
	value := false
	for i, t := range ts {
		switch {
		case is(ts, i, "where"), is(ts, i, "returning"), is(ts, i, "order"):
			return true
		case t.text == "=" && !t.quoted:
			value = true
		case t.text == "," && !t.quoted:
			value = false
		case value && t.word && !constants[t.text] && !is(ts, i+1, "("):
			return true
		}
	}
	return false
}
