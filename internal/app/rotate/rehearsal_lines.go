package rotate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/findings"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// searched says of a credential whether every host was searched for it since
// it was taken into custody.
func (rotations *Rotations) searched(ctx context.Context, c records.Credential) ([]connect.Checked, error) {
	value, err := rotations.sealed.Current(ctx, c.ID)
	if err != nil || value == nil || value.RotationID != 0 {
		return nil, err // what a rotation made was put where it stands
	}
	read, err := rotations.store.FilesRead(ctx)
	if err != nil {
		return nil, err
	}
	all, err := rotations.store.AllSystems(ctx)
	if err != nil {
		return nil, err
	}
	var late []string
	for _, v := range all {
		at, was := read[v.ID]
		if estate.Kind(v.Kind) == estate.KindUnixHost && was && v.State == "ok" && at.Before(value.Created) {
			late = append(late, v.Name)
		}
	}
	if len(late) == 0 {
		return nil, nil
	}
	return []connect.Checked{{
		System: c.System, What: "every host was searched for this value", Result: connect.CheckFailed,
		Words: fmt.Sprintf("not since it was taken into custody: %s", strings.Join(late[:min(len(late), 10)], ", ")), Next: "wait for the survey that follows taking custody, or run 'moss survey run'",
	}}, nil
}

