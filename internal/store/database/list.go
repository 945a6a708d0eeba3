package database

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/records"
)

// countLimit is up to where matches are counted.
const countLimit = 1_000

// ErrQuery is wrapped by errors about a query that the user can correct.
var ErrQuery = errors.New("list query")

// Column of a list.
type Column struct {
	Name   string
	Sql    string
	Number bool     // compares as a number
	Hidden bool     // not part of Search
	Values []string // all that it can be; nil for any
	Order  string   // what it is sorted by instead; of moments, in the same order where there is one
	// A query for the rows that have a value, with ?1 for it, where the columns' own table has
	// no index; and what else holds of rows that have a value, and has one.
	Having  string
	Like    string // the same for a part of a value, as a pattern
	Implied map[string]string
}

// Listing describes a list once: which table, which columns.
type Listing[T any] struct {
	From    string
	Plain   string // from without its joins, for conditions that need none
	BySort  string // from in the order of the default sort, for lists of all
	Joined  string // what conditions of joined tables look like
	ID      string // unique integer column
	Where   string // always applies; may be empty
	Columns []Column
	Sort    string // default
	Parts   *Parts // index of parts of texts; may be nil
	Scan    string // columns that scanRow reads
	ScanRow func(*sql.Rows) (T, error)
}

func (l Listing[T]) column(name string) (Column, error) {
	var known []string
	for _, c := range l.Columns {
		if c.Name == name {
			return c, nil
		}
		known = append(known, c.Name)
	}
	return Column{}, fmt.Errorf("%w: there is no column %q (columns: %s)", ErrQuery, name, strings.Join(known, ", "))
}

// columns are those that a query may name.
func (l Listing[T]) columns() []records.ListColumn {
	kinds := map[columnType]string{typeText: "text", typeNumber: "number", typeFlag: "yes-no", typeMoment: "moment"}
	out := make([]records.ListColumn, 0, len(l.Columns))
	for _, c := range l.Columns {
		v := records.ListColumn{Name: c.Name, Kind: kinds[c.kind()]}
		for _, value := range c.allowed() {
			if value != "" {
				v.Values = append(v.Values, value)
			}
		}
		out = append(out, v)
	}
	return out
}

var operators = []struct{ text, sql string }{
	{"!~", "NOT LIKE"}, {"!=", "<>"}, {"<=", "<="}, {">=", ">="}, {"~", "LIKE"}, {"=", "="}, {"<", "<"}, {">", ">"}, {"*=", "GLOB"},
}

func (l Listing[T]) filter(text string) (condition string, args []any, narrow *narrowed, err error) {
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
		if operator == "LIKE" && l.Parts.covers(c.Name, value) {
			narrow = l.Parts.narrow(value)
		} else if operator == "LIKE" && c.Like != "" && value != "" { // a part that is nothing is in what has no text, too
			narrow = &narrowed{query: c.Like, args: []any{"%" + escapeLike(value) + "%"}}
		}
		return "(" + c.Sql + ") " + operator + ` ? ESCAPE '\'`, []any{"%" + escapeLike(value) + "%"}, narrow, nil
	}
	if operator == "GLOB" {
		return "LOWER(" + c.Sql + ") GLOB ?", []any{lowerASCII(strings.ReplaceAll(value, "[", "[[]"))}, nil, nil
	}
	condition, args, err = c.compare(operator, value)
	if operator == "=" && err == nil {
		if c.Having != "" {
			narrow = &narrowed{query: c.Having, args: []any{value}}
		}
		if implied := c.Implied[strings.ToLower(value)]; implied != "" {
			condition += " AND " + implied
		}
	}
	return condition, args, narrow, err
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

// selection is what of a list is asked for.
type selection struct {
	where  string
	args   []any
	narrow *narrowed
	few    bool // few enough to be sorted
}

// PageOf runs a query. Paging is by key: a page costs the same wherever it is.
func PageOf[T any](ctx context.Context, db *Reader, l Listing[T], q records.Query) (records.Page[T], error) {
	out := records.Page[T]{Items: []T{}}
	if q.Columns {
		out.Columns = l.columns()
		return out, nil
	}
	if err := plainQuery(q); err != nil {
		return out, err
	}
	chosen, err := l.selection(q)
	if err != nil {
		return out, err
	}
	if out.Total, out.More, err = l.count(ctx, db, &chosen); err != nil {
		return out, fmt.Errorf("count: %w", err)
	}
	by, err := l.order(q)
	if err != nil {
		return out, err
	}
	if q.Cursor != "" {
		from, err := readCursor(q.Cursor, by.sort)
		if err != nil {
			return out, err
		}
		if by.key == l.ID {
			chosen.where += fmt.Sprintf(" AND %s %s ?", l.ID, by.compare)
		} else {
			chosen.where += fmt.Sprintf(" AND (%s, %s) %s (?, ?)", by.key, l.ID, by.compare)
			chosen.args = append(chosen.args, from.Value)
		}
		chosen.args = append(chosen.args, from.ID)
	}
	limit := q.Limit
	if limit <= 0 {
		limit = 100
	}
	if limit > 1000 {
		return out, fmt.Errorf("%w: at most 1000 items a page, asked for %d", ErrQuery, limit)
	}
	from := l.From
	if l.BySort != "" && by.name == l.Sort && l.Where == "" && !chosen.few {
		from = l.BySort
	}
	rows, err := db.QueryContext(ctx, fmt.Sprintf("SELECT %s, %s, %s FROM %s WHERE %s ORDER BY %s %s, %s %s LIMIT %d",
		l.Scan, by.key, l.ID, from, chosen.where, by.key, by.direction, l.ID, by.direction, limit+1), chosen.args...)
	if err != nil {
		return out, fmt.Errorf("list: %w", err)
	}
	defer rows.Close()
	out.Items, out.Next, err = l.items(rows, limit, by.sort)
	return out, err
}

