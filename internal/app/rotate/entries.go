package rotate

import (
	"context"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// lines are the public halves of two keys.
func lines(old, next secret.Value) (string, string, error) {
	a, err := keys.PairOf(old)
	if err != nil {
		return "", "", err
	}
	b, err := keys.PairOf(next)
	return a.Line, b.Line, err
}

// changeDoor changes the entries of a door, when the step is about that.
func (h *acts) changeDoor(ctx context.Context, step rotation.Step, old, next secret.Value, undo bool) (rotation.Outcome, bool) {
	if step.Door == nil || step.Kind != rotation.StepChange && step.Kind != rotation.StepRetire {
		return rotation.Outcome{}, false
	}
	was, will, err := lines(old, next)
	if err != nil {
		return certainly(err), true
	}
	change, words := connect.EntryChange{Path: step.Subject}, ""
	switch {
	case step.Kind == rotation.StepChange && !undo:
		change.Stays, change.Admit, words = was, will, "both keys are let in"
	case step.Kind == rotation.StepChange:
		change.Stays, change.Remove, words = was, will, "only the old key is let in"
	case !undo:
		change.Stays, change.Remove, words = will, was, "only the new key is let in"
	default:
		change.Stays, change.Admit, words = will, was, "both keys are let in"
	}
	admitter, target, err := capability[connect.Admitter](ctx, h, step)
	if err != nil {
		return certainly(err), true
	}
	free, err := h.rotations.turns.take(ctx, step.SystemID+":"+step.Subject)
	if err != nil {
		return certainly(err), true
	}
	defer free()
	if err := admitter.ChangeEntries(ctx, target, change); err != nil {
		return failed(err), true
	}
	return done(words), true
}

// probeDoor reads the entries of a door.
func (h *acts) probeDoor(ctx context.Context, step rotation.Step, old, next secret.Value) rotation.Finding {
	was, will, err := lines(old, next)
	if err != nil {
		return notFoundOut(err)
	}
	admitter, target, err := capability[connect.Admitter](ctx, h, step)
	if err != nil {
		return notFoundOut(err)
	}
	is, err := admitter.ReadEntries(ctx, target, step.Subject, []string{was, will})
	switch {
	case connect.CodeOf(err) == connect.CodeGone:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: err.Error()}
	case err != nil:
		return notFoundOut(err)
	case !is[0] && !is[1]:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: "neither key is let in: somebody changed the file"}
	}
	effective, words := is[1], "the new key is let in"
	if step.Kind == rotation.StepRetire {
		if !is[1] {
			return rotation.Finding{Result: rotation.ProbeNeither, Words: "the new key is not let in: somebody changed the file"}
		}
		effective, words = !is[0], "the old key is not let in"
	}
	if effective {
		return rotation.Finding{Result: rotation.ProbeEffective, Words: words}
	}
	return rotation.Finding{Result: rotation.ProbeAbsent, Words: "not so yet"}
}

// keyEffect notes which key a holder has and a door lets in, so that the
// picture is right without reading it again.
func (j *journal) keyEffect(ctx context.Context, step rotation.Step, status rotation.Status) (effects store.Effects, err error) {
	if step.Kind != rotation.StepReplace && step.Kind != rotation.StepRetire || status != rotation.Done && status != rotation.Undone {
		return effects, nil
	}
	was, is, err := j.rotations.sealed.OfRotation(ctx, j.rotation)
	if err != nil || was == nil || is == nil {
		return effects, err
	}
	if status == rotation.Undone {
		was, is = is, was
	}
	from, err := j.rotations.sealed.Public(*was)
	if err != nil {
		return effects, err
	}
	to, err := j.rotations.sealed.Public(*is)
	if err != nil {
		return effects, err
	}
	effects.Keys = append(effects.Keys, store.KeyIs{SystemID: app.Number(step.SystemID), Path: step.Subject, Door: step.Door != nil, From: *from, To: *to})
	return effects, nil
}