// checks are the lines of a rehearsal.
func (rotations *Rotations) checks(ctx context.Context, c records.Credential, plan rotation.Plan) ([]connect.Checked, error) {
	ctx, end := connect.KeepSessions(ctx)
	defer end()
	values, err := rotations.sealed.Values(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	var checks []connect.Checked
	var stays string      // of a key: its current public half, as entries have it
	var a records.Account // whose password it is
	if c.Kind == credential.Password {
		if a, err = rotations.store.Account(ctx, c.AccountID); err != nil {
			return nil, err
		}
		if plan.Turn != nil && plan.UndoOf != 0 {
			if a, values, err = rotations.turnedTo(ctx, plan); err != nil {
				return nil, err
			}
		}
		if plan.Managed {
			if checks, err = rotations.fetchable(ctx, a, plan); err != nil {
				return nil, err
			}
		} else {
			checks = append(checks, rotations.currentValue(ctx, a, values.Current, plan.Kind != rotation.KindAssign))
		}
		if plan.UndoOf == 0 && !plan.Managed {
			lines, err := rotations.searched(ctx, c)
			if err != nil {
				return nil, err
			}
			checks = append(checks, lines...)
		}
	} else {
		var line connect.Checked
		if stays, line = currentKey(c, values.Current); line.Result != connect.CheckOK {
			checks = append(checks, line)
		} else {
			checks = append(checks, rotations.opensDoors(ctx, c, plan, values.Current)...)
		}
	}
	before, err := rotations.certificateBefore(ctx, c, plan)
	if err != nil {
		return nil, err
	}
	checks = append(checks, before...)
	intentions, lines, err := rotations.intentions(ctx, a, plan, values, stays)
	if err != nil {
		return nil, err
	}
	checks = append(append(checks, lines...), rotations.rehearseSystems(ctx, c.System, intentions)...)
	own, err := rotations.ownChecks(ctx, plan)
	if err != nil {
		return nil, err
	}
	checks = append(checks, own...)
	latent, err := rotations.latentAround(ctx, plan)
	if err != nil {
		return nil, err
	}
	checks = append(checks, latent...)
	checks = append(checks, planning.NoteChecks(c.System, plan.Notes)...)
	around, err := rotations.picturedAround(ctx, c, a)
	if err != nil {
		return nil, err
	}
	return tellVerifiers(tellLockout(append(checks, around...), plan, around), plan), ctx.Err()
}

// goesOn are notes of what runs on with the old value after a change.
var goesOn = []rotation.NoteKind{rotation.NoteLatent, rotation.NoteUnexplained, rotation.NoteLeft, rotation.NoteByHand, rotation.NoteDoubtful, rotation.NoteIrreplaceable}

// tellLockout names who would go on with the old value where wrong passwords lock the
// account: one program that was forgotten, and tries again every minute, locks it for all.
func tellLockout(checks []connect.Checked, plan rotation.Plan, around []connect.Checked) []connect.Checked {
	var who []string
	for _, n := range plan.Notes {
		if slices.Contains(goesOn, n.Kind) {
			who = append(who, n.Text)
		}
	}
	for _, c := range around {
		if c.Result == connect.CheckWarning {
			who = append(who, c.Words)
		}
	}
	at := slices.IndexFunc(checks, func(c connect.Checked) bool { return c.About == connect.AboutLockout })
	if at < 0 || len(who) == 0 || checks[at].Result == connect.CheckFailed {
		return checks
	}
	checks[at].Result = connect.CheckWarning
	checks[at].Words += fmt.Sprintf("; %d may go on with the old value: %s", len(who), strings.Join(who, "; "))
	checks[at].Next = "stop them first, or take them into the plan (--stop-first stops what is in it until it has the new value): what tries the old value again and again after the change locks the account for everybody"
	return checks
}

// tellVerifiers fails what ends the kind of verifier that a pooler has instead of the
// password: with one of the old kind it signs in to nothing that keeps the new kind.
func tellVerifiers(checks []connect.Checked, plan rotation.Plan) []connect.Checked {
	var where []string
	for _, s := range plan.Steps {
		if slices.ContainsFunc(s.Places, func(l held.Locator) bool { return l.Part == held.PartVerifier }) {
			where = append(where, s.Subject+" on "+s.System)
		}
	}
	at := slices.IndexFunc(checks, func(c connect.Checked) bool { return c.About == connect.AboutVerifier })
	if at < 0 || len(where) == 0 {
		return checks
	}
	checks[at].Result = connect.CheckFailed
	checks[at].Words += "; and " + strings.Join(where, ", ") + " holds an md5 verifier in place of the password, with which nothing can sign in then"
	checks[at].Next = "set the option verifier=keep of this system, or put the password itself there"
	return checks
}

// intentions are what a plan would do, by system, and what can be said of that
// without asking there.
func (rotations *Rotations) intentions(ctx context.Context, a records.Account, plan rotation.Plan, values sealed.Values, stays string) (_ map[string][]connect.Intention, checks []connect.Checked, err error) {
	change, of, err := rotations.changeOf(ctx, a, plan)
	if err != nil {
		return nil, nil, err
	}
	change.Current = values.Current
	intentions := map[string][]connect.Intention{}
	stops := map[string][]rotation.Place{}
	var like secret.Value // the new value, or one like it
	for _, s := range plan.Steps {
		if s.Kind == rotation.StepStop {
			stops[s.System] = append(stops[s.System], s.At())
		}
		if s.Kind == rotation.StepSeal && a.ID != 0 {
			var line connect.Checked
			line, like = rotations.rulesCheck(ctx, of, plan)
			checks = append(checks, line)
		}
	}
	if plan.UndoOf != 0 {
		like = secret.Value{}
	}
	for _, s := range plan.Steps {
		switch {
		case s.Kind == rotation.StepStop && plan.UndoOf == 0:
			intentions[s.System] = append(intentions[s.System], connect.Intention{Stop: s.At(), Along: stops[s.System]})
		case s.Kind == rotation.StepChange && s.Door != nil && s.Door.Certifies:
			if plan.UndoOf == 0 {
				intentions[s.System] = append(intentions[s.System], connect.Intention{Certify: strings.Split(s.Door.Names, ", ")})
			}
		case s.Kind == rotation.StepChange && s.Door != nil:
			if stays == "" {
				continue // not in custody: that is told
			}
			intentions[s.System] = append(intentions[s.System], connect.Intention{Entries: &connect.EntryChange{Path: s.Subject, Stays: stays}})
		case s.Kind == rotation.StepChange:
			intentions[s.System] = append(intentions[s.System], change)
		case s.Kind == rotation.StepReplace:
			in := connect.Intention{Replace: s.Subject, Places: acts.Facing(s.Places, plan.UndoOf != 0), Current: values.Current, Next: like}
			if s.Holds != "" {
				if in.Current, err = rotations.sealed.Value(values, s.Holds); err != nil {
					return nil, nil, err
				}
			}
			intentions[s.System] = append(intentions[s.System], in)
		case s.Kind == rotation.StepLogOn:
			change := &connect.LogOnChange{Place: s.At(), Was: s.LogOn.Was, Account: s.LogOn.Account}
			if plan.UndoOf != 0 {
				change.Was, change.Account = change.Account, s.LogOn.Former()
			}
			intentions[s.System] = append(intentions[s.System], connect.Intention{LogOn: change, Current: values.Current})
			if line, told := rotations.formerLogOn(ctx, s); told {
				checks = append(checks, line)
			}
		case s.Kind == rotation.StepRestart:
			intentions[s.System] = append(intentions[s.System], connect.Intention{Restart: s.At(), Reload: s.Reload, Along: s.Along})
		}
	}
	return intentions, checks, nil
}

// rehearseSystems asks each system once, all at the same time. The lines come in
// the order of names, the authority's first.
func (rotations *Rotations) rehearseSystems(ctx context.Context, authority string, intentions map[string][]connect.Intention) []connect.Checked {
	var lock sync.Mutex
	var all sync.WaitGroup
	slots := make(chan struct{}, rotations.atOnce)
	answers := map[string][]connect.Checked{}
	for name, list := range intentions {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			lines := rotations.rehearseSystem(ctx, name, list)
			lock.Lock()
			defer lock.Unlock()
			answers[name] = lines
		}()
	}
	all.Wait()
	names := make([]string, 0, len(answers))
	for name := range answers {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool {
		return names[i] == authority || names[j] != authority && names[i] < names[j]
	})
	var checks []connect.Checked
	for _, name := range names {
		checks = append(checks, answers[name]...)
	}
	return checks
}

