package store

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// Query is what every list takes.
type Query struct {
	Filters []string // column, operator, value: name~svc-  state=failed  seen<2026-01-01
	Sort    string   // column, with - before it for descending
	Limit   int      // 1 to 1000; 0 for 100
	Cursor  string   // of an earlier page
	Search  string   // in all text columns
}

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items" nullable:"false"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	Total int    `json:"total" doc:"Number of all items that match; when there are more than 1,000, that number"`
	More  bool   `json:"more,omitempty" doc:"There are more than total says: they are not counted"`
}

// countLimit is up to where matches are counted.
const countLimit = 1_000

// ErrQuery is wrapped by errors about a query that the user can correct.
var ErrQuery = errors.New("list query")

// column of a list.
type column struct {
	name   string
	sql    string
	number bool     // compares as a number
	hidden bool     // not part of Search
	values []string // all that it can be; nil for any
	order  string   // what it is sorted by instead
}

// listing describes a list once: which table, which columns.
type listing[T any] struct {
	from    string
	plain   string // from without its joins, for conditions that need none
	bySort  string // from in the order of the default sort, for lists of all
	joined  string // what conditions of joined tables look like
	id      string // unique integer column
	where   string // always applies; may be empty
	columns []column
	sort    string // default
	parts   *parts // index of parts of texts; may be nil
	scan    string // columns that scanRow reads
	scanRow func(*sql.Rows) (T, error)
}

func (l listing[T]) column(name string) (column, error) {
	var known []string
	for _, c := range l.columns {
		if c.name == name {
			return c, nil
		}
		known = append(known, c.name)
	}
	return column{}, fmt.Errorf("%w: there is no column %q (columns: %s)", ErrQuery, name, strings.Join(known, ", "))
}

var operators = []struct{ text, sql string }{
	{"!~", "NOT LIKE"}, {"!=", "<>"}, {"<=", "<="}, {">=", ">="}, {"~", "LIKE"}, {"=", "="}, {"<", "<"}, {">", ">"}, {"*=", "GLOB"},
}

func (l listing[T]) filter(text string) (condition string, args []any, narrow *narrowed, err error) {
	at, op := len(text), ""
	var operator string
	for _, o := range operators {
		if i := strings.Index(text, o.text); i >= 0 && (i < at || i == at && len(o.text) > len(op)) {
			at, op, operator = i, o.text, o.sql
		}
	}
	if op == "" || at == 0 {
		return "", nil, nil, fmt.Errorf("%w: %q is not a filter: write column=value, column!=value, column~part, column!~part, column*=pattern (with * and ?), column<value or column>value", ErrQuery, text)
	}
	c, err := l.column(strings.TrimSpace(text[:at]))
	if err != nil {
		return "", nil, nil, err
	}
	value := strings.TrimSpace(text[at+len(op):])
	if strings.HasSuffix(operator, "LIKE") {
		if operator == "LIKE" && l.parts.covers(c.name, value) {
			narrow = l.parts.narrow(value)
		}
		return "(" + c.sql + ") " + operator + ` ? ESCAPE '\'`, []any{"%" + escapeLike(value) + "%"}, narrow, nil
	}
	if operator == "GLOB" {
		return "LOWER(" + c.sql + ") GLOB ?", []any{lowerASCII(strings.ReplaceAll(value, "[", "[[]"))}, nil, nil
	}
	condition, args, err = c.compare(operator, value)
	return condition, args, nil, err
}

// lowerASCII lowers the letters that the database's LOWER does.
func lowerASCII(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, text)
}

func escapeLike(value string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(value)
}

type cursor struct {
	Sort  string `json:"s"`
	Value any    `json:"v"`
	ID    int64  `json:"i"`
}

