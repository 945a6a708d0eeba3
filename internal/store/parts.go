package store

import (
	"context"
	"fmt"
	"slices"
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

// match writes a text as what the index is asked for: parts that stand side by
// side, since those that overlap cost as much and say little more.
func match(text string) string {
	runes := []rune(text)
	var out []string
	for i := 0; i < len(runes) && len(out) < 12; i += shortest {
		i = min(i, len(runes)-shortest)
		out = append(out, `"`+strings.ReplaceAll(string(runes[i:i+shortest]), `"`, `""`)+`"`)
	}
	return strings.Join(out, " AND ")
}

// narrowed gives the rows in which a condition may hold.
type narrowed struct {
	query string
	args  []any
}

// covers reports whether a filter for a part of a column can be narrowed down.
func (p *parts) covers(name, value string) bool {
	if p == nil || utf8.RuneCountInString(value) < shortest || strings.ContainsRune(value, 0) {
		return false
	}
	return slices.Contains(p.columns, name)
}

func (p *parts) narrow(value string) *narrowed {
	query := "SELECT rowid AS id FROM " + p.table + " WHERE " + p.table + " MATCH ?"
	return &narrowed{query, []any{match(value)}}
}

// searched narrows a search down. alone: no other condition takes anything away,
// so that more than are counted are not needed.
func (p *parts) searched(value, pattern string, alone bool) *narrowed {
	limit := ""
	if alone {
		limit = fmt.Sprintf("LIMIT %d", countLimit+1)
	}
	n := &narrowed{query: fmt.Sprintf(p.candidates, limit), args: []any{match(value)}}
	for range p.asked {
		n.args = append(n.args, pattern)
	}
	return n
}

// few returns the rows that a condition holds for, if they are not more than are
// counted: they are sorted then. More are met soon in the order of the list.
func (n *narrowed) few(ctx context.Context, db queryer, from, id, where string, args []any) (ids []int64, more bool, err error) {
	query := fmt.Sprintf("SELECT %s FROM (%s) part CROSS JOIN %s WHERE %s = part.id AND %s LIMIT %d", id, n.query, from, id, where, countLimit+1)
	ids, err = collect(ctx, db, single[int64], query, append(slices.Clone(n.args), args...)...)
	return ids, len(ids) > countLimit, err
}