// picturedAround is what the picture leaves open.
func (rotations *Rotations) picturedAround(ctx context.Context, c records.Credential, a records.Account) (checks []connect.Checked, err error) {
	var unexplained []records.Finding
	if c.Kind == credential.Password {
		if unexplained, err = rotations.store.FindingsOf(ctx, a.ID, "unexplained-client"); err != nil {
			return nil, err
		}
	}
	for _, f := range unexplained {
		checks = append(checks, connect.Checked{System: f.System, What: "everybody who signs in as it is explained", Result: connect.CheckWarning, Words: f.What, Next: f.Next})
	}
	incomplete, err := rotations.picture.Incomplete(ctx)
	if err != nil {
		return nil, err
	}
	for _, i := range incomplete {
		checks = append(checks, connect.Checked{System: i.System, What: unreadCheck, Result: connect.CheckUnchecked, Words: "not read completely: " + i.Why, Next: "the picture is incomplete: something there may use the account"})
	}
	return checks, nil
}

func (rotations *Rotations) currentValue(ctx context.Context, a records.Account, current secret.Value, changes bool) connect.Checked {
	line := connect.Checked{System: a.System, What: "sign in as " + a.Name + " with the sealed value", Result: connect.CheckFailed}
	if current.Empty() {
		line.Words, line.Next = "the account is not in custody", "take it with 'moss custody take "+a.Name+"'"
		return line
	}
	connector, target, err := rotations.inventory.Authority(ctx, a)
	if err == nil {
		var verdict connect.Verdict
		if verdict, err = connector.Verify(ctx, target, inventory.RefOf(a), current); err == nil {
			if verdict.Accepted {
				line.Result, line.Words = connect.CheckOK, verdict.Words
			} else if changes && (verdict.Code == connect.VerdictExpired || verdict.Code == connect.VerdictMustChange) {
				// The value is right; changing it is what ends its expiry.
				line.Result, line.Words, line.Next = connect.CheckWarning, "the value is right but the password has expired: "+verdict.Words, "the rotation sets a new one"
			} else {
				line.Words, line.Next = verdict.Words, custody.DriftNext(verdict.Code, a.Name)
			}
			return line
		}
	}
	line.Words = err.Error()
	return line
}

