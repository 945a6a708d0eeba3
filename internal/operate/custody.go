package operate

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// FindAccount takes an account in any spelling, or its number, to one account.
// An ambiguous spelling is an error that lists the candidates.
func (o *Operator) FindAccount(ctx context.Context, spelling string) (store.Account, naming.Resolution, error) {
	var res naming.Resolution
	if id, found := strings.CutPrefix(spelling, "id:"); found {
		a, err := o.Store.Account(ctx, number(id))
		return a, res, err
	}
	lookup, err := o.Store.Lookup(ctx)
	if err != nil {
		return store.Account{}, res, err
	}
	context := naming.Context{}
	// system/name picks an account of one system.
	if system, name, found := strings.Cut(spelling, "/"); found && !strings.ContainsAny(system, `=\@`) {
		if v, err := o.Store.System(ctx, system); err == nil {
			context, spelling = store.ContextOf(v), name
			res, err = naming.Resolve(spelling, context, onSystem{lookup, context.System})
			if err != nil {
				return store.Account{}, res, err
			}
			return o.resolved(ctx, spelling, res)
		}
	}
	if res, err = naming.Resolve(spelling, context, lookup); err != nil {
		return store.Account{}, res, err
	}
	return o.resolved(ctx, spelling, res)
}

// onSystem narrows a lookup to one system.
type onSystem struct {
	naming.Lookup
	system string
}

// ByName implements naming.Lookup.
func (l onSystem) ByName(name string, where naming.Where) ([]naming.Known, error) {
	where.System = l.system
	return l.Lookup.ByName(name, where)
}

// ByUID implements naming.Lookup.
func (l onSystem) ByUID(_, uid string) ([]naming.Known, error) { return l.Lookup.ByUID(l.system, uid) }

func (o *Operator) resolved(ctx context.Context, spelling string, res naming.Resolution) (store.Account, naming.Resolution, error) {
	switch res.State {
	case naming.Resolved:
		a, err := o.Store.Account(ctx, number(res.Accounts[0].ID))
		return a, res, err
	case naming.Ambiguous:
		var names []string
		for _, k := range res.Accounts {
			v, err := o.Store.Account(ctx, number(k.ID))
			if err == nil {
				names = append(names, fmt.Sprintf("id:%d (%s on %s)", v.ID, or(v.DN, v.Name), v.System))
			}
		}
		return store.Account{}, res, fmt.Errorf("%w: %q is ambiguous: %s", ErrInput, spelling, strings.Join(names, ", "))
	case naming.BuiltIn:
		return store.Account{}, res, fmt.Errorf("%w: %q is %s", ErrInput, spelling, res.Why)
	}
	return store.Account{}, res, fmt.Errorf("account %q: %w: %s", spelling, ErrNotFound, res.Why)
}

// authority is where an account's credential is decided.
func (o *Operator) authority(ctx context.Context, a store.Account) (connect.Connector, connect.Target, connect.Verifier, error) {
	v, err := o.Store.SystemByID(ctx, a.SystemID)
	if err != nil {
		return nil, connect.Target{}, nil, err
	}
	connector, target, err := o.target(ctx, v)
	if err != nil {
		return nil, target, nil, err
	}
	verifier, ok := connector.(connect.Verifier)
	if !ok {
		return nil, target, nil, fmt.Errorf("%w: %s cannot verify a credential", ErrCannot, v.Name)
	}
	return connector, target, verifier, nil
}

func refOf(a store.Account) connect.AccountRef {
	return connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}
}

// newSecret seals a value for a credential. system is that of its account; 0
// for a key pair.
func (o *Operator) newSecret(c store.Credential, system, rotation int64, v secret.Value) (store.Secret, error) {
	s := store.Secret{Credential: c, SystemID: system, RotationID: rotation, Fingerprint: o.fingerprints.Of(v)}
	sealed, err := o.sealer.Seal(s.Binding(), v)
	s.Sealed = sealed
	return s, err
}

