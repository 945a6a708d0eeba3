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

// Cannot is what a connector embeds for what its kind cannot do: every act fails
// with CodeCannot, certainly and without reaching anything. The description says
// so before.
type Cannot struct{}

func cannot(t Target, stage Stage) *Failure {
	return t.Fail(stage, CodeCannot, "systems of the kind "+string(t.Kind)+" do not offer this", "", nil)
}

// Visit implements Visitor.
func (Cannot) Visit(_ context.Context, t Target, _ VisitRequest, _ func(Batch) error) (Coverage, error) {
	return Coverage{}, cannot(t, StageRead)
}

// StillThere implements Asker.
func (Cannot) StillThere(_ context.Context, t Target, _ []AccountRef) ([]Presence, error) {
	return nil, cannot(t, StageRead)
}

// Verify implements Verifier.
func (Cannot) Verify(_ context.Context, t Target, _ AccountRef, _ secret.Value) (Verdict, error) {
	return Verdict{}, cannot(t, StageProve)
}

// Overlaps implements Accepter.
func (Cannot) Overlaps(context.Context, Target, Point) (bool, string, error) {
	return false, "systems of this kind accept one value", nil
}

// Alternates implements Accepter.
func (Cannot) Alternates(context.Context, Target, Point) (bool, string, error) {
	return false, "accounts of systems of this kind do not take turns", nil
}

// Accept implements Accepter.
func (Cannot) Accept(_ context.Context, t Target, _ Point, _ Values, _ Accepted) error {
	return cannot(t, StageChange)
}

// Probe implements Accepter.
func (Cannot) Probe(_ context.Context, t Target, _ Point, _ Values) (Probed, error) {
	return Probed{}, cannot(t, StageProve)
}

// PasswordRules implements Ruler.
func (Cannot) PasswordRules(context.Context, Target, AccountRef) (PasswordRules, error) {
	return PasswordRules{Unknown: "systems of this kind do not tell their rules for passwords"}, nil
}

// VerifyKey implements Admitter.
func (Cannot) VerifyKey(_ context.Context, t Target, _ AccountRef, _ secret.Value, _ *Target) (Verdict, error) {
	return Verdict{}, cannot(t, StageProve)
}

// ReadCopies implements Holder.
func (Cannot) ReadCopies(_ context.Context, t Target, _ string, _ []held.Locator) (CopyState, error) {
	return CopyState{}, cannot(t, StageRead)
}

// ReplaceCopies implements Holder.
func (Cannot) ReplaceCopies(_ context.Context, t Target, _ string, _ []held.Locator, _, _ secret.Value) error {
	return cannot(t, StageReplace)
}

// ReadLogOn implements LogOnKeeper.
func (Cannot) ReadLogOn(_ context.Context, t Target, _ estate.Place) (LogOnState, error) {
	return LogOnState{}, cannot(t, StageRead)
}

// ReplaceLogOn implements LogOnKeeper.
func (Cannot) ReplaceLogOn(_ context.Context, t Target, _ LogOnChange) (string, error) {
	return "", cannot(t, StageReplace)
}

// UnitState implements Restarter.
func (Cannot) UnitState(_ context.Context, t Target, _ estate.Place) (UnitState, error) {
	return UnitState{}, cannot(t, StageRead)
}

// Stop implements Restarter.
func (Cannot) Stop(_ context.Context, t Target, _ estate.Place) (string, error) {
	return "", cannot(t, StageRestart)
}

// Reload implements Restarter.
func (Cannot) Reload(_ context.Context, t Target, _ estate.Place) (string, error) {
	return "", cannot(t, StageRestart)
}

// Restart implements Restarter.
func (Cannot) Restart(_ context.Context, t Target, _ estate.Place) (string, error) {
	return "", cannot(t, StageRestart)
}

// RunCheck implements Commander.
func (Cannot) RunCheck(_ context.Context, t Target, _ string) (string, int, error) {
	return "", 0, cannot(t, StageProve)
}

// Rehearse implements Rehearser.
func (Cannot) Rehearse(_ context.Context, t Target, _ []Intention) []Checked {
	return []Checked{{System: t.Name, What: "everything on this system", Result: CheckUnchecked, Words: "systems of this kind cannot be rehearsed"}}
}

// Diagnose implements Diagnoser.
func (Cannot) Diagnose(_ context.Context, t Target, _ estate.Place) (Diagnosis, error) {
	return Diagnosis{}, cannot(t, StageRead)
}

// Connections implements Observer.
func (Cannot) Connections(_ context.Context, t Target, _ estate.Place) ([]estate.Socket, error) {
	return nil, cannot(t, StageRead)
}

// ListSystems implements Lister.
func (Cannot) ListSystems(_ context.Context, t Target, _ string) ([]Listed, error) {
	return nil, cannot(t, StageRead)
}

// Records implements Recorder.
func (Cannot) Records(_ context.Context, t Target, _ time.Time) (change.Log, error) {
	return change.Log{}, cannot(t, StageRead)
}

// Rights implements RightsReader.
func (Cannot) Rights(_ context.Context, t Target, _ RightsRequest, _ func(Batch) error) (RightsCoverage, error) {
	return RightsCoverage{}, cannot(t, StageRead)
}

// Reach implements Reacher.
func (Cannot) Reach(_ context.Context, t Target, _ []reach.Ask) ([]reach.Result, error) {
	return nil, cannot(t, StageConnect)
}

// Standing implements Amender.
func (Cannot) Standing(_ context.Context, t Target, _ privilege.RightChange) (Standing, error) {
	return Standing{}, cannot(t, StageRead)
}

// Amend implements Amender.
func (Cannot) Amend(_ context.Context, t Target, _ privilege.RightChange, _ bool) error {
	return cannot(t, StageChange)
}

// Try implements Trier.
func (Cannot) Try(_ context.Context, t Target, _ string) (Tried, error) {
	return Tried{}, cannot(t, StageProve)
}

// Propose implements Proposer.
func (Cannot) Propose(Target, privilege.RightChange) (Proposal, string) {
	return Proposal{}, "its kind of system has no text for it here"
}

// Prepare implements Preparer.
func (Cannot) Prepare(Target, Known) []Preparation { return nil }

// Ending implements Ender.
func (Cannot) Ending(_ context.Context, t Target, _ expiry.EndChange) (Ending, error) {
	return Ending{}, cannot(t, StageRead)
}

// End implements Ender.
func (Cannot) End(_ context.Context, t Target, _ expiry.EndChange, _ bool) error {
	return cannot(t, StageChange)
}
