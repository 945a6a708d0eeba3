package connect

import (
	"context"

	"mossledger.example/moss/internal/core/estate"
)

// UnitState is the state of a dependent that runs.
type UnitState struct {
	Active     string // active, inactive, failed, activating, deactivating
	Sub        string // the system's own word for it
	Invocation string // changes at every start
	Result     string // of the last run, when it failed
	Words      string // last lines that the unit said, when it failed
}

// Restarter restarts dependents that run, starts those that are down, and
// tells their state. Restart takes down what needs the dependent and brings it
// back, and answers in the system's own words.
type Restarter interface {
	UnitState(ctx context.Context, target Target, place estate.Place) (UnitState, error)
	Restart(ctx context.Context, target Target, place estate.Place) (words string, err error)
	// Reload has a dependent that runs read its files again, and stay up. To do so once more
	// is harmless.
	Reload(ctx context.Context, target Target, place estate.Place) (words string, err error)
	// Stop stops a dependent that runs; one that is down already is left so. It refuses
	// where something that runs would go down with it and not come back with it.
	Stop(ctx context.Context, target Target, place estate.Place) (words string, err error)
}