// fetchable asks whether the hosts of a plan can fetch the password of a managed account: what is
// missing there keeps a dependent from starting.
func (rotations *Rotations) fetchable(ctx context.Context, a records.Account, plan rotation.Plan) ([]connect.Checked, error) {
	var hosts []string
	for _, s := range plan.Steps {
		if s.Kind == rotation.StepLogOn && plan.UndoOf == 0 && !slices.Contains(hosts, s.System) {
			hosts = append(hosts, s.System)
		}
	}
	if len(hosts) == 0 {
		return nil, nil // what goes back does not need it
	}
	lines, err := rotations.usable(ctx, a, hosts)
	if err != nil && ctx.Err() == nil {
		line := connect.Checked{System: a.System, What: "hosts can fetch the password of " + a.Name, Result: connect.CheckFailed, Words: err.Error()}
		var failure *connect.Failure
		if errors.As(err, &failure) {
			line.Words, line.Next = string(failure.Stage)+": "+failure.Words, failure.Next
		}
		return []connect.Checked{line}, nil
	}
	return lines, err
}

// ownChecks makes the applications' own checks now: one that fails already would
// ruin a rotation, and its undoing.
func (rotations *Rotations) ownChecks(ctx context.Context, plan rotation.Plan) ([]connect.Checked, error) {
	var out []connect.Checked
	for _, s := range plan.Steps {
		if s.Check == nil || s.Kind != rotation.StepProve && s.Kind != rotation.StepRevive {
			continue
		}
		line := connect.Checked{System: s.System, What: fmt.Sprintf("%s passes its own check (%s %s)", s.Subject, s.Check.Kind, s.Check.Target), Result: connect.CheckOK}
		connector, target, err := rotations.acts.Able(ctx, s, connect.ActRestart)
		if err == nil {
			var state connect.UnitState
			if state, err = connector.UnitState(ctx, target, s.At()); err == nil && state.Active != "active" && state.Active != "running" {
				line.Result, line.Words = connect.CheckUnchecked, "it is "+state.Active+" now"
				out = append(out, line)
				continue
			}
		}
		if err == nil {
			line.Words, err = rotations.acts.CheckOnce(ctx, s, target)
		}
		if err != nil {
			line.Result, line.Words = connect.CheckFailed, rotations.base.Redact(ctx, err.Error())
			line.Next = "mend the application or the check first: it would fail after the restart as well, and after undoing"
		}
		out = append(out, line)
	}
	return out, ctx.Err()
}

// rulesCheck says which rules the new password will obey, and whether one can be made that
// does; or whether the one that a person gave does. It returns that value, or one like the
// one that will be made.
func (rotations *Rotations) rulesCheck(ctx context.Context, a records.Account, plan rotation.Plan) (line connect.Checked, like secret.Value) {
	line = connect.Checked{System: a.System, What: "the rules for a new password are known", Result: connect.CheckOK}
	rules, err := rotations.custody.PasswordRules(ctx, a)
	switch {
	case err != nil:
		line.Result, line.Words = connect.CheckUnchecked, err.Error()
	case rules.Shortest > 256:
		line.Result, line.Words = connect.CheckFailed, fmt.Sprintf("at least %d characters (%s): more than can be made", rules.Shortest, rules.From)
	case rules.Longest > 0 && rules.Longest < 12:
		line.Result, line.Words = connect.CheckFailed, fmt.Sprintf("at most %d characters (%s): fewer than are safe", rules.Longest, rules.From)
	case rules.Unknown != "":
		line.Result, line.Words, line.Next = connect.CheckUnchecked, rules.Unknown, "if it is refused, nothing has changed yet: the rotation ends there"
	default:
		line.Words = cmp.Or(rules.From, "no rule is in force")
	}
	if line.Result == connect.CheckFailed {
		return line, like
	}
	if plan.Given != "" {
		return rotations.givenCheck(ctx, line, rules, plan)
	}
	policy, err := credential.Wanted{Shortest: rules.Shortest, Longest: rules.Longest, Length: plan.Length, Without: plan.Without, Limits: plan.Limits}.PasswordPolicy()
	if err == nil {
		like, err = policy.Generate(rotations.base.Random)
	}
	if err != nil {
		line.Result, line.Words = connect.CheckFailed, strings.TrimPrefix(err.Error()+"; "+line.Words, "; ")
		line.Next = "ask for another length or other characters, with the policy, the rotation or the holder (moss dependent limit) that asks for them"
		return line, like
	}
	for _, l := range plan.Limits {
		line.Words += "; " + l.String()
	}
	line.Words += fmt.Sprintf("; the new one has %d characters, about %d bits", policy.Length, policy.Bits())
	return line, like
}