// ownPassword refuses accounts whose password somebody else sets: a directory
// that changes it by itself, or the machine that it belongs to.
func ownPassword(a store.Account) error {
	switch a.Type {
	case "managed":
		return fmt.Errorf("%w: the directory changes the password of %s by itself, and the hosts that may use it fetch it there: setting one would break them", ErrRefused, a.Name)
	case "computer":
		return fmt.Errorf("%w: %s is a computer: its password belongs to the machine itself, which would lose its place in the domain", ErrRefused, a.Name)
	}
	return nil
}

// TakeCustody takes an account with its known password, which is verified at
// the authority at once.
func (o *Operator) TakeCustody(ctx context.Context, by string, a store.Account, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{}, fmt.Errorf("%w: no password was given", ErrInput)
	}
	if err := ownPassword(a); err != nil {
		return connect.Verdict{}, err
	}
	if err := o.notRotating(ctx, a); err != nil {
		return connect.Verdict{}, err
	}
	_, target, verifier, err := o.authority(ctx, a)
	if err != nil {
		return connect.Verdict{}, err
	}
	sealed, err := o.newSecret(a.Credential(), a.SystemID, 0, value)
	if err != nil {
		return connect.Verdict{}, err
	}
	var verdict connect.Verdict
	entry := ledger.Entry{Actor: by, Act: "custody.take", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = o.act(ctx, entry, func() error {
		var err error
		if verdict, err = verifier.Verify(ctx, target, refOf(a), value); err != nil {
			return err
		}
		if !verdict.Accepted {
			return fmt.Errorf("%w: %s does not accept it: %s", ErrRefused, target.Name, verdict.Words)
		}
		return o.Store.TakeCustody(context.WithoutCancel(ctx), sealed, by, verdict.Words)
	})
	if err != nil {
		return verdict, err
	}
	if _, err := o.linkStewards(context.WithoutCancel(ctx), by, a, &value); err != nil {
		return verdict, err
	}
	return verdict, o.afterCustody(ctx, a)
}

