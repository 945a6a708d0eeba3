package operate

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// RehearsalAge is how long a rehearsal that passed allows a rotation.
const RehearsalAge = time.Hour

// Wish is what a person asks of a rotation.
type Wish struct {
	Policy    rotation.Policy
	When      rotation.RestartPolicy // now when empty
	NotBefore time.Time              // of the window
	NotAfter  time.Time
	// Assign names dependents that shall log on as the account with its
	// current value; none means that the credential itself changes everywhere.
	Assign []int64
	// Start also brings up what is down although it starts by itself.
	Start bool
}

func (o *Operator) checkWish(w *Wish) error {
	switch w.Policy {
	case rotation.PolicyStop, rotation.PolicyContinue, rotation.PolicyUndo:
	default:
		return fmt.Errorf("%w: unknown policy %q (stop, continue or undo)", ErrInput, w.Policy)
	}
	if w.When == "" {
		w.When = rotation.RestartNow
	}
	switch w.When {
	case rotation.RestartNow, rotation.RestartLeave:
		w.NotBefore, w.NotAfter = time.Time{}, time.Time{}
	case rotation.RestartWindow:
		if w.NotBefore.IsZero() || !w.NotAfter.After(w.NotBefore) {
			return fmt.Errorf("%w: a window needs a beginning and an end after it", ErrInput)
		}
		// In the form in which it comes back from the store.
		w.NotBefore, w.NotAfter = w.NotBefore.UTC().Truncate(time.Second), w.NotAfter.UTC().Truncate(time.Second)
		if o.Now().After(w.NotAfter) {
			return fmt.Errorf("%w: the window ended at %s", ErrInput, w.NotAfter.UTC().Format(time.RFC3339))
		}
	default:
		return fmt.Errorf("%w: unknown time for restarts %q (now, window or leave)", ErrInput, w.When)
	}
	return nil
}

// planner gathers what a plan is built from.
type planner struct {
	*Operator
	account store.Account
	wish    Wish
	input   rotation.Input
	notes   []string
	files   map[string]*rotation.File // by system and path
	logOns  map[string]bool           // by system, kind and place
	systems map[int64]bool
}

// plan builds the plan of a rotation or an assignment from the picture.
func (o *Operator) plan(ctx context.Context, a store.Account, wish Wish) (rotation.Plan, error) {
	if err := o.checkWish(&wish); err != nil {
		return rotation.Plan{}, err
	}
	o.settled(ctx)
	if err := o.placeAround(ctx, a, wish.Assign); err != nil {
		return rotation.Plan{}, err
	}
	p := &planner{
		Operator: o, account: a, wish: wish, files: map[string]*rotation.File{}, logOns: map[string]bool{}, systems: map[int64]bool{},
		input: rotation.Input{
			AccountID: strconv.FormatInt(a.ID, 10), Account: a.Name, AuthorityID: strconv.FormatInt(a.SystemID, 10), Authority: a.System, Policy: wish.Policy,
			When: wish.When, NotBefore: wish.NotBefore, NotAfter: wish.NotAfter,
		},
	}
	var err error
	if len(wish.Assign) > 0 {
		p.input.Kind = rotation.KindAssign
		err = p.chosen(ctx)
	} else {
		err = p.tied(ctx)
	}
	if err != nil {
		return rotation.Plan{}, err
	}
	for _, f := range p.files {
		p.input.Files = append(p.input.Files, *f)
	}
	for id := range p.systems {
		if err := p.units(ctx, id); err != nil {
			return rotation.Plan{}, err
		}
	}
	plan := rotation.Build(p.input)
	sort.Strings(p.notes)
	plan.Notes = append(plan.Notes, p.notes...)
	return plan, nil
}

func (p *planner) note(format string, args ...any) {
	p.notes = append(p.notes, fmt.Sprintf(format, args...))
}

