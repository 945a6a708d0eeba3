package acts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
)

// With every change of a password the keys that are made of it get the next number, also
// when a former password is put back. A ticket names the number of its key, and whoever
// accepts it must hold a key of that number: so key tabs are kept in step with what the
// authority says.

// authority is the proof at the authority that is asked for numbers; found is false
// where the plan has no key tabs.
func (h *Hands) authority() (step rotation.Step, found bool) {
	steps := h.Rotation.Plan.Steps
	at := slices.IndexFunc(steps, func(s rotation.Step) bool { return s.Kind == rotation.StepSignIn && s.Door == nil })
	if at < 0 || !slices.ContainsFunc(steps, rotation.Step.Adds) {
		return step, false
	}
	return steps[at], true
}

// errNoNumber: without it a key could be added that no ticket will ever name.
var errNoNumber = errors.New("the directory does not tell which number its keys have: grant the steward the right to read msDS-KeyVersionNumber")

// numbered gives the places in a key tab the number that the keys to be added have at the
// authority: the present one in the way forward. While something is undone the authority
// is put back last, and gives the next number then; a host that was away is come to
// after that.
func (h *Hands) numbered(ctx context.Context, step rotation.Step, undo bool) ([]held.Locator, error) {
	if !step.Adds() {
		return h.facing(step.Places, undo), nil
	}
	number, err := h.numberOf(ctx, step.PutBack)
	if err != nil {
		return nil, err
	}
	if undo && !step.PutBack {
		number++
	}
	out := slices.Clone(step.Places)
	for i := range out {
		out[i].Version = number
	}
	return out, nil
}

// numberOf is the number of the keys in force, asked for once before the authority is put
// back and once after: each question is a sign-in.
func (h *Hands) numberOf(ctx context.Context, putBack bool) (int, error) {
	known, _ := h.numbers.Load(putBack)
	if number, found := known.(int); found {
		return number, nil
	}
	authority, found := h.authority()
	if !found {
		return 0, errNoNumber
	}
	inForce, next, err := h.secrets(ctx, authority)
	if err != nil {
		return 0, err
	}
	if !putBack {
		inForce = next
	}
	verdict, _, err := h.Asks(ctx, authority, inForce)
	if err != nil {
		return 0, err
	}
	if verdict.KeyVersion == 0 {
		return 0, fmt.Errorf("%s: %w", authority.System, errNoNumber)
	}
	h.numbers.Store(putBack, verdict.KeyVersion)
	return verdict.KeyVersion, nil
}

// numberNow is kept before the authority is put back: where both values are accepted
// afterwards, it tells whether that was done. Setting a value once more is not harmless,
// for its keys get one more number. "" where there are no key tabs, or nothing is told.
func (h *Hands) numberNow(ctx context.Context) (string, error) {
	authority, found := h.authority()
	if !found {
		return "", nil
	}
	_, next, err := h.secrets(ctx, authority)
	if err != nil {
		return "", err
	}
	verdict, _, err := h.Asks(ctx, authority, next)
	switch {
	case Away(err):
		return "", errors.Join(rotation.ErrAway, err)
	case err != nil || verdict.KeyVersion == 0:
		return "", nil //nolint:nilerr // it is put back all the same
	}
	return strconv.Itoa(verdict.KeyVersion), nil
}

// renumbered says that an authority's keys have another number than before it was put
// back; "" where they have not, or nobody knows.
func (h *Hands) renumbered(ctx context.Context, step rotation.Step, before string, old secret.Value) string {
	was, err := strconv.Atoi(before)
	if err != nil {
		return ""
	}
	verdict, _, err := h.Asks(ctx, step, old)
	if err != nil || verdict.KeyVersion <= was {
		return ""
	}
	return fmt.Sprintf("the old value was put back: its keys have number %d; the new one is accepted for a while still", verdict.KeyVersion)
}
