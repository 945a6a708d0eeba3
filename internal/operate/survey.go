package operate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// maxNamesToFind is how many accounts are looked for in files by name.
const maxNamesToFind = 2000

// visitTime bounds one system's visit.
const visitTime = 10 * time.Minute

// StartSurvey begins a survey of the named systems, or of all, and returns at
// once. Progress is on the topic of the survey.
func (o *Operator) StartSurvey(ctx context.Context, by string, names []string) (int64, error) {
	return o.startSurvey(ctx, by, names, func() {})
}

// startSurvey begins one, with something to be done when it has ended.
func (o *Operator) startSurvey(ctx context.Context, by string, names []string, then func()) (int64, error) {
	var systems []store.System
	var err error
	if len(names) == 0 {
		if systems, err = o.Store.AllSystems(ctx); err != nil {
			return 0, err
		}
	}
	chosen := map[int64]bool{}
	for _, name := range names {
		v, err := o.Store.System(ctx, name)
		if err != nil {
			return 0, err
		}
		if !chosen[v.ID] {
			chosen[v.ID] = true
			systems = append(systems, v)
		}
	}
	if len(systems) == 0 {
		return 0, fmt.Errorf("%w: there are no systems to survey: add some with 'moss system add' or 'moss system import'", ErrRefused)
	}
	o.lock.Lock()
	begun := o.begin()
	o.lock.Unlock()
	if !begun {
		return 0, fmt.Errorf("%w: the service is stopping", ErrRefused)
	}
	started := false
	defer func() {
		if !started {
			o.work.Done()
		}
	}()
	id, visits, err := o.Store.BeginSurvey(ctx, by, systems)
	if err != nil {
		return 0, err
	}
	entry := ledger.Entry{Actor: by, Act: "survey.run", Subject: counted(len(systems)), Ref: surveyTopic(id)}
	entry.Phase = ledger.Intent
	if err := o.Record(ctx, entry); err != nil {
		return 0, err
	}
	run, cancel := context.WithCancel(o.base)
	o.lock.Lock()
	o.surveys[id] = cancel
	if by == byService {
		o.rereads[id] = make(chan struct{})
	}
	o.lock.Unlock()
	started = true
	go func() {
		defer o.work.Done()
		defer cancel()
		o.runSurvey(run, id, systems, visits, then)
		entry.Phase, entry.Result = ledger.Outcome, "done"
		if err := o.Record(context.Background(), entry); err != nil {
			o.Log.Error("the ledger cannot be written", "error", err)
		}
	}()
	return id, nil
}

// byService is who asks for the surveys that follow an act.
const byService = "service"

// rereadTime bounds how long planning waits for the reading that follows an
// earlier act.
const rereadTime = 30 * time.Second

// Settled waits until what earlier acts changed has been read again, so that
// nothing is planned on a picture that is about to change.
func (o *Operator) Settled(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, rereadTime)
	defer cancel()
	// One that has just finished is about to be followed by its reading.
	o.lock.Lock()
	active := maps.Clone(o.rotations)
	o.lock.Unlock()
	for id, r := range active {
		if v, err := o.Store.Rotation(ctx, id); err == nil && v.Mode == string(rotation.ModeFinished) {
			select {
			case <-r.ended:
			case <-ctx.Done():
			}
		}
	}
	o.lock.Lock()
	about := slices.Clone(o.searching)
	o.lock.Unlock()
	for _, about := range about {
		select {
		case <-about.begun:
		case <-ctx.Done():
		}
	}
	o.lock.Lock()
	waiting := make([]chan struct{}, 0, len(o.rereads))
	for _, c := range o.rereads {
		waiting = append(waiting, c)
	}
	o.lock.Unlock()
	for _, c := range waiting {
		select {
		case <-c:
		case <-ctx.Done(): // then with what is known
			return
		}
	}
}

func counted(n int) string {
	if n == 1 {
		return "one system"
	}
	return fmt.Sprintf("%d systems", n)
}

// CancelSurvey ends a survey; what was read is kept.
func (o *Operator) CancelSurvey(id int64) error {
	o.lock.Lock()
	cancel := o.surveys[id]
	o.lock.Unlock()
	if cancel == nil {
		return fmt.Errorf("survey %d is not running: %w", id, ErrNotFound)
	}
	cancel()
	return nil
}

