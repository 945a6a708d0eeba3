package policyroutes

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
)

// TandemInput names a tandem.
type TandemInput struct {
	ID int64 `path:"id" minimum:"1"`
}

type addTandemInput struct {
	Body struct {
		Working int64  `json:"working" minimum:"1" doc:"Number of the credential whose account works now"`
		Resting int64  `json:"resting" minimum:"1" doc:"Number of the credential whose account rests, and takes its place when its turn comes"`
		Reason  string `json:"reason,omitempty" maxLength:"1000"`
	}
}

type removeTandemInput struct {
	TandemInput
	Reason string `query:"reason" maxLength:"1000"`
}

func registerTandems(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/tandems", "list-tandems", "List accounts that take turns", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Tandem]], error) {
		return routing.Answer(n.Store.Tandems(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/tandems/{id}", "get-tandem", "Show one", func(ctx context.Context, in *TandemInput) (*routing.Body[records.Tandem], error) {
		return routing.Answer(n.Store.Tandem(ctx, records.TandemID(in.ID)))
	})
	routing.Add(r, http.MethodPost, "/tandems", "add-tandem", "Have two accounts take turns; nothing is changed until their first turn", func(ctx context.Context, in *addTandemInput) (*routing.Body[records.Tandem], error) {
		working, err := n.Store.Credential(ctx, records.CredentialID(in.Body.Working))
		if err != nil {
			return nil, err
		}
		resting, err := n.Store.Credential(ctx, records.CredentialID(in.Body.Resting))
		if err != nil {
			return nil, err
		}
		return routing.Answer(n.Tandems.Add(ctx, routing.Who(ctx), working, resting, in.Body.Reason))
	})
	routing.Add(r, http.MethodDelete, "/tandems/{id}", "remove-tandem", "Have them take turns no more; both stay as they are", func(ctx context.Context, in *removeTandemInput) (*routing.Empty, error) {
		return &routing.Empty{}, n.Tandems.Remove(ctx, routing.Who(ctx), records.TandemID(in.ID), in.Reason)
	})
}
