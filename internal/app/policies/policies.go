// Package policies decides what is rotated when nobody watches: by which policy, in which
// window, in which order. What it decides about one account it explains. Windows and
// orders count for rotations of people as well.
package policies

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	_ "time/tzdata" // a machine may have no zones of its own

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// Policies keeps policies, windows and orders, and says what comes of them. Safe for
// concurrent use.
type Policies struct {
	approvals *approval.Approvals
	base      *app.Base
	store     Store
	// changed is called when what policies say may be other than before; nil for nobody.
	changed func()

	lock     sync.Mutex
	staggers map[string]*calendar.Stagger // by what they are made of
	from     time.Time                    // the day that they were made for
}

// New makes one.
func New(base *app.Base, store Store, approvals *approval.Approvals) *Policies {
	policies := &Policies{base: base, store: store, approvals: approvals, staggers: map[string]*calendar.Stagger{}}
	approvals.Carry(approval.KindRequirement, approval.Carrier{Action: access.SaveRequirement, CarryOut: policies.approvedRequirement})
	return policies
}

// Changed has f called whenever policies or windows were changed.
func (policies *Policies) Changed(f func()) { policies.changed = f }

// Told has what was changed take effect, for those who changed it without telling.
func (policies *Policies) Told() { policies.tell() }

func (policies *Policies) tell() {
	policies.base.Topics.Wake("all")
	if policies.changed != nil {
		policies.changed()
	}
}

// Zone is the time zone of a name of the zone database, such as Europe/Oslo.
func Zone(name string) (*time.Location, error) {
	if name == "" || name == "Local" {
		return nil, fmt.Errorf("%w: name a time zone, such as Europe/Oslo or UTC", app.ErrInput)
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%w: there is no time zone %q: they are named like Europe/Oslo", app.ErrInput, name)
	}
	return zone, nil
}

// Save keeps a policy: a new one when it has no revision.
func (policies *Policies) Save(ctx context.Context, by access.Actor, v records.Policy) (records.Policy, error) {
	if err := access.Decide(by, access.SavePolicy, access.Object{Kind: "policy", Name: v.Name}); err != nil {
		return v, err
	}
	was, err := policies.before(ctx, &v)
	if err != nil {
		return v, err
	}
	if err := policies.check(ctx, &v); err != nil {
		return v, err
	}
	v.ChangedBy = by.Name
	entry := ledger.Entry{Actor: by.Name, Act: "policy.save", Phase: ledger.Outcome, Subject: v.Name, Result: "done", Changes: policyDiff(was, v)}
	if err := policies.store.SavePolicy(ctx, v, entry); err != nil {
		return v, err
	}
	policies.tell()
	return policies.store.Policy(ctx, v.Name)
}

// before is the policy that is replaced, by its name; v gets its number.
func (policies *Policies) before(ctx context.Context, v *records.Policy) (was records.Policy, err error) {
	v.ID = 0
	if err := app.CheckName("a policy", v.Name); err != nil {
		return was, err
	}
	if v.Revision == 0 {
		return was, nil // one of its name is a conflict
	}
	if was, err = policies.store.Policy(ctx, v.Name); err != nil {
		return was, err
	}
	v.ID, v.Name = was.ID, was.Name
	return was, nil
}

// check refuses what cannot be, and completes what was left out.
func (policies *Policies) check(ctx context.Context, v *records.Policy) error {
	if v.Label != "" {
		if err := rules.CheckLabel(v.Label); err != nil {
			return fmt.Errorf("%w: %w", app.ErrInput, err)
		}
	}
	if v.Precedence < 0 || v.Precedence > 1_000_000 {
		return fmt.Errorf("%w: the precedence is a number from 0 to 1,000,000", app.ErrInput)
	}
	if err := checkOften(v.PolicySettings); err != nil {
		return err
	}
	if err := checkRenewal(*v); err != nil {
		return err
	}
	if v.Length != 0 && (v.Length < 12 || v.Length > 256) {
		return fmt.Errorf("%w: a new password has 12 to 256 characters", app.ErrInput)
	}
	if v.UndoDays < 0 || v.UndoDays > 3660 {
		return fmt.Errorf("%w: what was replaced is kept for 1 to 3,660 days", app.ErrInput)
	}
	if min(v.LeadDays, v.MaxAgeDays, v.IdleDays) < 0 || v.LeadDays > 3660 || max(v.MaxAgeDays, v.IdleDays) > 36600 {
		return fmt.Errorf("%w: a lead time has at most 3,660 days, a greatest age and a time without use 36,600", app.ErrInput)
	}
	if v.AtWindowEnd != "" && v.Window == "" {
		return fmt.Errorf("%w: without a window none ends", app.ErrInput)
	}
	for _, one := range []struct {
		what, value string
		allowed     []string
	}{
		{"at the end of its window", string(v.AtWindowEnd), []string{"", string(rotation.EndPause), string(rotation.EndUndo)}},
		{"on failure", string(v.OnFailure), []string{"", string(rotation.StopOnFailure), string(rotation.ContinueOnFailure), string(rotation.UndoOnFailure)}},
		{"restart", string(v.Restart), []string{"", string(rotation.RestartNow), string(rotation.RestartLeave)}},
		{"way", v.Way, []string{"", WayAny, WayReplace, WayOverlap, WayAlternate}},
	} {
		if !slices.Contains(one.allowed, one.value) {
			return fmt.Errorf("%w: %s: %q is none of %s", app.ErrInput, one.what, one.value, strings.Join(one.allowed[1:], ", "))
		}
	}
	if v.Window != "" {
		w, err := policies.store.Window(ctx, v.Window)
		if err != nil {
			return fmt.Errorf("%w: %w", app.ErrInput, err)
		}
		v.Window = w.Name
	}
	if _, err := (credential.Wanted{Length: v.Length, Without: v.Without}).PasswordPolicy(); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	_, err := policies.stagger(ctx, *v)
	return err
}

