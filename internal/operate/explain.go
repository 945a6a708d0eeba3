package operate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/store"
)

// Explanation is why a dependent is down, or what speaks for it going down.
type Explanation struct {
	Dependent store.Dependent   `json:"dependent"`
	Up        bool              `json:"up"`
	Verdict   string            `json:"verdict" doc:"In one line"`
	Causes    []diagnosis.Cause `json:"causes" nullable:"false" doc:"Most certain first"`
	Needs     []connect.Needed  `json:"needs" nullable:"false" doc:"What it needs, in start order, as it is now"`
	Records   []connect.Record  `json:"records" nullable:"false" doc:"Of its system's own log, newest first"`
	First     *Explanation      `json:"first,omitempty" doc:"Of the one that failed first"`
	Repair    *Repair           `json:"repair,omitempty" doc:"What can be done from here"`
	Account   string            `json:"account,omitempty"`
	AccountID int64             `json:"account_id,omitempty"`
	Told      time.Time         `json:"told"`
}

// Repair is an act that removes the cause.
type Repair struct {
	Kind      string  `json:"kind" enum:"rotate,assign,start" doc:"rotate: a new password for the account; assign: its current one for those that have another; start: start it"`
	AccountID int64   `json:"account_id,omitempty"`
	Account   string  `json:"account,omitempty"`
	Assign    []int64 `json:"assign,omitempty" doc:"Dependents that are given it"`
	Start     []int64 `json:"start,omitempty" doc:"Dependents that are started, in this order"`
	Words     string  `json:"words"`
}

// explainTime bounds the gathering of evidence.
const explainTime = time.Minute

// Explain gathers evidence and says why a dependent is down. It changes
// nothing but for one sign-in with the sealed value, which is left out for an
// account that is locked.
func (o *Operator) Explain(ctx context.Context, by string, id int64) (Explanation, error) {
	d, err := o.Store.Dependent(ctx, id)
	if err != nil {
		return Explanation{}, err
	}
	if !d.Kind.Runs() {
		return Explanation{}, fmt.Errorf("%w: %s on %s is a %s: only what runs can be explained", ErrInput, d.Place, d.System, d.Kind)
	}
	var out Explanation
	entry := ledger.Entry{Actor: by, Act: "dependent.explain", Subject: d.Place, System: d.System, Ref: fmt.Sprintf("dependent/%d", d.ID)}
	err = o.act(ctx, entry, func() error {
		limited, cancel := context.WithTimeout(ctx, explainTime)
		defer cancel()
		var err error
		out, err = o.explain(limited, d, 0)
		return err
	})
	return out, err
}

func (o *Operator) explain(ctx context.Context, d store.Dependent, depth int) (Explanation, error) {
	out := Explanation{Dependent: d, Causes: []diagnosis.Cause{}, Needs: []connect.Needed{}, Records: []connect.Record{}, Told: o.Now().UTC()}
	e := diagnosis.Evidence{Now: o.Now(), Name: d.Place, System: d.System, State: d.State, Result: d.Result, StartMode: d.StartMode, RunsAs: d.RunsAs, Identity: d.Identity, Up: d.Up(), ByItself: d.ByItself(), Started: d.Started}
	if err := o.lookAt(ctx, &d, &e, &out); err != nil {
		return out, err
	}
	a, err := o.accountEvidence(ctx, d, &e)
	if err != nil {
		return out, err
	}
	if a != nil {
		out.Account, out.AccountID = a.Name, a.ID
	}
	out.Dependent, out.Up, out.Causes = d, e.Up, diagnosis.Explain(e)
	if e.ReachCode == "" && !e.Up && depth == 0 {
		if err := o.explainFirst(ctx, d, &out); err != nil {
			return out, err
		}
	}
	out.Verdict = verdictOf(out)
	out.Repair, err = o.repairOf(ctx, d, a, out)
	return out, err
}

