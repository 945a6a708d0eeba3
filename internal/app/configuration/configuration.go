package configuration

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/charters"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/app/messages"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AllCharters(ctx context.Context) ([]records.Charter, error)
	AllOrders(ctx context.Context) ([]records.Order, error)
	AllPolicies(ctx context.Context) ([]records.Policy, error)
	AllRecipients(ctx context.Context) ([]records.Recipient, error)
	AllRequirements(ctx context.Context) ([]records.Requirement, error)
	AllRules(ctx context.Context) ([]records.Rule, error)
	AllWindows(ctx context.Context) ([]records.Window, error)
	ApprovalWords(ctx context.Context, id records.ApprovalID, words string) error
	LabelsOf(ctx context.Context, account records.AccountID) ([]records.AccountLabel, error)
	Accounts(ctx context.Context, q records.Query) (records.Page[records.Account], error)
	AllHandLabels(ctx context.Context) ([]records.HandLabels, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	Removal(ctx context.Context, id records.SystemID) (records.Removal, error)
	User(ctx context.Context, name string) (records.User, error)
	Users(ctx context.Context, q records.Query) (records.Page[records.User], error)
	DependentsOfSystem(ctx context.Context, system records.SystemID) ([]records.Dependent, error)
	Record(ctx context.Context, entries ...ledger.Entry) error
	System(ctx context.Context, idOrName string) (records.System, error)
	// Together keeps all that is written with the context that it gives, or nothing.
	Together(ctx context.Context, f func(ctx context.Context) error) error
}

// Configuration applies texts. Safe for concurrent use.
type Configuration struct {
	base      *app.Base
	store     Store
	labels    *labels.Labels
	policies  *policies.Policies
	messages  *messages.Messages
	approvals *approval.Approvals
	inventory *inventory.Inventory
	people    *people.People
	charters  *charters.Charters
}

// Needs is what it is made of.
type Needs struct {
	Base      *app.Base
	Store     Store
	Labels    *labels.Labels
	Policies  *policies.Policies
	Messages  *messages.Messages
	Approvals *approval.Approvals
	Inventory *inventory.Inventory
	People    *people.People
	Charters  *charters.Charters
}

// New makes one. It carries out approvals of configurations.
func New(n Needs) *Configuration {
	c := &Configuration{n.Base, n.Store, n.Labels, n.Policies, n.Messages, n.Approvals, n.Inventory, n.People, n.Charters}
	c.approvals.Carry(approval.KindConfiguration, approval.Carrier{Action: access.ApplyConfiguration, Still: c.stillSame, CarryOut: c.applyApproved})
	return c
}

// RuleEffect is what a rule that is added or changed would do.
type RuleEffect struct {
	Rule string `json:"rule"`
	labels.Preview
}

// DocumentPreview is what applying a document would do.
type DocumentPreview struct {
	Changes []Difference `json:"changes" nullable:"false"`
	Rules   []RuleEffect `json:"rules" nullable:"false" doc:"What each rule that is added, changed or removed would do to the accounts of now"`
	Second  []string     `json:"second" nullable:"false" doc:"What takes a second person: requirements that are changed or removed, systems that are removed, and who approves"`
	Mark    string       `json:"mark" doc:"What applying it asks for: it stands for this document and for what it would do"`
}

// errShown takes back what was only tried.
var errShown = errors.New("it was only looked at")

// Preview says what applying a document would do. It is tried as it would be applied, and
// taken back.
func (c *Configuration) Preview(ctx context.Context, by access.Actor, d Document) (DocumentPreview, error) {
	if err := access.Decide(by, access.PreviewConfiguration, access.Object{Kind: "configuration"}); err != nil {
		return DocumentPreview{}, err
	}
	if d.People != nil { // what differs tells what somebody may do
		if err := access.Decide(by, "list-users", access.Object{Kind: "person"}); err != nil {
			return DocumentPreview{}, err
		}
	}
	return c.preview(ctx, by, d)
}

