// Package routing registers operations of the API: each with its right, what it takes and
// what it answers.
package routing

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/records"
)

// Router is what operations are registered with.
type Router struct {
	API     huma.API
	Problem func(error) error // turns an error into problem details
}

type actorKey struct{}

// Acting is a context in which somebody acts.
func Acting(ctx huma.Context, actor access.Actor) huma.Context {
	return huma.WithValue(ctx, actorKey{}, actor)
}

// Who is the caller.
func Who(ctx context.Context) access.Actor {
	actor, _ := ctx.Value(actorKey{}).(access.Actor)
	return actor
}

// Add registers one operation. It panics at start when the table of rights does not know
// it.
func Add[I, O any](r *Router, method, path, operation, summary string, handler func(context.Context, *I) (*O, error)) {
	huma.Register(r.API, Describe(method, path, operation, summary), func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		return out, r.Problem(err)
	})
}

// Describe is an operation with its right, and the statuses that may come of it.
func Describe(method, path, operation, summary string) huma.Operation {
	if !access.Known(access.Action(operation)) {
		panic("routing: the table of rights does not know " + operation)
	}
	op := huma.Operation{
		Method: method, Path: "/api/v1" + path, OperationID: operation, Summary: summary, MaxBodyBytes: 11 << 20,
		Errors: refused(method, path), Security: []map[string][]string{{}},
	}
	if !access.Public(access.Action(operation)) {
		op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		op.Description = fmt.Sprintf("Roles: %v", access.Needs(access.Action(operation)))
	}
	return op
}

// refused are the statuses with which a request may be answered in place of
// what it asked for; the validation of requests adds 422, everything 500.
func refused(method, path string) []int {
	out := []int{http.StatusBadRequest, http.StatusUnauthorized, http.StatusForbidden, http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusGatewayTimeout}
	if strings.Contains(path, "{") {
		out = append(out, http.StatusNotFound)
	}
	if method != http.MethodGet {
		out = append(out, http.StatusNotFound, http.StatusConflict, http.StatusPreconditionFailed, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity, http.StatusBadGateway)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Body is an answer with a body only.
type Body[T any] struct{ Body T }

// Answer is an answer with a body, or an error.
func Answer[T any](v T, err error) (*Body[T], error) {
	if err != nil {
		return nil, err
	}
	return &Body[T]{v}, nil
}

// Empty is a request that says nothing.
type Empty struct{}

// ListInput is what every list takes.
type ListInput struct {
	Filter []string `query:"filter,explode" maxItems:"20" doc:"column=value, column!=value, column~part, column!~part, column<value, column>value; all must match"`
	Sort   string   `query:"sort" doc:"A column; with - before it descending"`
	Limit  int      `query:"limit" minimum:"0" maximum:"1000" doc:"Items a page; 100 by default"`
	Cursor string   `query:"cursor" doc:"next of the page before"`
	Search string   `query:"search" maxLength:"200" doc:"Part of any text column"`

	Columns bool `query:"columns" doc:"Only say by which columns one can filter and sort"`
}

// Query is what a list takes, as the store reads it.
func (l ListInput) Query() records.Query {
	return records.Query{Filters: l.Filter, Sort: l.Sort, Limit: l.Limit, Cursor: l.Cursor, Search: l.Search, Columns: l.Columns}
}

// IDInput names one item by number. (Embedded inputs must be exported: huma
// reads them by reflection.)
type IDInput struct {
	ID int64 `path:"id" minimum:"1"`
}

// NameInput names one item by name or number.
type NameInput struct {
	Name string `path:"name" doc:"Name or number" maxLength:"300"`
}

// Waiting is the answer of an act that somebody else has to approve first.
type Waiting struct {
	Approval records.ApprovalID `json:"waits_for_approval,omitempty" doc:"Number of the approval that it waits for; absent when it was done at once"`
}