// tied gathers everything that is tied to the account.
func (p *planner) tied(ctx context.Context) error {
	tied, err := p.Store.DependentsOfAccount(ctx, p.account.ID)
	if err != nil {
		return err
	}
	var runsAs []store.Dependent
	for _, d := range tied {
		strength := strengthFor(d, p.account.ID)
		switch {
		case d.Copy != nil && strength == string(estate.StrengthMatches):
			p.file(d, "")
		case d.Copy != nil && strength == string(estate.StrengthAmbiguous):
			p.notes = append(p.notes, ambiguousNote(d))
		case d.Copy != nil && strength == string(estate.StrengthReused):
			p.note("%s on %s holds the same value beside another account: it is left alone", d.Place, d.System)
		case d.Copy != nil:
			p.note("%s on %s is left alone: %s", d.Place, d.System, detailFor(d, p.account.ID))
		case d.Kind.LogsOn() && strength == string(estate.StrengthRunsAs):
			if d.Stores {
				spelled, err := p.respelled(ctx, d)
				if err != nil {
					return err
				}
				p.logOn(d, spelled, "", false)
			} else {
				p.note("the %s %s on %s runs as the account without a stored password: nothing to change there", d.Kind, d.Place, d.System)
			}
		case d.Kind == estate.DependentUnit && strength == string(estate.StrengthRunsAs):
			runsAs = append(runsAs, d)
			for _, t := range d.Ties {
				if t.AccountID == p.account.ID && t.Strength == string(estate.StrengthUnreadable) {
					p.note("%s on %s: %s", d.Name, d.System, t.Detail)
				}
			}
		case d.Kind == estate.DependentCron:
			runsAs = append(runsAs, d)
		}
	}
	for _, d := range runsAs {
		reads := false
		for _, path := range d.Uses {
			reads = reads || p.files[d.System+"\x00"+path] != nil
		}
		if !reads {
			p.note("%s on %s runs as the account without its password: nothing to change there", d.Place, d.System)
		}
	}
	return nil
}

func (p *planner) file(d store.Dependent, holds string) {
	key := d.System + "\x00" + d.Path
	if p.files[key] == nil {
		p.files[key] = &rotation.File{SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Path: d.Path, Holds: holds}
	}
	p.files[key].Places = append(p.files[key].Places, locatorOf(d))
	p.systems[d.SystemID] = true
}

func (p *planner) logOn(d store.Dependent, account, wasID string, moved bool) {
	p.input.LogOns = append(p.input.LogOns, rotation.LogOn{SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Place: d.At(), Account: account, Was: d.RunsAs, WasID: wasID, Moved: moved})
	p.logOns[logOnKey(d)] = true
	p.systems[d.SystemID] = true
}

func logOnKey(d store.Dependent) string {
	return d.System + "\x00" + string(d.Kind) + "\x00" + d.Place
}

// chosen gathers the dependents that an assignment names.
func (p *planner) chosen(ctx context.Context) error {
	spelling, err := p.spelling(ctx)
	if err != nil {
		return err
	}
	seen := map[int64]bool{}
	for _, id := range p.wish.Assign {
		if seen[id] {
			continue
		}
		seen[id] = true
		d, err := p.Store.Dependent(ctx, id)
		if err != nil {
			return err
		}
		if !d.Gone.IsZero() {
			return fmt.Errorf("%w: %s on %s is no longer there", ErrInput, d.Place, d.System)
		}
		switch {
		case d.Kind.LogsOn():
			if err := p.assign(d, spelling); err != nil {
				return err
			}
		case d.Copy != nil && strengthFor(d, p.account.ID) == string(estate.StrengthDiffers):
			owned, err := p.Store.Secrets(ctx, p.account.ID)
			if err != nil {
				return err
			}
			known := slices.ContainsFunc(owned, func(s store.Secret) bool { return s.Fingerprint == d.Copy.Fingerprint })
			if !known {
				return fmt.Errorf("%w: %s on %s holds a value that %s never had here: replacing it would lose something unknown", ErrRefused, d.Place, d.System, p.account.Name)
			}
			p.file(d, d.Copy.Fingerprint)
		default:
			return fmt.Errorf("%w: %s on %s is a %s: only services, tasks, application pools, and copies that hold an earlier value of the account can be given it", ErrInput, d.Place, d.System, d.Kind)
		}
	}
	return nil
}

func (p *planner) assign(d store.Dependent, spelling string) error {
	if p.account.Kind != string(estate.KindDirectory) && p.account.SystemID != d.SystemID {
		return fmt.Errorf("%w: %s is a local account of %s: %s on %s cannot log on as it", ErrInput, p.account.Name, p.account.System, d.Place, d.System)
	}
	for _, t := range d.Ties {
		if t.Strength == string(estate.StrengthRunsAs) && t.AccountID != p.account.ID {
			p.logOn(d, spelling, strconv.FormatInt(t.AccountID, 10), true)
			return nil
		}
		if t.Strength == string(estate.StrengthRunsAs) {
			p.logOn(d, keptSpelling(d.RunsAs, spelling), "", false)
			return nil
		}
	}
	p.logOn(d, spelling, "", true)
	return nil
}

// keptSpelling keeps how a log-on is written, unless that says nothing outside
// of its host: a bare name or a SID is written in full.
func keptSpelling(written, full string) string {
	ref, err := naming.Parse(written)
	if err != nil || ref.Form == naming.FormName || ref.Form == naming.FormSID {
		return full
	}
	return written
}

