// Package traced has the calls of a connector told to whoever wants to see what is sent.
package traced

import (
	"context"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/core/secret"
)

// Of is a connector whose calls are told to a tracer: each hands it on with its context,
// where what sends finds it (connect.TraceOf). Over a wire it is not there: the other end has one
// of its own, or none.
func Of(c connect.Connector, tracer connect.Tracer) connect.Connector { return traced{c, tracer} }

type traced struct {
	connect.Connector
	tracer connect.Tracer
}

func (t traced) with(ctx context.Context) context.Context {
	return connect.WithTracer(ctx, t.tracer)
}

// Accept implements connect.Connector.
func (t traced) Accept(ctx context.Context, target connect.Target, b connect.Point, c connect.Values, d connect.Accepted) error {
	return t.Connector.Accept(t.with(ctx), target, b, c, d)
}

// Alternates implements connect.Connector.
func (t traced) Alternates(ctx context.Context, target connect.Target, b connect.Point) (bool, string, error) {
	return t.Connector.Alternates(t.with(ctx), target, b)
}

// Amend implements connect.Connector.
func (t traced) Amend(ctx context.Context, target connect.Target, b privilege.RightChange, c bool) error {
	return t.Connector.Amend(t.with(ctx), target, b, c)
}

// Check implements connect.Connector.
func (t traced) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	return t.Connector.Check(t.with(ctx), target)
}

// Connections implements connect.Connector.
func (t traced) Connections(ctx context.Context, target connect.Target, b estate.Place) ([]estate.Socket, error) {
	return t.Connector.Connections(t.with(ctx), target, b)
}

// Diagnose implements connect.Connector.
func (t traced) Diagnose(ctx context.Context, target connect.Target, b estate.Place) (connect.Diagnosis, error) {
	return t.Connector.Diagnose(t.with(ctx), target, b)
}

// End implements connect.Connector.
func (t traced) End(ctx context.Context, target connect.Target, b expiry.EndChange, c bool) error {
	return t.Connector.End(t.with(ctx), target, b, c)
}

// Ending implements connect.Connector.
func (t traced) Ending(ctx context.Context, target connect.Target, b expiry.EndChange) (connect.Ending, error) {
	return t.Connector.Ending(t.with(ctx), target, b)
}

// ListSystems implements connect.Connector.
func (t traced) ListSystems(ctx context.Context, target connect.Target, b string) ([]connect.Listed, error) {
	return t.Connector.ListSystems(t.with(ctx), target, b)
}

// Overlaps implements connect.Connector.
func (t traced) Overlaps(ctx context.Context, target connect.Target, b connect.Point) (bool, string, error) {
	return t.Connector.Overlaps(t.with(ctx), target, b)
}

// PasswordRules implements connect.Connector.
func (t traced) PasswordRules(ctx context.Context, target connect.Target, b connect.AccountRef) (connect.PasswordRules, error) {
	return t.Connector.PasswordRules(t.with(ctx), target, b)
}

// Probe implements connect.Connector.
func (t traced) Probe(ctx context.Context, target connect.Target, b connect.Point, c connect.Values) (connect.Probed, error) {
	return t.Connector.Probe(t.with(ctx), target, b, c)
}

// Reach implements connect.Connector.
func (t traced) Reach(ctx context.Context, target connect.Target, b []reach.Ask) ([]reach.Result, error) {
	return t.Connector.Reach(t.with(ctx), target, b)
}

// ReadCopies implements connect.Connector.
func (t traced) ReadCopies(ctx context.Context, target connect.Target, b string, c []held.Locator) (connect.CopyState, error) {
	return t.Connector.ReadCopies(t.with(ctx), target, b, c)
}

// ReadLogOn implements connect.Connector.
func (t traced) ReadLogOn(ctx context.Context, target connect.Target, b estate.Place) (connect.LogOnState, error) {
	return t.Connector.ReadLogOn(t.with(ctx), target, b)
}

// Records implements connect.Connector.
func (t traced) Records(ctx context.Context, target connect.Target, b time.Time) (change.Log, error) {
	return t.Connector.Records(t.with(ctx), target, b)
}

// Rehearse implements connect.Connector.
func (t traced) Rehearse(ctx context.Context, target connect.Target, b []connect.Intention) []connect.Checked {
	return t.Connector.Rehearse(t.with(ctx), target, b)
}

// Reload implements connect.Connector.
func (t traced) Reload(ctx context.Context, target connect.Target, b estate.Place) (string, error) {
	return t.Connector.Reload(t.with(ctx), target, b)
}

