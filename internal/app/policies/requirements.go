package policies

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// A requirement says for which rotations a second person is needed: of accounts with a
// label, that restart many, or while systems could not be read. Adding one is done at once,
// for it only makes things stricter; changing or removing one takes a second person itself,
// once there is one.

// restarted are the kinds of dependents that a rotation restarts.
var restarted = []string{string(estate.DependentCron), string(estate.DependentPool), string(estate.DependentService), string(estate.DependentTask), string(estate.DependentUnit)}

const usualHours, mostHours = 24, 30 * 24

// changedRequirement is what an approver lets somebody change.
type changedRequirement struct {
	Requirement records.Requirement `json:"requirement"`
	Remove      bool                `json:"remove"`
}

// SaveRequirement keeps one: a new one when it has no revision. It returns the approval
// that a change waits for, or 0.
func (policies *Policies) SaveRequirement(ctx context.Context, by access.Actor, v records.Requirement, reason string) (records.ApprovalID, error) {
	if err := access.Decide(by, access.SaveRequirement, access.Object{Kind: "requirement", Name: v.Name}); err != nil {
		return 0, err
	}
	if err := checkRequirement(&v); err != nil {
		return 0, err
	}
	if v.Revision == 0 {
		v.ChangedBy = by.Name
		return 0, policies.keepRequirement(ctx, by.Name, records.Requirement{}, v)
	}
	return policies.relax(ctx, by, changedRequirement{Requirement: v}, reason)
}

// RemoveRequirement removes the one that was seen, or asks for it.
func (policies *Policies) RemoveRequirement(ctx context.Context, by access.Actor, name string, revision int64, reason string) (records.ApprovalID, error) {
	if err := access.Decide(by, access.RemoveRequirement, access.Object{Kind: "requirement", Name: name}); err != nil {
		return 0, err
	}
	return policies.relax(ctx, by, changedRequirement{records.Requirement{Name: name, Revision: revision}, true}, reason)
}

// KeepRequirement keeps one without asking a second person: who calls it did, where one is
// needed.
func (policies *Policies) KeepRequirement(ctx context.Context, by access.Actor, v records.Requirement) error {
	if err := access.Decide(by, access.SaveRequirement, access.Object{Kind: "requirement", Name: v.Name}); err != nil {
		return err
	}
	if err := checkRequirement(&v); err != nil {
		return err
	}
	v.ChangedBy = by.Name
	if v.Revision == 0 {
		return policies.keepRequirement(ctx, by.Name, records.Requirement{}, v)
	}
	was, err := policies.seenRequirement(ctx, v.Name, v.Revision)
	if err != nil {
		return err
	}
	v.ID, v.Name = was.ID, was.Name
	return policies.keepRequirement(ctx, by.Name, was, v)
}

// DropRequirement removes one without asking a second person: who calls it did.
func (policies *Policies) DropRequirement(ctx context.Context, by access.Actor, name string, revision int64) error {
	if err := access.Decide(by, access.RemoveRequirement, access.Object{Kind: "requirement", Name: name}); err != nil {
		return err
	}
	was, err := policies.seenRequirement(ctx, name, revision)
	if err != nil {
		return err
	}
	return policies.carryRequirement(ctx, by.Name, was, changedRequirement{records.Requirement{Name: name}, true})
}

// seenRequirement is the one of a name, if it is the one that was seen.
func (policies *Policies) seenRequirement(ctx context.Context, name string, revision int64) (records.Requirement, error) {
	was, err := policies.store.Requirement(ctx, name)
	if err == nil && was.Revision != revision {
		err = fmt.Errorf("requirement %q: %w", was.Name, records.ErrStale)
	}
	return was, err
}

func checkRequirement(v *records.Requirement) error {
	if err := app.CheckName("a requirement", v.Name); err != nil {
		return err
	}
	if v.Label != "" {
		if err := rules.CheckLabel(v.Label); err != nil {
			return fmt.Errorf("%w: %w", app.ErrInput, err)
		}
	}
	if v.Hours == 0 {
		v.Hours = usualHours
	}
	if v.Hours < 1 || v.Hours > mostHours || v.Restarts < 0 {
		return fmt.Errorf("%w: a request waits for 1 to %d hours, and a number of restarts is not below 0", app.ErrInput, mostHours)
	}
	if v.Kinds == nil {
		v.Kinds = []string{}
	}
	slices.Sort(v.Kinds)
	v.Kinds = slices.Compact(v.Kinds)
	for _, kind := range v.Kinds {
		if !slices.Contains(restarted, kind) {
			return fmt.Errorf("%w: dependents of the kind %q are not restarted: %s are", app.ErrInput, kind, strings.Join(restarted, ", "))
		}
	}
	if len(v.Kinds) > 0 && v.Restarts == 0 {
		return fmt.Errorf("%w: kinds of dependents are counted: say how many", app.ErrInput)
	}
	if v.Label == "" && v.Restarts == 0 && !v.Unread {
		return fmt.Errorf("%w: say for which rotations: of a label, of how many restarts, or while systems are not read", app.ErrInput)
	}
	return nil
}