// lookAt asks the system itself.
func (o *Operator) lookAt(ctx context.Context, d *store.Dependent, e *diagnosis.Evidence, out *Explanation) error {
	v, err := o.Store.System(ctx, d.System)
	if err != nil {
		return err
	}
	connector, target, err := o.target(ctx, v)
	if err != nil {
		return err
	}
	diagnoser, ok := connector.(connect.Diagnoser)
	if !ok {
		return fmt.Errorf("%w: systems of the kind %s cannot be asked why", ErrCannot, v.Kind)
	}
	seen, err := diagnoser.Diagnose(ctx, target, d.At())
	var f *connect.Failure
	if errors.As(err, &f) {
		e.ReachCode, e.ReachWords, e.ReachNext = diagnosis.Unreachable, o.redact(ctx, f.Error()), f.Next
		switch {
		case strings.Contains(f.Words, "connection refused"):
			e.ReachCode = diagnosis.Refused
		case f.Stage == connect.StageConnect && f.Code == connect.CodeTimeout:
			e.ReachCode = diagnosis.Filtered
		case f.Code == connect.CodeGone:
			return fmt.Errorf("%w: %s", ErrNotFound, f.Error())
		}
		return nil
	}
	if err != nil {
		return err
	}
	// What the system says is said again only without secrets.
	redactAll(o.redactor(ctx), &seen)
	now := seen.Dependent
	d.State, d.Result, d.StartMode, d.Requires = now.State, now.Result, now.StartMode, now.Requires
	if now.RunsAs != "" {
		d.RunsAs, d.Identity = now.RunsAs, naming.IdentityOf(now.RunsAs)
	}
	e.State, e.Result, e.StartMode, e.RunsAs, e.Identity, e.Up, e.ByItself = d.State, d.Result, d.StartMode, d.RunsAs, d.Identity, d.Up(), d.ByItself()
	for _, n := range seen.Needs {
		out.Needs = append(out.Needs, n)
		needed := estate.Dependent{State: n.State}
		e.Needs = append(e.Needs, diagnosis.Need{Name: n.Place.Place, Up: needed.Up(), State: n.State, Result: n.Result})
	}
	for _, r := range seen.Records {
		out.Records = append(out.Records, r)
		e.Records = append(e.Records, diagnosis.Record{Time: r.Time, Code: r.Code, Words: r.Words, Hint: r.Hint, Of: r.Of, By: r.By, Start: r.Start})
	}
	return nil
}

// accountEvidence is what is known of the account that it uses, with a sign-in
// now when its value is in custody.
func (o *Operator) accountEvidence(ctx context.Context, d store.Dependent, e *diagnosis.Evidence) (*store.Account, error) {
	id, copied, err := o.accountOf(ctx, d)
	if err != nil || id == 0 {
		runsAs := func(t store.Tie) bool { return t.Strength == string(estate.StrengthRunsAs) }
		if err == nil && e.Identity == estate.IdentityNamed && !slices.ContainsFunc(d.Ties, runsAs) {
			e.Reference = fmt.Sprintf("%q means no single known account: what it runs as is not there, or was not surveyed", d.RunsAs)
		}
		return nil, err
	}
	if copied {
		e.Identity = estate.IdentityNamed // what it signs in with, not what it runs as
	}
	a, err := o.Store.Account(ctx, id)
	if err != nil {
		return nil, err
	}
	e.Account = &diagnosis.Account{
		Name: a.Name, System: a.System, Gone: !a.Gone.IsZero(), Enabled: a.Enabled, Locked: a.Locked, MustChange: a.MustChange,
		AccountExpires: a.AccountExpires, PasswordExpires: a.PasswordExpires, PasswordChanged: a.PasswordChanged, Custody: a.Custody,
	}
	if !a.Custody {
		return &a, nil
	}
	if o.notRotating(ctx, a) != nil {
		// What is current is being changed: only what the system says counts.
		return &a, nil
	}
	value, err := o.currentSecret(ctx, store.Credential{AccountID: id})
	if err != nil || value == nil {
		return &a, err
	}
	stored := d.Stored
	if stored == "" && d.GivenTo == id {
		stored = d.Given
	}
	if copied {
		stored = o.copyOf(ctx, d, id)
	}
	if stored != "" {
		e.Stored = diagnosis.StoredOther
		if stored == value.Fingerprint {
			e.Stored = diagnosis.StoredCurrent
		}
	}
	if a.Locked == estate.Yes {
		return &a, nil // one more wrong sign-in would help nobody
	}
	opened, err := o.values(ctx, store.Credential{AccountID: id})
	if err != nil {
		return &a, err
	}
	_, target, verifier, err := o.authority(ctx, a)
	if err != nil {
		return &a, nil // told as not known
	}
	if verdict, err := verifier.Verify(ctx, target, refOf(a), opened.current); err == nil {
		e.Account.Words, e.Account.Verdict = o.redact(ctx, verdict.Words), or(verdict.Code, "accepted")
	}
	return &a, nil
}

