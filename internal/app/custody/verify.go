package custody

import (
	"context"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

func driftKey(c records.Credential) string { return fmt.Sprintf("drift/%d", c.ID) }

// Verify proves a sealed value where it is accepted. A refusal raises the finding
// drift.
func (custody *Custody) Verify(ctx context.Context, by access.Actor, c records.Credential) (connect.Verdict, error) {
	if err := access.Decide(by, access.VerifyCustody, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return connect.Verdict{}, err
	}
	free, err := custody.turns.Take(ctx, c.ID.Ref())
	if err != nil {
		return connect.Verdict{}, err
	}
	defer free()
	if err := custody.NotRotating(ctx, c); err != nil {
		return connect.Verdict{}, err
	}
	values, err := custody.sealed.Values(ctx, c.ID)
	if err != nil {
		return connect.Verdict{}, err
	}
	if values.Current.Empty() {
		return connect.Verdict{}, fmt.Errorf("%w: %s is not in custody", app.ErrRefused, c.Name)
	}
	points, _, err := custody.picture.Points(ctx, c)
	if err != nil {
		return connect.Verdict{}, err
	}
	var verdict connect.Verdict
	pair, err := custody.resting(ctx, c)
	if err != nil {
		return connect.Verdict{}, err
	}
	entry := ledger.Entry{Actor: by.Name, Act: "custody.verify", Subject: c.Name, System: c.System, Ref: c.ID.Ref()}
	err = custody.base.Act(ctx, entry, func() error {
		var err error
		verdict, err = judged(custody.TryAll(ctx, c, points, values.Current))
		return err
	})
	if err == nil && pair != nil && (pair.State == records.TandemRests || verdict.Rests()) {
		return custody.saveRest(context.WithoutCancel(ctx), c, *pair, verdict)
	}
	return verdict, errors.Join(err, custody.saveVerdict(context.WithoutCancel(ctx), c, verdict, err))
}

// saveVerdict keeps what points answered, and raises or clears the finding drift.
// Points that could not be asked change no finding.
func (custody *Custody) saveVerdict(ctx context.Context, c records.Credential, verdict connect.Verdict, silent error) error {
	if silent != nil {
		return custody.store.SaveVerdict(ctx, c.ID, "unclear", custody.base.Redact(ctx, silent.Error()))
	}
	state := "accepted"
	var drift []records.Finding
	if !verdict.Accepted {
		state = "refused"
		verdict.Words += custody.changedBy(ctx, c, verdict)
		f := records.Finding{
			Key: driftKey(c), Kind: "drift", Severity: "high", Subject: c.Name, System: c.System, AccountID: c.AccountID, CredentialID: c.ID,
			What: "the sealed value is refused (" + verdict.Code + "): " + verdict.Words, Next: DriftNext(verdict.Code, c.Spelling()),
		}
		if c.Fingerprint != "" {
			f.What, f.Next = "the sealed key does not open every door: "+verdict.Words, "somebody changed an entry: survey that system, then rehearse again, or release the key"
		}
		drift = []records.Finding{f}
	}
	return errors.Join(custody.store.SetFindings(ctx, driftKey(c), drift), custody.store.SaveVerdict(ctx, c.ID, state, verdict.Words))
}

// resting is the tandem in which another account has its turn; nil where none has.
func (custody *Custody) resting(ctx context.Context, c records.Credential) (*records.Tandem, error) {
	pair, err := custody.store.TandemOf(ctx, c.ID)
	if errors.Is(err, app.ErrNotFound) || err == nil && pair.Resting.CredentialID != c.ID {
		return nil, nil
	}
	return &pair, err
}

// saveRest keeps that an account rests; one that may sign in all the same is the finding
// not-resting.
func (custody *Custody) saveRest(ctx context.Context, c records.Credential, pair records.Tandem, verdict connect.Verdict) (connect.Verdict, error) {
	state, list := "rests", []records.Finding(nil)
	var err error
	if verdict.Accepted {
		state = "accepted"
		list = []records.Finding{{
			Key: driftKey(c), Kind: "not-resting", Severity: "high", Subject: c.Name, System: c.System, AccountID: c.AccountID, CredentialID: c.ID,
			What: "it rests while another account has its turn, and may sign in: somebody let it", Next: "find out who and why; the next turn lets it rest again, or disable it there",
		}}
	} else {
		err = custody.store.TandemRests(ctx, pair)
		verdict = connect.Verdict{Code: connect.VerdictRests, Words: "it rests, as it should: " + verdict.Words}
	}
	return verdict, errors.Join(err, custody.store.SetFindings(ctx, driftKey(c), list), custody.store.SaveVerdict(ctx, c.ID, state, verdict.Words))
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
	case connect.VerdictNotKnown:
		return "see whether the account may sign in there at all; only if it may, somebody changed the password elsewhere: give the new one with 'moss custody take " + name + "'"
	case connect.VerdictExpired, connect.VerdictMustChange:
		return "rotate it, or reset it with 'moss custody take " + name + " --reset'"
	}
	return "somebody changed it elsewhere: give the new password with 'moss custody take " + name + "', or take it back with --reset"
}

// VerifyAll verifies everything in custody.
func (custody *Custody) VerifyAll(ctx context.Context, by access.Actor) (accepted, refused, unclear int, err error) {
	if err := access.Decide(by, access.VerifyAllCustody, access.Object{}); err != nil {
		return 0, 0, 0, err
	}
	all, err := custody.store.InCustody(ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	for _, c := range all {
		if ctx.Err() != nil {
			return accepted, refused, unclear, ctx.Err()
		}
		verdict, err := custody.Verify(ctx, by, c)
		switch {
		case errors.Is(err, app.ErrRefused):
		case err != nil:
			unclear++
		case verdict.Code == connect.VerdictRests:
		case verdict.Accepted:
			accepted++
		default:
			refused++
		}
	}
	return accepted, refused, unclear, nil
}
