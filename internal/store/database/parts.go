package database

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Parts is an index of three-letter parts of some columns of a list. It narrows
// down where a part of a text may stand; the condition itself then decides.
type Parts struct {
	Table   string
	Columns []string // that it covers
	// What people search a list for: a condition with so many places for the
	// pattern; the rows whose own text has it, by the index (with places for its
	// words and the pattern); and those that are found by what they belong to.
	Search string
	Asked  int
	Texts  string
	Others string
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
	query  string
	args   []any
	others *narrowed // further ones, when it is alone
}

// covers reports whether a filter for a part of a column can be narrowed down.
func (p *Parts) covers(name, value string) bool {
	if p == nil || utf8.RuneCountInString(value) < shortest || strings.ContainsRune(value, 0) {
		return false
	}
	return slices.Contains(p.Columns, name)
}

func (p *Parts) narrow(value string) *narrowed {
	query := "SELECT rowid AS id FROM " + p.Table + " WHERE " + p.Table + " MATCH ?"
	return &narrowed{query: query, args: []any{match(value)}}
}

// searched narrows a search down. alone: no other condition takes anything away.
func (p *Parts) searched(value, pattern string, alone bool) *narrowed {
	n, others := &narrowed{query: p.Texts, args: []any{match(value), pattern}}, &narrowed{query: p.Others}
	for range p.Asked - 1 {
		others.args = append(others.args, pattern)
	}
	if alone {
		n.others = others
		return n
	}
	return &narrowed{query: n.query + " UNION " + others.query, args: append(n.args, others.args...)}
}

// mostSorted rows that belong to something that was searched for are sorted;
// they stand together, so that the order of the list may come to them last.
const mostSorted = 20_000

// rows returns the rows that a condition holds for, if they are few enough to be
// sorted. Others are met soon in the order of the list.
func (n *narrowed) rows(ctx context.Context, db Queryer, from, id, where string, args []any) (ids []int64, all bool, err error) {
	if n.others == nil {
		query := fmt.Sprintf("SELECT %s FROM (%s) part CROSS JOIN %s WHERE %s = part.id AND %s LIMIT %d", id, n.query, from, id, where, countLimit+1)
		ids, err = Collect(ctx, db, Single[int64], query, append(slices.Clone(n.args), args...)...)
		return ids, len(ids) <= countLimit, err
	}
	for _, of := range []struct {
		*narrowed
		most int
	}{{n, countLimit}, {n.others, mostSorted}} {
		more, err := Collect(ctx, db, Single[int64], fmt.Sprintf("SELECT id FROM (%s) LIMIT %d", of.query, of.most+1), of.args...)
		if err != nil || len(more) > of.most {
			return nil, false, err
		}
		ids = append(ids, more...)
	}
	slices.Sort(ids)
	return slices.Compact(ids), true, nil
}
