package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"mossledger.example/moss/internal/app/diagnose"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// AccountDetail is an account with its password and the limits of what is known.
type AccountDetail struct {
	Account    records.Account      `json:"account"`
	Password   *records.Credential  `json:"password,omitempty" doc:"Its password as a credential, once it was noted"`
	Incomplete []picture.Incomplete `json:"incomplete" nullable:"false" doc:"Systems that were not read completely: something there may use the account"`
}

// Candidate is an account that a spelling may mean.
type Candidate struct {
	ID     records.AccountID `json:"id"`
	Name   string            `json:"name"`
	System string            `json:"system"`
	DN     string            `json:"dn,omitempty"`
}

// Resolved says what a spelling means.
type Resolved struct {
	Spelling   string      `json:"spelling"`
	State      string      `json:"state" enum:"resolved,ambiguous,unknown,built-in"`
	Form       string      `json:"form"`
	Why        string      `json:"why"`
	Candidates []Candidate `json:"candidates" nullable:"false"`
	Near       []string    `json:"near" nullable:"false" doc:"Names of known accounts that differ by a slip of the keyboard, when nobody is meant"`
}

// AccountInput names an account by number.
type AccountInput struct {
	ID int64 `path:"id" minimum:"1"`
}

func (s *Service) registerAccounts() {
	add(s, http.MethodGet, "/accounts", "list-accounts", "List accounts", func(ctx context.Context, in *accountsInput) (*body[records.Page[records.Account]], error) {
		return answer(s.store.AccountsLabelled(ctx, in.Label, in.Query()))
	})
	add(s, http.MethodGet, "/resolve", "resolve-account", "Say which account a spelling means", s.resolve)
	add(s, http.MethodGet, "/accounts/{id}", "get-account", "Show an account", func(ctx context.Context, in *AccountInput) (*body[AccountDetail], error) {
		return answer(s.detail(ctx, in.ID))
	})
	add(s, http.MethodGet, "/dependents", "list-dependents", "List dependents with their evidence", func(ctx context.Context, in *dependentsInput) (*body[records.Page[records.Dependent]], error) {
		return answer(s.store.Dependents(ctx, in.Account, in.Query()))
	})
	add(s, http.MethodGet, "/dependents/{id}", "get-dependent", "Show a dependent", func(ctx context.Context, in *IDInput) (*body[records.Dependent], error) {
		return answer(s.store.Dependent(ctx, records.DependentID(in.ID)))
	})
	add(s, http.MethodPost, "/dependents/{id}/explain", "explain-dependent", "Say why a dependent is down, with the evidence for each possible cause", func(ctx context.Context, in *IDInput) (*body[diagnose.Explanation], error) {
		return answer(s.app.Diagnoses.Explain(ctx, who(ctx), records.DependentID(in.ID)))
	})
	add(s, http.MethodPost, "/dependents/start", "start-dependents", "Start what is down, one after the other", func(ctx context.Context, in *startDependentsInput) (*body[StartedDependents], error) {
		said, err := s.app.Diagnoses.StartDependents(ctx, who(ctx), in.Body.Reason, in.Body.Dependents)
		return answer(StartedDependents{Words: said}, err)
	})
	add(s, http.MethodPut, "/dependents/{id}/decision", "decide-copy", "Decide about a copy that cannot be replaced, or may be none", func(ctx context.Context, in *decideCopyInput) (*body[records.Dependent], error) {
		if err := s.app.Picture.DecideCopy(ctx, who(ctx), records.DependentID(in.ID), in.Body.Decision, in.Body.Reason); err != nil {
			return nil, err
		}
		return answer(s.store.Dependent(ctx, records.DependentID(in.ID)))
	})
	add(s, http.MethodPut, "/dependents/{id}/limit", "set-limit", "Say what a dependent can carry of a password; nothing takes it back", s.setLimit)
	add(s, http.MethodPut, "/dependents/{id}/check", "set-check", "Set the application's own check of a unit", s.setCheck)
	add(s, http.MethodDelete, "/dependents/{id}/check", "remove-check", "Remove the application's own check of a unit", func(ctx context.Context, in *IDInput) (*empty, error) {
		return &empty{}, s.app.Picture.RemoveCheck(ctx, who(ctx), records.DependentID(in.ID))
	})
	add(s, http.MethodGet, "/findings", "list-findings", "List what needs a person", func(ctx context.Context, in *findingsInput) (*body[records.Page[records.Finding]], error) {
		return answer(s.store.Findings(ctx, in.All, in.Query()))
	})
	add(s, http.MethodGet, "/overview", "get-overview", "Counts for the first page", func(ctx context.Context, _ *empty) (*body[records.Overview], error) {
		return answer(s.store.Overview(ctx))
	})
	add(s, http.MethodGet, "/overview/pictures", "get-pictures", "Counts for the drawings of the first page", func(ctx context.Context, _ *empty) (*body[records.Pictures], error) {
		return answer(s.store.Pictures(ctx))
	})
}