// lookedFor is what hosts are searched for, and when that was settled.
func (o *Operator) lookedFor(ctx context.Context) (connect.VisitRequest, time.Time) {
	begun := o.Now()
	known, err := o.Store.Fingerprints(ctx)
	if err != nil {
		o.Log.Error("fingerprints cannot be read", "error", err)
	}
	names, err := o.Store.NamesToFind(ctx, maxNamesToFind)
	if err != nil {
		o.Log.Error("names of accounts cannot be read", "error", err)
	}
	var limits []store.Finding
	if len(names) >= maxNamesToFind {
		limits = append(limits, limitFinding("names/", "names in files", fmt.Sprintf("%d accounts or more look like those of programs: files are searched for the names of %d, first those in custody and those that something uses", maxNamesToFind, maxNamesToFind), "take the accounts that matter into custody: files that hold a value in custody are found without a name"))
	}
	if err := o.Store.SetFindings(ctx, "names/", limits); err != nil {
		o.Log.Error("a limit cannot be told", "error", err)
	}
	values, err := o.inCustody(ctx)
	if err != nil {
		o.Log.Error("values in custody cannot be opened", "error", err)
	}
	return connect.VisitRequest{FingerprintKey: o.fingerprints.Key(), Known: known, Names: names, Values: values}, begun
}

// readingTurn waits until nobody else reads a system. Of two readings at the
// same time the one that began earlier could end later, and take away what the
// other found because it did not yet look for it.
func (o *Operator) readingTurn(ctx context.Context, system int64) (waited bool, done func()) {
	mine := make(chan struct{})
	for {
		o.lock.Lock()
		other := o.reading[system]
		if other == nil {
			o.reading[system] = mine
			o.lock.Unlock()
			return waited, func() {
				o.lock.Lock()
				delete(o.reading, system)
				o.lock.Unlock()
				close(mine)
			}
		}
		o.lock.Unlock()
		waited = true
		select {
		case <-other:
		case <-ctx.Done(): // the visit is only marked as not made
			return waited, func() {}
		}
	}
}

func (o *Operator) runSurvey(ctx context.Context, id int64, systems []store.System, visits []store.Visit, then func()) {
	// Hosts are searched for names and values; others need no list of them.
	var request connect.VisitRequest
	begun := o.Now()
	if ctx.Err() == nil && slices.ContainsFunc(systems, func(v store.System) bool { return estate.Kind(v.Kind).IsHost() }) {
		request, begun = o.lookedFor(ctx)
	}
	var all sync.WaitGroup
	var lock sync.Mutex
	touched := false
	var visited []store.System
	for i := range systems {
		all.Add(1)
		go func() {
			defer all.Done()
			request, begun := request, begun
			waited, done := o.readingTurn(ctx, systems[i].ID)
			defer done()
			// Surveys at the same time share the places: ten of them open no more
			// connections than one. The turn comes first, so that no visit keeps a
			// place while it waits for another reading of a system that hangs.
			select {
			case o.visiting <- struct{}{}:
				defer func() { <-o.visiting }()
			case <-ctx.Done(): // the visit is then only marked as not made
			}
			if waited && ctx.Err() == nil && estate.Kind(systems[i].Kind).IsHost() { // what is looked for may be more by now
				request, begun = o.lookedFor(ctx)
			}
			changed, read := o.visit(ctx, systems[i], visits[i], request, begun)
			lock.Lock()
			defer lock.Unlock()
			touched = touched || changed
			if read {
				visited = append(visited, systems[i])
			}
		}()
	}
	all.Wait()
	state := "done"
	if ctx.Err() != nil {
		state = "cancelled"
		if o.base.Err() != nil {
			state = "interrupted"
		}
	}
	// What was read is placed even when the survey was cancelled.
	place := context.WithoutCancel(ctx)
	if touched {
		// New or vanished accounts can change what any reference means.
		if everything, err := o.Store.AllSystems(place); err == nil {
			visited = everything
		}
	}
	if err := o.Place(place, visited); err != nil {
		o.Log.Error("ties could not be derived", "survey", id, "error", err)
	}
	then()
	o.lock.Lock()
	delete(o.surveys, id)
	followed := o.rereads[id]
	delete(o.rereads, id)
	o.lock.Unlock()
	if err := o.Store.EndSurvey(place, id, state); err != nil {
		o.Log.Error("a survey could not be closed", "survey", id, "error", err)
	}
	if followed != nil {
		close(followed)
	}
	o.bus.wake(surveyTopic(id), "all")
	if err := o.Store.MergeIndexes(o.base); err != nil && o.base.Err() == nil {
		o.Log.Error("search indexes could not be merged", "error", err)
	}
}

