// Package diagnose says why a dependent is down, or what speaks for it going
// down, and what a repair would do.
package diagnose

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
)

// Diagnoses explains dependents and starts them.
type Diagnoses struct {
	base      *app.Base
	store     Store
	sealed    *sealed.Keeper
	inventory *inventory.Inventory
	survey    *survey.Surveys
	custody   *custody.Custody
	rotate    *rotate.Rotations
}

// New makes Diagnoses.
func New(base *app.Base, store Store, values *sealed.Keeper, systems *inventory.Inventory, surveys *survey.Surveys, custodies *custody.Custody, rotations *rotate.Rotations) *Diagnoses {
	return &Diagnoses{base, store, values, systems, surveys, custodies, rotations}
}

// Explanation is why a dependent is down, or what speaks for it going down.
type Explanation struct {
	Dependent records.Dependent `json:"dependent"`
	Up        bool              `json:"up"`
	Verdict   string            `json:"verdict" doc:"In one line"`
	Causes    []diagnosis.Cause `json:"causes" nullable:"false" doc:"Most certain first"`
	Needs     []connect.Needed  `json:"needs" nullable:"false" doc:"What it needs, in start order, as it is now"`
	Records   []connect.Record  `json:"records" nullable:"false" doc:"Of its system's own log, newest first"`
	First     *Explanation      `json:"first,omitempty" doc:"Of the one that failed first"`
	Repair    *Repair           `json:"repair,omitempty" doc:"What can be done from here"`
	Account   string            `json:"account,omitempty"`
	AccountID records.AccountID `json:"account_id,omitempty"`
	Told      time.Time         `json:"told"`
}

// explainTime bounds the gathering of evidence.
const explainTime = time.Minute

// Explain gathers evidence and says why a dependent is down. It changes
// nothing but for one sign-in with the sealed value, which is left out for an
// account that is locked.
func (diagnoses *Diagnoses) Explain(ctx context.Context, by access.Actor, id records.DependentID) (Explanation, error) {
	if err := access.Decide(by, access.ExplainDependent, access.Object{}); err != nil {
		return Explanation{}, err
	}
	d, err := diagnoses.store.Dependent(ctx, id)
	if err != nil {
		return Explanation{}, err
	}
	if !d.Kind.Runs() {
		return Explanation{}, fmt.Errorf("%w: %s on %s is a %s: only what runs can be explained", app.ErrInput, d.Place, d.System, d.Kind)
	}
	var out Explanation
	entry := ledger.Entry{Actor: by.Name, Act: "dependent.explain", Subject: d.Place, System: d.System, Ref: fmt.Sprintf("dependent/%d", d.ID)}
	err = diagnoses.base.Act(ctx, entry, func() error {
		limited, cancel := context.WithTimeout(ctx, explainTime)
		defer cancel()
		limited, end := connect.KeepSessions(limited)
		defer end()
		var err error
		out, err = diagnoses.explain(limited, d, 0)
		return err
	})
	return out, err
}

func (diagnoses *Diagnoses) explain(ctx context.Context, d records.Dependent, depth int) (Explanation, error) {
	out := Explanation{Dependent: d, Causes: []diagnosis.Cause{}, Needs: []connect.Needed{}, Records: []connect.Record{}, Told: diagnoses.base.Now().UTC()}
	e := diagnosis.Evidence{Now: diagnoses.base.Now(), Name: d.Place, System: d.System, State: d.State, Result: d.Result, StartMode: d.StartMode, RunsAs: d.RunsAs, Identity: d.Identity, Up: d.Up(), ByItself: d.ByItself(), Started: d.Started}
	if err := diagnoses.lookAt(ctx, &d, &e, &out); err != nil {
		return out, err
	}
	a, err := diagnoses.accountEvidence(ctx, d, &e)
	if err != nil {
		return out, err
	}
	if a != nil {
		out.Account, out.AccountID = a.Name, a.ID
	}
	out.Dependent, out.Up, out.Causes = d, e.Up, diagnosis.Explain(e)
	if e.ReachCode == "" && !e.Up && depth == 0 {
		if err := diagnoses.explainFirst(ctx, d, &out); err != nil {
			return out, err
		}
	}
	out.Verdict = verdictOf(out)
	out.Repair, err = diagnoses.repairOf(ctx, d, a, out)
	return out, err
}