// ReplaceCopies implements connect.Connector.
func (t traced) ReplaceCopies(ctx context.Context, target connect.Target, b string, c []held.Locator, d secret.Value, e secret.Value) error {
	return t.Connector.ReplaceCopies(t.with(ctx), target, b, c, d, e)
}

// ReplaceLogOn implements connect.Connector.
func (t traced) ReplaceLogOn(ctx context.Context, target connect.Target, b connect.LogOnChange) (string, error) {
	return t.Connector.ReplaceLogOn(t.with(ctx), target, b)
}

// Restart implements connect.Connector.
func (t traced) Restart(ctx context.Context, target connect.Target, b estate.Place) (string, error) {
	return t.Connector.Restart(t.with(ctx), target, b)
}

// Rights implements connect.Connector.
func (t traced) Rights(ctx context.Context, target connect.Target, b connect.RightsRequest, c func(connect.Batch) error) (connect.RightsCoverage, error) {
	return t.Connector.Rights(t.with(ctx), target, b, c)
}

// RunCheck implements connect.Connector.
func (t traced) RunCheck(ctx context.Context, target connect.Target, b string) (string, int, error) {
	return t.Connector.RunCheck(t.with(ctx), target, b)
}

// Standing implements connect.Connector.
func (t traced) Standing(ctx context.Context, target connect.Target, b privilege.RightChange) (connect.Standing, error) {
	return t.Connector.Standing(t.with(ctx), target, b)
}

// StillThere implements connect.Connector.
func (t traced) StillThere(ctx context.Context, target connect.Target, b []connect.AccountRef) ([]connect.Presence, error) {
	return t.Connector.StillThere(t.with(ctx), target, b)
}

// Stop implements connect.Connector.
func (t traced) Stop(ctx context.Context, target connect.Target, b estate.Place) (string, error) {
	return t.Connector.Stop(t.with(ctx), target, b)
}

// Try implements connect.Connector.
func (t traced) Try(ctx context.Context, target connect.Target, b string) (connect.Tried, error) {
	return t.Connector.Try(t.with(ctx), target, b)
}

// UnitState implements connect.Connector.
func (t traced) UnitState(ctx context.Context, target connect.Target, b estate.Place) (connect.UnitState, error) {
	return t.Connector.UnitState(t.with(ctx), target, b)
}

// Verify implements connect.Connector.
func (t traced) Verify(ctx context.Context, target connect.Target, b connect.AccountRef, c secret.Value) (connect.Verdict, error) {
	return t.Connector.Verify(t.with(ctx), target, b, c)
}

// VerifyKey implements connect.Connector.
func (t traced) VerifyKey(ctx context.Context, target connect.Target, b connect.AccountRef, c secret.Value, d *connect.Target) (connect.Verdict, error) {
	return t.Connector.VerifyKey(t.with(ctx), target, b, c, d)
}

// Visit implements connect.Connector.
func (t traced) Visit(ctx context.Context, target connect.Target, b connect.VisitRequest, c func(connect.Batch) error) (connect.Coverage, error) {
	return t.Connector.Visit(t.with(ctx), target, b, c)
}

// Order implements connect.Connector.
func (t traced) Order(ctx context.Context, target connect.Target, b []string) (connect.Order, error) {
	return t.Connector.Order(t.with(ctx), target, b)
}

// Issue implements connect.Connector.
func (t traced) Issue(ctx context.Context, target connect.Target, b connect.Order, c []byte) (string, error) {
	return t.Connector.Issue(t.with(ctx), target, b, c)
}

// Revoke implements connect.Connector.
func (t traced) Revoke(ctx context.Context, target connect.Target, b string) error {
	return t.Connector.Revoke(t.with(ctx), target, b)
}

// Shown implements connect.Connector.
func (t traced) Shown(ctx context.Context, target connect.Target, b string) (estate.Key, error) {
	return t.Connector.Shown(t.with(ctx), target, b)
}

// Managing implements connect.Connector.
func (t traced) Managing(ctx context.Context, target connect.Target, b managed.Ask) (managed.Seen, error) {
	return t.Connector.Managing(t.with(ctx), target, b)
}

// ManagedStanding implements connect.Connector.
func (t traced) ManagedStanding(ctx context.Context, target connect.Target, b managed.AccountChange) (connect.ManagedStanding, error) {
	return t.Connector.ManagedStanding(t.with(ctx), target, b)
}

// Manage implements connect.Connector.
func (t traced) Manage(ctx context.Context, target connect.Target, b managed.AccountChange, c bool) error {
	return t.Connector.Manage(t.with(ctx), target, b, c)
}
