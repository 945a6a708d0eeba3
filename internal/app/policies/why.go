package policies

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/records"
)

// Why explains which policy decides for an account.
type Why struct {
	AccountID records.AccountID `json:"account_id"`
	Account   string            `json:"account"`
	System    string            `json:"system"`
	Labels    []string          `json:"labels" nullable:"false" doc:"That it has"`
	Words     string            `json:"words" doc:"What comes of it, in a sentence"`
	Policies  []WhyPolicy       `json:"policies" nullable:"false" doc:"All policies, the one that decides before all others first"`
	Turns     []records.Turn    `json:"turns" nullable:"false" doc:"Of its credentials in custody"`
	Window    string            `json:"window,omitempty" doc:"In which it is rotated also by people"`
}

// WhyPolicy is a policy with whether it decides for the account, and why not.
type WhyPolicy struct {
	Policy     string `json:"policy"`
	Label      string `json:"label"`
	Precedence int    `json:"precedence"`
	Decides    bool   `json:"decides"`
	Because    string `json:"because"`
}

// Why explains which policy decides for an account, and when it is rotated.
func (policies *Policies) Why(ctx context.Context, id records.AccountID) (Why, error) {
	a, err := policies.store.Account(ctx, id)
	if err != nil {
		return Why{}, err
	}
	out := Why{AccountID: a.ID, Account: a.Name, System: a.System, Labels: []string{}, Policies: []WhyPolicy{}, Turns: []records.Turn{}}
	labels, err := policies.store.LabelsOf(ctx, id)
	if err != nil {
		return out, err
	}
	for _, l := range labels {
		if l.On {
			out.Labels = append(out.Labels, l.Label)
		}
	}
	all, err := policies.store.AllPolicies(ctx)
	if err != nil {
		return out, err
	}
	decides, _ := Decides(all, out.Labels)
	for _, p := range all {
		out.Policies = append(out.Policies, out.about(p, decides, labels))
	}
	list, err := policies.store.Candidates(ctx, id)
	if err != nil {
		return out, err
	}
	planned, err := policies.evaluate(ctx, all, list)
	if err != nil {
		return out, err
	}
	for _, p := range planned {
		out.Turns = append(out.Turns, p.Turn)
	}
	bounds, err := policies.BoundsOf(ctx, id, "")
	if err != nil {
		return out, err
	}
	out.Window = bounds.Window
	out.Words = whyWords(a, decides, planned, len(all))
	return out, nil
}

// about says of one policy whether it decides.
func (w Why) about(p records.Policy, decides *records.Policy, labels []records.AccountLabel) WhyPolicy {
	v := WhyPolicy{Policy: p.Name, Label: p.Label, Precedence: p.Precedence, Decides: decides != nil && decides.ID == p.ID}
	has := false
	for _, l := range labels {
		if l.Label == p.Label && !l.On {
			v.Because = fmt.Sprintf("its label %s is kept away from it by the rule %s", p.Label, strings.Join(l.Excluded, ", "))
			return v
		}
		has = has || l.Label == p.Label
	}
	switch {
	case p.ForCertificates():
		v.Because = "it is for certificates, and no account is one"
	case p.Label != "" && !has:
		v.Because = "it has not the label " + p.Label
	case v.Decides && p.Label == "":
		v.Because = "it is for every account, and no other one with a higher precedence is for it"
	case v.Decides:
		v.Because = "it has the label " + p.Label + ", and no policy with a higher precedence is for it"
	default:
		v.Because = fmt.Sprintf("it would be for it, and %s has the higher precedence %d", decides.Name, decides.Precedence)
	}
	return v
}

func whyWords(a records.Account, decides *records.Policy, planned []Planned, policies int) string {
	switch {
	case policies == 0:
		return "there are no policies: it is rotated by people only"
	case decides == nil:
		return "no policy is for it: it is rotated by people only"
	case len(planned) == 0:
		return "the policy " + decides.Name + " would decide for it, and nothing of it is in custody: take it with 'moss custody take " + a.Name + "'"
	case decides.Paused:
		return "the policy " + decides.Name + " decides for it, and is paused: nothing is rotated"
	}
	p := planned[0]
	words := "the policy " + decides.Name + " rotates it " + OftenWords(*decides)
	const at = "2006-01-02 15:04 UTC"
	switch {
	case p.Next.IsZero():
		return words + "; no turn comes any more: its window or recurrence has ended"
	case p.Running:
		return words + "; it is being rotated now"
	case !p.Due.IsZero() && p.Failed == 0:
		return words + "; it is due since " + p.Due.UTC().Format(at) + ", and is begun between " + p.Next.UTC().Format(at) + " and " + p.NextEnds.UTC().Format(at)
	case !p.Due.IsZero():
		return words + "; it is due since " + p.Due.UTC().Format(at) + ", and is tried again from " + p.Next.UTC().Format(at) + " on"
	}
	return words + "; next between " + p.Next.UTC().Format(at) + " and " + p.NextEnds.UTC().Format(at)
}

// PolicyEffect is what a draft of a policy would do to one credential.
type PolicyEffect struct {
	AccountID  records.AccountID `json:"account_id"`
	Credential string            `json:"credential"`
	System     string            `json:"system"`
	Was        string            `json:"was" doc:"The policy that decides now; empty for none"`
	Becomes    string            `json:"becomes"`
	Next       time.Time         `json:"next,omitzero"`
}