func (c *Configuration) preview(ctx context.Context, by access.Actor, d Document) (p DocumentPreview, err error) {
	if d.Format != Format {
		return p, fmt.Errorf("%w: its format is %q, not %q", app.ErrInput, d.Format, Format)
	}
	// Whoever looks may be nobody who applies: what is tried is tried as one who does.
	trying := access.Actor{Name: by.Name, Roles: access.Roles()}
	if err = c.store.Together(ctx, func(ctx context.Context) error {
		if p.Changes, err = c.apply(ctx, trying, d); err != nil {
			return err
		}
		return errShown
	}); !errors.Is(err, errShown) {
		return p, err
	}
	p.Rules, p.Second = []RuleEffect{}, []string{}
	marks, drafts := []string{}, []labels.Draft{}
	for _, change := range p.Changes {
		switch {
		case change.Part == "requirements" && change.What != "added":
			p.Second = append(p.Second, change.What+": "+change.Name)
		case change.Part == "systems" && change.What == "removed":
			more, err := c.goesWith(ctx, change.Name)
			if err != nil {
				return p, err
			}
			p.Second = append(p.Second, "removed: the system "+change.Name+", with "+more)
		case change.Part == "people":
			delicate, err := c.delicate(ctx, d, change.Name)
			if err != nil {
				return p, err
			}
			if delicate {
				p.Second = append(p.Second, "who approves: "+change.Name)
			}
		case change.Part == "rules":
			drafts = append(drafts, draftOf(change.Name, d, change.What == "removed"))
		}
	}
	if len(drafts) > 0 {
		effects, err := c.labels.PreviewAll(ctx, drafts)
		if err != nil {
			return p, fmt.Errorf("rules: %w", err)
		}
		for i, effect := range effects {
			p.Rules, marks = append(p.Rules, RuleEffect{drafts[i].Name, effect}), append(marks, effect.Mark)
		}
	}
	raw, err := json.Marshal([]any{d, p.Changes, marks})
	p.Mark = c.base.Mark("configuration-preview", string(raw))
	return p, err
}

func draftOf(name string, d Document, remove bool) labels.Draft {
	if remove {
		return labels.Draft{Name: name, Remove: true}
	}
	for key, v := range d.Rules {
		if equalName(key, name) {
			return labels.Draft{Name: name, Label: v.Label, Excludes: v.Excludes, Condition: v.Condition, TakeIn: v.TakeIn, TakeUnread: v.TakeUnread, Description: v.Description}
		}
	}
	return labels.Draft{Name: name}
}

// DocumentApplied is what applying a document came to.
type DocumentApplied struct {
	Changes  []Difference       `json:"changes" nullable:"false"`
	Approval records.ApprovalID `json:"waits_for_approval,omitempty" doc:"Number of the approval that all of it waits for; absent when it was done at once"`
}

// asked is what an approver lets somebody apply.
type asked struct {
	Document Document `json:"document"`
	Mark     string   `json:"mark"`
	Reason   string   `json:"reason"`
}

// waitsFor is how long a request waits.
const waitsFor = 24 * time.Hour

// Apply applies a document whose preview was seen: all of it, or nothing. Where a part takes
// a second person, all of it waits for that.
func (c *Configuration) Apply(ctx context.Context, by access.Actor, d Document, mark, reason string) (DocumentApplied, error) {
	if err := access.Decide(by, access.ApplyConfiguration, access.Object{Kind: "configuration"}); err != nil {
		return DocumentApplied{}, err
	}
	p, err := c.seen(ctx, by, d, mark)
	if err != nil {
		return DocumentApplied{}, err
	}
	if len(p.Changes) == 0 {
		return DocumentApplied{Changes: []Difference{}}, nil
	}
	if len(p.Second) > 0 {
		alone, err := c.approvals.Alone(ctx, by.Name)
		if err != nil {
			return DocumentApplied{}, err
		}
		if !alone {
			id, err := c.ask(ctx, by, asked{d, mark, reason}, p)
			return DocumentApplied{Changes: p.Changes, Approval: id}, err
		}
	}
	return c.carryOut(ctx, by, d, reason, "")
}

// seen is the preview of a document as it is now, if that is what was seen.
func (c *Configuration) seen(ctx context.Context, by access.Actor, d Document, mark string) (DocumentPreview, error) {
	p, err := c.preview(ctx, by, d)
	switch {
	case err != nil:
		return p, err
	case mark == "":
		return p, fmt.Errorf("%w: look at a preview first: nothing is applied before what it would do was seen", app.ErrRefused)
	case mark != p.Mark:
		return p, fmt.Errorf("%w: what applying it would do is not what was shown, since the document, or what it would change, changed: look at a preview again", app.ErrRefused)
	}
	return p, nil
}

// mostAsked is how many changes a request for an approval lists.
const mostAsked = 200