var scopeTables = map[string][2]string{
	connect.ScopeAccounts:  {"accounts", "1"},
	connect.ScopeUnits:     {"dependents", "kind = 'unit'"},
	connect.ScopeCron:      {"dependents", "kind = 'cron'"},
	connect.ScopeProcesses: {"dependents", "kind = 'process'"},
	connect.ScopeFiles:     {"dependents", "kind IN ('file', 'key', 'authorized key', 'key tab', 'certificate', 'cloud key')"},
	connect.ScopeServices:  {"dependents", "kind = 'service'"},
	connect.ScopeTasks:     {"dependents", "kind = 'task'"},
	connect.ScopePools:     {"dependents", "kind = 'pool'"},
}

const maxProblems = 200

// writeAtOnce is how many accounts one transaction takes in: each is synced.
const writeAtOnce = 4000

// intake takes accounts in beside the reading, some thousands at a time.
type intake struct {
	waiting []estate.Account
	batches chan []estate.Account
	ended   chan error
	over    bool
	result  error
}

func newIntake(put func([]estate.Account) error) *intake {
	i := &intake{batches: make(chan []estate.Account), ended: make(chan error, 1)}
	go func() {
		var err error
		for batch := range i.batches {
			if err == nil {
				err = put(batch)
			}
		}
		i.ended <- err
	}()
	return i
}

// add hands accounts over; the error of an earlier batch comes with end.
func (i *intake) add(accounts []estate.Account) error {
	i.waiting = append(i.waiting, accounts...)
	if len(i.waiting) >= writeAtOnce {
		i.batches <- i.waiting
		i.waiting = nil
	}
	return nil
}

// end waits until everything is taken in. It may be called twice.
func (i *intake) end() error {
	if !i.over {
		i.over = true
		if len(i.waiting) > 0 {
			i.batches <- i.waiting
		}
		close(i.batches)
		i.result = <-i.ended
	}
	return i.result
}

