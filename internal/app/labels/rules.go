package labels

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// Draft is a rule as somebody would have it. Remove takes the one of its name away.
type Draft struct {
	Name        string `json:"name" maxLength:"63"`
	Label       string `json:"label,omitempty" maxLength:"63"`
	Excludes    bool   `json:"excludes,omitempty" doc:"It keeps the label from accounts, whoever else gives it"`
	Condition   string `json:"condition,omitempty" maxLength:"4000"`
	Description string `json:"description,omitempty" maxLength:"1000"`
	TakeIn      string `json:"take_in,omitempty" maxLength:"63" doc:"Window in which accounts that it matches are taken into custody by a reset, where nothing depends on their password; absent where it only gives its label"`
	TakeUnread  bool   `json:"take_unread,omitempty" doc:"It does so also while systems are not read completely, where something unknown may use them"`
	Remove      bool   `json:"remove,omitempty" doc:"The rule of this name is to go"`

	tried bool // its window is known to be one
}

// Preview says what a draft would do. Nothing is kept of it.
type Preview struct {
	Matches  int      `json:"matches" doc:"Accounts that the condition holds for"`
	Stops    int      `json:"stops" doc:"Accounts that the rule matches now and would not"`
	Gain     int      `json:"gain" doc:"Labels that accounts would get"`
	Lose     int      `json:"lose" doc:"Labels that accounts would lose"`
	Rows     []Effect `json:"rows" nullable:"false" doc:"The first of them, by name"`
	Takes    int      `json:"takes" doc:"Accounts that would be taken into custody"`
	NotTaken int      `json:"not_taken" doc:"Accounts that it matches, that are not in custody, and would not be taken"`
	Takings  []Taking `json:"takings" nullable:"false" doc:"The first of both, by name"`
	Failed   string   `json:"failed,omitempty" doc:"Why it could not be decided for some accounts"`
	Revision int64    `json:"revision" doc:"Of the rule that would change; 0 for a new one"`
	Mark     string   `json:"mark" doc:"What saving it asks for: it stands for this draft and for what it would do"`
}

// Effect is one label that an account would get or lose.
type Effect struct {
	AccountID records.AccountID `json:"account_id"`
	Account   string            `json:"account"`
	System    string            `json:"system"`
	Label     string            `json:"label"`
	Gains     bool              `json:"gains"`
	Means     []string          `json:"means" nullable:"false" doc:"What becomes otherwise for the account: which policy decides, in which window, whether one person is enough; with its first label"`
}

// Taking is what becomes of an account whose rule has what it matches taken into custody.
type Taking struct {
	AccountID records.AccountID `json:"account_id"`
	Account   string            `json:"account"`
	System    string            `json:"system"`
	Takes     bool              `json:"takes"`
	Words     string            `json:"words,omitempty" doc:"Why it is not taken"`
}

// mostShown is how many effects a preview lists.
const mostShown = 500

// Preview says what a draft would do to the accounts of now.
func (labels *Labels) Preview(ctx context.Context, by access.Actor, draft Draft) (Preview, error) {
	if err := access.Decide(by, access.PreviewRule, access.Object{Kind: "rule", Name: draft.Name}); err != nil {
		return Preview{}, err
	}
	select {
	case labels.looks <- struct{}{}:
		defer func() { <-labels.looks }()
	case <-ctx.Done():
		return Preview{}, ctx.Err()
	}
	p, _, err := labels.preview(ctx, draft)
	return p, err
}

func (labels *Labels) preview(ctx context.Context, draft Draft) (Preview, *records.Rule, error) {
	all, err := labels.previews(ctx, []Draft{draft})
	if err != nil {
		return Preview{}, nil, err
	}
	return all[0].Preview, all[0].before, nil
}

// weighed is a draft, and what it would do.
type weighed struct {
	Preview
	draft   Draft
	before  *records.Rule // nil for a new one
	decided decisions
	marked  strings.Builder
}

