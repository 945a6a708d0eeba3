package rotate

import (
	"context"
	"errors"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// keyEffect notes which key a holder has and a door lets in, so that the
// picture is right without reading it again.
func (j *journal) keyEffect(ctx context.Context, step rotation.Step, status rotation.Status) (effects records.Effects, err error) {
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
	key := records.KeyIs{SystemID: app.Number[records.SystemID](step.SystemID), Path: step.Subject, Door: step.Door != nil, From: *from, To: *to}
	if chain, _, err := j.rotations.store.Chain(ctx, to.Fingerprint); err == nil {
		if list, err := keys.ReadChain(chain); err == nil { // when it ends decides when it is renewed next
			key.Begins, key.Ends = list[0].NotBefore, list[0].NotAfter
		}
	} else if !errors.Is(err, app.ErrNotFound) {
		return effects, err
	}
	effects.Keys = append(effects.Keys, key)
	return effects, nil
}
