// Package survey reads systems: surveys and their visits, taking in what they saw,
// and what an absence takes to be believed (law 4).
package survey

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/findings"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Surveys reads systems.
type Surveys struct {
	base      *app.Base
	store     Store
	sealed    *sealed.Keeper
	inventory *inventory.Inventory
	picture   *picture.Picture

	lock      sync.Mutex
	running   map[records.SurveyID]context.CancelFunc
	after     func(context.Context)              // what follows when a survey was taken in; may be nil
	rereads   map[records.SurveyID]chan struct{} // surveys that follow a rotation, until they end
	searching []*search                          // in the order of their beginning
	reading   map[records.SystemID]chan struct{} // systems that are read, each until it is closed
	places    places
}

// New makes Surveys. parallel is how many visits are made at the same time; 0
// for four a processor, at least eight.
func New(base *app.Base, store Store, values *sealed.Keeper, systems *inventory.Inventory, pictures *picture.Picture, parallel int) *Surveys {
	if parallel == 0 {
		parallel = max(8, 4*runtime.GOMAXPROCS(0))
	}
	return &Surveys{base: base, store: store, sealed: values, inventory: systems, picture: pictures, running: map[records.SurveyID]context.CancelFunc{}, rereads: map[records.SurveyID]chan struct{}{}, reading: map[records.SystemID]chan struct{}{}, places: newPlaces(parallel)}
}

// After has something done each time a survey was taken in, before it ends. It is set
// before the first survey begins.
func (surveys *Surveys) After(do func(context.Context)) { surveys.after = do }

// Parallel is how many visits are made at the same time.
func (surveys *Surveys) Parallel() int { return cap(surveys.places.visits) }

// Recover closes surveys that an earlier run of the service left.
func (surveys *Surveys) Recover(ctx context.Context) error {
	return surveys.store.InterruptSurveys(ctx)
}

// maxNamesToFind is how many accounts are looked for in files by name.
const maxNamesToFind = 2000

// Start begins a survey of the named systems, or of all, and returns at
// once. Progress is on the topic of the survey.
func (surveys *Surveys) Start(ctx context.Context, by access.Actor, names []string) (records.SurveyID, error) {
	return surveys.StartThen(ctx, by, names, func() {})
}

// StartThen begins one, with something to be done when it has ended.
func (surveys *Surveys) StartThen(ctx context.Context, by access.Actor, names []string, then func()) (records.SurveyID, error) {
	if err := access.Decide(by, access.StartSurvey, access.Object{}); err != nil {
		return 0, err
	}
	var systems []records.System
	var err error
	if len(names) == 0 {
		if systems, err = surveys.store.AllSystems(ctx); err != nil {
			return 0, err
		}
	}
	chosen := map[records.SystemID]bool{}
	for _, name := range names {
		v, err := surveys.store.System(ctx, name)
		if err != nil {
			return 0, err
		}
		if !chosen[v.ID] {
			chosen[v.ID] = true
			systems = append(systems, v)
		}
	}
	if len(systems) == 0 {
		return 0, fmt.Errorf("%w: there are no systems to survey: add some with 'moss system add' or 'moss system import'", app.ErrRefused)
	}
	if !surveys.base.Begin() {
		return 0, fmt.Errorf("%w: the service is stopping", app.ErrRefused)
	}
	started := false
	defer func() {
		if !started {
			surveys.base.Work.Done()
		}
	}()
	id, visits, err := surveys.store.BeginSurvey(ctx, by.Name, systems)
	if err != nil {
		return 0, err
	}
	entry := ledger.Entry{Actor: by.Name, Act: "survey.run", Subject: app.Counted(len(systems)), Ref: app.SurveyTopic(id)}
	entry.Phase = ledger.Intent
	if err := surveys.base.Record(ctx, entry); err != nil {
		return 0, err
	}
	run, cancel := context.WithCancel(surveys.base.Context)
	surveys.lock.Lock()
	surveys.running[id] = cancel
	if by.IsService() {
		surveys.rereads[id] = make(chan struct{})
	}
	surveys.lock.Unlock()
	started = true
	go func() { //nolint:gosec // a survey outlives the request that began it
		defer surveys.base.Work.Done()
		defer cancel()
		surveys.runSurvey(run, id, systems, visits, len(names) > 0 && !by.IsService(), then)
		entry.Phase, entry.Result = ledger.Outcome, "done"
		if err := surveys.base.Record(context.Background(), entry); err != nil {
			surveys.base.Log.Error("the ledger cannot be written", "error", err)
		}
	}()
	return id, nil
}

// rereadTime bounds how long planning waits for the reading that follows an
// earlier act.
const rereadTime = 30 * time.Second

// ReadAgain waits until the readings that follow earlier acts have ended.
func (surveys *Surveys) ReadAgain(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, rereadTime)
	defer cancel()
	surveys.lock.Lock()
	about := slices.Clone(surveys.searching)
	surveys.lock.Unlock()
	for _, about := range about {
		select {
		case <-about.begun:
		case <-ctx.Done():
		}
	}
	surveys.lock.Lock()
	waiting := make([]chan struct{}, 0, len(surveys.rereads))
	for _, c := range surveys.rereads {
		waiting = append(waiting, c)
	}
	surveys.lock.Unlock()
	for _, c := range waiting {
		select {
		case <-c:
		case <-ctx.Done(): // then with what is known
			return
		}
	}
}

