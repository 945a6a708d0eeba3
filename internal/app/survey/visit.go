package survey

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// visitTime bounds one system's visit.
const visitTime = 10 * time.Minute

var scopeTables = map[string][2]string{
	connect.ScopeAccounts:  {"accounts", "1"},
	connect.ScopeUnits:     {"dependents", "kind = 'unit'"},
	connect.ScopeCron:      {"dependents", "kind = 'cron'"},
	connect.ScopeProcesses: {"dependents", "kind = 'process'"},

	connect.ScopeCertificates: {"dependents", "kind = 'tls port'"},
	connect.ScopeFiles:        {"dependents", "kind IN ('file', 'key', 'authorized key', 'key tab', 'certificate', 'cloud key')"},
	connect.ScopeKeys:         {"dependents", "kind = 'issued key'"},
	connect.ScopeServices:     {"dependents", "kind = 'service'"},
	connect.ScopeTasks:        {"dependents", "kind = 'task'"},
	connect.ScopePools:        {"dependents", "kind = 'pool'"},
}

const maxProblems = 200

// reading is one visit under way.
type reading struct {
	surveys   *Surveys
	system    records.System
	visit     records.Visit
	connector connect.Connector
	target    connect.Target
	clean     *held.Redactor
	coverage  connect.Coverage
	seen      map[string]*store.Seen // by table

	seenRights *store.RightsSeen
	asked      connect.VisitRequest
	tally      records.Tally
}

// visit reads one system and takes in what it shows.
func (surveys *Surveys) visit(ctx context.Context, v records.System, visit records.Visit, request connect.VisitRequest, begun time.Time) (touched, read bool) {
	r := &reading{surveys: surveys, system: v, visit: visit, seen: map[string]*store.Seen{"accounts": store.NewSeen(), "dependents": store.NewSeen()}, seenRights: store.NewRightsSeen(), asked: request}
	if ctx.Err() != nil {
		r.visit.State, r.visit.Words, r.visit.Ended = "cancelled", "the survey ended before this visit began", surveys.base.Now()
		r.save(ctx, nil)
		return false, false
	}
	r.visit.State, r.visit.Started, r.visit.Problems = "running", surveys.base.Now(), []connect.Unread{}
	r.save(ctx, nil)
	limited, cancel := context.WithTimeout(ctx, visitTime)
	defer cancel()
	r.clean = surveys.base.Redactor(context.WithoutCancel(ctx))
	var err error
	r.connector, r.target, err = surveys.inventory.Target(ctx, v)
	for _, seen := range r.seen {
		seen.By(visit.SurveyID, surveys.sightOf(r.target))
	}
	if err == nil && !r.connector.Describe().Can(connect.ActVisit) {
		err = fmt.Errorf("%w: systems of the kind %s are not read", app.ErrCannot, v.Kind)
	}
	if err == nil {
		err = r.read(limited, request)
	}
	err = errors.Join(err, r.endScopes(limited, begun))
	r.rights(limited, err)
	r.witnesses(limited)
	app.RedactAll(r.clean, &r.coverage)
	r.judge(err)
	r.visit.Words = r.clean.Text(r.visit.Words)
	if ctx.Err() != nil && err != nil {
		r.visit.State, r.visit.Words = "cancelled", "the survey was cancelled during this visit; what was read is kept"
	}
	r.save(ctx, &r.coverage.Facts)
	return r.tally.AccountsTouched, len(r.coverage.Complete) > 0
}

func (r *reading) save(ctx context.Context, facts *connect.Facts) {
	if err := r.surveys.store.SaveVisit(context.WithoutCancel(ctx), r.visit, facts); err != nil {
		r.surveys.base.Log.Error("a visit could not be stored", "system", r.system.Name, "error", err)
	}
	r.surveys.base.Topics.Wake(app.SurveyTopic(r.visit.SurveyID), "all")
}