// accountOf finds the account that a dependent stands or falls with: the one
// it logs on as, or whose copy it reads.
func (o *Operator) accountOf(ctx context.Context, d store.Dependent) (id int64, copied bool, err error) {
	if d.Kind.LogsOn() {
		for _, t := range d.Ties {
			if t.Strength == string(estate.StrengthRunsAs) {
				return t.AccountID, false, nil
			}
		}
		return 0, false, nil
	}
	all, err := o.Store.DependentsOfSystem(ctx, d.SystemID)
	for _, held := range all {
		if held.Copy != nil && slices.Contains(d.Uses, held.Path) {
			for _, t := range held.Ties {
				return t.AccountID, true, err
			}
		}
	}
	return 0, false, err
}

func (o *Operator) copyOf(ctx context.Context, d store.Dependent, account int64) string {
	all, err := o.Store.DependentsOfSystem(ctx, d.SystemID)
	if err != nil {
		return ""
	}
	for _, held := range all {
		if held.Copy != nil && slices.Contains(d.Uses, held.Path) && strengthFor(held, account) != "" {
			return held.Copy.Fingerprint
		}
	}
	return ""
}

// explainFirst explains the dependency that failed first.
func (o *Operator) explainFirst(ctx context.Context, d store.Dependent, out *Explanation) error {
	for _, c := range out.Causes {
		if c.Code != diagnosis.Dependency || c.First == "" || c.Verdict == diagnosis.RuledOut {
			continue
		}
		found, err := o.Store.Dependents(ctx, 0, store.Query{Filters: []string{"system=" + d.System, "kind=" + string(d.Kind), "place=" + c.First, "gone="}, Limit: 1})
		if err != nil || len(found.Items) == 0 {
			return err
		}
		first, err := o.explain(ctx, found.Items[0], 1)
		if err != nil {
			return err
		}
		out.First = &first
	}
	return nil
}

func verdictOf(x Explanation) string {
	if len(x.Causes) == 0 {
		return ""
	}
	top := x.Causes[0]
	name := x.Dependent.Place + " on " + x.Dependent.System
	switch {
	case top.Verdict == diagnosis.RuledOut || top.Verdict == diagnosis.NotKnown:
		if x.Up {
			return name + " is up, and nothing speaks against its next start"
		}
		return name + " is down, and no cause could be found"
	case x.Up:
		return fmt.Sprintf("%s is up; at its next start: %s (%s)", name, top.Title, top.Verdict)
	case top.Code == diagnosis.Dependency && x.First != nil:
		return fmt.Sprintf("%s is down because %s", name, x.First.Verdict)
	}
	words := top.Title
	if x.Account != "" && slices.Contains([]diagnosis.Code{diagnosis.Expired, diagnosis.Disabled, diagnosis.Locked, diagnosis.AccountExpired, diagnosis.MustChange, diagnosis.WrongPassword, diagnosis.NoAccount, diagnosis.MissingRight}, top.Code) {
		words += ": " + x.Account
	}
	return fmt.Sprintf("%s is down; %s", name, map[bool]string{true: "the cause: ", false: string(top.Verdict) + ": "}[top.Verdict == diagnosis.IsCause]+words)
}