func (p *planner) respelled(ctx context.Context, d store.Dependent) (string, error) {
	if kept := keptSpelling(d.RunsAs, ""); kept != "" {
		return kept, nil
	}
	return p.spelling(ctx)
}

// spelling is how hosts are told the account: with its domain before it.
func (p *planner) spelling(ctx context.Context) (string, error) {
	if p.account.Kind != string(estate.KindDirectory) {
		return `.\` + p.account.Name, nil
	}
	domains, err := p.Store.DomainsOf(ctx)
	if err != nil {
		return "", err
	}
	for _, d := range domains[p.account.SystemID] {
		if !strings.Contains(d, ".") {
			return d + `\` + p.account.Name, nil
		}
	}
	if p.account.UPN != "" {
		return p.account.UPN, nil
	}
	return "", fmt.Errorf("%w: %s is in a directory without the Windows-domain schema: hosts cannot log on as it", ErrInput, p.account.Name)
}

// placeAround derives the ties of an account's systems again: a rotation may
// have replaced copies since they were last derived.
func (o *Operator) placeAround(ctx context.Context, a store.Account, more []int64) error {
	tied, err := o.Store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return err
	}
	for _, id := range more {
		d, err := o.Store.Dependent(ctx, id)
		if err != nil {
			return err
		}
		tied = append(tied, d)
	}
	seen := map[string]bool{}
	var systems []store.System
	for _, d := range tied {
		if seen[d.System] {
			continue
		}
		seen[d.System] = true
		v, err := o.Store.System(ctx, d.System)
		if err != nil {
			return err
		}
		systems = append(systems, v)
	}
	return o.Place(ctx, systems)
}

// ambiguousNote begins with a word that checks look for.
func ambiguousNote(d store.Dependent) string {
	return fmt.Sprintf("ambiguous: %s on %s holds the current value, but does not say whose it is", d.Place, d.System)
}

func detailFor(d store.Dependent, account int64) string {
	for _, t := range d.Ties {
		if t.AccountID == account {
			return t.Detail
		}
	}
	return ""
}

func strengthFor(d store.Dependent, account int64) string {
	for _, t := range d.Ties {
		if t.AccountID == account {
			return t.Strength
		}
	}
	return ""
}

func locatorOf(d store.Dependent) held.Locator {
	return held.Locator{Layout: held.Layout(d.Copy.Format), Key: d.Copy.Key, Nth: d.Copy.Nth, Part: held.Part(d.Copy.Part)}
}

// units finds what runs on a system and uses any of what is replaced, or
// stands and falls with something that does.
func (p *planner) units(ctx context.Context, system int64) error {
	all, err := p.Store.DependentsOfSystem(ctx, system)
	if err != nil {
		return err
	}
	for _, d := range all {
		var reads []string
		for _, path := range d.Uses {
			if p.files[d.System+"\x00"+path] != nil {
				reads = append(reads, path)
			}
		}
		u := rotation.Unit{
			SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Kind: d.Kind, Name: d.Place, Reads: reads, After: d.After, Requires: d.Requires, Check: d.Check,
			Running: d.Up() || d.Kind == estate.DependentUnit && d.State == "failed", Start: p.wish.Start && !d.Up() && d.ByItself(),
		}
		changed := len(reads) > 0 || p.logOns[logOnKey(d)]
		switch {
		case d.Kind.Runs() && (changed || (u.Running || u.Start) && len(d.Requires) > 0):
			p.input.Units = append(p.input.Units, u)
		case d.Kind == estate.DependentTask && changed:
			p.note("the task %s on %s uses what is stored at each run: nothing to restart", d.Place, d.System)
		case len(reads) > 0:
			p.note("%s on %s reads the copy at each run: nothing to restart", d.Place, d.System)
		}
	}
	return nil
}

// Rehearse checks everything about a rotation that can be checked without
// changing anything.
func (o *Operator) Rehearse(ctx context.Context, by string, a store.Account, wish Wish) (store.Rehearsal, error) {
	if err := o.notRotating(ctx, a); err != nil {
		return store.Rehearsal{}, err
	}
	plan, err := o.plan(ctx, a, wish)
	if err != nil {
		return store.Rehearsal{}, err
	}
	v := store.Rehearsal{AccountID: a.ID, CreatedBy: by, Plan: plan}
	entry := ledger.Entry{Actor: by, Act: "rotation.rehearse", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = o.act(ctx, entry, func() error {
		v.Checks, err = o.checks(ctx, a, plan, wish)
		return err
	})
	if err != nil {
		return v, err
	}
	v.Verdict = "passed"
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			v.Verdict = "failed"
		}
	}
	return v, o.Store.SaveRehearsal(context.WithoutCancel(ctx), &v)
}

func (o *Operator) checks(ctx context.Context, a store.Account, plan rotation.Plan, wish Wish) ([]connect.Checked, error) {
	values, err := o.values(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	checks := []connect.Checked{o.currentValue(ctx, a, values.current, plan.Kind != rotation.KindAssign)}
	// Each system is asked once, all at the same time.
	intentions := map[string][]connect.Intention{}
	for _, s := range plan.Steps {
		switch s.Kind {
		case rotation.StepChange:
			ref := refOf(a)
			intentions[s.System] = append(intentions[s.System], connect.Intention{Change: &ref, Current: values.current})
		case rotation.StepReplace:
			in := connect.Intention{Replace: s.Subject, Places: s.Places, Current: values.current}
			if s.Holds != "" {
				if in.Current, err = o.valueOf(values, s.Holds); err != nil {
					return nil, err
				}
			}
			intentions[s.System] = append(intentions[s.System], in)
		case rotation.StepLogOn:
			intentions[s.System] = append(intentions[s.System], connect.Intention{LogOn: &connect.LogOnChange{Place: s.At(), Was: s.LogOn.Was, Account: s.LogOn.Account}, Current: values.current})
			if line, told := o.formerLogOn(ctx, s); told {
				checks = append(checks, line)
			}
		case rotation.StepRestart:
			intentions[s.System] = append(intentions[s.System], connect.Intention{Restart: s.At(), Along: s.Along})
		}
	}
	var lock sync.Mutex
	var all sync.WaitGroup
	slots := make(chan struct{}, o.Parallel)
	answers := map[string][]connect.Checked{}
	for name, list := range intentions {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			lines := o.rehearseSystem(ctx, name, list)
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
		return names[i] == a.System || names[j] != a.System && names[i] < names[j]
	})
	for _, name := range names {
		checks = append(checks, answers[name]...)
	}
	latent, err := o.latentAround(ctx, plan)
	if err != nil {
		return nil, err
	}
	checks = append(checks, latent...)
	for _, note := range plan.Notes {
		if text, found := strings.CutPrefix(note, "latent: "); found {
			checks = append(checks, connect.Checked{System: a.System, What: "everything runs with the new value afterwards", Result: connect.CheckWarning, Words: text, Next: "this is a latent breakage from then on: it is listed under findings until the restart"})
		}
		if strings.HasPrefix(note, "ambiguous: ") {
			checks = append(checks, connect.Checked{System: a.System, What: "every copy belongs to one account", Result: connect.CheckFailed, Words: strings.TrimPrefix(note, "ambiguous: "), Next: "write the account's name beside it, or give the other account a password of its own first"})
		}
	}
	for _, note := range plan.Notes {
		if strings.Contains(note, " is left alone: ") {
			checks = append(checks, connect.Checked{System: a.System, What: "every copy that names the account is the current value", Result: connect.CheckWarning, Words: note, Next: "if something still reads it, it is refused already, or the picture is old: survey that system"})
		}
	}
	incomplete, err := o.Incomplete(ctx)
	if err != nil {
		return nil, err
	}
	for _, i := range incomplete {
		checks = append(checks, connect.Checked{System: i.System, What: "dependents on this system", Result: connect.CheckUnchecked, Words: "not read completely: " + i.Why, Next: "the picture is incomplete: something there may use the account"})
	}
	return checks, ctx.Err()
}

func (o *Operator) currentValue(ctx context.Context, a store.Account, current secret.Value, changes bool) connect.Checked {
	line := connect.Checked{System: a.System, What: "sign in as " + a.Name + " with the sealed value", Result: connect.CheckFailed}
	if current.Empty() {
		line.Words, line.Next = "the account is not in custody", "take it with 'moss custody take "+a.Name+"'"
		return line
	}
	_, target, verifier, err := o.authority(ctx, a)
	if err == nil {
		var verdict connect.Verdict
		if verdict, err = verifier.Verify(ctx, target, refOf(a), current); err == nil {
			if verdict.Accepted {
				line.Result, line.Words = connect.CheckOK, verdict.Words
			} else if changes && (verdict.Code == connect.VerdictExpired || verdict.Code == connect.VerdictMustChange) {
				// The value is right; changing it is what ends its expiry.
				line.Result, line.Words, line.Next = connect.CheckWarning, "the value is right but the password has expired: "+verdict.Words, "the rotation sets a new one"
			} else {
				line.Words, line.Next = verdict.Words, driftNext(verdict.Code, a.Name)
			}
			return line
		}
	}
	line.Words = err.Error()
	return line
}

func (o *Operator) rehearseSystem(ctx context.Context, name string, list []connect.Intention) []connect.Checked {
	failed := func(words string) []connect.Checked {
		return []connect.Checked{{System: name, What: "reach the system", Result: connect.CheckFailed, Words: words}}
	}
	v, err := o.Store.System(ctx, name)
	if err != nil {
		return failed(err.Error())
	}
	connector, target, err := o.target(ctx, v)
	if err != nil {
		return failed(err.Error())
	}
	rehearser, ok := connector.(connect.Rehearser)
	if !ok {
		return []connect.Checked{{System: name, What: "everything on this system", Result: connect.CheckUnchecked, Words: "systems of this kind cannot be rehearsed"}}
	}
	limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	return rehearser.Rehearse(limited, target, list)
}

// formerLogOn warns when a log-on could not be given back.
func (o *Operator) formerLogOn(ctx context.Context, s rotation.Step) (connect.Checked, bool) {
	if s.LogOn.WasID == "" {
		return connect.Checked{}, false
	}
	values, err := o.values(ctx, number(s.LogOn.WasID))
	if err == nil && !values.current.Empty() {
		return connect.Checked{}, false
	}
	return connect.Checked{System: s.System, What: "undo of the log-on of " + s.Subject, Result: connect.CheckWarning, Words: s.LogOn.Was + " is not in custody: its password could not be given back", Next: "take it into custody first, or accept that undoing this needs a person"}, true
}

// latentAround warns of what a restart would break although this rotation does
// not touch it: it comes back with what it has stored.
func (o *Operator) latentAround(ctx context.Context, plan rotation.Plan) ([]connect.Checked, error) {
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
		found, err := o.Store.Findings(ctx, false, store.Query{Filters: []string{"kind=" + kindLatent, "system=" + s.System, "subject=" + s.Subject}, Limit: 1})
		if err != nil {
			return nil, err
		}
		for _, f := range found.Items {
			out = append(out, connect.Checked{System: s.System, What: s.Subject + " comes back when what it needs is restarted", Result: connect.CheckFailed, Words: f.What, Next: "repair it first: " + f.Next})
		}
	}
	return out, nil
}

// Incomplete is a system whose dependents are not all known.
type Incomplete struct {
	System string    `json:"system"`
	Why    string    `json:"why"`
	Since  time.Time `json:"since,omitzero" doc:"Last complete reading; absent when there was none"`
}

// Incomplete lists the systems that keep the picture from being complete.
func (o *Operator) Incomplete(ctx context.Context) ([]Incomplete, error) {
	systems, err := o.Store.AllSystems(ctx)
	out := []Incomplete{}
	for _, v := range systems {
		if v.State == "ok" && !v.Complete.IsZero() {
			continue
		}
		why := v.StateWords
		if v.Visited.IsZero() && why == "" {
			why = "never surveyed"
		}
		out = append(out, Incomplete{System: v.Name, Why: why, Since: v.Complete})
	}
	return out, err
}

// allowed holds a rotation against law 9.
func (o *Operator) allowed(ctx context.Context, a store.Account, plan rotation.Plan, override string) (int64, error) {
	if override != "" {
		return 0, nil
	}
	latest, err := o.Store.LatestRehearsal(ctx, a.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return 0, fmt.Errorf("%w: there was no rehearsal: run 'moss rotate rehearse %s' first, or override with a reason", ErrRefused, a.Name)
	case err != nil:
		return 0, err
	case latest.Verdict != "passed":
		return 0, fmt.Errorf("%w: the latest rehearsal failed: read it with 'moss rotate rehearse %s', or override with a reason", ErrRefused, a.Name)
	case o.Now().Sub(latest.Created) > RehearsalAge:
		return 0, fmt.Errorf("%w: the latest rehearsal is older than %s: rehearse again", ErrRefused, RehearsalAge)
	case !reflect.DeepEqual(stepsOf(latest.Plan), stepsOf(plan)):
		return 0, fmt.Errorf("%w: the picture changed since the rehearsal: rehearse again", ErrRefused)
	}
	return latest.ID, nil
}

func stepsOf(p rotation.Plan) []string {
	var out []string
	for _, s := range p.Steps {
		out = append(out, fmt.Sprintf("%s %v %v %v %+v %v %v %v", s.Title(), s.Places, s.Needs, s.After, s.Check, s.Along, s.NotBefore, s.NotAfter))
	}
	return out
}
