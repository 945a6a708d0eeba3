package connect

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/core/secret"
)

// Traced is a connector whose calls are told to a tracer: each hands it on with its context,
// where what sends finds it (TraceOf). Over a wire it is not there: the other end has one of
// its own, or none.
func Traced(c Connector, tracer Tracer) Connector { return traced{c, tracer} }

type traced struct {
	Connector
	tracer Tracer
}

func (t traced) with(ctx context.Context) context.Context {
	return context.WithValue(ctx, tracerKey{}, t.tracer)
}

// Accept implements Connector.
func (t traced) Accept(ctx context.Context, target Target, b Point, c Values, d Accepted) error {
	return t.Connector.Accept(t.with(ctx), target, b, c, d)
}

// Alternates implements Connector.
func (t traced) Alternates(ctx context.Context, target Target, b Point) (bool, string, error) {
	return t.Connector.Alternates(t.with(ctx), target, b)
}

// Amend implements Connector.
func (t traced) Amend(ctx context.Context, target Target, b privilege.RightChange, c bool) error {
	return t.Connector.Amend(t.with(ctx), target, b, c)
}

// Check implements Connector.
func (t traced) Check(ctx context.Context, target Target) CheckReport {
	return t.Connector.Check(t.with(ctx), target)
}

// Connections implements Connector.
func (t traced) Connections(ctx context.Context, target Target, b estate.Place) ([]estate.Socket, error) {
	return t.Connector.Connections(t.with(ctx), target, b)
}

// Diagnose implements Connector.
func (t traced) Diagnose(ctx context.Context, target Target, b estate.Place) (Diagnosis, error) {
	return t.Connector.Diagnose(t.with(ctx), target, b)
}

// End implements Connector.
func (t traced) End(ctx context.Context, target Target, b expiry.EndChange, c bool) error {
	return t.Connector.End(t.with(ctx), target, b, c)
}

// Ending implements Connector.
func (t traced) Ending(ctx context.Context, target Target, b expiry.EndChange) (Ending, error) {
	return t.Connector.Ending(t.with(ctx), target, b)
}

// ListSystems implements Connector.
func (t traced) ListSystems(ctx context.Context, target Target, b string) ([]Listed, error) {
	return t.Connector.ListSystems(t.with(ctx), target, b)
}

// Overlaps implements Connector.
func (t traced) Overlaps(ctx context.Context, target Target, b Point) (bool, string, error) {
	return t.Connector.Overlaps(t.with(ctx), target, b)
}

// PasswordRules implements Connector.
func (t traced) PasswordRules(ctx context.Context, target Target, b AccountRef) (PasswordRules, error) {
	return t.Connector.PasswordRules(t.with(ctx), target, b)
}

// Probe implements Connector.
func (t traced) Probe(ctx context.Context, target Target, b Point, c Values) (Probed, error) {
	return t.Connector.Probe(t.with(ctx), target, b, c)
}

// Reach implements Connector.
func (t traced) Reach(ctx context.Context, target Target, b []reach.Ask) ([]reach.Result, error) {
	return t.Connector.Reach(t.with(ctx), target, b)
}

// ReadCopies implements Connector.
func (t traced) ReadCopies(ctx context.Context, target Target, b string, c []held.Locator) (CopyState, error) {
	return t.Connector.ReadCopies(t.with(ctx), target, b, c)
}

// ReadLogOn implements Connector.
func (t traced) ReadLogOn(ctx context.Context, target Target, b estate.Place) (LogOnState, error) {
	return t.Connector.ReadLogOn(t.with(ctx), target, b)
}

// Records implements Connector.
func (t traced) Records(ctx context.Context, target Target, b time.Time) (change.Log, error) {
	return t.Connector.Records(t.with(ctx), target, b)
}

// Rehearse implements Connector.
func (t traced) Rehearse(ctx context.Context, target Target, b []Intention) []Checked {
	return t.Connector.Rehearse(t.with(ctx), target, b)
}

// Reload implements Connector.
func (t traced) Reload(ctx context.Context, target Target, b estate.Place) (string, error) {
	return t.Connector.Reload(t.with(ctx), target, b)
}

// ReplaceCopies implements Connector.
func (t traced) ReplaceCopies(ctx context.Context, target Target, b string, c []held.Locator, d secret.Value, e secret.Value) error {
	return t.Connector.ReplaceCopies(t.with(ctx), target, b, c, d, e)
}

// ReplaceLogOn implements Connector.
func (t traced) ReplaceLogOn(ctx context.Context, target Target, b LogOnChange) (string, error) {
	return t.Connector.ReplaceLogOn(t.with(ctx), target, b)
}

// Restart implements Connector.
func (t traced) Restart(ctx context.Context, target Target, b estate.Place) (string, error) {
	return t.Connector.Restart(t.with(ctx), target, b)
}

// Rights implements Connector.
func (t traced) Rights(ctx context.Context, target Target, b RightsRequest, c func(Batch) error) (RightsCoverage, error) {
	return t.Connector.Rights(t.with(ctx), target, b, c)
}

// RunCheck implements Connector.
func (t traced) RunCheck(ctx context.Context, target Target, b string) (string, int, error) {
	return t.Connector.RunCheck(t.with(ctx), target, b)
}

// Standing implements Connector.
func (t traced) Standing(ctx context.Context, target Target, b privilege.RightChange) (Standing, error) {
	return t.Connector.Standing(t.with(ctx), target, b)
}

// StillThere implements Connector.
func (t traced) StillThere(ctx context.Context, target Target, b []AccountRef) ([]Presence, error) {
	return t.Connector.StillThere(t.with(ctx), target, b)
}

// Stop implements Connector.
func (t traced) Stop(ctx context.Context, target Target, b estate.Place) (string, error) {
	return t.Connector.Stop(t.with(ctx), target, b)
}

// Try implements Connector.
func (t traced) Try(ctx context.Context, target Target, b string) (Tried, error) {
	return t.Connector.Try(t.with(ctx), target, b)
}

// UnitState implements Connector.
func (t traced) UnitState(ctx context.Context, target Target, b estate.Place) (UnitState, error) {
	return t.Connector.UnitState(t.with(ctx), target, b)
}

// Verify implements Connector.
func (t traced) Verify(ctx context.Context, target Target, b AccountRef, c secret.Value) (Verdict, error) {
	return t.Connector.Verify(t.with(ctx), target, b, c)
}

// VerifyKey implements Connector.
func (t traced) VerifyKey(ctx context.Context, target Target, b AccountRef, c secret.Value, d *Target) (Verdict, error) {
	return t.Connector.VerifyKey(t.with(ctx), target, b, c, d)
}

// Visit implements Connector.
func (t traced) Visit(ctx context.Context, target Target, b VisitRequest, c func(Batch) error) (Coverage, error) {
	return t.Connector.Visit(t.with(ctx), target, b, c)
}

// Order implements Connector.
func (t traced) Order(ctx context.Context, target Target, b []string) (Order, error) {
	return t.Connector.Order(t.with(ctx), target, b)
}

// Issue implements Connector.
func (t traced) Issue(ctx context.Context, target Target, b Order, c []byte) (string, error) {
	return t.Connector.Issue(t.with(ctx), target, b, c)
}

// Revoke implements Connector.
func (t traced) Revoke(ctx context.Context, target Target, b string) error {
	return t.Connector.Revoke(t.with(ctx), target, b)
}

// Shown implements Connector.
func (t traced) Shown(ctx context.Context, target Target, b string) (estate.Key, error) {
	return t.Connector.Shown(t.with(ctx), target, b)
}
