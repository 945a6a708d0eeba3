package acts

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
)

// Probe implements rotation.Hands. It changes nothing.
func (h *Hands) Probe(ctx context.Context, step rotation.Step, undo bool, memo string) rotation.Finding {
	if step.Kind == rotation.StepSeal {
		_, next, err := h.acts.sealed.OfRotation(ctx, h.Rotation)
		switch {
		case err != nil:
			return NotFoundOut(err)
		case undo || next == nil:
			return rotation.Finding{Result: rotation.ProbeAbsent}
		}
		return rotation.Finding{Result: rotation.ProbeEffective, Words: "sealed"}
	}
	old, next, err := h.secrets(ctx, step)
	if err != nil {
		return NotFoundOut(err)
	}
	switch step.Kind {
	case rotation.StepChange:
		if step.Door != nil && step.Door.Certifies {
			return h.probeCertified(ctx, next)
		}
		return h.probeChange(ctx, step, undo, memo, old, next)
	case rotation.StepRetire:
		return h.probeRetire(ctx, step, old, next)
	case rotation.StepReplace:
		return h.ProbeReplace(ctx, step, undo, old, next)
	case rotation.StepLogOn:
		return h.ProbeLogOn(ctx, step, old, next)
	case rotation.StepStop:
		return h.probeStop(ctx, step)
	case rotation.StepRestart:
		return h.probeRestart(ctx, step, undo, memo)
	}
	// A proof that was cut off is simply made again.
	from, to := old, next
	if undo {
		from, to = next, old
	}
	outcome := h.apply(ctx, step, from, to, undo)
	switch {
	case outcome.Result == rotation.ResultAway:
		return rotation.Finding{Result: rotation.ProbeAway, Words: outcome.Words}
	case outcome.Result == rotation.ResultDone && undo, outcome.Result != rotation.ResultDone && !undo:
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: outcome.Words}
	case outcome.Result == rotation.ResultDone:
		return rotation.Finding{Result: rotation.ProbeEffective, Words: outcome.Words}
	}
	return rotation.Finding{Result: rotation.ProbeNeither, Words: outcome.Words}
}

// probeChange: a change is there when the new value is accepted.
func (h *Hands) probeChange(ctx context.Context, step rotation.Step, undo bool, memo string, old, next secret.Value) rotation.Finding {
	is, err := h.asked(ctx, step, old, next)
	word := h.Credential.Kind.Word()
	switch {
	case err != nil:
		return notAsked(step, err)
	case is.New == connect.AnswerBlind || is.Old == connect.AnswerBlind:
		return rotation.Finding{Result: rotation.ProbeBlind, Words: "nobody can tell which " + word + " is accepted: asking for it again is harmless"}
	case is.New == connect.AnswerYes && is.Old == connect.AnswerYes && undo && h.turns():
		return rotation.Finding{Result: rotation.ProbeNeither, Words: h.Next.Name + " may sign in still"}
	case is.New == connect.AnswerYes && is.Old == connect.AnswerYes && undo && step.Door == nil:
		// One of them is only still accepted for a while.
		if words := h.renumbered(ctx, step, memo, old); words != "" {
			return rotation.Finding{Result: rotation.ProbeAbsent, Words: words}
		}
		return rotation.Finding{Result: rotation.ProbeNeither, Words: "both values are accepted for now"}
	case is.New == connect.AnswerYes:
		return rotation.Finding{Result: rotation.ProbeEffective, Words: "the new " + word + " is accepted"}
	case is.Old == connect.AnswerYes:
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "the old " + word + " is accepted, and the new one is not"}
	case step.Door != nil:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: "neither key is let in: somebody changed the file"}
	}
	return rotation.Finding{Result: rotation.ProbeStranger, Words: "the authority accepts neither value, so somebody else set one; nothing is set over it: " + is.Words}
}

// probeRetire: the old value is retired when it is refused.
func (h *Hands) probeRetire(ctx context.Context, step rotation.Step, old, next secret.Value) rotation.Finding {
	is, err := h.asked(ctx, step, old, next)
	word := h.Credential.Kind.Word()
	switch {
	case err != nil:
		return notAsked(step, err)
	case is.New == connect.AnswerBlind || is.Old == connect.AnswerBlind:
		return rotation.Finding{Result: rotation.ProbeBlind, Words: "nobody can tell which " + word + " is accepted: asking for it again is harmless"}
	case is.New == connect.AnswerYes && is.Old == connect.AnswerYes:
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "both " + word + "s are accepted"}
	case is.New == connect.AnswerYes:
		return rotation.Finding{Result: rotation.ProbeEffective, Words: "only the new " + word + " is accepted"}
	}
	return rotation.Finding{Result: rotation.ProbeNeither, Words: "the new " + word + " is refused: somebody changed it"}
}

