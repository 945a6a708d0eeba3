package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// A new route: write a handler beside its kind, register it with add, and give
// its operation a line in the table of package access.

func (s *Service) registerAll() {
	s.registerPeople()
	s.registerSystems()
	s.registerSurveys()
	s.registerAccounts()
	s.registerRules()
	s.registerRadius()
	s.registerRotations()
	s.registerCredentials()
	s.registerOptions()
	s.registerApprovals()
	s.registerLedger()
}

// add registers one operation. It panics at start when the table of rights does
// not know it.
func add[I, O any](s *Service, method, path, operation, summary string, handler func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, describe(method, path, operation, summary), func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		return out, s.problem(err)
	})
}

func describe(method, path, operation, summary string) huma.Operation {
	if !access.Known(access.Action(operation)) {
		panic("service: the table of rights does not know " + operation)
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

// body is an answer with a body only.
type body[T any] struct{ Body T }

func answer[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{v}, nil
}

type empty struct{}

// ListInput is what every list takes.
type ListInput struct {
	Filter []string `query:"filter,explode" maxItems:"20" doc:"column=value, column!=value, column~part, column!~part, column<value, column>value; all must match"`
	Sort   string   `query:"sort" doc:"A column; with - before it descending"`
	Limit  int      `query:"limit" minimum:"0" maximum:"1000" doc:"Items a page; 100 by default"`
	Cursor string   `query:"cursor" doc:"next of the page before"`
	Search string   `query:"search" maxLength:"200" doc:"Part of any text column"`

	Columns bool `query:"columns" doc:"Only say by which columns one can filter and sort"`
}

func (l ListInput) query() records.Query {
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

// Keyed is a request that starts work: sent twice with one key, it is done once.
type Keyed struct {
	Key string `header:"Idempotency-Key" maxLength:"100"`
}

// once runs start unless the same person sent the same key before; then the
// answer is that of the first. What start begins takes the key with it in one
// transaction. An approval's answer is its number below zero.
func once[ID ~int64](ctx context.Context, s *Service, key, act string, asked any, start func(context.Context) (ID, error)) (ID, error) {
	if key == "" {
		return start(ctx)
	}
	raw, err := json.Marshal([]any{act, asked})
	if err != nil {
		return 0, err
	}
	digest := sha256.Sum256(raw)
	request := database.Request{User: who(ctx).Name, Key: key, Asked: hex.EncodeToString(digest[:])}
	if earlier, found, err := s.store.Earlier(ctx, request); err != nil || found {
		return ID(earlier), sameRequest(err)
	}
	id, err := start(database.WithRequest(ctx, request))
	// Its twin may have come first; it is no conflict of this one.
	if err != nil && !errors.Is(err, database.ErrOtherRequest) {
		earlier, found, other := s.store.Earlier(ctx, request)
		if found || errors.Is(other, database.ErrOtherRequest) {
			return ID(earlier), sameRequest(other)
		}
	}
	return id, err
}

func sameRequest(err error) error {
	if errors.Is(err, database.ErrOtherRequest) {
		return fmt.Errorf("%w: %w: send each new request with a new key", app.ErrInput, err)
	}
	return err
}