// checkOften refuses what does not say how often, in one way.
func checkOften(v records.PolicySettings) error {
	switch {
	case v.RenewDays < 0 || v.RenewDays > 3660:
		return fmt.Errorf("%w: a certificate is renewed 1 to 3,660 days before its end", app.ErrInput)
	case v.RenewDays != 0 && (v.EveryDays != 0 || v.Rule != ""):
		return fmt.Errorf("%w: certificates are renewed by their ends, and not every so many days or by a rule: two policies say both", app.ErrInput)
	case v.EveryDays == 0 && v.Rule == "" && v.RenewDays == 0:
		return fmt.Errorf("%w: say how often: every so many days, or a recurrence rule; or, for certificates, how many days before their ends", app.ErrInput)
	case v.EveryDays != 0 && v.Rule != "":
		return fmt.Errorf("%w: say how often in one way: every so many days, or a recurrence rule", app.ErrInput)
	case v.EveryDays < 0 || v.EveryDays > 3660:
		return fmt.Errorf("%w: every 1 to 3,660 days", app.ErrInput)
	case v.Rule == "" && (v.Begins != "" || v.Zone != "" || v.Spread != 0):
		return fmt.Errorf("%w: a beginning, a time zone and a spread belong to a recurrence rule", app.ErrInput)
	case v.Spread < 0 || v.Spread > 366:
		return fmt.Errorf("%w: it is spread over 1 to 366 openings", app.ErrInput)
	}
	return nil
}

// checkRenewal refuses what is said of accounts and passwords where a policy is for certificates.
func checkRenewal(v records.Policy) error {
	if !v.ForCertificates() {
		return nil
	}
	switch {
	case v.Label != "":
		return fmt.Errorf("%w: certificates are no accounts, and have no labels: a policy that renews them is for all in custody", app.ErrInput)
	case v.Length != 0 || v.Without != "" || v.MaxAgeDays != 0 || v.IdleDays != 0 || v.LeadDays != 0 || v.QuietHours != 0 || v.Way != "" && v.Way != WayAny:
		return fmt.Errorf("%w: a length, characters, an age, a time without use, a lead time, a quiet time and a way are of accounts: a policy that renews certificates has none", app.ErrInput)
	}
	return nil
}

// Ways in which a policy lets a value be replaced.
const (
	WayAny       = "any"
	WayReplace   = "replace"   // the old value is refused from the change on
	WayAlternate = "alternate" // another account takes its place
	WayOverlap   = "overlap"   // both are accepted until everything has the new one
)

// Remove removes the policy that was seen.
func (policies *Policies) Remove(ctx context.Context, by access.Actor, name string, revision int64) error {
	if err := access.Decide(by, access.RemovePolicy, access.Object{Kind: "policy", Name: name}); err != nil {
		return err
	}
	was, err := policies.store.Policy(ctx, name)
	if err != nil {
		return err
	}
	was.Revision = revision
	if err := policies.store.RemovePolicy(ctx, was, ledger.Entry{Actor: by.Name, Act: "policy.remove", Phase: ledger.Outcome, Subject: was.Name, Result: "done", Changes: policyDiff(was, records.Policy{})}); err != nil {
		return err
	}
	policies.tell()
	return nil
}