func (c *Configuration) ask(ctx context.Context, by access.Actor, what asked, p DocumentPreview) (records.ApprovalID, error) {
	detail, err := json.Marshal(what)
	if err != nil {
		return 0, err
	}
	var changes []ledger.Change
	for _, change := range p.Changes {
		fields := change.Fields
		if change.What == "removed" || len(fields) == 0 {
			fields = []ledger.Change{{Field: "is " + change.What}}
		}
		for _, f := range fields {
			changes = append(changes, ledger.Change{Field: change.Part + " " + change.Name + " " + f.Field, From: f.From, To: f.To})
		}
	}
	if len(changes) > mostAsked {
		changes = append(changes[:mostAsked:mostAsked], ledger.Change{Field: "and more", To: fmt.Sprint(len(changes) - mostAsked)})
	}
	request := records.Approval{Kind: approval.KindConfiguration, Subject: "configuration", What: fmt.Sprintf("apply a text with %d changes, of which %d take a second person", len(p.Changes), len(p.Second)), Reason: what.Reason, AskedBy: by.Name, Detail: detail, Changes: changes, Expires: c.base.Now().UTC().Add(waitsFor)}
	id, err := c.approvals.Ask(ctx, request, ledger.Entry{Act: "configuration.apply"})
	c.base.Topics.Wake("all")
	return id, err
}

func (c *Configuration) stillSame(ctx context.Context, v records.Approval) error {
	var what asked
	if err := json.Unmarshal(v.Detail, &what); err != nil {
		return err
	}
	_, err := c.seen(ctx, access.Actor{Name: v.AskedBy}, what.Document, what.Mark)
	return err
}

func (c *Configuration) applyApproved(ctx context.Context, by, asker access.Actor, v records.Approval) error {
	var what asked
	if err := json.Unmarshal(v.Detail, &what); err != nil {
		return err
	}
	if _, err := c.seen(ctx, asker, what.Document, what.Mark); err != nil {
		return err
	}
	did, err := c.carryOut(ctx, asker, what.Document, what.Reason, fmt.Sprintf("approved by %s, approval %d", by.Name, v.ID))
	if err != nil {
		return err
	}
	return c.store.ApprovalWords(ctx, v.ID, fmt.Sprintf("applied: %d changes", len(did.Changes)))
}

// carryOut applies a document at once, and then has what it decides take effect.
func (c *Configuration) carryOut(ctx context.Context, by access.Actor, d Document, reason, consent string) (out DocumentApplied, err error) {
	before, err := c.store.AllRecipients(ctx)
	if err != nil {
		return out, err
	}
	if err := c.store.Together(ctx, func(ctx context.Context) error {
		if out.Changes, err = c.apply(ctx, by, d); err != nil {
			return err
		}
		entry := ledger.Entry{Actor: by.Name, Act: "configuration.apply", Phase: ledger.Outcome, Subject: "configuration", Result: "done", Reason: reason, Detail: fmt.Sprintf("%d changes", len(out.Changes))}
		if consent != "" {
			entry.Detail += "; " + consent
		}
		return c.store.Record(ctx, entry)
	}); err != nil {
		return DocumentApplied{Changes: []Difference{}}, err
	}
	keep := context.WithoutCancel(ctx)
	c.policies.Told()
	c.tellLast(keep, by, before, out.Changes)
	c.charters.Kick() // what they say counts once it is kept
	if slices.ContainsFunc(out.Changes, func(change Difference) bool { return change.Part == "rules" }) {
		if _, err := c.labels.Apply(keep); err != nil {
			return out, fmt.Errorf("all of it is kept, and the rules could not be applied yet: %w", err)
		}
	}
	return out, nil
}

// tellLast tells recipients that are told nothing more, as when they are removed by hand.
func (c *Configuration) tellLast(ctx context.Context, by access.Actor, before []records.Recipient, changes []Difference) {
	for _, change := range changes {
		at := slices.IndexFunc(before, func(r records.Recipient) bool { return equalName(r.Name, change.Name) })
		if change.Part != "recipients" || at < 0 || before[at].Paused {
			continue
		}
		paused := slices.ContainsFunc(change.Fields, func(f ledger.Change) bool { return f.Field == "paused" })
		if change.What == "removed" || paused {
			words := c.messages.Last(ctx, before[at], by, map[bool]string{true: "is paused: it is told nothing until it goes on", false: "was removed: it is told nothing more"}[change.What != "removed"])
			c.base.Log.Info("a recipient is told nothing more", "recipient", change.Name, "words", words)
		}
	}
}

// apply makes it so, within a transaction.
func (c *Configuration) apply(ctx context.Context, by access.Actor, d Document) ([]Difference, error) {
	ctx = messages.Quietly(ctx)
	var steps []step
	for _, stepsOf := range []func(context.Context, access.Actor, Document) ([]step, error){c.windows, c.policiesOf, c.rules, c.orders, c.requirements, c.chartersOf, c.recipients, c.systems, c.everybody, c.handLabels} {
		more, err := stepsOf(ctx, by, d)
		if err != nil {
			return nil, err
		}
		steps = append(steps, more...)
	}
	return c.carry(ctx, steps, func(ctx context.Context) error {
		return errors.Join(c.loosenWindows(ctx, by, d), c.loosenPolicies(ctx, by, d))
	})
}
