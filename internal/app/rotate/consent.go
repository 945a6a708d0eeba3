package rotate

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Some rotations need a second person, as requirements say. What that person approves is
// what was rehearsed: plan and checks. When it is approved, it is rehearsed once more, and
// begun only if the same comes of it; anything else is asked again.

// WaitsError is that a rotation waits for a second person.
type WaitsError struct {
	Approval records.ApprovalID
	Why      []string // requirements, each with why it holds
	Refused  string   // by whom it was refused lately, when it is not asked again now
}

func (e *WaitsError) Error() string {
	why := strings.Join(e.Why, "; ")
	if e.Refused != "" {
		return fmt.Sprintf("it needs a second person, for %s: %s refused approval %d, and it is not asked again so soon", why, e.Refused, e.Approval)
	}
	return fmt.Sprintf("it needs a second person, for %s: approval %d was asked for, and it begins once that is granted", why, e.Approval)
}

// Unwrap says that it is refused for now.
func (e *WaitsError) Unwrap() error { return app.ErrRefused }

// consent is how a rotation that needs a second person may begin all the same.
type consent struct {
	approved  string // by whom, and by which approval
	digest    string // of the rehearsal that was approved; "" where it was held against it already
	emergency string // why it does not wait for one
}

// notAgain is for how long the service does not ask again for what was refused.
const notAgain = 24 * time.Hour

// unreadIn is how many systems a rehearsal says that they could not be read completely.
func unreadIn(v records.Rehearsal) (n int) {
	for _, c := range v.Checks {
		if c.What == unreadCheck {
			n++
		}
	}
	return n
}

// secondCheck is what a rehearsal says of each requirement.
const secondCheck = "one person is enough"

// unreadCheck is what a rehearsal says of each system that was not read completely.
const unreadCheck = "dependents on this system"

// errNotApproved is about what came to something else since a second person approved it.
var errNotApproved = fmt.Errorf("%w: what would be done now is not what was approved (dependents, checks or windows changed since): it has to be asked for again", app.ErrRefused)

// usualHours is how long a request waits where no requirement says it.
const usualHours = 24

// required says why a rotation needs a second person, and how many hours a request for it
// waits: by requirements, and whenever a person knows what the password will be.
func (rotations *Rotations) required(ctx context.Context, c records.Credential, v records.Rehearsal) (why []string, hours int, err error) {
	list, why, err := rotations.policies.Required(ctx, c.AccountID, v.Plan, unreadIn(v))
	if err == nil && v.Plan.Turn != nil { // the other account is given a value and enabled, too
		var more []records.Requirement
		var also []string
		more, also, err = rotations.policies.Required(ctx, app.Number[records.AccountID](v.Plan.Turn.AccountID), v.Plan, unreadIn(v))
		for i, words := range also {
			if !slices.Contains(why, words) {
				list, why = append(list, more[i]), append(why, words)
			}
		}
	}
	for _, r := range list {
		if hours == 0 || r.Hours < hours {
			hours = r.Hours
		}
	}
	if by := v.Plan.GivenBy(); by != "" {
		why = append(why, "a value that "+by+" gave, and knows")
	}
	return why, cmp.Or(hours, usualHours), err
}

// StartConsented begins what a second person approved together with others, if it still is
// what was rehearsed then.
func (rotations *Rotations) StartConsented(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, approved, digest string) (records.RotationID, error) {
	return rotations.start(ctx, by, c, wish, reason, "", consent{approved: approved, digest: digest})
}

