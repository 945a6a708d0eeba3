package acts

import (
	"time"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
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

// introduced is a new key as an issuer is given it. It is good from a little before the
// rotation began on, for clocks differ.
func (h *Hands) introduced(step rotation.Step, next secret.Value) (string, error) {
	from := h.Rotation.Started
	if from.IsZero() {
		from = h.acts.base.Now()
	}
	var until time.Time
	if lasts := h.Rotation.Plan.Lasts; lasts > 0 {
		until = from.Add(lasts)
	}
	return keys.Introduce(next, step.Door.Account, from.Add(-clocksDiffer), until, h.acts.base.Random)
}

// clocksDiffer is by how much an issuer's clock may be behind ours.
const clocksDiffer = time.Hour
