package survey

import (
	"context"
	"errors"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/store"
)

// rights reads who may do what on a system that the visit has read. What of it may not be
// read is told and makes the visit itself no less complete: it is no matter of what
// depends on a credential.
func (r *reading) rights(ctx context.Context, visited error) {
	if !r.readsRights() {
		return
	}
	var f *connect.Failure
	if errors.As(visited, &f) && (f.Code != connect.CodeNotPermitted || !r.readAnything()) || visited != nil && f == nil {
		return // it was not reached, or what it says cannot be kept
	}
	keep := context.WithoutCancel(ctx)
	var coverage connect.RightsCoverage
	if r.coverage.Rights != nil { // they came with the visit
		coverage = *r.coverage.Rights
	} else {
		var err error
		coverage, err = r.connector.Rights(ctx, r.target, connect.RightsRequest{Whole: r.whole(keep)}, func(b connect.Batch) error {
			app.RedactAll(r.clean, &b)
			room := min(max(maxProblems-len(r.visit.Problems), 0), len(b.Problems))
			r.visit.Problems = append(r.visit.Problems, b.Problems[:room]...)
			return r.takeRights(keep, b)
		})
		if err != nil {
			coverage.Complete, coverage.Whole, coverage.Why = false, false, r.clean.Text(err.Error())
		}
	}
	if !coverage.Complete && coverage.Entries == 0 && len(r.visit.Problems) < maxProblems && coverage.Why != "" && r.coverage.Rights == nil {
		r.visit.Problems = append(r.visit.Problems, connect.Unread{Stage: connect.StageRead, Place: "who may do what", What: coverage.Why})
	}
	coverage.Why = r.clean.Text(coverage.Why)
	if err := r.surveys.store.EndRights(keep, r.system.ID, r.seenRights, store.RightsReading{Complete: coverage.Complete, Whole: coverage.Whole, Why: coverage.Why, Kept: coverage.Kept, Sight: r.surveys.sightOf(r.target)}); err != nil {
		r.surveys.base.Log.Error("rights that were read cannot be kept", "system", r.system.Name, "error", err)
		coverage.Complete, coverage.Why = false, "what was read could not be kept"
	}
	if r.coverage.Complete == nil {
		return
	}
	r.coverage.Complete[connect.ScopeRights] = coverage.Complete
	if r.coverage.Counts != nil {
		r.coverage.Counts[connect.ScopeRights] = coverage.Entries
	}
	if !coverage.Complete && coverage.Why != "" {
		if r.coverage.Why == nil {
			r.coverage.Why = map[string]string{}
		}
		r.coverage.Why[connect.ScopeRights] = coverage.Why
	}
}

// wholeEvery is how often that is read, too, which takes a question for each thing.
const wholeEvery = 7 * 24 * time.Hour

// whole reports whether that is read now: when a person asks for this system, when it never
// was, and once a week.
func (r *reading) whole(ctx context.Context) bool {
	if r.asked.Whole {
		return true
	}
	read, err := r.surveys.store.RightsRead(ctx, r.system.ID)
	return err != nil || r.surveys.base.Now().Sub(read.Whole) >= wholeEvery
}

// readAnything reports whether some scope was read to its end.
func (r *reading) readAnything() bool {
	for _, complete := range r.coverage.Complete {
		if complete {
			return true
		}
	}
	return false
}

// readsRights reports whether the rights of the system are read.
func (r *reading) readsRights() bool {
	return r.connector != nil && r.target.Options[connect.OptionRights] != "off" && r.connector.Describe().Can(connect.ActRights)
}

// takeRights keeps what a batch has of rights.
func (r *reading) takeRights(keep context.Context, b connect.Batch) error {
	if b.Rights == nil {
		return nil
	}
	return r.surveys.store.PutRights(keep, r.system.ID, b.Rights.Principals, b.Rights.Memberships, b.Rights.Lists, r.seenRights)
}
