package survey

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// Visits share places, over all surveys: ten surveys open no more connections than
// one. A system that does not answer at all keeps its place for as long as
// connecting may take; a few of them would hold up all that do answer. So those that
// were silent at the latest attempt have places of their own, and one that nobody
// has tried yet is knocked at first, which many may do at the same time.
type places struct {
	visits chan struct{}
	silent chan struct{}
	knocks chan struct{}
}

const (
	silentPlaces = 16
	knockPlaces  = 64
)

func newPlaces(visits int) places {
	return places{visits: make(chan struct{}, visits), silent: make(chan struct{}, silentPlaces), knocks: make(chan struct{}, knockPlaces)}
}

// take waits for a place, and returns how it is given back. When the context ends
// first there is none, and nothing to give back.
func (p places) take(ctx context.Context, v records.System) (done func()) {
	kind := p.visits
	if wasSilent(v) || v.State == "new" && p.knock(ctx, v) {
		kind = p.silent
	}
	return occupy(ctx, kind)
}

func occupy(ctx context.Context, kind chan struct{}) (done func()) {
	select {
	case kind <- struct{}{}:
		return func() { <-kind }
	case <-ctx.Done():
		return func() {}
	}
}

// wasSilent reports whether the latest attempt ran out of time before anything answered.
func wasSilent(v records.System) bool {
	for _, s := range v.Stages {
		if !s.OK {
			return s.Code == connect.CodeTimeout && (s.Stage == connect.StageResolve || s.Stage == connect.StageConnect)
		}
	}
	return false
}

// knock reports whether a system lets a connection run out of time.
func (p places) knock(ctx context.Context, v records.System) bool {
	connector, known := connect.For(estate.Kind(v.Kind))
	if !known {
		return false
	}
	defer occupy(ctx, p.knocks)()
	return connect.Silent(ctx, connect.Target{Name: v.Name, Address: v.Address, Port: v.Port}, connector.Describe().Port)
}
