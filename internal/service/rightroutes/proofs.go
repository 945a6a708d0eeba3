package rightroutes

import (
	"context"
	"errors"
	"net/http"

	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/app/prove"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

type startProofInput struct {
	CharterInput
	Body struct {
		AccountID records.AccountID `json:"account_id" minimum:"1" doc:"A scratch account: with that label, in custody, used by nothing"`
		Job       string            `json:"job" minLength:"1" maxLength:"65536" doc:"A step a line, in the system's own language"`
		Reason    string            `json:"reason" minLength:"1" maxLength:"500"`
	}
}

// ProofStands is how a proof stands once it was asked for.
type ProofStands struct {
	records.CharterProof
	routing.Waiting
}

// registerProofs registers what is about experiments with rights.
func registerProofs(r *routing.Router, s *store.Store, of func() *prove.Proofs) {
	routing.Add(r, http.MethodPost, "/charters/{name}/prove", "start-proof", "Try which rights of a charter a job needs, with a scratch account, once a second person has approved it", func(ctx context.Context, in *startProofInput) (*routing.Body[ProofStands], error) {
		v, err := of().Start(ctx, routing.Who(ctx), prove.Wish{Charter: in.Name, Account: in.Body.AccountID, Job: in.Body.Job, Reason: in.Body.Reason})
		out := ProofStands{CharterProof: v}
		var waits *amend.WaitsError
		if errors.As(err, &waits) {
			out.Waiting.Approval = waits.Approval
			err = nil
		}
		return routing.Answer(out, err)
	})
	routing.Add(r, http.MethodGet, "/proofs", "list-proofs", "List what was tried of charters, the latest first", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.CharterProof]], error) {
		return routing.Answer(s.Proofs(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/proofs/{id}", "get-proof", "Show what fails without each right", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.CharterProof], error) {
		return routing.Answer(s.Proof(ctx, records.ProofID(in.ID)))
	})
	routing.Add(r, http.MethodPost, "/proofs/{id}/stop", "stop-proof", "End a proof before its time; what was given for it is taken back", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.CharterProof], error) {
		return routing.Answer(of().Stop(ctx, routing.Who(ctx), records.ProofID(in.ID)))
	})
}
