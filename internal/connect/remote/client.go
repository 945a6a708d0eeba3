package remote

import (
	"context"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/core/secret"
)

var _ connect.Connector = (*Client)(nil)

// unclear makes a failure of an error that is none: the message may have arrived,
// so that nobody knows whether the act took effect.
func unclear(t connect.Target, stage connect.Stage, err error) error {
	if err == nil || connect.CodeOf(err) != "" {
		return err
	}
	f := t.Fail(stage, connect.CodeUnreachable, "what reaches it from there did not answer: "+err.Error(), "see whether it runs", err)
	f.Unclear = true
	return f
}

// Describe implements connect.Connector.
func (c *Client) Describe() connect.Description { return c.description }

// Check implements connect.Connector.
func (c *Client) Check(ctx context.Context, target connect.Target) (report connect.CheckReport) {
	if err := c.call(ctx, "Check", nil, []any{target}, &report); err != nil {
		report.Stages = append(report.Stages, connect.StageResult{Stage: connect.StageConnect, Code: connect.CodeUnreachable, Detail: "what reaches it from there did not answer: " + err.Error(), Next: "see whether it runs"})
	}
	return report
}

// Visit implements connect.Visitor. Coverage is valid in any case.
func (c *Client) Visit(ctx context.Context, target connect.Target, request connect.VisitRequest, emit func(connect.Batch) error) (coverage connect.Coverage, err error) {
	var taker error
	err = c.call(ctx, "Visit", func(b connect.Batch) error { taker = emit(b); return taker }, []any{target, request}, &coverage)
	if taker != nil {
		return coverage, taker
	}
	return coverage, unclear(target, connect.StageRead, err)
}

// Rights implements connect.RightsReader.
func (c *Client) Rights(ctx context.Context, target connect.Target, request connect.RightsRequest, emit func(connect.Batch) error) (coverage connect.RightsCoverage, err error) {
	var taker error
	err = c.call(ctx, "Rights", func(b connect.Batch) error { taker = emit(b); return taker }, []any{target, request}, &coverage)
	if taker != nil {
		return coverage, taker
	}
	return coverage, unclear(target, connect.StageRead, err)
}

// Prepare implements connect.Preparer. Where the other end does not answer there is none.
func (c *Client) Prepare(target connect.Target, known connect.Known) (out []connect.Preparation) {
	if err := c.call(context.Background(), "Prepare", nil, []any{target, known}, &out); err != nil {
		return nil
	}
	return out
}

// Reach implements connect.Reacher.
func (c *Client) Reach(ctx context.Context, target connect.Target, asks []reach.Ask) (out []reach.Result, err error) {
	return out, unclear(target, connect.StageConnect, c.call(ctx, "Reach", nil, []any{target, asks}, &out))
}

// Standing implements connect.Amender.
func (c *Client) Standing(ctx context.Context, target connect.Target, change privilege.RightChange) (out connect.Standing, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "Standing", nil, []any{target, change}, &out))
}

// Amend implements connect.Amender.
func (c *Client) Amend(ctx context.Context, target connect.Target, change privilege.RightChange, back bool) error {
	return unclear(target, connect.StageChange, c.call(ctx, "Amend", nil, []any{target, change, back}))
}

// Ending implements connect.Ender.
func (c *Client) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (out connect.Ending, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "Ending", nil, []any{target, change}, &out))
}

// End implements connect.Ender.
func (c *Client) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	return unclear(target, connect.StageChange, c.call(ctx, "End", nil, []any{target, change, back}))
}

// Try implements connect.Trier.
func (c *Client) Try(ctx context.Context, target connect.Target, step string) (out connect.Tried, err error) {
	return out, unclear(target, connect.StageProve, c.call(ctx, "Try", nil, []any{target, step}, &out))
}

// Propose implements connect.Proposer.
func (c *Client) Propose(target connect.Target, change privilege.RightChange) (out connect.Proposal, why string) {
	if err := c.call(context.Background(), "Propose", nil, []any{target, change}, &out, &why); err != nil {
		return out, err.Error()
	}
	return out, why
}

// StillThere implements connect.Asker.
func (c *Client) StillThere(ctx context.Context, target connect.Target, accounts []connect.AccountRef) (out []connect.Presence, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "StillThere", nil, []any{target, accounts}, &out))
}

// Verify implements connect.Verifier.
func (c *Client) Verify(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) (out connect.Verdict, err error) {
	return out, unclear(target, connect.StageProve, c.call(ctx, "Verify", nil, []any{target, account, value}, &out))
}

// Overlaps implements connect.Accepter.
func (c *Client) Overlaps(ctx context.Context, target connect.Target, point connect.Point) (can bool, why string, err error) {
	return can, why, unclear(target, connect.StageRead, c.call(ctx, "Overlaps", nil, []any{target, point}, &can, &why))
}

