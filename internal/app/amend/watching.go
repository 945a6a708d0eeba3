package amend

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// What nobody needs any more is not deleted at once: it is refused, and for a time it is
// watched whether anything asks for it. Until the end of that time all of it is undone by
// letting it in again; only then it is gone for good.

// Times for which something may be watched.
const (
	ShortestWatch = time.Hour
	LongestWatch  = 366 * 24 * time.Hour
)

// watched is what comes before a deletion that is watched for: it is disabled, or where that
// is not offered, ended now.
func (a *Amendments) watched(ctx context.Context, w EndWish) ([]building.Ending, error) {
	switch {
	case w.Watch == 0:
		return nil, nil
	case w.Act != expiry.Delete:
		return nil, fmt.Errorf("%w: something is watched before it is deleted, not for '%s'", app.ErrInput, w.Act)
	case w.Watch < ShortestWatch || w.Watch > LongestWatch:
		return nil, fmt.Errorf("%w: it is watched from %s to %s, not %s", app.ErrInput, calendar.Spell(ShortestWatch), calendar.Spell(LongestWatch), calendar.Spell(w.Watch))
	}
	first := w
	first.Watch, first.Act = 0, expiry.Disable
	e, _, err := a.ending(ctx, first)
	if err != nil {
		first.Act = expiry.Expire
		var failed error
		if e, _, failed = a.ending(ctx, first); failed != nil {
			return nil, err
		}
	}
	e.Watch = w.Watch
	return []building.Ending{e}, nil
}

// mostAsked is how many that asked are named.
const mostAsked = 3

// watch says whether anything asked for what a step watches: what was seen signed in, or
// refused, since it was proven to be refused, and what uses it and is down now. Of what was
// not read since, nothing can be said: it is read, and waited for.
func (h *hands) watch(ctx context.Context, step rotation.Step) rotation.Outcome {
	failed := func(words string) rotation.Outcome {
		return rotation.Outcome{Result: rotation.ResultFailed, Words: words}
	}
	since, judged, err := h.since(ctx, step)
	if err != nil {
		return failed(err.Error())
	}
	_, _, s, err := h.standing(ctx, step)
	if err != nil {
		return acts.Certainly(err)
	}
	if !s.There {
		return failed("it is not refused any more: " + s.Words + "; somebody let it in again")
	}
	account := app.Number[records.AccountID](step.End.Account)
	list, err := h.amendments.dependents(ctx, step, account)
	if err != nil {
		return failed(err.Error())
	}
	if judged.After(since) { // a person has looked, also at what cannot be read
	} else if unread, err := h.amendments.unread(ctx, step, list, since); err != nil || len(unread) > 0 {
		if err != nil {
			return failed(err.Error())
		}
		return rotation.Outcome{Result: rotation.ResultAway, Words: "not read since it is refused: " + few(unread) + ": whether anything there asked for it is not known yet; a survey was begun"}
	}
	asked, err := h.amendments.asked(ctx, step, account, list, judged)
	switch {
	case err != nil:
		return failed(err.Error())
	case len(asked) > 0:
		words := strings.Join(asked[:min(len(asked), mostAsked)], "; ")
		if more := len(asked) - mostAsked; more > 0 {
			words += fmt.Sprintf("; and %d more", more)
		}
		return failed("it is asked for: " + words)
	}
	return rotation.Outcome{Result: rotation.ResultDone, Words: fmt.Sprintf("nothing that is read asked for it since %s; %d that use it, none of them down", judged.UTC().Format(time.RFC3339), len(list))}
}

// since is from when on a step watches: when what it watches was proven; and from when on what
// is seen counts: a person who has resumed has judged what was seen before.
func (h *hands) since(ctx context.Context, step rotation.Step) (from, judged time.Time, err error) {
	journal, err := h.amendments.store.AmendmentJournal(ctx, h.id)
	if err != nil {
		return from, judged, err
	}
	for _, r := range journal {
		switch {
		case r.Step == step.Needs[0] && !r.Undo && r.Event != rotation.EventIntent:
			from = r.Time
			judged = r.Time
		case r.Event == rotation.EventDecision && r.Result == rotation.DecideResume && !from.IsZero():
			judged = r.Time
		}
	}
	if from.IsZero() {
		err = fmt.Errorf("the journal does not say when step %d was proven", step.Needs[0])
	}
	return from, judged, err
}

// unread are systems of which nothing is known since a moment: the one that it is on, and
// those of its dependents. They are surveyed.
func (a *Amendments) unread(ctx context.Context, step rotation.Step, list []records.Dependent, since time.Time) ([]string, error) {
	ids := []records.SystemID{app.Number[records.SystemID](step.SystemID)}
	for _, d := range list {
		if !slices.Contains(ids, d.SystemID) {
			ids = append(ids, d.SystemID)
		}
	}
	var names []string
	for _, id := range ids {
		v, err := a.store.SystemByID(ctx, id)
		if err != nil {
			return nil, err
		}
		if v.Complete.Before(since) {
			names = append(names, v.Name)
		}
	}
	if len(names) == 0 {
		return nil, nil
	}
	if _, err := a.surveys.Start(ctx, access.Service(), names); err != nil && ctx.Err() == nil {
		a.base.Log.Info("what is watched for could not be surveyed yet", "systems", names, "error", err)
	}
	return names, nil
}

// asked tells who asked for it since a moment.
func (a *Amendments) asked(ctx context.Context, step rotation.Step, account records.AccountID, list []records.Dependent, since time.Time) (out []string, err error) {
	if step.End.Of != expiry.Key { // of a key, uses are not told apart from those of its account
		seen, err := a.store.SeenUses(ctx, account)
		if err != nil {
			return nil, err
		}
		for _, u := range seen {
			if u.Last.After(since) {
				verb := "signed in"
				if u.Failed {
					verb = "was refused"
				}
				from := strings.Join(slices.DeleteFunc([]string{u.Host, u.Client, u.Unit}, func(s string) bool { return s == "" }), ", ")
				out = append(out, fmt.Sprintf("%s %s at %s (%s)", from, verb, u.Last.UTC().Format(time.RFC3339), u.How))
			}
		}
	}
	for _, d := range list {
		if d.State == "failed" || d.Result != "" && !d.Up() && d.ByItself() {
			out = append(out, fmt.Sprintf("%s on %s, which uses it, is down (%s)", d.Place, d.System, strings.TrimSpace(d.State+" "+d.Result)))
		}
	}
	return out, nil
}

// checkWatch says what watching can see.
func (a *Amendments) checkWatch(ctx context.Context, step rotation.Step) connect.Checked {
	line := connect.Checked{System: step.System, What: step.Title(), Result: connect.CheckOK, Words: "until then undoing lets it in again; if anything asks for it, the deletion waits for a person"}
	account := app.Number[records.AccountID](step.End.Account)
	seen, err := a.store.SeenUses(ctx, account)
	switch {
	case err != nil:
		line.Result, line.Words = connect.CheckFailed, err.Error()
	case step.End.Of == expiry.Key:
		line.Result, line.Words = connect.CheckWarning, "what asks for one key is not told apart from what asks for others: watched is whether what holds it is down"
	case len(seen) == 0:
		line.Result, line.Words = connect.CheckWarning, "no sign-in with it was ever seen here, as where no record of them is read: then watched is only whether what uses it is down"
		line.Next = "see that sign-ins to " + step.System + " are read ('moss use list'), or watch for as long as its rarest job takes to come round"
	}
	return line
}
