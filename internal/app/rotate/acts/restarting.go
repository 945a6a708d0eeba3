package acts

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// restart has a dependent use what its files hold now: started anew, or told to read them again.
func (h *Hands) restart(ctx context.Context, step rotation.Step, undo bool) rotation.Outcome {
	if step.Reload {
		return h.reload(ctx, step, undo)
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
	if err != nil {
		return Certainly(err)
	}
	h.noteConnections(ctx, step)
	words, err := connector.Restart(ctx, target, step.At())
	if err != nil {
		return Failed(err)
	}
	return done(words)
}

// reload: a dependent that cannot be told has what it had before. Going forward that is a
// failure; on the way back it may just be what is wanted, and its port proves it or not.
func (h *Hands) reload(ctx context.Context, step rotation.Step, undo bool) rotation.Outcome {
	connector, target, err := h.acts.Able(ctx, step, connect.ActReload)
	if err != nil {
		return Certainly(err)
	}
	words, err := connector.Reload(ctx, target, step.At())
	switch {
	case err == nil:
		return done(words)
	case undo && !Away(err):
		return done("it was not told (" + err.Error() + "): whether it has the old one is proven by what it shows")
	}
	return Certainly(err)
}
