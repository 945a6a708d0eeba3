// Package rightroutes has the operations about who may do what, about what a steward must be
// given, and about charters.
package rightroutes

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/charters"
	"mossledger.example/moss/internal/app/prove"
	"mossledger.example/moss/internal/app/reachability"
	"mossledger.example/moss/internal/app/rights"
	"mossledger.example/moss/internal/app/traces"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

type listInput struct {
	routing.ListInput
	Taken bool `query:"taken" doc:"Those that were taken back, in place of those that are there"`
}

type ofInput struct {
	ID int64 `path:"id" minimum:"1"`
}

type whoInput struct {
	System     string `query:"system" required:"true" minLength:"1" maxLength:"253" doc:"Name of the system"`
	Verb       string `query:"verb" required:"true" minLength:"1" maxLength:"100" doc:"As entries of the system have it, such as run, select or reset password"`
	Object     string `query:"object" maxLength:"2000" doc:"KIND:NAME or NAME of what it is done to; anything when absent"`
	What       string `query:"what" maxLength:"4000" doc:"A command with its arguments, or ALL; a column; a key"`
	As         string `query:"as" maxLength:"100" doc:"Of commands: whose rights they run with; root when absent"`
	Principals bool   `query:"principals" doc:"Groups and roles as well"`
}

// Register registers them.
func Register(r *routing.Router, s *store.Store, application *assembly.Application) {
	app := func() *rights.Rights { return application.Rights }
	registerTraces(r, s, func() *traces.Traces { return application.Traces })
	registerProbes(r, s, func() *reachability.Reachability { return application.Reach })
	registerAmendments(r, s, func() *amend.Amendments { return application.Amendments })
	registerProofs(r, s, func() *prove.Proofs { return application.Proofs })
	registerCharters(r, s, func() *charters.Charters { return application.Charters }, func(ctx context.Context) { application.Traces.Flush(ctx) })
	routing.Add(r, http.MethodGet, "/rights", "list-rights", "List what is given to whom, as systems showed it", func(ctx context.Context, in *listInput) (*routing.Body[records.Page[records.GivenRight]], error) {
		return routing.Answer(s.GivenRights(ctx, in.Taken, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/risks", "list-risks", "List accounts by how much they matter: what each could do, times how weakly it is held", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Risk]], error) {
		return routing.Answer(s.Risks(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/rights/who", "list-right-holders", "Tell who may do something on a system, and through what", func(ctx context.Context, in *whoInput) (*routing.Body[records.RightHolders], error) {
		return routing.Answer(app().Who(ctx, rights.Question{System: in.System, Verb: in.Verb, Object: in.Object, What: in.What, As: in.As, Principals: in.Principals}))
	})
	routing.Add(r, http.MethodGet, "/systems/{name}/preparation", "get-preparation", "Tell what the owner of a system must do so that it can be read and changed, as text to be copied", func(ctx context.Context, in *routing.NameInput) (*routing.Body[[]connect.Preparation], error) {
		return routing.Answer(app().Prepare(ctx, in.Name))
	})
	routing.Add(r, http.MethodGet, "/accounts/{id}/rights", "get-account-rights", "Tell all that an account may do on its system, with the path of each right", func(ctx context.Context, in *ofInput) (*routing.Body[records.AccountRights], error) {
		return routing.Answer(app().Of(ctx, records.AccountID(in.ID)))
	})
}