// policyDiff is what the ledger says of a change.
func policyDiff(was, is records.Policy) []ledger.Change {
	rows := func(v records.Policy) []string {
		if v.Name == "" {
			v = records.Policy{}
		}
		return []string{v.Label, fmt.Sprint(v.Precedence), OftenWords(v), v.Window, string(v.AtWindowEnd), string(v.OnFailure), string(v.Restart), v.Way, fmt.Sprint(v.FirstAlone), fmt.Sprint(v.QuietHours), fmt.Sprint(v.AtOnce), fmt.Sprint(v.Patience), fmt.Sprint(v.Length), v.Without, fmt.Sprint(v.UndoDays), fmt.Sprint(v.LeadDays), fmt.Sprint(v.MaxAgeDays), fmt.Sprint(v.IdleDays), fmt.Sprint(v.Paused), v.Description}
	}
	names := []string{"label", "precedence", "often", "window", "at_window_end", "on_failure", "restart", "way", "first_alone", "quiet_hours", "at_once", "patience", "length", "without", "undo_days", "lead_days", "max_age_days", "idle_days", "paused", "description"}
	from, to := rows(was), rows(is)
	list := make([][3]string, len(names))
	for i, name := range names {
		list[i] = [3]string{name, from[i], to[i]}
	}
	return ledger.Diff(list...)
}

// OftenWords says how often a policy rotates.
func OftenWords(v records.Policy) string {
	switch {
	case v.RenewDays == 1:
		return "a day before its end"
	case v.RenewDays > 0:
		return fmt.Sprintf("%d days before its end", v.RenewDays)
	case v.EveryDays == 1:
		return "every day"
	case v.EveryDays > 0:
		return fmt.Sprintf("every %d days", v.EveryDays)
	case v.Rule == "":
		return ""
	case v.Spread > 1:
		return fmt.Sprintf("%s from %s %s, spread over %d", v.Rule, v.Begins, v.Zone, v.Spread)
	}
	return fmt.Sprintf("%s from %s %s", v.Rule, v.Begins, v.Zone)
}

// ahead is how far turns are looked for.
const ahead = 2 * 366 * 24 * time.Hour

// stagger are the turns of a policy.
func (policies *Policies) stagger(ctx context.Context, v records.Policy) (*calendar.Stagger, error) {
	var window *calendar.Window
	made := ""
	if v.Window != "" {
		w, err := policies.store.Window(ctx, v.Window)
		if err != nil {
			return nil, err
		}
		of, err := windowOf(w)
		if err != nil {
			return nil, err
		}
		window, made = &of, fmt.Sprintf("%s %s %s %d", w.Rule, w.Begins, w.Zone, w.Minutes)
	}
	made = fmt.Sprintf("%s|%d|%d|%s|%s|%s|%d", made, v.RenewDays, v.EveryDays, v.Rule, v.Begins, v.Zone, v.Spread)
	today := policies.base.Now().UTC().Truncate(24 * time.Hour)
	policies.lock.Lock()
	defer policies.lock.Unlock()
	if !policies.from.Equal(today) {
		policies.from, policies.staggers = today, map[string]*calendar.Stagger{}
	}
	if s := policies.staggers[made]; s != nil {
		return s, nil
	}
	s, err := newStagger(window, v, today.Add(ahead))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	policies.staggers[made] = s
	return s, nil
}

func newStagger(window *calendar.Window, v records.Policy, until time.Time) (*calendar.Stagger, error) {
	if v.RenewDays > 0 { // turns come from ends; what counts is when it may begin
		return calendar.NewStagger(window, time.Duration(v.RenewDays)*24*time.Hour, until)
	}
	if v.EveryDays > 0 {
		return calendar.NewStagger(window, time.Duration(v.EveryDays)*24*time.Hour, until)
	}
	zone, err := Zone(v.Zone)
	if err != nil {
		return nil, err
	}
	r, err := calendar.NewRecurrence(v.Rule, v.Begins, zone)
	if err != nil {
		return nil, err
	}
	return calendar.NewRecurringStagger(window, r, v.Spread, until)
}

// DecidesRenewal finds the policy that decides for certificates; all are in the order of their
// precedence.
func DecidesRenewal(all []records.Policy) *records.Policy {
	if i := slices.IndexFunc(all, records.Policy.ForCertificates); i >= 0 {
		return &all[i]
	}
	return nil
}

// decidesFor is the one for a candidate.
func decidesFor(all []records.Policy, c records.Candidate) *records.Policy {
	if !c.Ends.IsZero() {
		return DecidesRenewal(all)
	}
	decides, _ := Decides(all, c.Labels)
	return decides
}

// Decides finds the policy that decides for an account with some labels, the others that
// are for it as well, in the order of their precedence, and nothing when none is. all are
// in that order.
func Decides(all []records.Policy, labels []string) (decides *records.Policy, others []records.Policy) {
	for i, p := range all {
		switch {
		case p.ForCertificates():
		case p.Label != "" && !slices.Contains(labels, p.Label):
		case decides == nil:
			decides = &all[i]
		default:
			others = append(others, p)
		}
	}
	return decides, others
}