type startDependentsInput struct {
	Body struct {
		Dependents []records.DependentID `json:"dependents" minItems:"1" maxItems:"200" doc:"In this order"`
		Reason     string                `json:"reason" minLength:"1" maxLength:"500"`
	}
}

// StartedDependents tells what each start said.
type StartedDependents struct {
	Words []string `json:"words" nullable:"false"`
}

type accountsInput struct {
	ListInput
	Label string `query:"label" maxLength:"63" doc:"Only those that have this label"`
}

type dependentsInput struct {
	ListInput
	Account records.AccountID `query:"account" doc:"Only those tied to this account"`
}

type findingsInput struct {
	ListInput
	All bool `query:"all" doc:"Also those that were cleared"`
}

type resolveInput struct {
	Name string `query:"name" required:"true" maxLength:"4096" doc:"DN, DOMAIN\\name, name@domain, name, uid, SID, .\\name, system/name or id:number"`
}

func (s *Service) detail(ctx context.Context, id int64) (AccountDetail, error) {
	a, err := s.store.Account(ctx, records.AccountID(id))
	if err != nil {
		return AccountDetail{}, err
	}
	out := AccountDetail{Account: a}
	if c, err := s.store.PasswordOf(ctx, a.ID); err == nil {
		out.Password = &c
	} else if !errors.Is(err, records.ErrNotFound) {
		return out, err
	}
	out.Incomplete, err = s.app.Picture.Incomplete(ctx)
	return out, err
}

func (s *Service) resolve(ctx context.Context, in *resolveInput) (*body[Resolved], error) {
	out := Resolved{Spelling: in.Name, Candidates: []Candidate{}, Near: []string{}}
	a, res, err := s.app.Picture.FindAccount(ctx, in.Name)
	if err == nil {
		out.State, out.Form, out.Why = string(naming.Resolved), string(res.Form), res.Why
		out.Candidates = append(out.Candidates, Candidate{ID: a.ID, Name: a.Name, System: a.System, DN: a.DN})
		return answer(out, nil)
	}
	if res.State == "" {
		return nil, err
	}
	out.State, out.Form, out.Why = string(res.State), string(res.Form), res.Why
	if res.State == naming.Unknown {
		if out.Near, err = s.app.Picture.NearNames(ctx, in.Name); err != nil {
			return nil, err
		}
	}
	for _, k := range res.Accounts {
		var id int64
		if _, err := fmt.Sscan(k.ID, &id); err != nil {
			return nil, err
		}
		a, err := s.store.Account(ctx, records.AccountID(id))
		if err != nil {
			return nil, err
		}
		out.Candidates = append(out.Candidates, Candidate{ID: a.ID, Name: a.Name, System: a.System, DN: a.DN})
	}
	return answer(out, nil)
}

type setCheckInput struct {
	IDInput
	Body rotation.AppCheck
}

func (s *Service) setCheck(ctx context.Context, in *setCheckInput) (*body[records.Dependent], error) {
	if err := s.app.Picture.SetCheck(ctx, who(ctx), records.DependentID(in.ID), in.Body); err != nil {
		return nil, err
	}
	return answer(s.store.Dependent(ctx, records.DependentID(in.ID)))
}

type setLimitInput struct {
	IDInput
	Body credential.Limit
}

func (s *Service) setLimit(ctx context.Context, in *setLimitInput) (*body[records.Dependent], error) {
	if err := s.app.Picture.SetLimit(ctx, who(ctx), records.DependentID(in.ID), in.Body); err != nil {
		return nil, err
	}
	return answer(s.store.Dependent(ctx, records.DependentID(in.ID)))
}

type decideCopyInput struct {
	IDInput
	Body struct {
		Decision string `json:"decision" enum:"leave,replace," doc:"leave: it stays as it is; replace: it is a copy; empty: taken back"`
		Reason   string `json:"reason,omitempty" maxLength:"500" doc:"Recorded, and shown before every rotation"`
	}
}