func (policies *Policies) keepRequirement(ctx context.Context, by string, was, v records.Requirement) error {
	entry := ledger.Entry{Actor: by, Act: "requirement.save", Phase: ledger.Outcome, Subject: v.Name, Result: "done", Changes: requirementDiff(was, v)}
	if err := policies.store.SaveRequirement(ctx, v, entry); err != nil {
		return err
	}
	policies.base.Topics.Wake("all")
	return nil
}

// relax changes or removes one, or asks a second person for it.
func (policies *Policies) relax(ctx context.Context, by access.Actor, asked changedRequirement, reason string) (records.ApprovalID, error) {
	was, err := policies.seenRequirement(ctx, asked.Requirement.Name, asked.Requirement.Revision)
	if err != nil {
		return 0, err
	}
	alone, err := policies.approvals.Alone(ctx, by.Name)
	if err != nil {
		return 0, err
	}
	asked.Requirement.ID, asked.Requirement.ChangedBy = was.ID, by.Name
	if alone {
		return 0, policies.carryRequirement(ctx, by.Name, was, asked)
	}
	detail, err := json.Marshal(asked)
	if err != nil {
		return 0, err
	}
	what, becomes := "change the requirement "+was.Name, asked.Requirement
	if asked.Remove {
		what, becomes = "remove the requirement "+was.Name, records.Requirement{}
	}
	id, err := policies.approvals.Ask(ctx, records.Approval{Kind: approval.KindRequirement, Subject: was.Name, What: what, Reason: reason, AskedBy: by.Name, Detail: detail, Changes: requirementDiff(was, becomes)}, ledger.Entry{Act: "requirement.save"})
	policies.base.Topics.Wake("all")
	return id, err
}

func (policies *Policies) carryRequirement(ctx context.Context, by string, was records.Requirement, asked changedRequirement) error {
	if !asked.Remove {
		return policies.keepRequirement(ctx, by, was, asked.Requirement)
	}
	if err := policies.store.RemoveRequirement(ctx, was, ledger.Entry{Actor: by, Act: "requirement.remove", Phase: ledger.Outcome, Subject: was.Name, Result: "done", Changes: requirementDiff(was, records.Requirement{})}); err != nil {
		return err
	}
	policies.base.Topics.Wake("all")
	return nil
}

// approvedRequirement carries out what was approved, if it is still what was seen.
func (policies *Policies) approvedRequirement(ctx context.Context, _, asker access.Actor, v records.Approval) error {
	var asked changedRequirement
	if err := json.Unmarshal(v.Detail, &asked); err != nil {
		return err
	}
	was, err := policies.seenRequirement(ctx, asked.Requirement.Name, asked.Requirement.Revision)
	if err != nil {
		return err
	}
	return policies.carryRequirement(ctx, asker.Name, was, asked)
}

func requirementDiff(was, is records.Requirement) []ledger.Change {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	return ledger.Diff([3]string{"label", was.Label, is.Label}, [3]string{"restarts", number(was.Restarts), number(is.Restarts)}, [3]string{"kinds", strings.Join(was.Kinds, ", "), strings.Join(is.Kinds, ", ")},
		[3]string{"unread", fmt.Sprint(was.Unread), fmt.Sprint(is.Unread)}, [3]string{"hours", number(was.Hours), number(is.Hours)}, [3]string{"description", was.Description, is.Description})
}

// Required are the requirements that hold for a rotation of an account's credential (0 for
// one that belongs to several), with why in words. unread is how many systems could not be
// read completely.
func (policies *Policies) Required(ctx context.Context, account records.AccountID, plan rotation.Plan, unread int) (out []records.Requirement, why []string, err error) {
	all, err := policies.store.AllRequirements(ctx)
	if err != nil || len(all) == 0 {
		return nil, nil, err
	}
	labels := map[string]bool{}
	if account != 0 {
		list, err := policies.store.LabelsOf(ctx, account)
		if err != nil {
			return nil, nil, err
		}
		for _, l := range list {
			labels[l.Label] = l.On
		}
	}
	for _, r := range all {
		if words, holds := requires(r, labels, plan, unread); holds {
			out, why = append(out, r), append(why, r.Name+" ("+words+")")
		}
	}
	return out, why, nil
}

func requires(r records.Requirement, labels map[string]bool, plan rotation.Plan, unread int) (string, bool) {
	var words []string
	if r.Label != "" {
		if !labels[r.Label] {
			return "", false
		}
		words = append(words, "label "+r.Label)
	}
	if r.Restarts > 0 {
		n := 0
		for _, s := range plan.Steps {
			if s.Kind == rotation.StepRestart && !s.Reload && (len(r.Kinds) == 0 || slices.Contains(r.Kinds, string(s.At().Kind))) {
				n++
			}
		}
		if n < r.Restarts {
			return "", false
		}
		words = append(words, fmt.Sprintf("%d restarts", n))
	}
	if r.Unread {
		if unread == 0 {
			return "", false
		}
		words = append(words, fmt.Sprintf("%d systems are not read", unread))
	}
	return strings.Join(words, ", "), true
}
