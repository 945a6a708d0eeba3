package rotate

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// certificateBefore says whether a certificate can be put back that a rotation replaced: one
// that has ended since would have clients refuse what works.
func (rotations *Rotations) certificateBefore(ctx context.Context, c records.Credential, plan rotation.Plan) ([]connect.Checked, error) {
	if c.Kind != credential.Certificate || plan.UndoOf == 0 {
		return nil, nil
	}
	r, err := rotations.store.Rotation(ctx, records.RotationID(plan.UndoOf))
	if err != nil {
		return nil, err
	}
	old, _, err := rotations.sealed.OfRotation(ctx, r)
	if err != nil || old == nil {
		return nil, err
	}
	public, err := rotations.sealed.Public(*old)
	if err != nil {
		return nil, err
	}
	line := connect.Checked{System: r.Authority, What: "the certificate before is good still", Result: connect.CheckFailed, Next: "leave the new one where it is, or rotate once more"}
	chain, _, err := rotations.store.Chain(ctx, public.Fingerprint)
	if errors.Is(err, app.ErrNotFound) {
		line.Words = "it is not kept"
		return []connect.Checked{line}, nil
	}
	if err != nil {
		return nil, err
	}
	list, err := keys.ReadChain(chain)
	if err != nil {
		return nil, err
	}
	left := list[0].NotAfter.Sub(rotations.base.Now())
	switch {
	case left <= 0:
		line.Words = "it ended on " + app.Day(list[0].NotAfter)
	case left < 24*time.Hour:
		line.Result, line.Words = connect.CheckWarning, fmt.Sprintf("it ends in %s", calendar.Spell(left.Round(time.Minute)))
	default:
		line.Result, line.Words, line.Next = connect.CheckOK, "until "+app.Day(list[0].NotAfter), ""
	}
	return []connect.Checked{line}, nil
}