// notAsked is a point that could not be asked. A file of entries that is gone
// accepts neither.
func notAsked(step rotation.Step, err error) rotation.Finding {
	if step.Door != nil && connect.CodeOf(err) == connect.CodeGone {
		return rotation.Finding{Result: rotation.ProbeNeither, Words: err.Error()}
	}
	return NotFoundOut(err)
}

func (h *Hands) ProbeReplace(ctx context.Context, step rotation.Step, undo bool, old, next secret.Value) rotation.Finding {
	connector, target, err := h.acts.Able(ctx, step, connect.ActHold)
	if err != nil {
		return NotFoundOut(err)
	}
	state, err := connector.ReadCopies(ctx, target, step.Subject, step.Places)
	if err != nil {
		if connect.CodeOf(err) == connect.CodeGone {
			return rotation.Finding{Result: rotation.ProbeNeither, Words: err.Error()}
		}
		return NotFoundOut(err)
	}
	var olds, news int
	for i, v := range state.Found {
		switch in := step.Places[i].Layout; {
		case held.Same(in, v, next):
			news++
		case held.Same(in, v, old):
			olds++
		}
	}
	switch len(state.Found) {
	case news:
		return rotation.Finding{Result: rotation.ProbeEffective, Words: "the file holds the new value"}
	case olds:
		if undo && step.Adds() {
			return rotation.Finding{Result: rotation.ProbeNeither, Words: "it holds a key of the old value; that it has the number that comes next is made sure by adding it once more"}
		}
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "the file holds the old value"}
	}
	return rotation.Finding{Result: rotation.ProbeNeither, Words: fmt.Sprintf("of %d places %d hold the new and %d the old value", len(state.Found), news, olds)}
}

func (h *Hands) probeRestart(ctx context.Context, step rotation.Step, undo bool, memo string) rotation.Finding {
	connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
	if err != nil {
		return NotFoundOut(err)
	}
	state, err := connector.UnitState(ctx, target, step.At())
	if err != nil {
		return NotFoundOut(err)
	}
	if step.Reload { // nothing tells whether it did, and once more is harmless
		return rotation.Finding{Result: map[bool]string{false: rotation.ProbeAbsent, true: rotation.ProbeNeither}[undo], Words: "it is " + state.Active + "; it is told once more to read its files"}
	}
	if step.Dependent.LogsOn() {
		switch state.Active {
		case "deactivating", "activating":
			return rotation.Finding{Result: rotation.ProbeUnknown, Words: "it is " + state.Sub}
		case "active":
		default:
			if !undo { // it was stopped and not started again: start it
				return rotation.Finding{Result: rotation.ProbeAbsent, Words: "it is " + state.Sub}
			}
		}
	}
	restarted := state.Invocation != memo && state.Active == "active"
	words := strings.TrimSuffix("it is "+state.Active+", "+state.Invocation, ", ")
	switch {
	case restarted && undo:
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: words}
	case restarted:
		return rotation.Finding{Result: rotation.ProbeEffective, Words: words}
	case state.Invocation == memo && !undo:
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: words}
	}
	return rotation.Finding{Result: rotation.ProbeNeither, Words: words}
}

// probeStop: it is down, on its way down, or runs.
func (h *Hands) probeStop(ctx context.Context, step rotation.Step) rotation.Finding {
	connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
	if err != nil {
		return NotFoundOut(err)
	}
	state, err := connector.UnitState(ctx, target, step.At())
	switch {
	case err != nil:
		return NotFoundOut(err)
	case state.Active == "deactivating":
		return rotation.Finding{Result: rotation.ProbeUnknown, Words: "it is " + state.Sub}
	case state.Active == "active" || state.Active == "activating":
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "it is " + state.Active}
	}
	return rotation.Finding{Result: rotation.ProbeEffective, Words: "it is " + state.Active}
}