// Cancel ends a survey; what was read is kept.
func (surveys *Surveys) Cancel(ctx context.Context, by access.Actor, id records.SurveyID) error {
	if err := access.Decide(by, access.CancelSurvey, access.Object{Kind: "survey", Name: app.SurveyTopic(id)}); err != nil {
		return err
	}
	surveys.lock.Lock()
	cancel := surveys.running[id]
	surveys.lock.Unlock()
	if cancel == nil {
		return fmt.Errorf("survey %d is not running: %w", id, app.ErrNotFound)
	}
	entry := ledger.Entry{Actor: by.Name, Act: "survey.cancel", Phase: ledger.Outcome, Result: "done", Ref: app.SurveyTopic(id)}
	if err := surveys.base.Record(ctx, entry); err != nil {
		return err
	}
	cancel()
	return nil
}

// lookedFor is what hosts are searched for, and when that was settled.
func (surveys *Surveys) lookedFor(ctx context.Context) (connect.VisitRequest, time.Time) {
	begun := surveys.base.Now()
	known, err := surveys.store.Fingerprints(ctx)
	if err != nil {
		surveys.base.Log.Error("fingerprints cannot be read", "error", err)
	}
	names, err := surveys.store.NamesToFind(ctx, maxNamesToFind)
	if err != nil {
		surveys.base.Log.Error("names of accounts cannot be read", "error", err)
	}
	var limits []records.Finding
	if len(names) >= maxNamesToFind {
		limits = append(limits, findings.LimitFinding("names/", "names in files", fmt.Sprintf("%d accounts or more look like those of programs: files are searched for the names of %d, first those in custody and those that something uses", maxNamesToFind, maxNamesToFind), "take the accounts that matter into custody: files that hold a value in custody are found without a name"))
	}
	if err := surveys.store.SetFindings(ctx, "names/", limits); err != nil {
		surveys.base.Log.Error("a limit cannot be told", "error", err)
	}
	values, err := surveys.sealed.LookedFor(ctx)
	if err != nil {
		surveys.base.Log.Error("values in custody cannot be opened", "error", err)
	}
	return connect.VisitRequest{FingerprintKey: surveys.base.Fingerprints.Key(), Known: known, Names: names, Values: values}, begun
}

// readingTurn waits until nobody else reads a system. Of two readings at the
// same time the one that began earlier could end later, and take away what the
// other found because it did not yet look for it.
func (surveys *Surveys) readingTurn(ctx context.Context, system records.SystemID) (waited bool, done func()) {
	mine := make(chan struct{})
	for {
		surveys.lock.Lock()
		other := surveys.reading[system]
		if other == nil {
			surveys.reading[system] = mine
			surveys.lock.Unlock()
			return waited, func() {
				surveys.lock.Lock()
				delete(surveys.reading, system)
				surveys.lock.Unlock()
				close(mine)
			}
		}
		surveys.lock.Unlock()
		waited = true
		select {
		case <-other:
		case <-ctx.Done(): // the visit is only marked as not made
			return waited, func() {}
		}
	}
}

func (surveys *Surveys) runSurvey(ctx context.Context, id records.SurveyID, systems []records.System, visits []records.Visit, whole bool, then func()) {
	// Hosts are searched for names and values; others need no list of them.
	var request connect.VisitRequest
	begun := surveys.base.Now()
	if ctx.Err() == nil && slices.ContainsFunc(systems, func(v records.System) bool { return estate.Kind(v.Kind).IsHost() }) {
		request, begun = surveys.lookedFor(ctx)
	}
	var all sync.WaitGroup
	var lock sync.Mutex
	touched := false
	var visited []records.System
	for i := range systems {
		all.Add(1)
		go func() {
			defer all.Done()
			request, begun := request, begun
			waited, done := surveys.readingTurn(ctx, systems[i].ID)
			defer done()
			// The turn comes first, so that no visit keeps a place while it waits for
			// another reading of a system that hangs. Without a place the visit is only
			// marked as not made.
			defer surveys.places.take(ctx, systems[i])()
			if waited && ctx.Err() == nil && estate.Kind(systems[i].Kind).IsHost() { // what is looked for may be more by now
				request, begun = surveys.lookedFor(ctx)
			}
			request.Whole = whole
			changed, read := surveys.visit(ctx, systems[i], visits[i], request, begun)
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
		if surveys.base.Context.Err() != nil {
			state = "interrupted"
		}
	}
	// What was read is placed even when the survey was cancelled.
	place := context.WithoutCancel(ctx)
	if touched {
		// New or vanished accounts can change what any reference means.
		if everything, err := surveys.store.AllSystems(place); err == nil {
			visited = everything
		}
	}
	if err := surveys.picture.Place(place, visited); err != nil {
		surveys.base.Log.Error("ties could not be derived", "survey", id, "error", err)
	}
	if surveys.after != nil {
		surveys.after(place)
	}
	then()
	surveys.lock.Lock()
	delete(surveys.running, id)
	followed := surveys.rereads[id]
	delete(surveys.rereads, id)
	surveys.lock.Unlock()
	if err := surveys.store.EndSurvey(place, id, state); err != nil {
		surveys.base.Log.Error("a survey could not be closed", "survey", id, "error", err)
	}
	if followed != nil {
		close(followed)
	}
	surveys.base.Topics.Wake(app.SurveyTopic(id), "all")
	if err := surveys.store.PruneChanges(surveys.base.Context, surveys.base.Now().Add(-changesKept)); err != nil && surveys.base.Context.Err() == nil {
		surveys.base.Log.Error("old changes could not be dropped", "error", err)
	}
	if err := surveys.store.MergeIndexes(surveys.base.Context); err != nil && surveys.base.Context.Err() == nil {
		surveys.base.Log.Error("search indexes could not be merged", "error", err)
	}
}
