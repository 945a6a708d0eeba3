// Package batchroutes has the operations about rotations that are asked for together.
package batchroutes

import (
	"context"
	"errors"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app/batches"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/service/withheld"
	"mossledger.example/moss/internal/store"
)

// BatchRequest is what a person asks of many rotations.
type BatchRequest struct {
	Label    string   `json:"label,omitempty" maxLength:"63" doc:"Credentials in custody of all accounts with this label; or"`
	Filters  []string `json:"filters,omitempty" maxItems:"20" doc:"those in custody that filters of the list of credentials choose; or"`
	Names    []string `json:"names,omitempty" maxItems:"20000" doc:"those of this list, as commands spell them; empty ones and ones that begin with # are left out; or"`
	Findings []string `json:"findings,omitempty" maxItems:"20" doc:"those in custody that open findings are about which filters of the list of findings choose; or"`
	// Top level, so that it is withheld from whatever decodes the request.
	Values     withheld.Secret `json:"values,omitempty" doc:"passwords with the new value of each: lines of a name and a value, as CSV (RFC 4180). A second person approves it, for who gave a value knows it"`
	OnFailure  string          `json:"on_failure,omitempty" enum:"stop,continue,undo" default:"undo" doc:"What each does when a step fails"`
	Restart    string          `json:"restart,omitempty" enum:"now,leave" default:"now" doc:"When dependents are restarted; leave: not at all"`
	Patience   int             `json:"patience,omitempty" minimum:"0" maximum:"2592000" doc:"Seconds for which a system that is away is waited for before that counts as a failure; half an hour when it is 0"`
	FirstAlone bool            `json:"first_alone,omitempty" doc:"Of each, one dependent is changed and proven before all others"`
	AnyTime    bool            `json:"any_time,omitempty" doc:"No window counts"`
	Way        string          `json:"way,omitempty" enum:"any,replace,overlap,alternate," doc:"overlap: only if both values are accepted for a time; replace: never so; alternate: only if another account takes its place; any when empty"`
	Length     int             `json:"length,omitempty" minimum:"0" maximum:"256" doc:"Characters of new passwords; the usual number when it is 0"`
	Without    string          `json:"without,omitempty" maxLength:"100" doc:"Characters that new passwords must not have"`
	AtOnce     int             `json:"at_once,omitempty" minimum:"0" maximum:"100" doc:"So many rotations run at the same time; 4 when it is 0"`
	Reason     string          `json:"reason" minLength:"1" maxLength:"500"`
}

// Started is a batch that was started, or that waits for a second person.
type Started struct {
	records.Batch
	routing.Waiting
}

type addInput struct{ Body BatchRequest }

type startInput struct {
	routing.IDInput
	Body struct {
		Despite bool `json:"despite_failures,omitempty" doc:"Start those whose rehearsal passed although others did not"`
	}
}

type itemsInput struct {
	routing.IDInput
	routing.ListInput
}

// Register registers them.
func Register(r *routing.Router, s *store.Store, app func() *batches.Batches) {
	routing.Add(r, http.MethodGet, "/batches", "list-batches", "List rotations that were asked for together", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Batch]], error) {
		return routing.Answer(s.AllBatches(ctx, in.Query()))
	})
	routing.Add(r, http.MethodPost, "/batches", "add-batch", "Ask for many rotations together; all are rehearsed at once, and none is started", func(ctx context.Context, in *addInput) (*routing.Body[records.Batch], error) {
		b := in.Body
		return routing.Answer(app().Create(ctx, routing.Who(ctx), batches.Ask{
			Label: b.Label, Filters: b.Filters, Names: b.Names, Findings: b.Findings, Values: b.Values.Value, Reason: b.Reason, AtOnce: b.AtOnce,
			Wish: planning.Request{OnFailure: rotation.OnFailure(b.OnFailure), When: rotation.RestartPolicy(b.Restart), Patience: time.Duration(b.Patience) * time.Second, FirstAlone: b.FirstAlone, AnyTime: b.AnyTime, Way: b.Way, Length: b.Length, Without: b.Without},
		}))
	})
	routing.Add(r, http.MethodGet, "/batches/{id}", "get-batch", "Show how far one is", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.Batch], error) {
		return routing.Answer(s.Batch(ctx, records.BatchID(in.ID)))
	})
	routing.Add(r, http.MethodGet, "/batches/{id}/items", "list-batch-items", "List its rotations, one line each", func(ctx context.Context, in *itemsInput) (*routing.Body[records.Page[records.BatchItem]], error) {
		if _, err := s.Batch(ctx, records.BatchID(in.ID)); err != nil {
			return nil, err
		}
		return routing.Answer(s.BatchItems(ctx, records.BatchID(in.ID), in.Query()))
	})
	routing.Add(r, http.MethodPost, "/batches/{id}/start", "start-batch", "Start what was rehearsed, or ask a second person for it where one is not enough", func(ctx context.Context, in *startInput) (*routing.Body[Started], error) {
		v, err := app().Start(ctx, routing.Who(ctx), records.BatchID(in.ID), in.Body.Despite)
		var waits *rotate.WaitsError
		if errors.As(err, &waits) {
			return routing.Answer(Started{v, routing.Waiting{Approval: waits.Approval}}, nil)
		}
		return routing.Answer(Started{Batch: v}, err)
	})
	routing.Add(r, http.MethodPost, "/batches/{id}/stop", "stop-batch", "Begin nothing more of it; what runs goes on", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.Batch], error) {
		return routing.Answer(app().Stop(ctx, routing.Who(ctx), records.BatchID(in.ID)))
	})
	routing.Add(r, http.MethodPost, "/batches/{id}/retry", "retry-batch", "Rehearse again what did not pass or did not end well, and nothing else", func(ctx context.Context, in *routing.IDInput) (*routing.Body[records.Batch], error) {
		return routing.Answer(app().Retry(ctx, routing.Who(ctx), records.BatchID(in.ID)))
	})
}
