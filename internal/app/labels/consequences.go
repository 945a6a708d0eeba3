package labels

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// A label decides which policy rotates an account, in which window, and whether one person
// is enough; and a rule may have what it matches taken into custody. What of that would
// become otherwise, a preview says for each account.

// decisions are what people decided by labels.
type decisions struct {
	policies     []records.Policy
	windows      []records.Window
	requirements []records.Requirement
	limits       Limits
}

// Limits are what keeps accounts from being taken into custody, besides what they are.
type Limits struct {
	Unread string                     // systems that are not read completely, where a rule waits for them
	Ours   func(records.Account) bool // whether we may sign in with it ourselves
}

func (labels *Labels) decisions(ctx context.Context, draft Draft) (d decisions, err error) {
	if draft.TakeIn != "" {
		if d.limits, err = labels.Limits(ctx, draft.TakeUnread); err != nil {
			return d, err
		}
	}
	if d.policies, err = labels.store.AllPolicies(ctx); err != nil {
		return d, err
	}
	if d.windows, err = labels.store.AllWindows(ctx); err != nil {
		return d, err
	}
	d.requirements, err = labels.store.AllRequirements(ctx)
	return d, err
}

// means says what becomes otherwise for an account whose labels do.
func (d decisions) means(custody bool, was, is []string) (out []string) {
	name := func(labels []string) string {
		if p, _ := policies.Decides(d.policies, labels); p != nil {
			return p.Name
		}
		return ""
	}
	if from, to := name(was), name(is); from != to {
		words := becomes("policy", from, to)
		if !custody {
			words += " (once it is in custody)"
		}
		out = append(out, words)
	}
	window := func(labels []string) string {
		for _, w := range d.windows { // in the order of their names, as they count
			if slices.ContainsFunc(w.Labels, func(l string) bool { return slices.Contains(labels, l) }) {
				return w.Name
			}
		}
		return ""
	}
	if from, to := window(was), window(is); from != to {
		out = append(out, becomes("window", from, to))
	}
	for _, r := range d.requirements {
		if had, has := slices.Contains(was, r.Label), slices.Contains(is, r.Label); r.Label != "" && had != has {
			out = append(out, map[bool]string{true: "a second person is needed: ", false: "no second person any more: "}[has]+r.Name)
		}
	}
	return out
}

func becomes(what, from, to string) string {
	switch {
	case from == "":
		return what + " " + to
	case to == "":
		return "no " + what + " any more (" + from + ")"
	}
	return fmt.Sprintf("%s %s instead of %s", what, to, from)
}

// usedLately is how long after its last log-on an account counts as one that is used.
const usedLately = 90 * 24 * time.Hour

// NotTaken says why an account is not taken into custody by a rule, which would give it a
// new password that nobody else has; "" where it may be. Nothing known may depend on its
// password, and nobody else may set it.
func NotTaken(v records.Labelling, limits Limits, now time.Time) string {
	switch {
	case v.Type == "managed":
		return "the directory changes its password by itself"
	case v.Type == "computer":
		return "it is a computer, whose password is its own"
	case v.BuiltIn:
		return "it came with its system"
	case v.Enabled != estate.Yes:
		return "it is not known to be enabled: nothing could prove its new password"
	case !v.LastLogOn.IsZero() && now.Sub(v.LastLogOn) < usedLately:
		return "it signed in at " + v.LastLogOn.UTC().Format(time.RFC3339)
	case limits.Ours != nil && limits.Ours(v.Account):
		return "Moss Ledger may sign in with it itself"
	case limits.Unread != "":
		return limits.Unread + ": something there may use it"
	case len(v.Principals) > 0:
		return "it has service principal names: what accepts tickets there has a key made of its password"
	}
	var who []string
	for _, d := range v.Dependents {
		kind, strength := estate.DependentKind(d.Kind), estate.Strength(d.Strength)
		switch {
		case strength == estate.StrengthMentions, strength == estate.StrengthOpens, strength == estate.StrengthAuthorizes:
		case strength == estate.StrengthRunsAs && (kind == estate.DependentUnit || kind == estate.DependentCron): // without its password
		default:
			who = append(who, d.Place+" on "+d.System)
		}
	}
	if len(who) > 0 {
		more := ""
		if len(who) > 3 {
			more, who = fmt.Sprintf(", and %d more", len(who)-3), who[:3]
		}
		return "it is used, or may be, by " + strings.Join(who, ", ") + more
	}
	return ""
}

// Limits reads them. despite: systems that are not read completely do not count.
func (labels *Labels) Limits(ctx context.Context, despite bool) (out Limits, err error) {
	if labels.ours != nil {
		if out.Ours, err = labels.ours(ctx); err != nil {
			return out, err
		}
	}
	if despite {
		return out, nil
	}
	coverage, err := picture.ReadCoverage(ctx, labels.store)
	if err == nil && len(coverage.Incomplete) > 0 {
		out.Unread = coverage.Words()
	}
	return out, err
}
