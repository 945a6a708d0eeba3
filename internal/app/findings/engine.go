// Package findings says what needs a person: drift, latent breakage, copies that
// nobody replaced, keys that others may read.
//
// A rule judges a snapshot: plain values and the time. It asks nobody and keeps
// nothing, so that each can be tried with a table. Rules of a system judge it each
// time its ties were derived; rules of the estate judge the picture as a whole. What
// a rule raises replaces what it raised before in its scope; what it no longer raises
// is cleared. One file a subject.
package findings

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
)

// SystemSnapshot is what rules about one system judge by.
type SystemSnapshot struct {
	Now        time.Time
	System     records.System
	Dependents []records.Dependent
	Ties       map[records.DependentID][]ties.Tie      // by dependent
	Unplaced   map[records.DependentID][]ties.Unplaced // by dependent
	Accounts   map[records.AccountID]records.Account   // those that what runs, logs on or holds keys is tied to
	Swapped    []records.SeenChange                    // of what dependents run as, made outside lately; the latest first
	Current    map[records.AccountID]string            // by account: fingerprint of the value in custody, where it is known to be in force
}

// found makes a finding of this system about a dependent.
func (s *SystemSnapshot) found(d records.Dependent, f records.Finding) records.Finding {
	f.Key, f.Subject, f.System, f.DependentID = fmt.Sprintf("place/%d/%s/%d", s.System.ID, f.Kind, d.ID), d.Place, s.System.Name, d.ID
	return f
}

// SystemRule is a rule about one system. Its scope is that system.
type SystemRule struct {
	Kinds    []string // of finding that it raises
	Evaluate func(*SystemSnapshot) []records.Finding
}

// systemRules are applied in this order.
var systemRules = []SystemRule{
	{[]string{"unplaced-reference"}, unplacedReferences},
	{[]string{"stale-copy"}, staleCopies},
	{[]string{KindLatent, kindOld}, latentBreakage},
	{[]string{kindDown}, down},
	{[]string{"stale-key-tab"}, staleKeyTabs},
	{[]string{"exposed-key", "weak-key"}, keyFiles},
	{[]string{"certificate-ended", "certificate-ends", "certificate-wrong", "certificate-misfit", "certificate-not-loaded"}, certificates},
	{[]string{"log-on-changed"}, changedLogOns},
	{[]string{"secret-in-arguments", "runs-on-old", "started-by-hand"}, processes},
}

// EstateSnapshot is what rules about the picture as a whole judge by. Each has what
// it asked for.
type EstateSnapshot struct {
	Now          time.Time
	Systems      []records.System
	Held         []records.HeldScope
	Reused       []records.Reuse
	Keys         []records.KeyUse
	Declarations []records.Declaration
	Unused       []records.Account
	Coverage     picture.Coverage
	Used         []records.Account // that something depends on
	Replaced     []records.ReplacedAccount
	Lost         []records.Account // in custody, and no longer there
	Ends         []records.EndRow  // soon, of what is in use
	Policies     []records.Policy  // the highest precedence first
}

// EstateRule is a rule about the picture as a whole.
type EstateRule struct {
	Scope    string   // beginning of the keys of what it raises
	Kinds    []string // of finding that it raises
	Read     func(context.Context, Store, *EstateSnapshot) error
	Evaluate func(*EstateSnapshot) []records.Finding
}

// estateRules are applied in this order.
var estateRules = []EstateRule{
	{"reach/", []string{"unread-system"}, readSystems, unreadSystems},
	{"absence/", []string{"absence"}, readHeld, absences},
	{"reuse/", []string{"reused-password"}, readReused, reusedPasswords},
	{"key/", []string{"key-with-doors", "unheld-key", kindLimit}, readKeys, keysOfDoors},
	{"declared/", []string{"declaration-ended"}, readDeclarations, endedDeclarations},
	{"unused/", []string{"unused-account", kindLimit}, readUnused, unusedAccounts},
	{"account/", []string{"account-gone", "account-disabled", "account-locked", "account-expired", "password-expired", "never-expires", "account-replaced", "custody-gone"}, readUsed, accountStates},
	{"ends/", []string{"ends-soon", "ended", "password-too-old", "idle-account", kindLimit}, readEnds, whatEnds},
}