// givenCheck holds a value that a person gave against the rules of the authority.
func (rotations *Rotations) givenCheck(ctx context.Context, line connect.Checked, rules connect.PasswordRules, plan rotation.Plan) (connect.Checked, secret.Value) {
	value, err := rotations.sealed.Given(ctx, app.Number[records.CredentialID](plan.CredentialID), plan.Given)
	n := utf8.RuneCountInString(value.RevealString())
	refused := ""
	for _, l := range plan.Limits {
		refused = cmp.Or(refused, l.Refuses(value))
	}
	switch {
	case err != nil:
		line.Result, line.Words = connect.CheckFailed, err.Error()
	case refused != "":
		line.Result, line.Words, line.Next = connect.CheckFailed, "the value that was given: "+refused, "give another one"
	case n < rules.Shortest || rules.Longest > 0 && n > rules.Longest:
		line.Result, line.Words, line.Next = connect.CheckFailed, fmt.Sprintf("the value that was given has %d characters; %s", n, line.Words), "give another one"
	default:
		line.Words += fmt.Sprintf("; the one that was given has %d characters", n)
	}
	return line, value
}

func (rotations *Rotations) rehearseSystem(ctx context.Context, name string, list []connect.Intention) []connect.Checked {
	failed := func(words string) []connect.Checked {
		return []connect.Checked{{System: name, What: "reach the system", Result: connect.CheckFailed, Words: words}}
	}
	v, err := rotations.store.System(ctx, name)
	if err != nil {
		return failed(err.Error())
	}
	connector, target, err := rotations.inventory.Target(ctx, v)
	if err != nil {
		return failed(err.Error())
	}
	limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	lines := connector.Rehearse(limited, target, list)
	app.RedactAll(rotations.base.Redactor(ctx), &lines)
	return lines
}

// formerLogOn warns when a log-on could not be given back.
func (rotations *Rotations) formerLogOn(ctx context.Context, s rotation.Step) (connect.Checked, bool) {
	if s.LogOn.WasID == "" {
		return connect.Checked{}, false
	}
	value, err := rotations.acts.PasswordOf(ctx, app.Number[records.AccountID](s.LogOn.WasID))
	if err == nil && !value.Empty() {
		return connect.Checked{}, false
	}
	return connect.Checked{System: s.System, What: "undo of the log-on of " + s.Subject, Result: connect.CheckWarning, Words: s.LogOn.Was + " is not in custody: its password could not be given back", Next: "take it into custody first, or accept that undoing this needs a person"}, true
}

// latentAround warns of what a restart would break although this rotation does
// not touch it: it comes back with what it has stored.
func (rotations *Rotations) latentAround(ctx context.Context, plan rotation.Plan) ([]connect.Checked, error) {
	var out []connect.Checked
	for _, s := range plan.Steps {
		if s.Kind != rotation.StepRevive {
			continue
		}
		own := slices.ContainsFunc(plan.Steps, func(other rotation.Step) bool {
			return other.Kind == rotation.StepLogOn && other.SystemID == s.SystemID && other.At() == s.At()
		})
		if own {
			continue
		}
		found, err := rotations.store.Findings(ctx, false, records.Query{Filters: []string{"kind=" + findings.KindLatent, "system=" + s.System, "subject=" + s.Subject}, Limit: 1})
		if err != nil {
			return nil, err
		}
		for _, f := range found.Items {
			out = append(out, connect.Checked{System: s.System, What: s.Subject + " comes back when what it needs is restarted", Result: connect.CheckFailed, Words: f.What, Next: "repair it first: " + f.Next})
		}
	}
	return out, nil
}