// items scans a page, and makes the cursor of the next one when there is more.
func (l Listing[T]) items(rows *sql.Rows, limit int, sort string) ([]T, string, error) {
	items := []T{}
	var last cursor
	for rows.Next() {
		if len(items) == limit {
			raw, err := json.Marshal(last)
			return items, base64.RawURLEncoding.EncodeToString(raw), err
		}
		item, err := l.ScanRow(rows)
		if err != nil {
			return items, "", fmt.Errorf("list: %w", err)
		}
		items = append(items, item)
		if last, err = keyOf(rows, sort); err != nil {
			return items, "", err
		}
	}
	return items, "", rows.Err()
}

// selection makes a query's filters and its search into a condition.
func (l Listing[T]) selection(q records.Query) (selection, error) {
	var out selection
	conditions := []string{"1"}
	if l.Where != "" {
		conditions = append(conditions, l.Where)
	}
	for _, f := range q.Filters {
		condition, values, narrower, err := l.filter(f)
		if err != nil {
			return out, err
		}
		if narrower != nil {
			out.narrow = narrower
		}
		conditions = append(conditions, condition)
		out.args = append(out.args, values...)
	}
	switch pattern := "%" + escapeLike(q.Search) + "%"; {
	case q.Search == "":
	case l.Parts != nil:
		conditions = append(conditions, l.Parts.Search)
		for range l.Parts.Asked {
			out.args = append(out.args, pattern)
		}
		if out.narrow == nil && len([]rune(q.Search)) >= shortest {
			out.narrow = l.Parts.searched(q.Search, pattern, l.Where == "" && len(q.Filters) == 0)
		}
	default:
		var parts, found []string
		for _, c := range l.Columns {
			if !c.Number && !c.Hidden {
				parts = append(parts, "("+c.Sql+`) LIKE ? ESCAPE '\'`)
				out.args = append(out.args, pattern)
			}
			if c.Like != "" {
				found = append(found, c.Like)
			}
		}
		conditions = append(conditions, "("+strings.Join(parts, " OR ")+")")
		if len(found) > 0 && out.narrow == nil {
			out.narrow = &narrowed{query: strings.Join(found, " UNION "), args: []any{pattern}}
		}
	}
	out.where = strings.Join(conditions, " AND ")
	return out, nil
}

// count says how many are chosen, up to a limit: counting a million rows takes
// longer than reading a page of them. Where few are, they are chosen by number
// from then on.
func (l Listing[T]) count(ctx context.Context, db *Reader, chosen *selection) (total int, more bool, err error) {
	from := l.From
	if l.Plain != "" && !strings.Contains(chosen.where, l.Joined) && !strings.Contains(chosen.where, "scopes.") {
		from = l.Plain
	}
	if chosen.narrow != nil {
		ids, all, err := chosen.narrow.rows(ctx, db, from, l.ID, chosen.where, chosen.args)
		if err != nil || !all {
			return countLimit, true, err
		}
		chosen.few, chosen.where, chosen.args = true, l.ID+" IN (SELECT value FROM json_each(?))", []any{AsJSON(ids)}
		return min(len(ids), countLimit), len(ids) > countLimit, nil
	}
	counted := fmt.Sprintf("SELECT COUNT(*) FROM (SELECT 1 FROM %s WHERE %s LIMIT %d)", from, chosen.where, countLimit+1)
	err = db.QueryRowContext(ctx, counted, chosen.args...).Scan(&total)
	return min(total, countLimit), total > countLimit, err
}

// ordered is by what a list is sorted.
type ordered struct {
	sort, name              string // as asked for, and its column
	key, direction, compare string
}

func (l Listing[T]) order(q records.Query) (ordered, error) {
	out := ordered{sort: q.Sort, direction: "ASC", compare: ">"}
	if out.sort == "" {
		out.sort = l.Sort
	}
	name, descending := strings.CutPrefix(out.sort, "-")
	c, err := l.column(name)
	if err != nil {
		return out, err
	}
	if c.Order != "" {
		c.Sql = c.Order
	}
	out.name, out.key = name, "("+c.Sql+") COLLATE NOCASE"
	switch {
	case c.Sql == l.ID:
		out.key = l.ID // as it stands, it has an index
	case c.Number:
		out.key = "CAST(" + c.Sql + " AS NUMERIC)"
	}
	if descending {
		out.direction, out.compare = "DESC", "<"
	}
	return out, nil
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

// Padded gives Scan places for the two key columns behind a row's own.
func Padded(into ...any) []any { return append(into, new(any), new(any)) }
