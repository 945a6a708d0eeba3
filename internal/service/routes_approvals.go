package service

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/records"
)

// Waiting is the answer of an act that somebody else has to approve first.
type Waiting struct {
	Approval records.ApprovalID `json:"waits_for_approval,omitempty" doc:"Number of the approval that it waits for; absent when it was done at once"`
}

type approveInput struct {
	IDInput
	Body struct {
		Digest string `json:"digest" minLength:"64" maxLength:"64" doc:"Of the request as it was looked at"`
		Words  string `json:"words,omitempty" maxLength:"500"`
	}
}

type refuseInput struct {
	IDInput
	Body struct {
		Words string `json:"words,omitempty" maxLength:"500" doc:"Why"`
	}
}

func (s *Service) registerApprovals() {
	add(s, http.MethodGet, "/approvals", "list-approvals", "List what was asked for and needs, or had, a second person", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Approval]], error) {
		return answer(s.store.Approvals(ctx, in.Query()))
	})
	add(s, http.MethodGet, "/approvals/{id}", "get-approval", "Show a request, with before and after", func(ctx context.Context, in *IDInput) (*body[records.Approval], error) {
		return answer(s.store.Approval(ctx, records.ApprovalID(in.ID)))
	})
	add(s, http.MethodPost, "/approvals/{id}/approve", "approve", "Approve what somebody else asked for, and have it done", func(ctx context.Context, in *approveInput) (*body[records.Approval], error) {
		return answer(s.app.Approvals.Approve(ctx, who(ctx), records.ApprovalID(in.ID), in.Body.Digest, in.Body.Words))
	})
	add(s, http.MethodPost, "/approvals/{id}/refuse", "refuse-approval", "Refuse a request, or withdraw one's own", func(ctx context.Context, in *refuseInput) (*body[records.Approval], error) {
		return answer(s.app.Approvals.Refuse(ctx, who(ctx), records.ApprovalID(in.ID), in.Body.Words))
	})
}