// read has the system read, and takes in what arrives.
func (r *reading) read(ctx context.Context, request connect.VisitRequest) error {
	var accountTally records.Tally
	accounts := newIntake(func(batch []estate.Account) error {
		return r.surveys.store.PutAccounts(context.WithoutCancel(ctx), r.system.ID, batch, r.seen["accounts"], &accountTally)
	})
	defer func() { _ = accounts.end() }()
	untold := 0
	var err error
	request.Rights = r.readsRights()
	if request.Resting, err = r.surveys.store.RestingOn(ctx, r.system.ID); err != nil {
		return fmt.Errorf("which accounts rest: %w", err)
	}
	r.coverage, err = r.connector.Visit(ctx, r.target, request, func(b connect.Batch) error {
		app.RedactAll(r.clean, &b)
		room := min(max(maxProblems-len(r.visit.Problems), 0), len(b.Problems))
		r.visit.Problems = append(r.visit.Problems, b.Problems[:room]...)
		untold += len(b.Problems) - room
		return r.take(context.WithoutCancel(ctx), b, accounts)
	})
	if untold > 0 {
		r.visit.Problems = append(r.visit.Problems, connect.Unread{Stage: connect.StageRead, Place: r.system.Name, What: fmt.Sprintf("%d more could not be read: the first %d are listed", untold, maxProblems), Next: "mend what the listed ones have in common, and survey again"})
	}
	if putErr := accounts.end(); putErr != nil {
		err = errors.Join(err, putErr)
		r.coverage.Complete[connect.ScopeAccounts] = false
	}
	r.tally.Added, r.tally.Altered, r.tally.AccountsTouched = r.tally.Added+accountTally.Added, r.tally.Altered+accountTally.Altered, accountTally.AccountsTouched
	return err
}

// take takes in a batch. What arrived is kept although the survey is cancelled.
func (r *reading) take(keep context.Context, b connect.Batch, accounts *intake) error {
	id, into := r.system.ID, r.surveys.store
	if b.Facts != nil {
		if f := r.surveys.inventory.Claim(keep, r.system, *b.Facts); f != nil {
			return f
		}
	}
	if b.Sessions != nil {
		if err := into.PutSessions(keep, id, b.Sessions); err != nil {
			return err
		}
	}
	if b.Sockets != nil {
		if err := into.PutSockets(keep, id, b.Sockets); err != nil {
			return err
		}
	}
	if err := into.PutUses(keep, id, b.Uses); err != nil {
		return err
	}
	if err := r.takeRights(keep, b); err != nil {
		return err
	}
	if err := accounts.add(b.Accounts); err != nil {
		return err
	}
	return into.PutDependents(keep, id, b.Dependents, r.seen["dependents"], &r.tally)
}

// endScopes marks what was not seen in what was read completely.
func (r *reading) endScopes(ctx context.Context, begun time.Time) error {
	complete, why := r.coverage.Complete, r.coverage.Why
	var ends []store.ScopeEnd
	for scope := range complete {
		table := scopeTables[scope]
		if table[0] == "" {
			continue
		}
		end := store.ScopeEnd{Scope: scope, Table: table[0], Condition: table[1], Complete: complete[scope], Why: why[scope], Seen: r.seen[table[0]], Sight: r.surveys.sightOf(r.target), Begun: begun, Fleeting: scope == connect.ScopeProcesses}
		if scope == connect.ScopeAccounts && end.Complete {
			if err := r.surveys.askForVanished(ctx, r.system, r.connector, r.target, &end); err != nil {
				end.Complete, end.Why = false, "what was not seen could not be asked for: "+err.Error()
				complete[scope], why[scope] = false, end.Why
			} else if n := len(end.Stays); n > 0 {
				// What is there was not shown: the reading was not complete.
				complete[scope], why[scope] = false, fmt.Sprintf("%d accounts that are there, or that nobody can see, were not shown: the steward sees less than before", n)
			}
		}
		ends = append(ends, end)
	}
	kept, err := r.surveys.store.EndScopes(context.WithoutCancel(ctx), r.system.ID, ends, &r.tally)
	for _, h := range kept {
		complete[h.Scope] = false
		if r.coverage.Why == nil {
			r.coverage.Why = map[string]string{}
		}
		r.coverage.Why[h.Scope] = h.Why
	}
	return err
}

// judge says what came of it.
func (r *reading) judge(err error) {
	v, coverage := &r.visit, r.coverage
	v.Stages, v.Counts, v.Why = coverage.Stages, coverage.Counts, coverage.Why
	v.Added, v.Altered, v.Vanished, v.Ended = r.tally.Added, r.tally.Altered, r.tally.Vanished, r.surveys.base.Now()
	v.State = "done"
	var f *connect.Failure
	switch {
	case errors.As(err, &f):
		v.State, v.Stage, v.Words, v.Next = "failed", string(f.Stage), f.Words, f.Next
		for _, complete := range coverage.Complete {
			if complete { // something was read to its end
				v.State = "incomplete"
			}
		}
	case err != nil:
		v.State, v.Words = "failed", err.Error()
	case len(coverage.Why) > 1 || len(coverage.Why) == 1 && coverage.Why[connect.ScopeRights] == "":
		v.State = "incomplete"
		for _, scope := range connect.Scopes() {
			if why := coverage.Why[scope]; why != "" {
				v.Stage, v.Words = string(connect.StageRead), scope+": "+why
				break
			}
		}
	}
}