// PolicyPreview says what a draft would do. Nothing is kept of it.
type PolicyPreview struct {
	Decides   int            `json:"decides" doc:"For how many credentials in custody it would decide"`
	Gains     int            `json:"gains" doc:"For how many of those it does not now"`
	Loses     int            `json:"loses" doc:"For how many it does now, and would not"`
	Openings  int            `json:"openings" doc:"Over how many openings the turns are spread; 0 where ends decide"`
	Most      int            `json:"most" doc:"In the fullest of the next year"`
	Rows      []PolicyEffect `json:"rows" nullable:"false" doc:"The first whose policy would be another"`
	Warnings  []string       `json:"warnings" nullable:"false"`
	OftenSaid string         `json:"often" doc:"How often, in words"`
}

const mostEffects = 500

// Preview says what a draft of a policy would do to the credentials of now; with remove,
// what its removal would.
func (policies *Policies) Preview(ctx context.Context, by access.Actor, draft records.Policy, remove bool) (PolicyPreview, error) {
	out := PolicyPreview{Rows: []PolicyEffect{}, Warnings: []string{}}
	if err := access.Decide(by, access.PreviewPolicy, access.Object{Kind: "policy", Name: draft.Name}); err != nil {
		return out, err
	}
	all, err := policies.store.AllPolicies(ctx)
	if err != nil {
		return out, err
	}
	if !remove {
		if err := app.CheckName("a policy", draft.Name); err != nil {
			return out, err
		}
		if err := policies.check(ctx, &draft); err != nil {
			return out, err
		}
		s, err := policies.stagger(ctx, draft)
		if err != nil {
			return out, err
		}
		out.Openings, out.OftenSaid = s.Cycle(), OftenWords(draft)
		if draft.ForCertificates() {
			out.Openings = 0
		}
		if s.Rarely() {
			words := "the window opens more rarely than that: each is rotated whenever it opens"
			if draft.ForCertificates() {
				words = "the window opens more rarely than that: a certificate may end before it opens"
			}
			out.Warnings = append(out.Warnings, words)
		}
		if len(s.Turns(who(0), policies.base.Now(), policies.base.Now().Add(ahead))) == 0 {
			out.Warnings = append(out.Warnings, "no turn comes within two years: the window or the recurrence ends, or has ended")
		}
	}
	after, draftID := withDraft(all, draft, remove)
	for _, p := range after {
		if p.ID != draftID && p.Precedence == draft.Precedence && !remove {
			return out, fmt.Errorf("%w: the policy %s has the precedence %d already, and which of two decides must be clear", app.ErrInput, p.Name, p.Precedence)
		}
	}
	list, err := policies.store.Candidates(ctx, 0)
	if err != nil {
		return out, err
	}
	planned, err := policies.evaluate(ctx, after, list)
	if err != nil {
		return out, err
	}
	becomes := map[records.CredentialID]Planned{}
	var its []Planned
	for _, p := range planned {
		becomes[p.CredentialID] = p
		if p.PolicyID == draftID {
			its = append(its, p)
		}
	}
	now := policies.base.Now()
	for _, n := range nightsOf(its, now, now.AddDate(1, 0, 0)) {
		out.Most = max(out.Most, n.Count)
	}
	for _, c := range list {
		out.weigh(c, all, becomes, draftID)
	}
	if out.Decides == 0 && !remove {
		words := "no credential in custody is of an account that it would decide for"
		if draft.ForCertificates() {
			words = "no certificate in custody is there for which it would decide"
		}
		out.Warnings = append(out.Warnings, words)
	}
	return out, nil
}

// withDraft is all policies with a draft in its place, and the number that it has there.
func withDraft(all []records.Policy, draft records.Policy, remove bool) (after []records.Policy, id records.PolicyID) {
	id = -1
	for _, p := range all {
		if strings.EqualFold(p.Name, draft.Name) {
			id = p.ID
			continue
		}
		after = append(after, p)
	}
	if remove {
		return after, id
	}
	draft.ID = id
	at := len(after)
	for i, p := range after {
		if p.Precedence < draft.Precedence {
			at = i
			break
		}
	}
	return append(after[:at:at], append([]records.Policy{draft}, after[at:]...)...), id
}

func (out *PolicyPreview) weigh(c records.Candidate, all []records.Policy, becomes map[records.CredentialID]Planned, draft records.PolicyID) {
	was := ""
	wasID := records.PolicyID(0)
	if p := decidesFor(all, c); p != nil {
		was, wasID = p.Name, p.ID
	}
	is, found := becomes[c.CredentialID]
	switch mine := found && is.PolicyID == draft; {
	case mine:
		out.Decides++
		if wasID != draft {
			out.Gains++
		}
	case wasID == draft:
		out.Loses++
	}
	if wasID != is.PolicyID && len(out.Rows) < mostEffects {
		out.Rows = append(out.Rows, PolicyEffect{AccountID: c.AccountID, Credential: c.Credential, System: c.System, Was: was, Becomes: is.Policy, Next: is.Next})
	}
}
