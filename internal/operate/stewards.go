package operate

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// An account by which we sign in to a system ourselves may be in custody too.
// Its stored log-on is then no second copy that goes stale when the account is
// rotated: the system is linked to the account, and its current value signs in
// there. While the account is being rotated, that is the value which the
// authority accepts at that moment; and a step of its own proves that we still
// get in everywhere.

func stewardBinding(system int64, logon string) string {
	return fmt.Sprintf("steward/system=%d/logon=%s", system, strings.ToLower(logon))
}

// spellings are all ways in which a log-on may name an account.
func spellings(a store.Account) []string { return []string{a.Name, a.DN, a.UPN, a.SID} }

// mayMean: the log-on's account may be this one; which system it is used on
// decides.
func mayMean(logon string, a store.Account) bool {
	ref, err := naming.Parse(logon)
	for _, s := range spellings(a) {
		if s != "" && (strings.EqualFold(s, logon) || err == nil && strings.EqualFold(s, ref.Name)) {
			return true
		}
	}
	return strings.EqualFold(logon, a.DN)
}

// ownUses returns the systems that are reached with an account.
func (o *Operator) ownUses(ctx context.Context, a store.Account) ([]store.System, error) {
	logons := map[string]bool{}
	page, err := o.Store.LogOns(ctx, store.Query{Limit: 1000})
	if err != nil {
		return nil, err
	}
	for _, l := range page.Items {
		if l.HasPassword && mayMean(l.Account, a) {
			logons[strings.ToLower(l.Name)] = true
		}
	}
	if len(logons) == 0 {
		return nil, nil
	}
	lookup, err := o.Store.Lookup(ctx)
	if err != nil {
		return nil, err
	}
	all, err := o.Store.AllSystems(ctx)
	if err != nil {
		return nil, err
	}
	var out []store.System
	for _, v := range all {
		if !logons[strings.ToLower(v.LogOn)] {
			continue
		}
		l, err := o.Store.LogOn(ctx, v.LogOn)
		if err != nil {
			return nil, err
		}
		res, err := naming.Resolve(l.Account, store.ContextOf(v), lookup)
		if err != nil {
			return nil, err
		}
		mine := res.State == naming.Resolved && number(res.Accounts[0].ID) == a.ID
		// A data store or a host knows the account by its bare name.
		if !mine && v.ID == a.SystemID && strings.EqualFold(l.Account, a.Name) {
			mine = true
		}
		if mine {
			out = append(out, v)
		}
	}
	return out, nil
}

// linkStewards links the systems that are reached with an account in custody to
// it. With only set, just those whose stored log-on has that value.
func (o *Operator) linkStewards(ctx context.Context, by string, a store.Account, only *secret.Value) ([]store.System, error) {
	uses, err := o.ownUses(ctx, a)
	if err != nil || len(uses) == 0 {
		return nil, err
	}
	var links []store.StewardLink
	var linked []store.System
	var names []string
	for _, v := range uses {
		if have, err := o.Store.StewardLinkOf(ctx, v.ID); err == nil && have.AccountID == a.ID && strings.EqualFold(have.LogOn, v.LogOn) {
			linked = append(linked, v)
			continue
		}
		if only != nil {
			l, err := o.Store.LogOn(ctx, v.LogOn)
			if err != nil {
				return nil, err
			}
			stored, err := o.open("logon/"+l.Name+"/password", l.SealedPassword)
			if err != nil {
				return nil, err
			}
			if !stored.Equal(*only) {
				continue // it does not work now, and is not made to
			}
		}
		sealed, err := o.sealer.Seal(stewardBinding(v.ID, v.LogOn), secret.New(strconv.FormatInt(a.ID, 10)))
		if err != nil {
			return nil, err
		}
		links = append(links, store.StewardLink{SystemID: v.ID, LogOn: v.LogOn, AccountID: a.ID, Sealed: sealed})
		linked = append(linked, v)
		names = append(names, v.Name)
	}
	if len(links) == 0 {
		return linked, nil
	}
	return linked, o.Store.LinkStewards(ctx, links, ledger.Entry{Actor: by, Act: "logon.link", Phase: ledger.Outcome, Subject: a.Name, System: a.System, Result: "done", Detail: "systems that are reached with it sign in with its value in custody: " + strings.Join(names, ", ")})
}

// stewardOf returns the account in custody by which a system is reached.
func (o *Operator) stewardOf(ctx context.Context, v store.System) (store.Credential, bool, error) {
	link, err := o.Store.StewardLinkOf(ctx, v.ID)
	if errors.Is(err, ErrNotFound) {
		return store.Credential{}, false, nil
	}
	if err != nil {
		return store.Credential{}, false, err
	}
	sealed, err := o.sealer.Open(stewardBinding(v.ID, v.LogOn), link.Sealed)
	if err != nil || sealed.RevealString() != strconv.FormatInt(link.AccountID, 10) {
		return store.Credential{}, false, nil // of another log-on, or written by somebody else
	}
	return store.Credential{AccountID: link.AccountID}, true, nil
}

