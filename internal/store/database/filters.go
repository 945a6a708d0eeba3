package database

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/records"
)

// Filters compare a column with a value of the column's own type. A value that
// cannot be one is refused with those that can: a filter that silently matches
// nothing, or its opposite, is worse than none.

// columnType says what a column's values are.
type columnType int

const (
	typeText columnType = iota
	typeNumber
	typeFlag   // 0 or 1
	typeMoment // as stamped; "" for never
)

var (
	momentColumns = []string{"at", "changed", "seen", "raised", "cleared", "started", "rehearsed", "ended", "first_seen", "gone", "password_changed", "password_expires", "account_expires", "last_logon", "created", "expires", "revoked", "asked", "decided", "checked", "visited", "read_completely", "rotated", "taken", "verified", "not_after", "time", "since", "ends"}
	flagColumns   = []string{"deny", "never_expires", "must_change", "custody", "built_in", "disabled", "live", "stores", "listens", "excludes"}
	knownValues   = map[string][]string{
		"severity": {"high", "medium", "low"}, "enabled": {"yes", "no", "unknown"}, "locked": {"yes", "no", "unknown"},
		"verdict": {"accepted", "refused", "unclear", ""}, "identity": {"named", "managed", "virtual", "built-in", ""}, "on_failure": {"stop", "continue", "undo"},
		"mode": {"running", "stopped", "undoing", "finished"}, "phase": {"intent", "outcome"}, "evidence": nil,
	}
)

func (c Column) kind() columnType {
	switch {
	case slices.Contains(flagColumns, c.Name):
		return typeFlag
	case slices.Contains(momentColumns, c.Name):
		return typeMoment
	case c.Number:
		return typeNumber
	}
	return typeText
}

// allowed are all values that a column can have; nil for any.
func (c Column) allowed() []string {
	if c.Values != nil {
		return c.Values
	}
	return knownValues[c.Name]
}

func (c Column) refuse(value, expected string) error {
	return fmt.Errorf("%w: %s cannot be %q: %s", ErrQuery, c.Name, value, expected)
}

// compare makes the condition of an operator that compares whole values.
func (c Column) compare(operator, value string) (string, []any, error) {
	equality := operator == "=" || operator == "<>"
	switch c.kind() {
	case typeFlag:
		flag, known := map[string]int{"yes": 1, "true": 1, "1": 1, "no": 0, "false": 0, "0": 0}[strings.ToLower(value)]
		if !known {
			return "", nil, c.refuse(value, "it is yes or no")
		}
		if !equality {
			return "", nil, c.refuse(value, "yes and no are compared with = and != only")
		}
		return "CAST(" + c.Sql + " AS INTEGER) " + operator + " ?", []any{flag}, nil
	case typeNumber:
		number, err := strconv.ParseFloat(value, 64)
		if err != nil {
			return "", nil, c.refuse(value, "a number is expected")
		}
		return "CAST(" + c.Sql + " AS NUMERIC) " + operator + " ?", []any{number}, nil
	case typeMoment:
		condition, args, err := c.compareMoment(operator, value)
		if c.Order == "" || equality || err != nil {
			return condition, args, err
		}
		ordered, more, err := Column{Name: c.Name, Sql: c.Order}.compareMoment(operator, value)
		return condition + " AND " + ordered, append(args, more...), err
	}
	if allowed := c.allowed(); allowed != nil {
		if !slices.ContainsFunc(allowed, func(a string) bool { return strings.EqualFold(a, value) }) {
			return "", nil, c.refuse(value, "it is one of "+strings.Join(quoted(allowed), ", "))
		}
		if !equality {
			return "", nil, c.refuse(value, "these words are compared with = and != only")
		}
	}
	return "(" + c.Sql + ") " + operator + " ? COLLATE NOCASE", []any{value}, nil
}

func quoted(words []string) []string {
	out := make([]string, len(words))
	for i, w := range words {
		if out[i] = w; w == "" {
			out[i] = "nothing"
		}
	}
	return out
}

const momentExpected = `a moment as 2026-03-01, 2026-03-01T08:00:00Z, or "" for never`

// compareMoment compares with a moment, or with a whole day.
func (c Column) compareMoment(operator, value string) (string, []any, error) {
	if value == "" {
		if operator != "=" && operator != "<>" {
			return "", nil, c.refuse(value, momentExpected)
		}
		return "(" + c.Sql + ") " + operator + " ''", nil, nil
	}
	if day, err := time.Parse(time.DateOnly, value); err == nil {
		from, to := StampOf(day), StampOf(day.AddDate(0, 0, 1))
		inside := "((" + c.Sql + ") >= ? AND (" + c.Sql + ") < ?)"
		switch operator {
		case "=":
			return inside, []any{from, to}, nil
		case "<>":
			return "NOT " + inside, []any{from, to}, nil
		case "<", ">=":
			return "((" + c.Sql + ") " + operator + " ? AND (" + c.Sql + ") <> '')", []any{from}, nil
		case ">": // after that day
			return "(" + c.Sql + ") >= ?", []any{to}, nil
		default: // <=: on that day or before
			return "((" + c.Sql + ") < ? AND (" + c.Sql + ") <> '')", []any{to}, nil
		}
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04", "2006-01-02 15:04"} {
		if t, err := time.Parse(layout, value); err == nil {
			if operator == "=" || operator == "<>" { // never is another moment
				return "(" + c.Sql + ") " + operator + " ?", []any{StampOf(t)}, nil
			}
			return "((" + c.Sql + ") " + operator + " ? AND (" + c.Sql + ") <> '')", []any{StampOf(t)}, nil
		}
	}
	return "", nil, c.refuse(value, momentExpected)
}

// plainQuery refuses what no text of a list can contain.
func plainQuery(q records.Query) error {
	for _, text := range append([]string{q.Sort, q.Cursor, q.Search}, q.Filters...) {
		if i := strings.IndexFunc(text, func(r rune) bool { return r < ' ' && r != '\t' || r == 0xFFFD || r == 0x7f }); i >= 0 {
			return fmt.Errorf("%w: it contains a control character, or bytes that are no text", ErrQuery)
		}
	}
	return nil
}
