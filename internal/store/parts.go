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

// Few matches are found by their parts and sorted. More are met in the order of
// the list, among the rows that the index names, if those are not too many to
// be kept in mind; else among all rows, of which every so many match.
const mostNamed = 30_000

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
	query   string
	limited string // the same, or as many of them as are counted
	args    []any
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
	return &narrowed{query, query, []any{match(value)}}
}

// searched narrows a search down. alone: no other condition takes anything away,
// so that more than are counted are not needed.
func (p *parts) searched(value, pattern string, alone bool) *narrowed {
	n := &narrowed{query: fmt.Sprintf(p.candidates, ""), args: []any{match(value)}}
	if n.limited = n.query; alone {
		n.limited = fmt.Sprintf(p.candidates, fmt.Sprintf("LIMIT %d", countLimit+1))
	}
	for range p.asked {
		n.args = append(n.args, pattern)
	}
	return n
}

// few returns the rows that a narrowed condition holds for, if they are not more
// than are counted.
func (n *narrowed) few(ctx context.Context, db queryer, from, id, where string, args []any) (ids []int64, more bool, err error) {
	query := fmt.Sprintf("SELECT %s FROM (%s) part CROSS JOIN %s WHERE %s = part.id AND %s LIMIT %d", id, n.limited, from, id, where, countLimit+1)
	ids, err = collect(ctx, db, single[int64], query, append(slices.Clone(n.args), args...)...)
	return ids, len(ids) > countLimit, err
}

// many reports whether the index names too many rows to keep them in mind.
func (n *narrowed) many(ctx context.Context, db queryer) (bool, error) {
	count, err := collect(ctx, db, single[int64], fmt.Sprintf("SELECT COUNT(*) FROM (SELECT id FROM (%s) LIMIT %d)", n.query, mostNamed+1), n.args...)
	return len(count) == 1 && count[0] > mostNamed, err
}
