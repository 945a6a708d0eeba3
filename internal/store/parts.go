package store

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// parts is an index of three-letter parts of some columns of a list. It narrows
// down where a part of a text may stand; the condition itself then decides.
type parts struct {
	table   string
	columns []string // that it covers
	// search looks for a part in what people search a list for: a condition with
	// so many places for the pattern, and rows that may fulfil it.
	search     string
	asked      int
	candidates string // with places for the index' words and asked patterns, and for limits
}

// shortest is the length of parts: a shorter text has none.
const shortest = 3

// match writes a text as what the index is asked for.
func match(text string) string {
	runes := []rune(text)
	var out []string
	for i := 0; i+shortest <= len(runes) && i < 60; i++ {
		out = append(out, `"`+strings.ReplaceAll(string(runes[i:i+shortest]), `"`, `""`)+`"`)
	}
	return strings.Join(out, " AND ")
}

// narrowed is a query that gives the rows in which a condition may hold.
type narrowed struct {
	query string
	args  []any
}

// covers reports whether a filter for a part of a column can be narrowed down.
func (p *parts) covers(name, value string) bool {
	if p == nil || utf8.RuneCountInString(value) < shortest || strings.ContainsRune(value, 0) {
		return false
	}
	for _, c := range p.columns {
		if c == name {
			return true
		}
	}
	return false
}

func (p *parts) narrow(value string) narrowed {
	return narrowed{"SELECT rowid AS id FROM " + p.table + " WHERE " + p.table + " MATCH ?", []any{match(value)}}
}

// searched narrows a search down. alone: no other condition takes anything away,
// so that more than are counted are not needed.
func (p *parts) searched(value, pattern string, alone bool) narrowed {
	limit := ""
	if alone {
		limit = fmt.Sprintf("LIMIT %d", countLimit+1)
	}
	args := []any{match(value)}
	for range p.asked {
		args = append(args, pattern)
	}
	return narrowed{fmt.Sprintf(p.candidates, limit), args}
}
