package rotate

import (
	"context"
	"fmt"
	"strconv"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// ownLogOns has a plan prove that we still get in where the account is ours.
func (p *planner) ownLogOns(ctx context.Context) error {
	own, err := p.rotations.sealed.Values(ctx, p.credential.ID)
	if err != nil || own.Current.Empty() {
		return err
	}
	systems, err := p.rotations.custody.LinkStewards(ctx, access.Service(), p.account, &own.Current)
	for _, v := range systems {
		p.input.Stewards = append(p.input.Stewards, rotation.Steward{SystemID: strconv.FormatInt(v.ID, 10), System: v.Name, Name: v.Steward})
		p.note(rotation.NoteInfo, "%s is reached with this account (steward %s): we sign in there with the value in force, and prove it", v.Name, v.Steward)
	}
	return err
}

// stillIn proves that a system is still reached.
func (h *acts) stillIn(ctx context.Context, step rotation.Step) rotation.Outcome {
	connector, target, err := h.on(ctx, step)
	if err != nil {
		return certainly(err)
	}
	for _, stage := range connector.Check(ctx, target).Stages {
		switch {
		case stage.OK && stage.Stage == connect.StageSignIn:
			return done("we sign in: " + stage.Detail)
		case !stage.OK:
			f := &connect.Failure{System: target.Name, Stage: stage.Stage, Words: stage.Detail, Next: stage.Next, Code: stage.Code}
			return certainly(f)
		}
	}
	return certainly(fmt.Errorf("%s: a check did not come to signing in", target.Name))
}