// ResetCustody takes an account by setting a new password with the
// authority's privileged log-on. What still holds the earlier one breaks: the
// caller must have said so to the user.
func (o *Operator) ResetCustody(ctx context.Context, by, reason string, a store.Account) error {
	if reason == "" {
		return fmt.Errorf("%w: a reset breaks whatever still uses the old password: give a reason", ErrInput)
	}
	if err := ownPassword(a); err != nil {
		return err
	}
	if a.Enabled == estate.No {
		return fmt.Errorf("%w: %s is disabled: nothing could prove the new password; enable it first", ErrRefused, a.Name)
	}
	if err := o.notRotating(ctx, a); err != nil {
		return err
	}
	connector, target, verifier, err := o.authority(ctx, a)
	if err != nil {
		return err
	}
	changer, ok := connector.(connect.Changer)
	if !ok {
		return fmt.Errorf("%w: %s cannot change a password", ErrCannot, target.Name)
	}
	value, err := o.generate(ctx, a)
	if err != nil {
		return err
	}
	sealed, err := o.newSecret(a.Credential(), a.SystemID, 0, value)
	if err != nil {
		return err
	}
	own, err := o.ownUses(ctx, a)
	if err != nil {
		return err
	}
	if err := o.Store.AddCandidate(ctx, sealed); err != nil { // law 1
		return err
	}
	entry := ledger.Entry{Actor: by, Act: "custody.reset", Subject: a.Name, System: a.System, Reason: reason, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = o.act(ctx, entry, func() error {
		changeErr := changer.Change(ctx, target, refOf(a), value)
		if changeErr != nil && !connect.IsUnclear(changeErr) {
			return errors.Join(changeErr, o.Store.DropCandidate(context.WithoutCancel(ctx), a.Credential(), sealed.Fingerprint))
		}
		for _, v := range own {
			if v.ID != a.SystemID {
				continue
			}
			// We reach the authority with this very account.
			fresh := target
			fresh.LogOn.Password = value
			for _, stage := range connector.Check(ctx, fresh).Stages {
				if stage.Stage == connect.StageSignIn && stage.OK {
					target = fresh
				}
			}
		}
		// Done or unclear: the authority itself says what is true (law 3).
		verdict, err := verifier.Verify(ctx, target, refOf(a), value)
		if err != nil {
			o.settleLater()
			return errors.Join(changeErr, fmt.Errorf("it is not known yet whether the new value is in force; it is kept sealed, and asked for until it is known: %w", err))
		}
		keep := context.WithoutCancel(ctx)
		if verdict.Accepted {
			if err := o.Store.TakeCustody(keep, sealed, by, verdict.Words); err != nil {
				return err
			}
			_, err := o.linkStewards(keep, by, a, nil)
			return err
		}
		if changeErr == nil && verdict.Code != connect.VerdictWrong {
			// The authority said that it took the value; what it refuses is the account.
			return errors.Join(o.Store.TakeCustody(keep, sealed, by, verdict.Words), o.Store.SaveVerdict(keep, a.Credential(), "refused", verdict.Words),
				fmt.Errorf("%w: the new password is set and in custody, but %s does not let %s in: %s", ErrRefused, target.Name, a.Name, verdict.Words))
		}
		return errors.Join(changeErr, fmt.Errorf("%w: %s does not accept the new value: %s", ErrRefused, target.Name, verdict.Words))
	})
	if err != nil {
		return err
	}
	return o.afterCustody(ctx, a)
}

// generate draws a new value that the account's authority will accept, as far as
// its policy can be read.
func (o *Operator) generate(ctx context.Context, a store.Account) (secret.Value, error) {
	policy := secret.DefaultPolicy()
	rules, err := o.passwordRules(ctx, a)
	if err != nil {
		return secret.Value{}, err
	}
	if rules.Longest > 0 && rules.Longest < policy.Length {
		policy.Length = rules.Longest
	}
	policy.Length = max(policy.Length, rules.Shortest)
	policy.Avoid = append(strings.FieldsFunc(a.DisplayName, func(r rune) bool { return strings.ContainsRune(",.-_ #\t", r) }), a.Name)
	return policy.Generate(o.Random)
}

// passwordRules asks the authority which rules a new password of an account has
// to obey. An authority that does not tell has the zero rules.
func (o *Operator) passwordRules(ctx context.Context, a store.Account) (connect.PasswordRules, error) {
	connector, target, _, err := o.authority(ctx, a)
	if err != nil {
		return connect.PasswordRules{}, err
	}
	ruler, ok := connector.(connect.Ruler)
	if !ok {
		return connect.PasswordRules{Unknown: "systems of this kind do not tell their rules for passwords"}, nil
	}
	return ruler.PasswordRules(ctx, target, refOf(a))
}

func (o *Operator) notRotating(ctx context.Context, s Subject) error {
	page, err := o.Store.Rotations(ctx, store.Query{Filters: append(rotationsOf(s.Credential()), "mode!=finished"), Limit: 1})
	if err != nil {
		return err
	}
	if len(page.Items) > 0 {
		return fmt.Errorf("%w: rotation %d of %s is not finished", ErrRefused, page.Items[0].ID, nameOf(s))
	}
	return nil
}

// afterCustody looks again at held copies, which can now be compared.
func (o *Operator) afterCustody(ctx context.Context, s Subject) error {
	ctx = context.WithoutCancel(ctx)
	o.forgetKnown()
	if err := o.Store.SetFindings(ctx, driftKey(s.Credential()), nil); err != nil {
		return err
	}
	if custody, err := o.Store.Custody(ctx, s.Credential()); err == nil && !custody.Taken.IsZero() {
		o.searchLater()
	}
	if s.Credential().KeyID != 0 {
		return nil // where it is known by its fingerprint
	}
	systems, err := o.Store.AllSystems(ctx)
	if err != nil {
		return err
	}
	return o.Place(ctx, systems)
}

// VerifyCustody signs in with a sealed value. A refusal raises the finding
// drift.
func (o *Operator) VerifyCustody(ctx context.Context, by string, s Subject) (connect.Verdict, error) {
	if err := o.notRotating(ctx, s); err != nil {
		return connect.Verdict{}, err
	}
	values, err := o.values(ctx, s.Credential())
	if err != nil {
		return connect.Verdict{}, err
	}
	if values.current.Empty() {
		return connect.Verdict{}, fmt.Errorf("%w: %s is not in custody", ErrRefused, nameOf(s))
	}
	if k, isKey := s.(store.KeyPair); isKey {
		return o.verifyKey(ctx, by, k, values.current)
	}
	a := s.(store.Account) //nolint:forcetypeassert // there are two kinds
	_, target, verifier, err := o.authority(ctx, a)
	if err != nil {
		return connect.Verdict{}, err
	}
	var verdict connect.Verdict
	entry := ledger.Entry{Actor: by, Act: "custody.verify", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = o.act(ctx, entry, func() error {
		limited, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		var err error
		verdict, err = verifier.Verify(limited, target, refOf(a), values.current)
		verdict.Words = o.redact(ctx, verdict.Words)
		return err
	})
	state, words := "accepted", verdict.Words
	keep := context.WithoutCancel(ctx)
	var drift []store.Finding
	switch {
	case err != nil:
		state, words = "unclear", o.redact(ctx, err.Error())
	case !verdict.Accepted:
		state = "refused"
		drift = []store.Finding{{
			Key: driftKey(a.Credential()), Kind: "drift", Severity: "high", Subject: a.Name, System: a.System, AccountID: a.ID,
			What: "the sealed value is refused (" + verdict.Code + "): " + verdict.Words, Next: driftNext(verdict.Code, a.Name),
		}}
	}
	if err == nil {
		if findErr := o.Store.SetFindings(keep, driftKey(a.Credential()), drift); findErr != nil {
			return verdict, findErr
		}
	}
	return verdict, errors.Join(err, o.Store.SaveVerdict(keep, a.Credential(), state, words))
}

func driftNext(code, name string) string {
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
func (o *Operator) VerifyAll(ctx context.Context, by string) (accepted, refused, unclear int, err error) {
	all, err := o.Store.Custodies(ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	for _, c := range all {
		if ctx.Err() != nil {
			return accepted, refused, unclear, ctx.Err()
		}
		subject, err := o.subject(ctx, c)
		if err != nil {
			return accepted, refused, unclear, err
		}
		verdict, err := o.VerifyCustody(ctx, by, subject)
		switch {
		case errors.Is(err, ErrRefused):
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

// Release ends custody.
func (o *Operator) Release(ctx context.Context, by, reason string, s Subject) error {
	if reason == "" {
		return fmt.Errorf("%w: give a reason: the sealed values are removed", ErrInput)
	}
	if a, isAccount := s.(store.Account); isAccount {
		// Law 2, for our own log-ons: they get the value before it is removed.
		if err := o.unlinkStewards(ctx, by, a); err != nil {
			return err
		}
	}
	err := o.Store.ReleaseCustody(ctx, s.Credential(), ledger.Entry{Actor: by, Act: "custody.release", Phase: ledger.Outcome, Subject: nameOf(s), System: systemOf(s), Reason: reason, Result: "done"})
	if err != nil {
		return err
	}
	return o.afterCustody(ctx, s)
}

// valueOf opens the value with a fingerprint.
func (o *Operator) valueOf(v values, fingerprint string) (secret.Value, error) {
	for _, s := range v.all {
		if s.Fingerprint == fingerprint {
			return o.sealer.Open(s.Binding(), s.Sealed)
		}
	}
	return secret.Value{}, errors.New("the value that stands there is not in custody")
}

// values are the sealed values of a credential, opened.
type values struct {
	current secret.Value
	all     []store.Secret
}

func (o *Operator) values(ctx context.Context, c store.Credential) (values, error) {
	all, err := o.Store.Secrets(ctx, c)
	if err != nil {
		return values{}, err
	}
	v := values{all: all}
	for _, s := range all {
		if s.State == store.SecretCurrent {
			if v.current, err = o.sealer.Open(s.Binding(), s.Sealed); err != nil {
				return v, fmt.Errorf("sealed value %d: %w", s.ID, err)
			}
		}
	}
	return v, nil
}
