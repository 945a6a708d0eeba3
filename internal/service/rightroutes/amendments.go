package rightroutes

import (
	"context"
	"errors"
	"net/http"

	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

type rehearseAmendmentInput struct {
	Body struct {
		Charter   string                  `json:"charter" minLength:"1" maxLength:"63"`
		AccountID records.AccountID       `json:"account_id,omitempty" minimum:"1" doc:"Only this account; all of the charter without it"`
		Lines     []records.CharterLineID `json:"lines,omitempty" maxItems:"200" doc:"Only these of what the charter comes to"`
		States    []charter.State         `json:"states,omitempty" enum:"missing,forbidden,excess" doc:"Where no lines are named; missing and forbidden without it"`
		OnFailure rotation.OnFailure      `json:"on_failure,omitempty" enum:"undo,stop,continue" doc:"undo without it"`
	}
}

type startAmendmentInput struct {
	routing.IDInput
	Body struct {
		Reason string `json:"reason" minLength:"1" maxLength:"500"`
	}
}

type decideAmendmentInput struct {
	routing.IDInput
	Body struct {
		Decision string `json:"decision" enum:"stop,resume,go-on,undo,leave-away"`
		Reason   string `json:"reason,omitempty" maxLength:"500"`
	}
}

// AmendmentStands is how an amendment stands once it was started or decided about.
type AmendmentStands struct {
	records.AmendmentView
	routing.Waiting
}

// registerAmendments registers what is about changes of rights.
func registerAmendments(r *routing.Router, s *store.Store, of func() *amend.Amendments) {
	stands := func(ctx context.Context, id int64, err error) (*routing.Body[AmendmentStands], error) {
		var waits *amend.WaitsError
		if err != nil && !errors.As(err, &waits) {
			return nil, err
		}
		v, err := of().View(ctx, records.AmendmentID(id))
		out := AmendmentStands{AmendmentView: v}
		if waits != nil {
			out.Waiting.Approval = waits.Approval
		}
		return routing.Answer(out, err)
	}
	routing.Add(r, http.MethodGet, "/amendments", "list-amendments", "List changes of rights, the latest first", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Amendment]], error) {
		return routing.Answer(s.Amendments(ctx, in.Query()))
	})
	routing.Add(r, http.MethodPost, "/amendments", "rehearse-amendment", "Rehearse what a charter proposes: nothing is changed", func(ctx context.Context, in *rehearseAmendmentInput) (*routing.Body[records.Amendment], error) {
		b := in.Body
		return routing.Answer(of().Rehearse(ctx, routing.Who(ctx), amend.Wish{Charter: b.Charter, Account: b.AccountID, Lines: b.Lines, States: b.States, OnFailure: b.OnFailure}))
	})
	routing.Add(r, http.MethodGet, "/amendments/{id}", "get-amendment", "Show a change of rights, with its steps as they are now", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.AmendmentView], error) {
		return routing.Answer(of().View(ctx, records.AmendmentID(in.ID)))
	})
	routing.Add(r, http.MethodPost, "/amendments/{id}/start", "start-amendment", "Start what was rehearsed, once a second person has approved it", func(ctx context.Context, in *startAmendmentInput) (*routing.Body[AmendmentStands], error) {
		_, err := of().Start(ctx, routing.Who(ctx), records.AmendmentID(in.ID), in.Body.Reason)
		return stands(ctx, in.ID, err)
	})
	routing.Add(r, http.MethodPost, "/amendments/{id}/decide", "decide-amendment", "Tell a change of rights to stop, resume, go on without what failed, or be undone", func(ctx context.Context, in *decideAmendmentInput) (*routing.Body[AmendmentStands], error) {
		return stands(ctx, in.ID, of().Decide(ctx, routing.Who(ctx), records.AmendmentID(in.ID), in.Body.Decision, in.Body.Reason))
	})
}
