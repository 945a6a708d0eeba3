package rightroutes

import (
	"context"
	"encoding/json"
	"net/http"

	"mossledger.example/moss/internal/app/charters"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

// CharterInput names a charter. (Embedded inputs must be exported: huma reads them by
// reflection.)
type CharterInput struct {
	Name string `path:"name" maxLength:"63"`
}

type saveCharterInput struct {
	CharterInput
	Body struct {
		Document string `json:"document" minLength:"1" maxLength:"65536" doc:"The charter in YAML, as GET /charters/schema has it"`
		Version  int64  `json:"version,omitempty" minimum:"0" doc:"Of the charter that was seen and is changed; absent for a new one"`
	}
}

type removeCharterInput struct {
	CharterInput
	Version int64 `query:"version" minimum:"1" required:"true" doc:"Of the one that was seen"`
}

type previewCharterInput struct {
	Body struct {
		Document string `json:"document" maxLength:"65536" doc:"In YAML"`
	}
}

type draftCharterInput struct {
	Body struct {
		Name     string              `json:"name" minLength:"1" maxLength:"63" doc:"Of the charter, and of its label"`
		Accounts []records.AccountID `json:"accounts,omitempty" maxItems:"200"`
		Traces   []records.TraceID   `json:"traces,omitempty" maxItems:"20" doc:"What was sent while these ran"`
	}
}

type linesInput struct {
	routing.ListInput
	Ended bool `query:"ended" doc:"What charters came to and is otherwise now, in place of what they come to"`
}

type matrixCharterInput struct {
	CharterInput
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"Accounts"`
}

// registerCharters registers what is about charters: what accounts of a role must have, may
// have and must never have, and what that comes to.
func registerCharters(r *routing.Router, s *store.Store, of func() *charters.Charters, flush func(context.Context)) {
	routing.Add(r, http.MethodGet, "/charters", "list-charters", "List charters, with what they come to", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Charter]], error) {
		return routing.Answer(s.Charters(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/charters/schema", "get-charter-schema", "Show what a charter may be, as a JSON Schema (draft 2020-12)", func(context.Context, *routing.Empty) (*routing.Body[json.RawMessage], error) {
		return routing.Answer(charter.Schema(), nil)
	})
	routing.Add(r, http.MethodGet, "/charters/ready", "list-ready-charters", "List charters to begin with: for usual roles, and for stewards", func(context.Context, *routing.Empty) (*routing.Body[[]charter.Ready], error) {
		return routing.Answer(charter.AllReady(), nil)
	})
	routing.Add(r, http.MethodGet, "/charters/lines", "list-charter-lines", "List what charters come to, for each account and thing", func(ctx context.Context, in *linesInput) (*routing.Body[records.Page[records.CharterLine]], error) {
		return routing.Answer(s.CharterLines(ctx, in.Ended, in.Query()))
	})
	routing.Add(r, http.MethodPost, "/charters/preview", "preview-charter", "Show what a charter would come to; nothing is kept", func(ctx context.Context, in *previewCharterInput) (*routing.Body[records.CharterPreview], error) {
		return routing.Answer(of().Preview(ctx, routing.Who(ctx), in.Body.Document))
	})
	routing.Add(r, http.MethodPost, "/charters/draft", "draft-charter", "Write a charter from what accounts have; nothing is kept", func(ctx context.Context, in *draftCharterInput) (*routing.Body[records.CharterDraft], error) {
		flush(ctx)
		return routing.Answer(of().Draft(ctx, routing.Who(ctx), in.Body.Name, in.Body.Accounts, in.Body.Traces...))
	})
	routing.Add(r, http.MethodGet, "/charters/{name}", "get-charter", "Show a charter", func(ctx context.Context, in *CharterInput) (*routing.Body[records.Charter], error) {
		return routing.Answer(s.Charter(ctx, in.Name))
	})
	routing.Add(r, http.MethodPut, "/charters/{name}", "save-charter", "Add or change a charter", func(ctx context.Context, in *saveCharterInput) (*routing.Body[records.Charter], error) {
		return routing.Answer(of().Save(ctx, routing.Who(ctx), in.Name, in.Body.Document, in.Body.Version))
	})
	routing.Add(r, http.MethodDelete, "/charters/{name}", "remove-charter", "Remove a charter; its versions stay", func(ctx context.Context, in *removeCharterInput) (*routing.Empty, error) {
		return &routing.Empty{}, of().Remove(ctx, routing.Who(ctx), in.Name, in.Version)
	})
	routing.Add(r, http.MethodGet, "/charters/{name}/versions", "list-charter-versions", "List what a charter said, the latest first", func(ctx context.Context, in *CharterInput) (*routing.Body[[]records.CharterVersion], error) {
		list, err := s.CharterVersions(ctx, in.Name)
		return routing.Answer(append([]records.CharterVersion{}, list...), err)
	})
	routing.Add(r, http.MethodGet, "/charters/{name}/matrix", "get-charter-matrix", "Show what a charter comes to with accounts in rows and its things in columns", func(ctx context.Context, in *matrixCharterInput) (*routing.Body[records.CharterMatrix], error) {
		return routing.Answer(of().Matrix(ctx, in.Name, in.Limit))
	})
	routing.Add(r, http.MethodPost, "/charters/{name}/check", "check-charter", "Hold a charter against its accounts now", func(ctx context.Context, in *CharterInput) (*routing.Body[records.CharterChecked], error) {
		return routing.Answer(of().Check(ctx, routing.Who(ctx), in.Name))
	})
}
