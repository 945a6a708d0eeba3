package custody

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Reset takes a password by setting a new one with the authority's privileged
// log-on. What still holds the earlier one breaks: the
// caller must have said so to the user.
func (custody *Custody) Reset(ctx context.Context, by access.Actor, reason string, c records.Credential) error {
	if err := access.Decide(by, access.TakeCustody, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return err
	}
	if c.Kind != credential.Password {
		return fmt.Errorf("%w: a password can be reset; a key is taken as it is, then rotated", app.ErrInput)
	}
	if reason == "" {
		return fmt.Errorf("%w: a reset breaks whatever still uses the old password: give a reason", app.ErrInput)
	}
	a, err := custody.store.Account(ctx, c.AccountID)
	if err != nil {
		return err
	}
	if err := custody.enough(ctx, by, c, "a reset"); err != nil {
		return err
	}
	if err := ownPassword(a); err != nil {
		return err
	}
	if a.Enabled == estate.No {
		return fmt.Errorf("%w: %s is disabled: nothing could prove the new password; enable it first", app.ErrRefused, a.Name)
	}
	free, err := custody.turns.Take(ctx, c.ID.Ref())
	if err != nil {
		return err
	}
	defer free()
	if err := custody.NotRotating(ctx, c); err != nil {
		return err
	}
	connector, target, err := custody.inventory.Authority(ctx, a)
	if err != nil {
		return err
	}
	if !connector.Describe().Can(connect.ActAccept) {
		return fmt.Errorf("%w: %s cannot change a password", app.ErrCannot, target.Name)
	}
	value, err := custody.Make(ctx, c, credential.Wanted{})
	if err != nil {
		return err
	}
	sealed, err := custody.sealed.NewSecret(c, 0, value)
	if err != nil {
		return err
	}
	own, err := custody.ownUses(ctx, a)
	if err != nil {
		return err
	}
	if err := custody.store.AddCandidate(ctx, sealed); err != nil { // law 1
		return err
	}
	entry := ledger.Entry{Actor: by.Name, Act: "custody.reset", Subject: a.Name, System: a.System, Reason: reason, Ref: c.ID.Ref()}
	err = custody.base.Act(ctx, entry, func() error {
		return custody.resetAt(ctx, by, a, resetting{connector, target, c, sealed, value, own})
	})
	if err != nil {
		return err
	}
	return custody.afterCustody(ctx, c)
}

// resetting is a reset that is about to happen.
type resetting struct {
	connector connect.Connector
	target    connect.Target
	of        records.Credential
	sealed    records.Secret
	value     secret.Value
	own       []records.System // whose steward the account is
}

// resetAt sets the new value at the authority, and asks it what is true.
func (custody *Custody) resetAt(ctx context.Context, by access.Actor, a records.Account, r resetting) error {
	changeErr := connect.SetPassword(ctx, r.connector, r.target, inventory.RefOf(a), r.value)
	if changeErr != nil && !connect.IsUnclear(changeErr) {
		return errors.Join(changeErr, custody.store.DropCandidate(context.WithoutCancel(ctx), r.of.ID, r.sealed.Fingerprint))
	}
	for _, v := range r.own {
		if v.ID != a.SystemID {
			continue
		}
		// We reach the authority with this very account.
		fresh := r.target
		fresh.Steward.Password = r.value
		for _, stage := range r.connector.Check(ctx, fresh).Stages {
			if stage.Stage == connect.StageSignIn && stage.OK {
				r.target = fresh
			}
		}
	}
	// Done or unclear: the authority itself says what is true (law 3).
	verdict, err := r.connector.Verify(ctx, r.target, inventory.RefOf(a), r.value)
	if err != nil {
		custody.SettleLater()
		return errors.Join(changeErr, fmt.Errorf("it is not known yet whether the new value is in force; it is kept sealed, and asked for until it is known: %w", err))
	}
	keep := context.WithoutCancel(ctx)
	if verdict.Accepted {
		if err := custody.store.TakeCustody(keep, r.sealed, by.Name, verdict.Words); err != nil {
			return err
		}
		_, err := custody.LinkStewards(keep, by, a, nil)
		return err
	}
	if changeErr == nil && verdict.Code != connect.VerdictWrong {
		// The authority said that it took the value; what it refuses is the account.
		return errors.Join(custody.store.TakeCustody(keep, r.sealed, by.Name, verdict.Words), custody.store.SaveVerdict(keep, r.of.ID, "refused", verdict.Words),
			fmt.Errorf("%w: the new password is set and in custody, but %s does not let %s in: %s", app.ErrRefused, r.target.Name, a.Name, verdict.Words))
	}
	custody.SettleLater() // somebody else may have set another, or it has not arrived everywhere
	return errors.Join(changeErr, fmt.Errorf("%w: %s does not accept the new value: %s", app.ErrRefused, r.target.Name, verdict.Words))
}

// Make draws a new value of a credential that takes the place of another: a
// password that its authority will accept, as far as its policy can be read; a key
// of the type that is wanted, or of the one before.
func (custody *Custody) Make(ctx context.Context, c records.Credential, want credential.Wanted) (secret.Value, error) {
	spec, err := credential.Of(c.Kind)
	if err != nil {
		return secret.Value{}, err
	}
	if spec.Make == nil {
		return secret.Value{}, fmt.Errorf("%w: a new %s is not made here", app.ErrCannot, spec.Title)
	}
	if c.Kind == credential.Password {
		a, err := custody.store.Account(ctx, c.AccountID)
		if err != nil {
			return secret.Value{}, err
		}
		rules, err := custody.PasswordRules(ctx, a)
		if err != nil {
			return secret.Value{}, err
		}
		want.Shortest, want.Longest = rules.Shortest, rules.Longest
		want.Avoid = append(strings.FieldsFunc(a.DisplayName, func(r rune) bool { return strings.ContainsRune(",.-_ #\t", r) }), a.Name)
	}
	return spec.Make(want, custody.base.Random)
}

// PasswordRules asks the authority which rules a new password of an account has
// to obey. An authority that does not tell has the zero rules.
func (custody *Custody) PasswordRules(ctx context.Context, a records.Account) (connect.PasswordRules, error) {
	connector, target, err := custody.inventory.Authority(ctx, a)
	if err != nil {
		return connect.PasswordRules{}, err
	}
	return connector.PasswordRules(ctx, target, inventory.RefOf(a))
}