// stewardValues are the values that may be in force for an account now, the
// most likely one first.
func (o *Operator) stewardValues(ctx context.Context, c store.Credential) ([]secret.Value, error) {
	own, err := o.values(ctx, c)
	if err != nil || own.current.Empty() {
		return nil, err
	}
	r, err := o.Store.UnfinishedOf(ctx, c)
	if errors.Is(err, ErrNotFound) || err == nil && r.Plan.Kind == rotation.KindAssign {
		return []secret.Value{own.current}, nil
	}
	if err != nil {
		return nil, err
	}
	was, made, err := o.pair(ctx, r)
	if err != nil || was == nil || made == nil {
		return []secret.Value{own.current}, err
	}
	old, err := o.sealer.Open(was.Binding(), was.Sealed)
	if err != nil {
		return nil, err
	}
	next, err := o.sealer.Open(made.Binding(), made.Sealed)
	if err != nil {
		return nil, err
	}
	records, err := o.Store.Journal(ctx, r.ID, 0)
	if err != nil {
		return nil, err
	}
	state, err := rotation.Fold(r.Plan, records)
	if err != nil {
		return nil, err
	}
	for i, step := range r.Plan.Steps {
		if step.Kind == rotation.StepChange {
			t := state.Steps[i]
			switch {
			case !t.Attempted:
				return []secret.Value{old}, nil
			case t.Status == rotation.Done:
				return []secret.Value{next, old}, nil
			}
			return []secret.Value{old, next}, nil
		}
	}
	return []secret.Value{own.current}, nil
}

// signIn puts the value in force into a target. Where two may be, the system
// itself says which one is.
func (o *Operator) signIn(ctx context.Context, connector connect.Connector, t *connect.Target, v store.System) error {
	c, linked, err := o.stewardOf(ctx, v)
	if err != nil || !linked {
		return err
	}
	values, err := o.stewardValues(ctx, c)
	if err != nil || len(values) == 0 {
		return err // not in custody any more: the stored log-on counts
	}
	t.LogOn.Password = values[0]
	if len(values) == 1 {
		return nil
	}
	for _, stage := range connector.Check(ctx, *t).Stages {
		if stage.Stage == connect.StageSignIn && !stage.OK && stage.Code == connect.CodeBadLogOn {
			t.LogOn.Password = values[1]
		}
	}
	return nil
}

// unlinkStewards gives the stored log-ons the value that is in force, before
// custody ends.
func (o *Operator) unlinkStewards(ctx context.Context, by string, a store.Account) error {
	links, err := o.Store.StewardLinks(ctx, a.ID)
	if err != nil || len(links) == 0 {
		return err
	}
	own, err := o.values(ctx, a.Credential())
	if err != nil || own.current.Empty() {
		return err
	}
	seen := map[string]bool{}
	for _, link := range links {
		if seen[strings.ToLower(link.LogOn)] {
			continue
		}
		seen[strings.ToLower(link.LogOn)] = true
		l, err := o.Store.LogOn(ctx, link.LogOn)
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		key, err := o.open("logon/"+l.Name+"/key", l.SealedKey)
		if err != nil {
			return err
		}
		if err := o.SaveLogOn(ctx, by, l.Name, l.Account, own.current, key); err != nil {
			return err
		}
	}
	return nil
}

// ownLogOns has a plan prove that we still get in where the account is ours.
func (p *planner) ownLogOns(ctx context.Context) error {
	own, err := p.values(ctx, p.account.Credential())
	if err != nil || own.current.Empty() {
		return err
	}
	systems, err := p.linkStewards(ctx, byService, p.account, &own.current)
	for _, v := range systems {
		p.input.Stewards = append(p.input.Stewards, rotation.Steward{SystemID: strconv.FormatInt(v.ID, 10), System: v.Name, LogOn: v.LogOn})
		p.note("%s is reached with this account (log-on %s): we sign in there with the value in force, and prove it", v.Name, v.LogOn)
	}
	return err
}

// stillIn proves that a system is still reached.
func (h *hands) stillIn(ctx context.Context, step rotation.Step) rotation.Outcome {
	connector, target, err := h.on(ctx, step)
	if err != nil {
		return certainly(err)
	}
	for _, stage := range connector.Check(ctx, target).Stages {
		switch {
		case stage.OK && stage.Stage == connect.StageSignIn:
			return done("we sign in: " + stage.Detail)
		case !stage.OK:
			f := &connect.Failure{System: target.Name, Stage: stage.Stage, Words: stage.Detail, Next: stage.Next, Code: stage.Code}
			return certainly(f)
		}
	}
	return certainly(fmt.Errorf("%s: a check did not come to signing in", target.Name))
}