// Engine applies the rules, each time the picture was derived.
type Engine struct {
	base   *app.Base
	store  Store
	sealed *sealed.Keeper
}

// New makes an Engine.
func New(base *app.Base, store Store, values *sealed.Keeper) *Engine {
	return &Engine{base, store, values}
}

// JudgeSystem implements picture.Judge.
func (engine *Engine) JudgeSystem(ctx context.Context, placed picture.Placed) error {
	s := &SystemSnapshot{
		Now: engine.base.Now(), System: placed.System, Dependents: placed.Dependents, Ties: placed.Ties, Unplaced: placed.Unplaced,
		Accounts: map[records.AccountID]records.Account{}, Current: map[records.AccountID]string{},
	}
	if err := engine.accounts(ctx, s); err != nil {
		return err
	}
	var err error
	if s.Swapped, err = engine.store.LogOnChanges(ctx, placed.System.ID, s.Now.Add(-swappedFor)); err != nil {
		return fmt.Errorf("changes of log-ons: %w", err)
	}
	var list []records.Finding
	for _, rule := range systemRules {
		list = append(list, rule.Evaluate(s)...)
	}
	return engine.store.SetFindings(ctx, fmt.Sprintf("place/%d/", s.System.ID), list)
}

// JudgeEstate implements picture.Judge.
func (engine *Engine) JudgeEstate(ctx context.Context) error {
	for _, rule := range estateRules {
		s := &EstateSnapshot{Now: engine.base.Now()}
		if err := rule.Read(ctx, engine.store, s); err != nil {
			return fmt.Errorf("findings %s: %w", rule.Scope, err)
		}
		if err := engine.store.SetFindings(ctx, rule.Scope, rule.Evaluate(s)); err != nil {
			return err
		}
	}
	return nil
}

// JudgeUses implements picture.Judge.
func (engine *Engine) JudgeUses(ctx context.Context, unexplained []picture.Unexplained, limited bool) error {
	return engine.store.SetFindings(ctx, scopeUses, unexplainedUses(unexplained, limited))
}

// accounts reads the accounts that rules of a system judge by. Copies alone need
// none: a system may hold thousands of them.
func (engine *Engine) accounts(ctx context.Context, s *SystemSnapshot) error {
	read := map[string]bool{} // files that units read
	for _, d := range s.Dependents {
		if d.Kind == estate.DependentUnit {
			for _, path := range d.Uses {
				read[path] = true
			}
		}
	}
	for _, d := range s.Dependents {
		if !d.Kind.LogsOn() && d.Kind != estate.DependentKeytab && (d.Copy == nil || !read[d.Path]) {
			continue
		}
		for _, t := range s.Ties[d.ID] {
			id := app.Number[records.AccountID](t.Account)
			if _, known := s.Accounts[id]; known {
				continue
			}
			if err := engine.account(ctx, s, id); err != nil && !errors.Is(err, records.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}

func (engine *Engine) account(ctx context.Context, s *SystemSnapshot, id records.AccountID) error {
	a, err := engine.store.Account(ctx, id)
	if err != nil {
		return err
	}
	s.Accounts[id] = a
	if !a.Custody {
		return nil
	}
	kept, err := engine.store.PasswordOf(ctx, id)
	if err != nil {
		return err
	}
	// A value that is refused, or that was changed elsewhere since it was last
	// accepted, says nothing of what is current.
	if kept.Verdict == "refused" || a.PasswordChanged.After(latest(kept.Verified, kept.Rotated, kept.Taken).Add(driftMargin)) {
		return nil
	}
	value, err := engine.sealed.Current(ctx, kept.ID)
	if err == nil && value != nil {
		s.Current[id] = value.Fingerprint
	}
	return err
}

// driftMargin is how much the directory's clock may differ from ours before a
// change of the password counts as somebody else's.
const driftMargin = 10 * time.Minute

func latest(times ...time.Time) time.Time {
	var out time.Time
	for _, t := range times {
		if t.After(out) {
			out = t
		}
	}
	return out
}

const kindLimit = "limit-reached"

// LimitFinding says that a list of something ends before its end.
func LimitFinding(scope, subject, what, next string) records.Finding {
	return records.Finding{Key: scope + "limit", Kind: kindLimit, Severity: "medium", Subject: subject, What: what, Next: next}
}