// lookAt asks the system itself.
func (diagnoses *Diagnoses) lookAt(ctx context.Context, d *records.Dependent, e *diagnosis.Evidence, out *Explanation) error {
	v, err := diagnoses.store.System(ctx, d.System)
	if err != nil {
		return err
	}
	connector, target, err := diagnoses.inventory.Target(ctx, v)
	if err != nil {
		return err
	}
	if !connector.Describe().Can(connect.ActDiagnose) {
		return fmt.Errorf("%w: systems of the kind %s cannot be asked why", app.ErrCannot, v.Kind)
	}
	seen, err := connector.Diagnose(ctx, target, d.At())
	var f *connect.Failure
	if errors.As(err, &f) {
		e.ReachCode, e.ReachWords, e.ReachNext = diagnosis.Unreachable, diagnoses.base.Redact(ctx, f.Error()), f.Next
		switch {
		case strings.Contains(f.Words, "connection refused"):
			e.ReachCode = diagnosis.Refused
		case f.Stage == connect.StageConnect && f.Code == connect.CodeTimeout:
			e.ReachCode = diagnosis.Filtered
		case f.Code == connect.CodeGone:
			return fmt.Errorf("%w: %s", app.ErrNotFound, f.Error())
		}
		return nil
	}
	if err != nil {
		return err
	}
	// What the system says is said again only without secrets.
	app.RedactAll(diagnoses.base.Redactor(ctx), &seen)
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
func (diagnoses *Diagnoses) accountEvidence(ctx context.Context, d records.Dependent, e *diagnosis.Evidence) (*records.Account, error) {
	id, copied, err := diagnoses.accountOf(ctx, d)
	if err != nil || id == 0 {
		runsAs := func(t records.Tie) bool { return t.Strength == string(estate.StrengthRunsAs) }
		if err == nil && e.Identity == estate.IdentityNamed && !slices.ContainsFunc(d.Ties, runsAs) {
			e.Reference = fmt.Sprintf("%q means no single known account: what it runs as is not there, or was not surveyed", d.RunsAs)
		}
		return nil, err
	}
	if copied {
		e.Identity = estate.IdentityNamed // what it signs in with, not what it runs as
	}
	a, err := diagnoses.store.Account(ctx, id)
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
	c, err := diagnoses.store.PasswordOf(ctx, a.ID)
	if err != nil {
		return &a, err
	}
	if diagnoses.custody.NotRotating(ctx, c) != nil {
		// What is current is being changed: only what the system says counts.
		return &a, nil //nolint:nilerr // what is current is being changed
	}
	value, err := diagnoses.sealed.Current(ctx, c.ID)
	if err != nil || value == nil {
		return &a, err
	}
	stored := d.Stored
	if stored == "" && d.GivenTo == id {
		stored = d.Given
	}
	if copied {
		stored = diagnoses.copyOf(ctx, d, id)
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
	opened, err := diagnoses.sealed.Values(ctx, c.ID)
	if err != nil {
		return &a, err
	}
	connector, target, err := diagnoses.inventory.Authority(ctx, a)
	if err != nil {
		return &a, nil //nolint:nilerr // told as not known
	}
	if verdict, err := connector.Verify(ctx, target, inventory.RefOf(a), opened.Current); err == nil {
		e.Account.Words, e.Account.Verdict = diagnoses.base.Redact(ctx, verdict.Words), cmp.Or(verdict.Code, "accepted")
	}
	return &a, nil
}

// accountOf finds the account that a dependent stands or falls with: the one
// it logs on as, or whose copy it reads.
func (diagnoses *Diagnoses) accountOf(ctx context.Context, d records.Dependent) (id records.AccountID, copied bool, err error) {
	if d.Kind.LogsOn() {
		for _, t := range d.Ties {
			if t.Strength == string(estate.StrengthRunsAs) {
				return t.AccountID, false, nil
			}
		}
		return 0, false, nil
	}
	all, err := diagnoses.store.DependentsOfSystem(ctx, d.SystemID)
	for _, held := range all {
		if held.Copy != nil && slices.Contains(d.Uses, held.Path) {
			for _, t := range held.Ties {
				return t.AccountID, true, err
			}
		}
	}
	return 0, false, err
}

func (diagnoses *Diagnoses) copyOf(ctx context.Context, d records.Dependent, account records.AccountID) string {
	all, err := diagnoses.store.DependentsOfSystem(ctx, d.SystemID)
	if err != nil {
		return ""
	}
	for _, held := range all {
		if held.Copy != nil && slices.Contains(d.Uses, held.Path) && picture.StrengthFor(held, account) != "" {
			return held.Copy.Fingerprint
		}
	}
	return ""
}

// explainFirst explains the dependency that failed first.
func (diagnoses *Diagnoses) explainFirst(ctx context.Context, d records.Dependent, out *Explanation) error {
	for _, c := range out.Causes {
		if c.Code != diagnosis.Dependency || c.First == "" || c.Verdict == diagnosis.RuledOut {
			continue
		}
		found, err := diagnoses.store.Dependents(ctx, 0, records.Query{Filters: []string{"system=" + d.System, "kind=" + string(d.Kind), "place=" + c.First, "gone="}, Limit: 1})
		if err != nil || len(found.Items) == 0 {
			return err
		}
		first, err := diagnoses.explain(ctx, found.Items[0], 1)
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
