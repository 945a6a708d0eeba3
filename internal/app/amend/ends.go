package amend

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// EndWish is an act about when something ends: of an account, or of an entry that lets the
// holder of a key in.
type EndWish struct {
	Account   records.AccountID
	Dependent records.DependentID // of an entry; 0 for the account itself
	Act       expiry.Act
	Of        expiry.What // "" for what its system offers first
	End       expiry.End  // of set-end and extend
	// Certificate introduces the key of issue, in PEM.
	Certificate string
	// Watch is of delete: it is disabled first, and deleted when nothing has asked for it for
	// so long; 0 for at once.
	Watch time.Duration
	By    time.Duration // of extend, in the place of End: from when it ends now
}

// undoneFor is how long what one person did alone can be undone by one alone.
const undoneFor = 24 * time.Hour

// RehearseEnds makes a plan of acts about ends and says what every holder will see, in the
// words of its system. Nothing is changed.
func (a *Amendments) RehearseEnds(ctx context.Context, by access.Actor, wishes []EndWish, onFailure rotation.OnFailure) (records.Amendment, error) {
	var v records.Amendment
	if err := access.Decide(by, access.RehearseEnds, access.Object{Kind: "end"}); err != nil {
		return v, err
	}
	switch {
	case len(wishes) == 0:
		return v, fmt.Errorf("%w: name what shall end", app.ErrInput)
	case len(wishes) > MostChanges:
		return v, fmt.Errorf("%w: %d changes are more than one amendment takes (%d)", app.ErrInput, len(wishes), MostChanges)
	}
	a.Settled(ctx)
	ctx, end := connect.KeepSessions(ctx)
	defer end()
	var changes []building.Ending
	var subjects []string
	final := false
	for _, w := range wishes {
		first, err := a.watched(ctx, w)
		if err != nil {
			return v, err
		}
		e, name, err := a.ending(ctx, w)
		if err != nil {
			return v, err
		}
		if slices.ContainsFunc(changes, func(other building.Ending) bool {
			return other.SystemID == e.SystemID && other.Change.ID == e.Change.ID && other.Change.Path == e.Change.Path && other.Change.KeyID == e.Change.KeyID && other.Change.Fingerprint == e.Change.Fingerprint
		}) {
			return v, fmt.Errorf("%w: %s is named twice: one amendment does one thing with it", app.ErrInput, name)
		}
		final = final || e.Change.Act == expiry.Delete
		changes = append(append(changes, first...), e)
		if !slices.Contains(subjects, name) {
			subjects = append(subjects, name)
		}
	}
	if final { // what is deleted does not come back
		onFailure = rotation.StopOnFailure
	}
	v = records.Amendment{LeftOut: []string{}, Rehearsed: a.base.Now().UTC(), RehearsedBy: by.Name, Mode: records.ModeRehearsed, Subject: few(subjects)}
	v.Plan = building.End(v.Subject, changes, cmp.Or(onFailure, rotation.UndoOnFailure))
	entry := ledger.Entry{Actor: by.Name, Act: "amendment.rehearse", Subject: v.Subject, Detail: whatOf(v)}
	if err := a.base.Act(ctx, entry, func() error {
		v.Checks, v.Verdict = a.checks(ctx, v.Plan)
		return nil
	}); err != nil {
		return v, err
	}
	err := a.store.AddAmendment(context.WithoutCancel(ctx), &v)
	v.Changes = len(wishes)
	return v, err
}