// Alternates implements connect.Accepter.
func (c *Client) Alternates(ctx context.Context, target connect.Target, point connect.Point) (can bool, why string, err error) {
	return can, why, unclear(target, connect.StageRead, c.call(ctx, "Alternates", nil, []any{target, point}, &can, &why))
}

// Accept implements connect.Accepter.
func (c *Client) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	return unclear(target, connect.StageChange, c.call(ctx, "Accept", nil, []any{target, point, values, want}))
}

// Probe implements connect.Accepter.
func (c *Client) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (out connect.Probed, err error) {
	return out, unclear(target, connect.StageProve, c.call(ctx, "Probe", nil, []any{target, point, values}, &out))
}

// PasswordRules implements connect.Ruler.
func (c *Client) PasswordRules(ctx context.Context, target connect.Target, account connect.AccountRef) (out connect.PasswordRules, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "PasswordRules", nil, []any{target, account}, &out))
}

// VerifyKey implements connect.Admitter.
func (c *Client) VerifyKey(ctx context.Context, target connect.Target, account connect.AccountRef, key secret.Value, through *connect.Target) (out connect.Verdict, err error) {
	return out, unclear(target, connect.StageProve, c.call(ctx, "VerifyKey", nil, []any{target, account, key, through}, &out))
}

// ReadCopies implements connect.Holder.
func (c *Client) ReadCopies(ctx context.Context, target connect.Target, path string, places []held.Locator) (out connect.CopyState, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "ReadCopies", nil, []any{target, path, places}, &out))
}

// ReplaceCopies implements connect.Holder.
func (c *Client) ReplaceCopies(ctx context.Context, target connect.Target, path string, places []held.Locator, old, value secret.Value) error {
	return unclear(target, connect.StageReplace, c.call(ctx, "ReplaceCopies", nil, []any{target, path, places, old, value}))
}

// ReadLogOn implements connect.LogOnKeeper.
func (c *Client) ReadLogOn(ctx context.Context, target connect.Target, place estate.Place) (out connect.LogOnState, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "ReadLogOn", nil, []any{target, place}, &out))
}

// ReplaceLogOn implements connect.LogOnKeeper.
func (c *Client) ReplaceLogOn(ctx context.Context, target connect.Target, change connect.LogOnChange) (words string, err error) {
	return words, unclear(target, connect.StageReplace, c.call(ctx, "ReplaceLogOn", nil, []any{target, change}, &words))
}

// UnitState implements connect.Restarter.
func (c *Client) UnitState(ctx context.Context, target connect.Target, place estate.Place) (out connect.UnitState, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "UnitState", nil, []any{target, place}, &out))
}

// Restart implements connect.Restarter.
func (c *Client) Restart(ctx context.Context, target connect.Target, place estate.Place) (words string, err error) {
	return words, unclear(target, connect.StageRestart, c.call(ctx, "Restart", nil, []any{target, place}, &words))
}

// Reload implements connect.Restarter.
func (c *Client) Reload(ctx context.Context, target connect.Target, place estate.Place) (words string, err error) {
	return words, unclear(target, connect.StageRestart, c.call(ctx, "Reload", nil, []any{target, place}, &words))
}

// Stop implements connect.Restarter.
func (c *Client) Stop(ctx context.Context, target connect.Target, place estate.Place) (words string, err error) {
	return words, unclear(target, connect.StageRestart, c.call(ctx, "Stop", nil, []any{target, place}, &words))
}

// RunCheck implements connect.Commander.
func (c *Client) RunCheck(ctx context.Context, target connect.Target, command string) (output string, exit int, err error) {
	return output, exit, unclear(target, connect.StageProve, c.call(ctx, "RunCheck", nil, []any{target, command}, &output, &exit))
}

// Rehearse implements connect.Rehearser.
func (c *Client) Rehearse(ctx context.Context, target connect.Target, intentions []connect.Intention) (out []connect.Checked) {
	if err := c.call(ctx, "Rehearse", nil, []any{target, intentions}, &out); err != nil {
		out = append(out, connect.Checked{System: target.Name, What: "reach the system", Result: connect.CheckFailed, Words: "what reaches it from there did not answer: " + err.Error(), Next: "see whether it runs"})
	}
	return out
}

// Connections implements connect.Observer.
func (c *Client) Connections(ctx context.Context, target connect.Target, place estate.Place) (out []estate.Socket, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "Connections", nil, []any{target, place}, &out))
}

// Records implements connect.Recorder.
func (c *Client) Records(ctx context.Context, target connect.Target, since time.Time) (out change.Log, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "Records", nil, []any{target, since}, &out))
}

// Diagnose implements connect.Diagnoser.
func (c *Client) Diagnose(ctx context.Context, target connect.Target, place estate.Place) (out connect.Diagnosis, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "Diagnose", nil, []any{target, place}, &out))
}

// ListSystems implements connect.Lister.
func (c *Client) ListSystems(ctx context.Context, target connect.Target, base string) (out []connect.Listed, err error) {
	return out, unclear(target, connect.StageRead, c.call(ctx, "ListSystems", nil, []any{target, base}, &out))
}
