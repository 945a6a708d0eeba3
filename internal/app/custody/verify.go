package custody

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// Verify signs in with a sealed value. A refusal raises the finding
// drift.
func (custody *Custody) Verify(ctx context.Context, by string, s Subject) (connect.Verdict, error) {
	if err := custody.NotRotating(ctx, s); err != nil {
		return connect.Verdict{}, err
	}
	values, err := custody.sealed.Values(ctx, s.Credential())
	if err != nil {
		return connect.Verdict{}, err
	}
	if values.Current.Empty() {
		return connect.Verdict{}, fmt.Errorf("%w: %s is not in custody", app.ErrRefused, NameOf(s))
	}
	if k, isKey := s.(store.KeyPair); isKey {
		return custody.verifyKey(ctx, by, k, values.Current)
	}
	a := s.(store.Account) //nolint:forcetypeassert // there are two kinds
	_, target, verifier, err := custody.inventory.Authority(ctx, a)
	if err != nil {
		return connect.Verdict{}, err
	}
	var verdict connect.Verdict
	entry := ledger.Entry{Actor: by, Act: "custody.verify", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = custody.base.Act(ctx, entry, func() error {
		limited, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		var err error
		verdict, err = verifier.Verify(limited, target, inventory.RefOf(a), values.Current)
		verdict.Words = custody.base.Redact(ctx, verdict.Words)
		return err
	})
	state, words := "accepted", verdict.Words
	keep := context.WithoutCancel(ctx)
	var drift []store.Finding
	switch {
	case err != nil:
		state, words = "unclear", custody.base.Redact(ctx, err.Error())
	case !verdict.Accepted:
		state = "refused"
		drift = []store.Finding{{
			Key: driftKey(a.Credential()), Kind: "drift", Severity: "high", Subject: a.Name, System: a.System, AccountID: a.ID,
			What: "the sealed value is refused (" + verdict.Code + "): " + verdict.Words, Next: DriftNext(verdict.Code, a.Name),
		}}
	}
	if err == nil {
		if findErr := custody.store.SetFindings(keep, driftKey(a.Credential()), drift); findErr != nil {
			return verdict, findErr
		}
	}
	return verdict, errors.Join(err, custody.store.SaveVerdict(keep, a.Credential(), state, words))
}

// DriftNext is what to do about a sealed value that is refused, by the code of
// the verdict.
func DriftNext(code, name string) string {
	switch code {
	case connect.VerdictLocked:
		return "unlock the account and find what locks it"
	case connect.VerdictDisabled:
		return "enable the account, or release it"
	case connect.VerdictEnded:
		return "extend the account in its directory, or release it"
	case connect.VerdictExpired, connect.VerdictMustChange:
		return "rotate it, or reset it with 'moss custody take " + name + " --reset'"
	}
	return "somebody changed it elsewhere: give the new password with 'moss custody take " + name + "', or take it back with --reset"
}

// VerifyAll verifies everything in custody, a few at a time.
func (custody *Custody) VerifyAll(ctx context.Context, by string) (accepted, refused, unclear int, err error) {
	all, err := custody.store.Custodies(ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	for _, c := range all {
		if ctx.Err() != nil {
			return accepted, refused, unclear, ctx.Err()
		}
		subject, err := custody.Subject(ctx, c)
		if err != nil {
			return accepted, refused, unclear, err
		}
		verdict, err := custody.Verify(ctx, by, subject)
		switch {
		case errors.Is(err, app.ErrRefused):
		case err != nil:
			unclear++
		case verdict.Accepted:
			accepted++
		default:
			refused++
		}
	}
	return accepted, refused, unclear, nil
}