// few names at most three.
func few(names []string) string {
	text := strings.Join(names[:min(len(names), 3)], ", ")
	if more := len(names) - 3; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// ending is the change of a wish, on its system.
func (a *Amendments) ending(ctx context.Context, w EndWish) (building.Ending, string, error) {
	var e building.Ending
	c := expiry.EndChange{Act: w.Act, Of: w.Of, End: w.End}
	var systemID records.SystemID
	if w.Dependent != 0 {
		var err error
		if systemID, err = a.entry(ctx, &w, &c); err != nil {
			return e, "", err
		}
	}
	account, err := a.store.Account(ctx, w.Account)
	switch {
	case err != nil:
		return e, "", err
	case !account.Gone.IsZero():
		return e, "", fmt.Errorf("%w: %s on %s is gone since %s", app.ErrRefused, account.Name, account.System, app.Day(account.Gone))
	}
	if systemID == 0 {
		systemID = account.SystemID
	}
	c.Name, c.ID, c.DN, c.Account = account.Name, account.StableID, account.DN, fmt.Sprint(account.ID)
	system, err := a.store.SystemByID(ctx, systemID)
	if err != nil {
		return e, "", err
	}
	connector, target, err := a.targets.Target(ctx, system)
	if err != nil {
		return e, "", err
	}
	offered := connector.Describe().Ends
	if w.Dependent == 0 && c.Act != expiry.Issue { // of a key, which one has to be said
		offered = slices.DeleteFunc(slices.Clone(offered), func(p expiry.Possible) bool { return p.Of == expiry.Key })
	}
	chosen, err := expiry.Choose(offered, c.Act, c.Of)
	if err != nil {
		return e, "", fmt.Errorf("%w: %s on %s: %w", app.ErrInput, account.Name, system.Name, err)
	}
	c.Of = chosen.Of
	if c.Act == expiry.Issue {
		if err := a.introduced(w, &c); err != nil {
			return e, "", err
		}
	}
	if w.By > 0 || c.Act == expiry.SetEnd || c.Act == expiry.Extend {
		if err := a.lasting(ctx, connector, target, w, &c); err != nil {
			return e, "", err
		}
	}
	c.Gives = c.Gives || c.Act == expiry.Enable
	return building.Ending{SystemID: fmt.Sprint(systemID), System: system.Name, Change: c}, account.Name + " on " + system.Name, nil
}

// entry is what of a change is said by an entry that lets the holder of a key in, or by a key
// at its issuer.
func (a *Amendments) entry(ctx context.Context, w *EndWish, c *expiry.EndChange) (records.SystemID, error) {
	d, err := a.store.Dependent(ctx, w.Dependent)
	switch {
	case err != nil:
		return 0, err
	case d.Kind != estate.DependentAuthorized && d.Kind != estate.DependentIssued || d.Key == nil || !d.Gone.IsZero():
		return 0, fmt.Errorf("%w: %s on %s is a %s: only entries that let the holder of a key in, and keys at their issuer, have an end of their own", app.ErrInput, d.Place, d.System, d.Kind)
	case d.Kind == estate.DependentIssued:
		c.KeyID = d.Key.KeyID
	default:
		c.Path, c.Fingerprint = d.Path, d.Key.Fingerprint
	}
	c.Of, c.Name = expiry.Key, d.Key.Lets
	for _, t := range d.Ties {
		if t.Account == c.Name && t.System == d.System {
			w.Account = t.AccountID
		}
	}
	if w.Account == 0 {
		return 0, fmt.Errorf("%w: whom the entry %s on %s lets in is not known as an account: run a survey of %s", app.ErrRefused, d.Place, d.System, d.System)
	}
	return d.SystemID, nil
}

// introduced reads the certificate of a key that shall be accepted.
func (a *Amendments) introduced(w EndWish, c *expiry.EndChange) error {
	key, err := keys.ReadIntroduced(w.Certificate)
	if err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	c.KeyID, c.End, c.Certificate, c.Gives = key.ID, expiry.At(key.Until), w.Certificate, true
	switch {
	case !key.From.Before(key.Until):
		return fmt.Errorf("%w: the certificate ends (%s) before it begins (%s)", app.ErrInput, key.Until.Format(time.RFC3339), key.From.Format(time.RFC3339))
	case w.Dependent != 0:
		return fmt.Errorf("%w: name the account that shall get the key", app.ErrInput)
	}
	if err := c.Check(a.base.Now()); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	return nil
}

// lasting reads when it ends now: what lasts longer by the change takes a second person.
func (a *Amendments) lasting(ctx context.Context, connector connect.Connector, target connect.Target, w EndWish, c *expiry.EndChange) error {
	now := a.base.Now()
	asked := *c
	if w.By > 0 {
		asked.End = expiry.End{State: expiry.Never}
	}
	if err := asked.Check(now); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	is, failed := connector.Ending(ctx, target, asked)
	known := failed == nil // where it is not, the rehearsal says why
	if !known && w.By > 0 {
		return failed
	}
	if w.By > 0 {
		switch {
		case is.Now.State == expiry.Never:
			return fmt.Errorf("%w: %s never ends: there is nothing to extend", app.ErrInput, c.Thing())
		case is.Now.State != expiry.Ends:
			return fmt.Errorf("%w: when %s ends now is not known (%s): give the end itself", app.ErrInput, c.Thing(), is.Now)
		}
		from := is.Now.At
		if from.Before(now) {
			from = now
		}
		c.End = expiry.At(from.Add(w.By).Truncate(time.Second))
	}
	later := c.End.State == expiry.Never || c.End.At.After(is.Now.At)
	if c.Act == expiry.Extend && known && (is.Now.State == expiry.Never || is.Now.State == expiry.Ends && !later) {
		return fmt.Errorf("%w: %s %s: 'set-end' makes it end earlier", app.ErrInput, c.Thing(), is.Now.Left(now))
	}
	c.Gives = !known || is.Now.State != expiry.Never && later
	return nil
}

// checkEnd asks how the thing of a step stands and tells what every holder will see.
func (a *Amendments) checkEnd(ctx context.Context, step rotation.Step) []connect.Checked {
	account := app.Number[records.AccountID](step.End.Account)
	system, connector, target, err := a.reach(ctx, step)
	var e connect.Ending
	if err == nil {
		e, err = connector.Ending(ctx, target, *step.End)
	}
	line, over := stands(step, e.Standing, err)
	if over {
		return []connect.Checked{line}
	}
	if e.Will.State != "" {
		line.Words += "; then: " + e.Will.String()
	}
	if e.Will.State == expiry.Ends && step.End.End.State == expiry.Ends && !e.Will.At.Equal(step.End.End.At) {
		line.Words += ", for " + system.Name + " keeps whole days only"
	}
	lines := []connect.Checked{line}
	if why := a.lockedOut(ctx, step, target, account); why != "" && step.End.Act.Takes() {
		lines[0].Result, lines[0].Words, lines[0].Next = connect.CheckFailed, why, "give that system another steward first"
		return lines
	}
	if e.Final != "" {
		lines = append(lines, connect.Checked{System: step.System, What: wayBack, Result: connect.CheckWarning, Words: "no: " + e.Final, Next: "disable it, watch, and delete it later"})
	}
	for _, words := range e.Also {
		lines = append(lines, connect.Checked{System: step.System, What: "what else to know", Result: connect.CheckOK, Words: words})
	}
	return append(lines, a.holders(ctx, step, account, e)...)
}

// lockedOut says whether it is the account by which a system is reached.
func (a *Amendments) lockedOut(ctx context.Context, step rotation.Step, target connect.Target, account records.AccountID) string {
	c := step.End
	if step.End.Of != expiry.Key && (strings.EqualFold(c.Name, target.Steward.Account) || c.DN != "" && strings.EqualFold(c.DN, target.Steward.Account)) {
		return "it is the account by which " + step.System + " is reached: we would be locked out"
	}
	links, err := a.store.StewardLinks(ctx, account)
	if err != nil {
		return err.Error()
	}
	for _, link := range links {
		if system, err := a.store.SystemByID(ctx, link.SystemID); err == nil {
			return "it is the account by which " + system.Name + " is reached: we would be locked out"
		}
	}
	return ""
}

// wayBack is what is asked of a change that may be final.
const wayBack = "whether it can be undone"

// mostHolders are told one by one.
const mostHolders = 100

// holders tells what each dependent will see, those that stop first.
func (a *Amendments) holders(ctx context.Context, step rotation.Step, account records.AccountID, e connect.Ending) []connect.Checked {
	if step.End.Act == expiry.Issue {
		return []connect.Checked{{System: step.System, What: "who stops", Result: connect.CheckOK, Words: "nobody: whoever has its private half is let in beside those that are"}}
	}
	if len(e.Sights) == 0 {
		return []connect.Checked{{System: step.System, What: "who stops", Result: connect.CheckOK, Words: "nobody: it goes on being accepted"}}
	}
	list, err := a.dependents(ctx, step, account)
	if err != nil {
		return []connect.Checked{{System: step.System, What: "who uses it", Result: connect.CheckFailed, Words: err.Error()}}
	}
	var lines []connect.Checked
	stop := 0
	for _, d := range list {
		line := connect.Checked{System: d.System, What: string(d.Kind) + " " + d.Place, Result: connect.CheckOK, About: d.Place}
		sight, found := expiry.Seen(e.Sights, expiry.WayOf(d.Kind))
		switch {
		case !found:
			line.Result, line.Words = connect.CheckUnchecked, "how it uses the account is not known: whether it stops is not foretold"
		case sight.Stops:
			stop++
			line.Result, line.Words = connect.CheckWarning, "stops "+sight.When+": "+sight.Words
		default:
			line.Words = sight.When
		}
		if len(d.Readers) > 0 {
			line.Words += "; read by " + few(d.Readers)
		}
		lines = append(lines, line)
	}
	slices.SortStableFunc(lines, func(x, y connect.Checked) int {
		return cmp.Compare(indexOf(x.Result), indexOf(y.Result))
	})
	if more := len(lines) - mostHolders; more > 0 {
		lines = append(lines[:mostHolders], connect.Checked{System: step.System, What: fmt.Sprintf("%d more that use it", more), Result: connect.CheckWarning, Words: "as those above"})
	}
	summary := connect.Checked{System: step.System, What: "who stops", Result: connect.CheckOK, Words: "nothing is known that uses it"}
	if len(list) > 0 {
		summary.Words = fmt.Sprintf("%d of %d that use it", stop, len(list))
	}
	if stop > 0 {
		summary.Result, summary.Next = connect.CheckWarning, "move them to another account first, or rotate and keep them going"
	}
	for _, s := range e.Sights {
		summary.Words += "; " + wayWords(s)
	}
	return append([]connect.Checked{summary}, lines...)
}

func wayWords(s expiry.Sight) string {
	who := map[expiry.Way]string{
		expiry.SignsIn: "who signs in anew", expiry.LogsOn: "a service, task or pool that logs on with it", expiry.RunsUnit: "a unit that runs as it",
		expiry.RunsJob: "a line of its crontab", expiry.OpensKey: "who comes with a key", expiry.Open: "who is signed in already",
	}[s.Way]
	if s.Stops {
		return who + " is refused " + s.When + " (" + s.Words + ")"
	}
	return who + " " + s.When
}

func indexOf(result string) int {
	return slices.Index([]string{connect.CheckFailed, connect.CheckWarning, connect.CheckUnchecked, connect.CheckOK}, result)
}

// dependents are those that a change is about: of an entry, the files that hold its key.
func (a *Amendments) dependents(ctx context.Context, step rotation.Step, account records.AccountID) ([]records.Dependent, error) {
	if step.End.KeyID != "" {
		return a.store.HoldersOfKeyID(ctx, step.End.KeyID)
	}
	if step.End.Of == expiry.Key {
		list, err := a.store.DependentsOfKey(ctx, step.End.Fingerprint)
		return slices.DeleteFunc(list, func(d records.Dependent) bool { return d.Kind != estate.DependentKey }), err
	}
	list, err := a.store.DependentsOfAccount(ctx, account)
	// Who only mentions it does not use it, and where a key is accepted nobody stops: who holds
	// it does.
	return slices.DeleteFunc(list, func(d records.Dependent) bool {
		return d.Kind == estate.DependentAuthorized || d.Kind == estate.DependentIssued || !slices.ContainsFunc(d.Ties, func(t records.Tie) bool {
			return t.AccountID == account && t.Strength != string(estate.StrengthMentions) && t.Strength != string(estate.StrengthAmbiguous)
		})
	}), err
}

// takesTwo: what gives access, or cannot be undone, takes two people; what takes it away for
// now takes one, so that nobody has to wait with it.
func takesTwo(v records.Amendment) bool {
	for _, s := range v.Plan.Steps {
		if s.End == nil || s.End.Gives || s.End.Act == expiry.Delete {
			return true
		}
	}
	return len(v.Plan.Steps) == 0
}

// undoneAlone: what one person did alone a short while ago, one undoes alone: what was in force
// then is so again.
func (a *Amendments) undoneAlone(v records.Amendment) bool {
	return !takesTwo(v) && a.base.Now().Sub(v.Ended) < undoneFor
}

// whatOf says what an amendment is about.
func whatOf(v records.Amendment) string {
	if v.Plan.Kind != rotation.KindEnd && v.Plan.Kind != rotation.KindManage {
		return "change rights of " + v.Subject + " by the charter " + v.Charter
	}
	var words []string
	for _, s := range v.Plan.Steps {
		if s.Kind != rotation.StepConfirm && s.Kind != rotation.StepProve && s.Kind != rotation.StepWatch {
			words = append(words, s.Title())
		}
	}
	return few(words)
}

// findingOf is the kind of a finding about an amendment.
func findingOf(v records.Amendment) string {
	switch v.Plan.Kind {
	case rotation.KindEnd:
		return "end-change"
	case rotation.KindManage:
		return "managed-change"
	}
	return "rights-change"
}
