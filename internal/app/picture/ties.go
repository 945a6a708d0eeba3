// Package picture turns what was seen into who depends on what: references into
// accounts, copies and log-ons into ties, uses into observed ties. It judges
// nothing: a Judge is told what was derived.
package picture

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// Picture derives ties and answers questions about them.
type Picture struct {
	base  *app.Base
	store Store
	judge Judge
}

// New makes a Picture.
func New(base *app.Base, store Store, judge Judge) *Picture { return &Picture{base, store, judge} }

// Place derives the ties of all dependents on the given systems, and the
// findings that follow from them.
func (picture *Picture) Place(ctx context.Context, systems []records.System) error {
	known, err := picture.store.TieSource(ctx)
	if err != nil {
		return err
	}
	// Several at a time: most of it is reading.
	var all sync.WaitGroup
	slots := make(chan struct{}, placeAtOnce)
	failures := make([]error, len(systems))
	for i, v := range systems {
		if class := estate.Kind(v.Kind).Class(); class != estate.ClassHost && class != estate.ClassOther { // programs, and keys at their issuers
			continue
		}
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			if err := picture.placeSystem(ctx, v, known); err != nil {
				failures[i] = fmt.Errorf("%s: %w", v.Name, err)
			}
		}()
	}
	all.Wait()
	if err := errors.Join(failures...); err != nil {
		return err
	}
	if err := picture.Observe(ctx); err != nil {
		return err
	}
	if err := picture.store.NoteKeys(ctx); err != nil {
		return err
	}
	return picture.judge.JudgeEstate(ctx)
}

// placeAtOnce is how many systems are placed at the same time: as many as the
// store has readers.
const placeAtOnce = 4

func (picture *Picture) placeSystem(ctx context.Context, v records.System, known ties.Known) error {
	dependents, err := picture.store.DependentsOfSystem(ctx, v.ID)
	if err != nil {
		return err
	}
	unreadable := map[string]bool{}
	for _, d := range dependents {
		if d.Copy != nil && d.Copy.Unreadable != "" {
			unreadable[d.Path] = true
		}
	}
	placed := Placed{System: v, Dependents: dependents, Ties: make(map[records.DependentID][]ties.Tie, len(dependents)), Unplaced: map[records.DependentID][]ties.Unplaced{}}
	for _, d := range dependents {
		list, unplaced, err := ties.Derive(d.Dependent, store.ContextOf(v), known, unreadable)
		if err != nil {
			return err
		}
		placed.Ties[d.ID] = list
		if len(unplaced) > 0 {
			placed.Unplaced[d.ID] = unplaced
		}
	}
	if err := picture.store.PutTies(ctx, placed.Ties); err != nil {
		return err
	}
	return picture.judge.JudgeSystem(ctx, placed)
}

// Placed is a system with what was derived of what stands on it.
type Placed struct {
	System     records.System
	Dependents []records.Dependent
	Ties       map[records.DependentID][]ties.Tie      // by dependent
	Unplaced   map[records.DependentID][]ties.Unplaced // references that lead to no account, by dependent
}

// Judge is told what was placed, and says what needs a person.
type Judge interface {
	// JudgeSystem judges one system, each time its ties were derived.
	JudgeSystem(ctx context.Context, placed Placed) error
	// JudgeUses judges uses that nothing explains.
	JudgeUses(ctx context.Context, unexplained []Unexplained, limited bool) error
	// JudgeEstate judges the picture as a whole.
	JudgeEstate(ctx context.Context) error
}
