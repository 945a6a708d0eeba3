package service

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

type ruleInput struct {
	Name string `path:"name" maxLength:"63"`
}

type draftInput struct {
	Body labels.Draft
}

type saveRuleInput struct {
	Name string `path:"name" maxLength:"63"`
	Body struct {
		labels.Draft
		Mark string `json:"mark" maxLength:"200" doc:"Of the preview of this very draft: what it showed is what is saved"`
	}
}

type removeRuleInput struct {
	Name string `path:"name" maxLength:"63"`
	Mark string `query:"mark" maxLength:"200" doc:"Of the preview of removing it"`
}

type labelInput struct {
	ID    int64  `path:"id" minimum:"1"`
	Label string `path:"label" maxLength:"63"`
	Body  struct {
		Reason string `json:"reason" minLength:"1" maxLength:"500" doc:"Recorded"`
	}
}

type dropLabelInput struct {
	ID     int64  `path:"id" minimum:"1"`
	Label  string `path:"label" maxLength:"63"`
	Reason string `query:"reason" maxLength:"500" doc:"Recorded"`
}

// SavedRule says what saving a rule did.
type SavedRule struct {
	Accounts int `json:"accounts" doc:"That the rules were applied to"`
	Changed  int `json:"changed" doc:"That other rules match than before"`
}

func (s *Service) registerRules() {
	add(s, http.MethodGet, "/rules", "list-rules", "List the rules that put labels on accounts", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Rule]], error) {
		return answer(s.store.Rules(ctx, in.Query()))
	})
	add(s, http.MethodGet, "/rules/fields", "list-rule-fields", "List the fields that a condition may ask", func(context.Context, *empty) (*body[[]rules.Question], error) {
		return answer(rules.Fields(), nil)
	})
	add(s, http.MethodPost, "/rules/preview", "preview-rule", "Show what a rule would do, and what removing one would; nothing is kept", func(ctx context.Context, in *draftInput) (*body[labels.Preview], error) {
		return answer(s.app.Labels.Preview(ctx, who(ctx), in.Body))
	})
	add(s, http.MethodGet, "/rules/{name}", "get-rule", "Show a rule", func(ctx context.Context, in *ruleInput) (*body[records.Rule], error) {
		return answer(s.store.Rule(ctx, in.Name))
	})
	add(s, http.MethodPut, "/rules/{name}", "save-rule", "Add or change a rule whose preview was seen, and apply it", func(ctx context.Context, in *saveRuleInput) (*body[SavedRule], error) {
		draft := in.Body.Draft
		draft.Name, draft.Remove = in.Name, false
		did, err := s.app.Labels.Save(ctx, who(ctx), draft, in.Body.Mark)
		return answer(SavedRule(did), err)
	})
	add(s, http.MethodDelete, "/rules/{name}", "remove-rule", "Remove a rule after a preview of that", func(ctx context.Context, in *removeRuleInput) (*body[SavedRule], error) {
		did, err := s.app.Labels.Save(ctx, who(ctx), labels.Draft{Name: in.Name, Remove: true}, in.Mark)
		return answer(SavedRule(did), err)
	})
	add(s, http.MethodGet, "/labels", "list-labels", "List labels, with how many accounts have them", func(ctx context.Context, _ *empty) (*body[[]records.Label], error) {
		return answer(s.store.AllLabels(ctx))
	})
	add(s, http.MethodGet, "/hand-labels", "list-hand-labels", "List accounts that were given labels by hand, with these", func(ctx context.Context, in *ListInput) (*body[records.Page[records.HandLabels]], error) {
		return answer(s.store.HandLabels(ctx, in.Query()))
	})
	add(s, http.MethodGet, "/accounts/{id}/labels", "list-account-labels", "Say which labels an account has, or is kept from, and why", func(ctx context.Context, in *AccountInput) (*body[[]records.AccountLabel], error) {
		return answer(s.store.LabelsOf(ctx, records.AccountID(in.ID)))
	})
	add(s, http.MethodPut, "/accounts/{id}/labels/{label}", "put-label", "Give an account a label by hand", func(ctx context.Context, in *labelInput) (*body[[]records.AccountLabel], error) {
		if err := s.app.Labels.Put(ctx, who(ctx), records.AccountID(in.ID), in.Label, in.Body.Reason); err != nil {
			return nil, err
		}
		return answer(s.store.LabelsOf(ctx, records.AccountID(in.ID)))
	})
	add(s, http.MethodDelete, "/accounts/{id}/labels/{label}", "drop-label", "Take a label away that was given by hand", func(ctx context.Context, in *dropLabelInput) (*body[[]records.AccountLabel], error) {
		if err := s.app.Labels.Drop(ctx, who(ctx), records.AccountID(in.ID), in.Label, in.Reason); err != nil {
			return nil, err
		}
		return answer(s.store.LabelsOf(ctx, records.AccountID(in.ID)))
	})
}
