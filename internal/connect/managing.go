package connect

import (
	"context"

	"mossledger.example/moss/internal/core/managed"
)

// ManagedStanding is how a managed account stands for a change.
type ManagedStanding struct {
	Standing
	Also []string `json:"also,omitempty"` // what a person should know besides
}

// Manager tells about accounts whose passwords a directory makes by itself, and changes them.
//
// Managing and ManagedStanding read, and change nothing: what the directory needs to have such
// accounts and how one that is named stands, and how things stand for a change. Manage makes one
// change, and only that; with back it takes back what it made: what is so already is no failure,
// and what somebody else wrote since is not overwritten.
type Manager interface {
	Managing(ctx context.Context, target Target, ask managed.Ask) (managed.Seen, error)
	ManagedStanding(ctx context.Context, target Target, change managed.AccountChange) (ManagedStanding, error)
	Manage(ctx context.Context, target Target, change managed.AccountChange, back bool) error
}

// Managing implements Manager.
func (Cannot) Managing(_ context.Context, t Target, _ managed.Ask) (managed.Seen, error) {
	return managed.Seen{}, cannot(t, StageRead)
}

// ManagedStanding implements Manager.
func (Cannot) ManagedStanding(_ context.Context, t Target, _ managed.AccountChange) (ManagedStanding, error) {
	return ManagedStanding{}, cannot(t, StageRead)
}

// Manage implements Manager.
func (Cannot) Manage(_ context.Context, t Target, _ managed.AccountChange, _ bool) error {
	return cannot(t, StageChange)
}
