package rightroutes

import (
	"context"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app/traces"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

type startTraceInput struct {
	Body struct {
		System  string `json:"system" minLength:"1" maxLength:"253"`
		Account string `json:"account,omitempty" maxLength:"253" doc:"Only what names it"`
		Minutes int    `json:"minutes" minimum:"1" maximum:"1440" doc:"For so long; it ends by itself"`
		Reason  string `json:"reason" minLength:"1" maxLength:"500"`
	}
}

type operationsInput struct {
	routing.ListInput
	ID int64 `path:"id" minimum:"1"`
}

// registerTraces registers what is about traces of what the service sends.
func registerTraces(r *routing.Router, s *store.Store, of func() *traces.Traces) {
	routing.Add(r, http.MethodGet, "/traces", "list-traces", "List traces of what the service sends to systems, the latest first", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Trace]], error) {
		of().Flush(ctx)
		return routing.Answer(s.Traces(ctx, in.Query()))
	})
	routing.Add(r, http.MethodPost, "/traces", "start-trace", "Record what the service sends to a system, for a time; secrets are left out", func(ctx context.Context, in *startTraceInput) (*routing.Body[records.Trace], error) {
		b := in.Body
		return routing.Answer(of().Start(ctx, routing.Who(ctx), b.System, b.Account, time.Duration(b.Minutes)*time.Minute, b.Reason))
	})
	routing.Add(r, http.MethodGet, "/traces/{id}", "get-trace", "Show a trace", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.Trace], error) {
		of().Flush(ctx)
		return routing.Answer(s.Trace(ctx, records.TraceID(in.ID)))
	})
	routing.Add(r, http.MethodGet, "/traces/{id}/operations", "list-operations", "List what a trace has, what was refused first", func(ctx context.Context, in *operationsInput) (*routing.Body[records.Page[records.TracedOperation]], error) {
		of().Flush(ctx)
		return routing.Answer(s.Operations(ctx, records.TraceID(in.ID), in.Query()))
	})
	routing.Add(r, http.MethodPost, "/traces/{id}/stop", "stop-trace", "End a trace before its time", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.Trace], error) {
		of().Flush(ctx)
		return routing.Answer(of().Stop(ctx, routing.Who(ctx), records.TraceID(in.ID)))
	})
}