// page runs a query. Paging is by key: a page costs the same wherever it is.
func page[T any](ctx context.Context, db *sql.DB, l listing[T], q Query) (Page[T], error) {
	out := Page[T]{Items: []T{}}
	if err := plainQuery(q); err != nil {
		return out, err
	}
	conditions, args := []string{"1"}, []any{}
	if l.where != "" {
		conditions = append(conditions, l.where)
	}
	var narrow *narrowed
	for _, f := range q.Filters {
		condition, values, narrower, err := l.filter(f)
		if err != nil {
			return out, err
		}
		if narrower != nil {
			narrow = narrower
		}
		conditions = append(conditions, condition)
		args = append(args, values...)
	}
	switch pattern := "%" + escapeLike(q.Search) + "%"; {
	case q.Search == "":
	case l.parts != nil:
		conditions = append(conditions, l.parts.search)
		for range l.parts.asked {
			args = append(args, pattern)
		}
		if narrow == nil && len([]rune(q.Search)) >= shortest {
			narrow = l.parts.searched(q.Search, pattern, l.where == "" && len(q.Filters) == 0)
		}
	default:
		var parts []string
		for _, c := range l.columns {
			if !c.number && !c.hidden {
				parts = append(parts, "("+c.sql+`) LIKE ? ESCAPE '\'`)
				args = append(args, pattern)
			}
		}
		conditions = append(conditions, "("+strings.Join(parts, " OR ")+")")
	}
	where := strings.Join(conditions, " AND ")
	// Counting a million rows takes longer than reading a page of them.
	countFrom := l.from
	if l.plain != "" && !strings.Contains(where, l.joined) && !strings.Contains(where, "scopes.") {
		countFrom = l.plain
	}
	sorted := false // few enough to be sorted
	if narrow != nil {
		ids, all, err := narrow.rows(ctx, db, countFrom, l.id, where, args)
		if err != nil {
			return out, fmt.Errorf("count: %w", err)
		}
		out.Total, out.More = min(len(ids), countLimit), len(ids) > countLimit
		if sorted = all; all {
			where, args = l.id+" IN (SELECT value FROM json_each(?))", []any{text(ids)}
		} else {
			out.Total, out.More = countLimit, true
		}
	} else {
		counted := fmt.Sprintf("SELECT COUNT(*) FROM (SELECT 1 FROM %s WHERE %s LIMIT %d)", countFrom, where, countLimit+1) //nolint:gosec // built from our own columns; values are bound
		if err := db.QueryRowContext(ctx, counted, args...).Scan(&out.Total); err != nil {
			return out, fmt.Errorf("count: %w", err)
		}
		if out.More = out.Total > countLimit; out.More {
			out.Total = countLimit
		}
	}
	sort := q.Sort
	if sort == "" {
		sort = l.sort
	}
	name, descending := strings.CutPrefix(sort, "-")
	c, err := l.column(name)
	if err != nil {
		return out, err
	}
	limit := q.Limit
	if limit <= 0 {
		limit = 100
	}
	if limit > 1000 {
		return out, fmt.Errorf("%w: at most 1000 items a page, asked for %d", ErrQuery, limit)
	}
	if c.order != "" {
		c.sql = c.order
	}
	key, direction, compare := "("+c.sql+") COLLATE NOCASE", "ASC", ">"
	if c.number {
		key = "CAST(" + c.sql + " AS NUMERIC)"
	}
	if descending {
		direction, compare = "DESC", "<"
	}
	if q.Cursor != "" {
		from, err := readCursor(q.Cursor, sort)
		if err != nil {
			return out, err
		}
		where += fmt.Sprintf(" AND (%s, %s) %s (?, ?)", key, l.id, compare)
		args = append(args, from.Value, from.ID)
	}
	from := l.from
	if l.bySort != "" && name == l.sort && l.where == "" && !sorted {
		from = l.bySort
	}
	rows, err := db.QueryContext(ctx, fmt.Sprintf("SELECT %s, %s, %s FROM %s WHERE %s ORDER BY %s %s, %s %s LIMIT %d",
		l.scan, key, l.id, from, where, key, direction, l.id, direction, limit+1), args...)
	if err != nil {
		return out, fmt.Errorf("list: %w", err)
	}
	defer rows.Close()
	var last cursor
	for rows.Next() {
		if len(out.Items) == limit {
			raw, err := json.Marshal(last)
			if err != nil {
				return out, err
			}
			out.Next = base64.RawURLEncoding.EncodeToString(raw)
			break
		}
		item, err := l.scanRow(rows)
		if err != nil {
			return out, fmt.Errorf("list: %w", err)
		}
		out.Items = append(out.Items, item)
		if last, err = keyOf(rows, sort); err != nil {
			return out, err
		}
	}
	return out, rows.Err()
}

// keyOf reads the two last columns of a row.
func keyOf(rows *sql.Rows, sort string) (cursor, error) {
	names, err := rows.Columns()
	if err != nil {
		return cursor{}, err
	}
	c := cursor{Sort: sort}
	into := make([]any, len(names))
	for i := range into {
		into[i] = new(any)
	}
	into[len(names)-2], into[len(names)-1] = &c.Value, &c.ID
	err = rows.Scan(into...)
	if b, ok := c.Value.([]byte); ok {
		c.Value = string(b)
	}
	return c, err
}

func readCursor(text, sort string) (cursor, error) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	var c cursor
	if err == nil {
		err = json.Unmarshal(raw, &c)
	}
	switch c.Value.(type) {
	case nil, string, float64, bool:
	default:
		err = errors.New("no value of a list")
	}
	if err != nil || c.Sort != sort {
		return c, fmt.Errorf("%w: the cursor does not belong to this list and order", ErrQuery)
	}
	return c, nil
}

// padded gives Scan places for the two key columns behind a row's own.
func padded(into ...any) []any { return append(into, new(any), new(any)) }
