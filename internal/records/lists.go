package records

import "errors"

// Query is what every list takes.
type Query struct {
	Filters []string // column, operator, value: name~svc-  state=failed  seen<2026-01-01
	Sort    string   // column, with - before it for descending
	Limit   int      // 1 to 1000; 0 for 100
	Cursor  string   // of an earlier page
	Search  string   // in all text columns
	Columns bool     // no items: only by which columns one can filter and sort
}

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items" nullable:"false"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	Total int    `json:"total" doc:"Number of all items that match; when there are more than 1,000, that number"`
	More  bool   `json:"more,omitempty" doc:"There are more than total says: they are not counted"`

	Columns []ListColumn `json:"columns,omitempty" doc:"Only when they were asked for"`
}

// ListColumn is a column by which a list is filtered and sorted.
type ListColumn struct {
	Name   string   `json:"name"`
	Kind   string   `json:"kind" enum:"text,number,yes-no,moment" doc:"What its values are, and how they compare"`
	Values []string `json:"values,omitempty" doc:"All that it can be, where these are few"`
}

// Errors that callers decide by.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("already there")
	ErrStale    = errors.New("changed by somebody else in the meantime")
	// ErrForged is about rows that were changed outside of the service.
	ErrForged = errors.New("it was changed outside of the service")
)
