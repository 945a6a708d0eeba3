package survey

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/records"
)

// witnesses asks the system who may have made the changes that this visit saw and that
// nobody here made. Its log is read for that alone: mostly there is nothing to ask. What it
// does not tell stops nothing.
func (r *reading) witnesses(ctx context.Context) {
	if r.connector == nil || !r.connector.Describe().Can(connect.ActRecords) {
		return
	}
	keep := context.WithoutCancel(ctx)
	begun := r.seen["accounts"].Begun()
	maps.Copy(begun, r.seen["dependents"].Begun())
	list, err := r.surveys.store.Unwitnessed(keep, r.system.ID, r.visit.SurveyID, begun)
	if err != nil || len(list) == 0 {
		if err != nil {
			r.surveys.base.Log.Error("changes cannot be read", "system", r.system.Name, "error", err)
		}
		return
	}
	until := r.surveys.base.Now()
	log, err := r.connector.Records(ctx, r.target, slices.MinFunc(list, func(a, b records.Unwitnessed) int { return a.Since.Compare(b.Since) }).Since)
	if err != nil {
		var f *connect.Failure
		if !errors.As(err, &f) {
			f = r.target.Fail(connect.StageRead, connect.CodeFailed, err.Error(), "", err)
		}
		if len(r.visit.Problems) < maxProblems {
			r.visit.Problems = append(r.visit.Problems, connect.Unread{Stage: connect.StageRead, Place: "log of sign-ins", What: "who made the changes that were seen is not known: " + r.clean.Text(f.Words), Next: f.Next})
		}
		return
	}
	app.RedactAll(r.clean, &log)
	of := make(map[records.ChangeID]*change.Witnesses, len(list))
	alike := map[time.Time]*change.Witnesses{} // of what is no account, all since one look have the same
	for _, v := range list {
		w, known := alike[v.Since]
		if len(v.Names) > 0 || !known {
			if w = log.Of(v.Since, until, v.Names...); len(v.Names) == 0 {
				alike[v.Since] = w
			}
		}
		if w != nil {
			of[v.ID] = w
		}
	}
	if err := r.surveys.store.PutWitnesses(keep, of); err != nil {
		r.surveys.base.Log.Error("who made changes cannot be kept", "system", r.system.Name, "error", err)
	}
}
