package acts

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// stillIn proves that a system is still reached.
func (h *Hands) stillIn(ctx context.Context, step rotation.Step) rotation.Outcome {
	connector, target, err := h.acts.on(ctx, step)
	if err != nil {
		return Certainly(err)
	}
	for _, stage := range connector.Check(ctx, target).Stages {
		switch {
		case stage.OK && stage.Stage == connect.StageSignIn:
			return done("we sign in: " + stage.Detail)
		case !stage.OK:
			f := &connect.Failure{System: target.Name, Stage: stage.Stage, Words: stage.Detail, Next: stage.Next, Code: stage.Code}
			return Certainly(f)
		}
	}
	return Certainly(fmt.Errorf("%s: a check did not come to signing in", target.Name))
}
