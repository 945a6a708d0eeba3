package rightroutes

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/app/reachability"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

type probeInput struct {
	Body struct {
		Asks []reach.Ask `json:"asks" minItems:"1" maxItems:"100"`
		From []string    `json:"from,omitempty" maxItems:"50" doc:"Names of systems to ask from; an empty one, or none, for the service itself"`
	}
}

// registerProbes registers what is about ports.
func registerProbes(r *routing.Router, s *store.Store, of func() *reachability.Reachability) {
	routing.Add(r, http.MethodPost, "/probes", "run-probe", "Ask ports from the service and from hosts, and keep what came of it", func(ctx context.Context, in *probeInput) (*routing.Body[[]records.Probe], error) {
		return routing.Answer(of().Probe(ctx, routing.Who(ctx), reachability.Wish{Asks: in.Body.Asks, From: in.Body.From}))
	})
	routing.Add(r, http.MethodGet, "/probes", "list-probes", "List what ports answered, the latest first", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Probe]], error) {
		return routing.Answer(s.Probes(ctx, in.Query()))
	})
}
