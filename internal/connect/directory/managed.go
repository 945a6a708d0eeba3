package directory

import (
	"context"
	"errors"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/managing"
	"mossledger.example/moss/internal/core/managed"
)

// managingSession opens a session for what is about managed accounts.
func managingSession(ctx context.Context, target connect.Target) (*session, *connect.Failure) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return nil, failure
	}
	if !s.windows() {
		s.close()
		return nil, target.Fail(connect.StageRead, connect.CodeCannot, "a directory of the plain schema has no managed accounts", "give a program there a value in custody, and a policy", nil)
	}
	return s, nil
}

// managedFailure is that of an error; what only looked is certain.
func (s *session) managedFailure(stage connect.Stage, err error) error {
	var refused *managing.Refused
	switch {
	case err == nil:
		return nil
	case errors.As(err, &refused):
		return s.target.Fail(stage, connect.CodeFailed, refused.Words, refused.Next, nil)
	}
	f := s.fail(stage, err)
	f.Unclear = f.Unclear && stage == connect.StageChange
	return f
}

// Managing implements connect.Manager.
func (Connector) Managing(ctx context.Context, target connect.Target, ask managed.Ask) (managed.Seen, error) {
	s, failure := managingSession(ctx, target)
	if failure != nil {
		return managed.Seen{}, failure
	}
	defer s.close()
	seen, err := managing.Read(s.conn, s.now(), ask)
	return seen, s.managedFailure(connect.StageRead, err)
}

// ManagedStanding implements connect.Manager.
func (Connector) ManagedStanding(ctx context.Context, target connect.Target, change managed.AccountChange) (connect.ManagedStanding, error) {
	s, failure := managingSession(ctx, target)
	if failure != nil {
		return connect.ManagedStanding{}, failure
	}
	defer s.close()
	is, err := managing.Stands(s.conn, s.now(), change)
	return connect.ManagedStanding{Standing: connect.Standing{There: is.There, InForce: is.There, Words: is.Words, Former: is.Former}, Also: is.Also}, s.managedFailure(connect.StageRead, err)
}

// Manage implements connect.Manager.
func (Connector) Manage(ctx context.Context, target connect.Target, change managed.AccountChange, back bool) error {
	s, failure := managingSession(ctx, target)
	if failure != nil {
		return failure
	}
	defer s.close()
	return s.managedFailure(connect.StageChange, managing.Make(s.conn, s.now(), change, back))
}