// visit reads one system and takes in what it shows.
func (o *Operator) visit(ctx context.Context, v store.System, visit store.Visit, request connect.VisitRequest, begun time.Time) (touched, read bool) {
	save := func(facts *connect.Facts) {
		if err := o.Store.SaveVisit(context.WithoutCancel(ctx), visit, facts); err != nil {
			o.Log.Error("a visit could not be stored", "system", v.Name, "error", err)
		}
		o.bus.wake(surveyTopic(visit.SurveyID), "all")
	}
	if ctx.Err() != nil {
		visit.State, visit.Words, visit.Ended = "cancelled", "the survey ended before this visit began", o.Now()
		save(nil)
		return false, false
	}
	visit.State, visit.Started, visit.Problems = "running", o.Now(), []connect.Unread{}
	save(nil)
	limited, cancel := context.WithTimeout(ctx, visitTime)
	defer cancel()
	clean := o.redactor(context.WithoutCancel(ctx))
	var coverage connect.Coverage
	seen := map[string]*store.Seen{"accounts": store.NewSeen(), "dependents": store.NewSeen()}
	var tally store.Tally
	var accountTally store.Tally
	accounts := newIntake(func(batch []estate.Account) error {
		return o.Store.PutAccounts(context.WithoutCancel(ctx), v.ID, batch, seen["accounts"], &accountTally)
	})
	defer func() { _ = accounts.end() }()
	connector, target, err := o.target(ctx, v)
	if err == nil {
		visitor, ok := connector.(connect.Visitor)
		if !ok {
			err = fmt.Errorf("%w: systems of the kind %s are not read", ErrCannot, v.Kind)
		} else {
			untold := 0
			coverage, err = visitor.Visit(limited, target, request, func(b connect.Batch) error {
				redactAll(clean, &b)
				if b.Facts != nil {
					if f := o.claim(context.WithoutCancel(ctx), v, *b.Facts); f != nil {
						return f
					}
				}
				room := min(max(maxProblems-len(visit.Problems), 0), len(b.Problems))
				visit.Problems = append(visit.Problems, b.Problems[:room]...)
				untold += len(b.Problems) - room
				// What arrived is kept although the survey is cancelled.
				keep := context.WithoutCancel(ctx)
				if b.Sessions != nil {
					if err := o.Store.PutSessions(keep, v.ID, b.Sessions); err != nil {
						return err
					}
				}
				if b.Sockets != nil {
					if err := o.Store.PutSockets(keep, v.ID, b.Sockets); err != nil {
						return err
					}
				}
				if err := o.Store.PutUses(keep, v.ID, b.Uses); err != nil {
					return err
				}
				if err := accounts.add(b.Accounts); err != nil {
					return err
				}
				return o.Store.PutDependents(keep, v.ID, b.Dependents, seen["dependents"], &tally)
			})
			if untold > 0 {
				visit.Problems = append(visit.Problems, connect.Unread{Stage: connect.StageRead, Place: v.Name, What: fmt.Sprintf("%d more could not be read: the first %d are listed", untold, maxProblems), Next: "mend what the listed ones have in common, and survey again"})
			}
			if putErr := accounts.end(); putErr != nil {
				err = errors.Join(err, putErr)
				coverage.Complete[connect.ScopeAccounts] = false
			}
			tally.Added, tally.Altered, tally.AccountsTouched = tally.Added+accountTally.Added, tally.Altered+accountTally.Altered, accountTally.AccountsTouched
		}
	}
	var ends []store.ScopeEnd
	for scope := range coverage.Complete {
		table := scopeTables[scope]
		if table[0] == "" {
			continue
		}
		end := store.ScopeEnd{Scope: scope, Table: table[0], Condition: table[1], Complete: coverage.Complete[scope], Why: coverage.Why[scope], Seen: seen[table[0]], Sight: o.sightOf(target), Begun: begun, Fleeting: scope == connect.ScopeProcesses}
		if scope == connect.ScopeAccounts && end.Complete {
			if askErr := o.askForVanished(limited, v, connector, target, &end); askErr != nil {
				end.Complete, end.Why = false, "what was not seen could not be asked for: "+askErr.Error()
				coverage.Complete[scope], coverage.Why[scope] = false, end.Why
			} else if n := len(end.Stays); n > 0 {
				// What is there was not shown: the reading was not complete.
				coverage.Complete[scope], coverage.Why[scope] = false, fmt.Sprintf("%d accounts that are there, or that nobody can see, were not shown: the log-on sees less than before", n)
			}
		}
		ends = append(ends, end)
	}
	held, endErr := o.Store.EndScopes(context.WithoutCancel(ctx), v.ID, ends, &tally)
	if endErr != nil {
		err = errors.Join(err, endErr)
	}
	for _, h := range held {
		coverage.Complete[h.Scope] = false
		if coverage.Why == nil {
			coverage.Why = map[string]string{}
		}
		coverage.Why[h.Scope] = h.Why
	}
	redactAll(clean, &coverage)
	visit.Stages, visit.Counts, visit.Why = coverage.Stages, coverage.Counts, coverage.Why
	visit.Added, visit.Altered, visit.Vanished, visit.Ended = tally.Added, tally.Altered, tally.Vanished, o.Now()
	visit.State = "done"
	var f *connect.Failure
	switch {
	case errors.As(err, &f):
		visit.State, visit.Stage, visit.Words, visit.Next = "failed", string(f.Stage), f.Words, f.Next
		for _, complete := range coverage.Complete {
			if complete { // something was read to its end
				visit.State = "incomplete"
			}
		}
	case err != nil:
		visit.State, visit.Words = "failed", err.Error()
	case len(coverage.Why) > 0:
		visit.State = "incomplete"
		for _, scope := range connect.Scopes() {
			if why := coverage.Why[scope]; why != "" {
				visit.Stage, visit.Words = string(connect.StageRead), scope+": "+why
				break
			}
		}
	}
	visit.Words = clean.Text(visit.Words)
	if ctx.Err() != nil && err != nil {
		visit.State, visit.Words = "cancelled", "the survey was cancelled during this visit; what was read is kept"
	}
	save(&coverage.Facts)
	return tally.AccountsTouched, len(coverage.Complete) > 0
}