// previews says of each draft what it would do by itself, in one pass over the accounts.
func (labels *Labels) previews(ctx context.Context, drafts []Draft) ([]*weighed, error) {
	all, err := labels.store.AllRules(ctx)
	if err != nil {
		return nil, err
	}
	byID := map[records.RuleID]rules.Rule{}
	for i, r := range plainRules(all) {
		byID[all[i].ID] = r
	}
	var list []rules.Rule
	out, dependents := make([]*weighed, len(drafts)), false
	for i, draft := range drafts {
		if out[i], err = labels.begun(ctx, draft, all); err != nil {
			return nil, fmt.Errorf("%s%w", map[bool]string{true: draft.Name + ": "}[len(drafts) > 1], err)
		}
		dependents = dependents || out[i].draft.TakeIn != ""
		if !draft.Remove {
			list = append(list, rules.Rule{ID: numberOf(i), Name: draft.Name, Label: draft.Label, Excludes: draft.Excludes, When: draft.Condition})
		}
	}
	set, now := rules.NewSet(list), labels.base.Now()
	if err := labels.each(ctx, dependents || set.NeedsDependents(), func(page []records.Labelling) error {
		for _, v := range page {
			matches, err := set.Match(ctx, v.Name, factsOf(v, now), clock)
			if err != nil {
				return err
			}
			for i, w := range out {
				at := slices.IndexFunc(matches, func(r rules.Rule) bool { return r.ID == numberOf(i) })
				w.account(v, byID, matches, at, now)
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for i, w := range out {
		if f, failed := set.Failed[numberOf(i)]; failed {
			w.Failed = f.Words
		}
		if w.before != nil {
			w.Revision = w.before.Revision
		}
		raw, err := json.Marshal(w.draft)
		if err != nil {
			return nil, err
		}
		w.Mark = labels.base.Mark("rule-preview", fmt.Sprintf("%s\x00%d\x00%d\x00%s", raw, w.Revision, w.Matches, w.marked.String()))
	}
	return out, nil
}

// numberOf is the number of the rule of a draft, which is none that is kept.
func numberOf(i int) int64 { return -1 - int64(i) }

// begun checks a draft, before accounts are looked at.
func (labels *Labels) begun(ctx context.Context, draft Draft, all []records.Rule) (*weighed, error) {
	if !draft.Remove {
		if err := (rules.Rule{Name: draft.Name, Label: draft.Label, When: draft.Condition}).Check(); err != nil {
			return nil, fmt.Errorf("%w: %w", app.ErrInput, err)
		}
	}
	if err := labels.mayTake(ctx, &draft); err != nil {
		return nil, err
	}
	w := &weighed{draft: draft, Preview: Preview{Rows: []Effect{}, Takings: []Taking{}}}
	if at := slices.IndexFunc(all, func(r records.Rule) bool { return strings.EqualFold(r.Name, draft.Name) }); at >= 0 {
		w.before = &all[at]
	}
	if w.before == nil && draft.Remove {
		return nil, fmt.Errorf("rule %q: %w", draft.Name, app.ErrNotFound)
	}
	var err error
	w.decided, err = labels.decisions(ctx, draft)
	return w, err
}

// account adds what a draft would do to one account. at is where its rule is among those
// that match; -1 when it does not.
func (w *weighed) account(v records.Labelling, byID map[records.RuleID]rules.Rule, matches []rules.Rule, at int, now time.Time) {
	did := w.before != nil && slices.Contains(v.Matched, w.before.ID)
	if at < 0 && !did {
		return // nothing of it is about this account
	}
	was, is, _ := others(v, byID, w.before)
	if at >= 0 {
		is = append(is, matches[at])
		w.Matches++
	} else {
		w.Stops++
	}
	labelled := rules.On(rules.Decide(v.ByHand, is))
	w.weigh(v, rules.On(rules.Decide(v.ByHand, was)), labelled, w.decided, &w.marked)
	if w.draft.TakeIn != "" && at >= 0 && slices.Contains(labelled, w.draft.Label) {
		w.take(v, w.decided.limits, now, &w.marked)
	}
}

// others are the rules that an account matched when they were last applied, all of them and
// those but the one that would change; did says whether that was among them.
func others(v records.Labelling, byID map[records.RuleID]rules.Rule, but *records.Rule) (was, is []rules.Rule, did bool) {
	for _, id := range v.Matched {
		was = append(was, byID[id])
		if but != nil && id == but.ID {
			did = true
		} else {
			is = append(is, byID[id])
		}
	}
	return was, is, did
}

// weigh adds what becomes of an account's labels.
func (p *Preview) weigh(v records.Labelling, was, is []string, decided decisions, marked *strings.Builder) {
	means := decided.means(v.Custody, was, is)
	add := func(label string, gains bool) {
		fmt.Fprintf(marked, "%d %s %t %q\n", v.ID, label, gains, means)
		if gains {
			p.Gain++
		} else {
			p.Lose++
		}
		if len(p.Rows) < mostShown {
			p.Rows = append(p.Rows, Effect{v.ID, v.Name, v.System, label, gains, append([]string{}, means...)})
		}
		means = nil // once an account
	}
	had := map[string]bool{}
	for _, label := range was {
		had[label] = true
	}
	has := map[string]bool{}
	for _, label := range is {
		has[label] = true
		if !had[label] {
			add(label, true)
		}
	}
	for _, label := range was {
		if !has[label] {
			add(label, false)
		}
	}
}

// take adds what becomes of an account that would be taken into custody.
func (p *Preview) take(v records.Labelling, limits Limits, now time.Time, marked *strings.Builder) {
	if v.Custody {
		return
	}
	words := NotTaken(v, limits, now)
	fmt.Fprintf(marked, "%d takes %t\n", v.ID, words == "")
	if words == "" {
		p.Takes++
	} else {
		p.NotTaken++
	}
	if len(p.Takings) < mostShown {
		p.Takings = append(p.Takings, Taking{v.ID, v.Name, v.System, words == "", words})
	}
}

// mayTake refuses to take in a window that is not there, and what an exclusion names.
func (labels *Labels) mayTake(ctx context.Context, draft *Draft) error {
	if draft.TakeIn == "" || draft.Remove {
		draft.TakeIn, draft.TakeUnread = "", false
		return nil
	}
	if draft.tried {
		return nil
	}
	if draft.Excludes {
		return fmt.Errorf("%w: a rule that keeps a label away takes nothing into custody", app.ErrInput)
	}
	windows, err := labels.store.AllWindows(ctx)
	for _, w := range windows {
		if strings.EqualFold(w.Name, draft.TakeIn) {
			draft.TakeIn = w.Name
			return nil
		}
	}
	if err != nil {
		return err
	}
	return fmt.Errorf("%w: there is no window %q: 'moss window add' makes one", app.ErrInput, draft.TakeIn)
}

// Save keeps a draft whose preview was seen, and applies it. What the preview showed is
// what happens: when accounts changed in between, it must be seen again.
func (labels *Labels) Save(ctx context.Context, by access.Actor, draft Draft, mark string) (Applied, error) {
	action := access.SaveRule
	if draft.Remove {
		action = access.RemoveRule
	}
	if err := access.Decide(by, action, access.Object{Kind: "rule", Name: draft.Name}); err != nil {
		return Applied{}, err
	}
	if err := labels.mayTake(ctx, &draft); err != nil {
		return Applied{}, err
	}
	p, before, err := labels.preview(ctx, draft)
	if err != nil {
		return Applied{}, err
	}
	switch {
	case mark == "":
		return Applied{}, fmt.Errorf("%w: look at a preview first: nothing is saved before what it would do was seen", app.ErrRefused)
	case mark != p.Mark:
		return Applied{}, fmt.Errorf("%w: what the rule would do is not what was shown, since the draft, the rule or accounts that it matches changed: look at a preview again", app.ErrRefused)
	}
	detail := fmt.Sprintf("matches %d; %d labels gained, %d lost", p.Matches, p.Gain, p.Lose)
	if draft.TakeIn != "" {
		detail += fmt.Sprintf("; %d to be taken into custody, %d not", p.Takes, p.NotTaken)
	}
	if err := labels.keep(ctx, by, draft, before, detail); err != nil {
		return Applied{}, err
	}
	return labels.Apply(context.WithoutCancel(ctx))
}

// PreviewAll is Preview of drafts that were tried already, each by itself: the windows that
// they name may be some that come with them.
func (labels *Labels) PreviewAll(ctx context.Context, drafts []Draft) ([]Preview, error) {
	select {
	case labels.looks <- struct{}{}:
		defer func() { <-labels.looks }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	for i := range drafts {
		drafts[i].tried = true
	}
	all, err := labels.previews(ctx, drafts)
	out := make([]Preview, len(all))
	for i, w := range all {
		out[i] = w.Preview
	}
	return out, err
}

// Keep keeps a draft, and applies nothing: who asks for it has shown what it would do, and
// has the rules applied afterwards.
func (labels *Labels) Keep(ctx context.Context, by access.Actor, draft Draft) error {
	action := access.SaveRule
	if draft.Remove {
		action = access.RemoveRule
	}
	if err := access.Decide(by, action, access.Object{Kind: "rule", Name: draft.Name}); err != nil {
		return err
	}
	if !draft.Remove {
		if err := (rules.Rule{Name: draft.Name, Label: draft.Label, When: draft.Condition}).Check(); err != nil {
			return fmt.Errorf("%w: %w", app.ErrInput, err)
		}
	}
	if err := labels.mayTake(ctx, &draft); err != nil {
		return err
	}
	all, err := labels.store.AllRules(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(r records.Rule) bool { return strings.EqualFold(r.Name, draft.Name) })
	var before *records.Rule
	if at >= 0 {
		before = &all[at]
	}
	if before == nil && draft.Remove {
		return fmt.Errorf("rule %q: %w", draft.Name, app.ErrNotFound)
	}
	return labels.keep(ctx, by, draft, before, "")
}

// keep writes a draft in the place of the rule before it, if there was one.
func (labels *Labels) keep(ctx context.Context, by access.Actor, draft Draft, before *records.Rule, detail string) (err error) {
	entry := ledger.Entry{Actor: by.Name, Act: "rule.save", Phase: ledger.Outcome, Subject: draft.Name, Result: "done", Detail: detail}
	v := records.Rule{Name: draft.Name, Label: draft.Label, Excludes: draft.Excludes, Condition: draft.Condition, Description: draft.Description, TakeIn: draft.TakeIn, TakeUnread: draft.TakeUnread, ChangedBy: by.Name}
	was := records.Rule{}
	if before != nil {
		v.ID, v.Revision, v.Name, was = before.ID, before.Revision, before.Name, *before
	}
	entry.Changes = ledger.Diff([3]string{"label", was.Label, v.Label}, [3]string{"excludes", fmt.Sprint(was.Excludes), fmt.Sprint(v.Excludes)}, [3]string{"condition", was.Condition, v.Condition}, [3]string{"description", was.Description, v.Description}, [3]string{"take_in", was.TakeIn, v.TakeIn}, [3]string{"take_unread", fmt.Sprint(was.TakeUnread), fmt.Sprint(v.TakeUnread)})
	switch {
	case draft.Remove:
		entry.Act = "rule.remove"
		return labels.store.RemoveRule(ctx, was, entry)
	case before != nil:
		return labels.store.ChangeRule(ctx, v, entry)
	}
	_, err = labels.store.AddRule(ctx, v, entry)
	return err
}
