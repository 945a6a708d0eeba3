package rotate

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// currentKey is the public half of the sealed key.
func currentKey(c records.Credential, current secret.Value) (string, connect.Checked) {
	line := connect.Checked{What: "the sealed key of " + c.Name, Result: connect.CheckFailed}
	if current.Empty() {
		line.Words, line.Next = "the key is not in custody", "take it with 'moss custody take "+c.Spelling()+"'"
		return "", line
	}
	pair, err := keys.PairOf(current)
	if err != nil {
		line.Words = err.Error()
		return "", line
	}
	line.Result = connect.CheckOK
	return pair.Line, line
}

// opensDoors proves the sealed key where a plan will prove the new one.
func (rotations *Rotations) opensDoors(ctx context.Context, c records.Credential, plan rotation.Plan, current secret.Value) []connect.Checked {
	var points []building.Point
	for _, s := range plan.Steps {
		if s.Kind == rotation.StepSignIn || s.Kind == rotation.StepShow {
			points = append(points, building.Point{SystemID: s.SystemID, System: s.System, Path: s.Subject, Account: s.Door.Account, Via: s.Door.Via, Shows: s.Door.Shows})
		}
	}
	var out []connect.Checked
	for _, answer := range rotations.custody.TryAll(ctx, c, points, current) {
		line := connect.Checked{System: answer.Point.System, What: "sign in as " + answer.Point.Account + " with the sealed key", Result: connect.CheckOK, Words: answer.Verdict.Words}
		if answer.Point.Shows {
			line.What = "port " + answer.Point.Account + " shows the certificate of the sealed key"
		}
		switch {
		case answer.Err != nil:
			line.Result, line.Words = connect.CheckFailed, answer.Err.Error()
		case !answer.Verdict.Accepted && answer.Point.Shows:
			line.Result, line.Next = connect.CheckFailed, "what listens there has not read the file, or somebody changed it: survey "+answer.Point.System
		case !answer.Verdict.Accepted:
			line.Result, line.Next = connect.CheckFailed, "the entry admits other addresses only, or somebody changed it: survey "+answer.Point.System
		}
		out = append(out, line)
	}
	return out
}