// repairOf says what can be done from here about the most certain cause.
func (o *Operator) repairOf(ctx context.Context, d store.Dependent, a *store.Account, x Explanation) (*Repair, error) {
	if x.First != nil {
		if x.First.Repair == nil || x.First.Repair.Kind != "start" {
			return x.First.Repair, nil
		}
		r := *x.First.Repair
		r.Start = append(append([]int64(nil), r.Start...), d.ID)
		return &r, nil
	}
	top := x.Causes[0]
	if top.Verdict != diagnosis.IsCause && top.Verdict != diagnosis.Likely {
		return nil, nil
	}
	switch top.Code {
	case diagnosis.Expired, diagnosis.MustChange:
		if a == nil || !a.Custody {
			return nil, nil
		}
		return &Repair{Kind: "rotate", AccountID: a.ID, Account: a.Name, Words: "set a new password for " + a.Name + ", give it to all that use it, and start what is down, in start order"}, nil
	case diagnosis.WrongPassword:
		if a == nil || !a.Custody {
			return nil, nil
		}
		targets, err := o.RepairTargets(ctx, *a)
		if errors.Is(err, ErrRefused) {
			targets, err = []int64{d.ID}, nil
		}
		if !d.Kind.LogsOn() && len(targets) == 1 && targets[0] == d.ID {
			return nil, err
		}
		return &Repair{Kind: "assign", AccountID: a.ID, Account: a.Name, Assign: targets, Words: fmt.Sprintf("give the current password of %s to %s, and start what is down, in start order", a.Name, countedDependents(len(targets)))}, err
	case diagnosis.StoppedBy, diagnosis.Program:
		return &Repair{Kind: "start", Start: []int64{d.ID}, Words: "start it, and see whether it stays up"}, nil
	}
	return nil, nil
}

func countedDependents(n int) string {
	if n == 1 {
		return "one dependent"
	}
	return fmt.Sprintf("%d dependents", n)
}

// StartDependents starts what is down, one after the other, and proves each.
// It stops at the first that does not come up.
func (o *Operator) StartDependents(ctx context.Context, by, reason string, ids []int64) ([]string, error) {
	if reason == "" {
		return nil, fmt.Errorf("%w: give a reason", ErrInput)
	}
	var said []string
	for _, id := range ids {
		d, err := o.Store.Dependent(ctx, id)
		if err != nil {
			return said, err
		}
		if !d.Kind.Runs() {
			return said, fmt.Errorf("%w: %s on %s is a %s: it is not started", ErrInput, d.Place, d.System, d.Kind)
		}
		v, err := o.Store.System(ctx, d.System)
		if err != nil {
			return said, err
		}
		connector, target, err := o.target(ctx, v)
		if err != nil {
			return said, err
		}
		restarter, ok := connector.(connect.Restarter)
		if !ok {
			return said, fmt.Errorf("%w: %s cannot start anything", ErrCannot, v.Name)
		}
		entry := ledger.Entry{Actor: by, Act: "dependent.start", Subject: d.Place, System: d.System, Reason: reason, Ref: fmt.Sprintf("dependent/%d", d.ID)}
		err = o.act(ctx, entry, func() error {
			limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
			defer cancel()
			state, err := restarter.UnitState(limited, target, d.At())
			if err != nil {
				return err
			}
			if state.Active == "active" {
				said = append(said, d.Place+" on "+d.System+": runs already")
				return nil
			}
			words, err := restarter.Restart(limited, target, d.At())
			if err == nil {
				said = append(said, d.Place+" on "+d.System+": "+words)
			}
			return err
		})
		if err != nil {
			return said, err
		}
		if _, err := o.StartSurvey(context.WithoutCancel(ctx), byService, []string{d.System}); err != nil {
			o.Log.Warn("a system could not be read again", "system", d.System, "error", err)
		}
	}
	return said, nil
}
