// Package approvalroutes has the operations about what one person asks for and another one
// approves.
package approvalroutes

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

type approveInput struct {
	routing.IDInput
	Body struct {
		Digest string `json:"digest" minLength:"64" maxLength:"64" doc:"Of the request as it was looked at"`
		Words  string `json:"words,omitempty" maxLength:"500"`
	}
}

type refuseInput struct {
	routing.IDInput
	Body struct {
		Words string `json:"words,omitempty" maxLength:"500" doc:"Why"`
	}
}

// Register registers them.
func Register(r *routing.Router, s *store.Store, app func() *approval.Approvals) {
	routing.Add(r, http.MethodGet, "/approvals", "list-approvals", "List what was asked for and needs, or had, a second person", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Approval]], error) {
		return routing.Answer(s.Approvals(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/approvals/{id}", "get-approval", "Show a request, with before and after", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.Approval], error) {
		return routing.Answer(s.Approval(ctx, records.ApprovalID(in.ID)))
	})
	routing.Add(r, http.MethodPost, "/approvals/{id}/approve", "approve", "Approve what somebody else asked for, and have it done", func(ctx context.Context, in *approveInput) (*routing.Body[records.Approval], error) {
		return routing.Answer(app().Approve(ctx, routing.Who(ctx), records.ApprovalID(in.ID), in.Body.Digest, in.Body.Words))
	})
	routing.Add(r, http.MethodPost, "/approvals/{id}/refuse", "refuse-approval", "Refuse a request, or withdraw one's own", func(ctx context.Context, in *refuseInput) (*routing.Body[records.Approval], error) {
		return routing.Answer(app().Refuse(ctx, routing.Who(ctx), records.ApprovalID(in.ID), in.Body.Words))
	})
}
