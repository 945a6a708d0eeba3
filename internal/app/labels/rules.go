package labels

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

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
	Remove      bool   `json:"remove,omitempty" doc:"The rule of this name is to go"`
}

// Preview says what a draft would do. Nothing is kept of it.
type Preview struct {
	Matches  int      `json:"matches" doc:"Accounts that the condition holds for"`
	Stops    int      `json:"stops" doc:"Accounts that the rule matches now and would not"`
	Gain     int      `json:"gain" doc:"Labels that accounts would get"`
	Lose     int      `json:"lose" doc:"Labels that accounts would lose"`
	Rows     []Effect `json:"rows" nullable:"false" doc:"The first of them, by name"`
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

func (labels *Labels) preview(ctx context.Context, draft Draft) (p Preview, before *records.Rule, err error) {
	if !draft.Remove {
		if err := (rules.Rule{Name: draft.Name, Label: draft.Label, When: draft.Condition}).Check(); err != nil {
			return p, nil, fmt.Errorf("%w: %w", app.ErrInput, err)
		}
	}
	all, err := labels.store.AllRules(ctx)
	if err != nil {
		return p, nil, err
	}
	byID := map[records.RuleID]rules.Rule{}
	for i, r := range plainRules(all) {
		byID[all[i].ID] = r
		if strings.EqualFold(r.Name, draft.Name) {
			before = &all[i]
		}
	}
	if before == nil && draft.Remove {
		return p, nil, fmt.Errorf("rule %q: %w", draft.Name, app.ErrNotFound)
	}
	after := rules.Rule{ID: -1, Name: draft.Name, Label: draft.Label, Excludes: draft.Excludes, When: draft.Condition}
	var drafts []rules.Rule
	if !draft.Remove {
		drafts = append(drafts, after)
	}
	set, now := rules.NewSet(drafts), labels.base.Now()
	p.Rows = []Effect{}
	var marked strings.Builder
	err = labels.each(ctx, set.NeedsDependents(), func(page []records.Labelling) error {
		for _, v := range page {
			matches, err := set.Match(ctx, v.Name, factsOf(v, now), clock)
			if err != nil {
				return err
			}
			var was, is []rules.Rule
			did := false
			for _, id := range v.Matched {
				was = append(was, byID[id])
				if before != nil && id == before.ID {
					did = true
				} else {
					is = append(is, byID[id])
				}
			}
			is = append(is, matches...)
			p.Matches += len(matches)
			if did && len(matches) == 0 {
				p.Stops++
			}
			p.weigh(v, rules.On(rules.Decide(v.ByHand, was)), rules.On(rules.Decide(v.ByHand, is)), &marked)
		}
		return nil
	})
	if err != nil {
		return p, before, err
	}
	if f, failed := set.Failed[-1]; failed {
		p.Failed = f.Words
	}
	if before != nil {
		p.Revision = before.Revision
	}
	raw, err := json.Marshal(draft)
	p.Mark = labels.base.Mark("rule-preview", fmt.Sprintf("%s\x00%d\x00%d\x00%s", raw, p.Revision, p.Matches, marked.String()))
	return p, before, err
}

// weigh adds what becomes of an account's labels.
func (p *Preview) weigh(v records.Labelling, was, is []string, marked *strings.Builder) {
	add := func(label string, gains bool) {
		fmt.Fprintf(marked, "%d %s %t\n", v.ID, label, gains)
		if gains {
			p.Gain++
		} else {
			p.Lose++
		}
		if len(p.Rows) < mostShown {
			p.Rows = append(p.Rows, Effect{v.ID, v.Name, v.System, label, gains})
		}
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
	entry := ledger.Entry{Actor: by.Name, Act: "rule.save", Phase: ledger.Outcome, Subject: draft.Name, Result: "done", Detail: fmt.Sprintf("matches %d; %d labels gained, %d lost", p.Matches, p.Gain, p.Lose)}
	v := records.Rule{Name: draft.Name, Label: draft.Label, Excludes: draft.Excludes, Condition: draft.Condition, Description: draft.Description, ChangedBy: by.Name}
	was := records.Rule{}
	if before != nil {
		v.ID, v.Revision, v.Name, was = before.ID, before.Revision, before.Name, *before
	}
	entry.Changes = ledger.Diff([3]string{"label", was.Label, v.Label}, [3]string{"excludes", fmt.Sprint(was.Excludes), fmt.Sprint(v.Excludes)}, [3]string{"condition", was.Condition, v.Condition}, [3]string{"description", was.Description, v.Description})
	switch {
	case draft.Remove:
		entry.Act = "rule.remove"
		err = labels.store.RemoveRule(ctx, was, entry)
	case before != nil:
		err = labels.store.ChangeRule(ctx, v, entry)
	default:
		_, err = labels.store.AddRule(ctx, v, entry)
	}
	if err != nil {
		return Applied{}, err
	}
	return labels.Apply(context.WithoutCancel(ctx))
}