// consented holds a rotation against the requirements. words say why it may begin although
// it needs a second person.
func (rotations *Rotations) consented(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, rehearsal records.Rehearsal, reason string, given consent) (words string, err error) {
	why, hours, err := rotations.required(ctx, c, rehearsal)
	if err != nil || len(why) == 0 {
		return "", err
	}
	if given.approved != "" {
		if given.digest != "" && given.digest != digestOf(rehearsal) {
			return "", errNotApproved
		}
		return given.approved, nil
	}
	if given.emergency != "" {
		return "", nil
	}
	alone, err := rotations.approval.Alone(ctx, by.Name)
	if err != nil {
		return "", err
	}
	if alone {
		return "nobody else could approve it, as " + strings.Join(why, "; ") + " would have it", nil
	}
	waits := &WaitsError{Why: why}
	digest := digestOf(rehearsal)
	before, err := rotations.store.Approvals(ctx, records.Query{Filters: []string{"kind=" + approval.KindRotation, "subject=" + subjectOf(c)}, Limit: 20})
	if err != nil {
		return "", err
	}
	for _, v := range before.Items {
		var asked approvedRotation
		if !by.Is(v.AskedBy) || json.Unmarshal(v.Detail, &asked) != nil || asked.Credential != c.ID {
			continue
		}
		if v.State == records.ApprovalAsked && asked.Digest == digest && same(asked.Wish, wish) {
			waits.Approval = v.ID
			return "", waits
		}
		if v.State == records.ApprovalRefused && by.Is(access.Service().Name) && rotations.base.Now().Sub(v.Decided) < notAgain {
			waits.Approval, waits.Refused = v.ID, v.DecidedBy
			return "", waits
		}
	}
	detail, err := json.Marshal(approvedRotation{Credential: c.ID, Wish: wish, Digest: digest})
	if err != nil {
		return "", err
	}
	request := records.Approval{Kind: approval.KindRotation, Subject: subjectOf(c), What: "rotate " + c.Name + ", for " + strings.Join(why, "; "), Reason: reason, AskedBy: by.Name, Detail: detail, Changes: reach(rehearsal), Expires: rotations.base.Now().UTC().Add(time.Duration(hours) * time.Hour)}
	if waits.Approval, err = rotations.approval.Ask(ctx, request, ledger.Entry{Act: "rotation.start", System: c.System}); err != nil {
		return "", err
	}
	rotations.base.Topics.Wake("all")
	return "", waits
}

// subjectOf tells a credential from those of its name on other systems.
func subjectOf(c records.Credential) string {
	if c.System != "" {
		return c.System + "/" + c.Name
	}
	return c.Spelling()
}

// same compares two requests as they are kept.
func same(a, b planning.Request) bool {
	one, errOne := json.Marshal(a)
	other, errOther := json.Marshal(b)
	return errOne == nil && errOther == nil && string(one) == string(other)
}

// reach is what a rotation would change and restart, as an approver sees it.
func reach(v records.Rehearsal) []ledger.Change {
	var writes, restarts, warnings []string
	for _, s := range v.Plan.Steps {
		switch s.Kind {
		case rotation.StepReplace, rotation.StepLogOn:
			writes = append(writes, s.Title())
		case rotation.StepRestart:
			restarts = append(restarts, s.Title())
		}
	}
	for _, c := range v.Checks {
		if c.What != secondCheck && (c.Result == connect.CheckWarning || c.What == unreadCheck) {
			warnings = append(warnings, strings.TrimSpace(c.System+": "+c.What+": "+c.Words))
		}
	}
	list := func(texts []string) string { return cmp.Or(strings.Join(texts, "; "), "nothing") }
	return []ledger.Change{{Field: "writes", To: list(writes)}, {Field: "restarts", To: list(restarts)}, {Field: "not known or warned of", To: list(warnings)}}
}

// digestOf is the mark of what a rehearsal came to: the steps of its plan, what is worth
// knowing, and the result of each check. What systems said in passing is not in it.
func digestOf(v records.Rehearsal) string {
	var lines []string
	lines = append(lines, stepsOf(v.Plan)...)
	for _, n := range v.Plan.Notes {
		lines = append(lines, n.String())
	}
	for _, c := range v.Checks {
		lines = append(lines, fmt.Sprintf("%s %s %s", c.System, c.What, c.Result))
	}
	raw, err := json.Marshal(lines)
	if err != nil {
		return "" // strings can be written
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// startConsented begins what a second person approved, if it is still that.
func (rotations *Rotations) startConsented(ctx context.Context, by, asker access.Actor, c records.Credential, asked approvedRotation, v records.Approval) (records.RotationID, error) {
	rehearsal, err := rotations.Rehearse(ctx, asker, c, asked.Wish)
	if err != nil {
		return 0, err
	}
	if rehearsal.Verdict != "passed" {
		return 0, fmt.Errorf("%w: it does not pass its rehearsal any more: %s", app.ErrRefused, rehearsal.Failures())
	}
	if digestOf(rehearsal) != asked.Digest {
		return 0, errNotApproved
	}
	return rotations.start(ctx, asker, c, asked.Wish, v.Reason, "", consent{approved: fmt.Sprintf("approved by %s, approval %d", by.Name, v.ID)})
}
