package operate

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// RehearsalAge is how long a rehearsal that passed allows a rotation.
const RehearsalAge = time.Hour

// plan builds the rotation plan of an account from the picture.
func (o *Operator) plan(ctx context.Context, a store.Account, policy rotation.Policy) (rotation.Plan, error) {
	if err := o.placeAround(ctx, a); err != nil {
		return rotation.Plan{}, err
	}
	tied, err := o.Store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return rotation.Plan{}, err
	}
	in := rotation.Input{
		AccountID: strconv.FormatInt(a.ID, 10), Account: a.Name, AuthorityID: strconv.FormatInt(a.SystemID, 10), Authority: a.System, Policy: policy,
	}
	var notes []string
	files := map[string]*rotation.File{}
	systems := map[int64]bool{}
	var runsAs []store.Dependent
	for _, d := range tied {
		strength := strengthFor(d, a.ID)
		switch {
		case d.Copy != nil && strength == string(estate.StrengthMatches):
			key := d.System + "\x00" + d.Path
			if files[key] == nil {
				files[key] = &rotation.File{SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Path: d.Path}
			}
			files[key].Places = append(files[key].Places, locatorOf(d))
			systems[d.SystemID] = true
		case d.Copy != nil && strength == string(estate.StrengthAmbiguous):
			notes = append(notes, ambiguousNote(d))
		case d.Copy != nil && strength == string(estate.StrengthReused):
			notes = append(notes, fmt.Sprintf("%s on %s holds the same value beside another account: it is left alone", d.Place, d.System))
		case d.Copy != nil:
			notes = append(notes, fmt.Sprintf("%s on %s is left alone: %s", d.Place, d.System, detailFor(d, a.ID)))
		case d.Kind == estate.DependentUnit && strength == string(estate.StrengthRunsAs):
			runsAs = append(runsAs, d)
			for _, t := range d.Ties {
				if t.AccountID == a.ID && t.Strength == string(estate.StrengthUnreadable) {
					notes = append(notes, fmt.Sprintf("%s on %s: %s", d.Name, d.System, t.Detail))
				}
			}
		case d.Kind == estate.DependentCron:
			runsAs = append(runsAs, d)
		}
	}
	for _, d := range runsAs {
		reads := false
		for _, path := range d.Uses {
			reads = reads || files[d.System+"\x00"+path] != nil
		}
		if !reads {
			notes = append(notes, fmt.Sprintf("%s on %s runs as the account without its password: nothing to change there", d.Place, d.System))
		}
	}
	for _, f := range files {
		in.Files = append(in.Files, *f)
	}
	for id := range systems {
		units, err := o.readers(ctx, id, files, &notes)
		if err != nil {
			return rotation.Plan{}, err
		}
		in.Units = append(in.Units, units...)
	}
	plan := rotation.Build(in)
	sort.Strings(notes)
	plan.Notes = append(plan.Notes, notes...)
	return plan, nil
}

// placeAround derives the ties of an account's systems again: a rotation may
// have replaced copies since they were last derived.
func (o *Operator) placeAround(ctx context.Context, a store.Account) error {
	tied, err := o.Store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return err
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

// readers finds the units of a system that read any of the files.
func (o *Operator) readers(ctx context.Context, system int64, files map[string]*rotation.File, notes *[]string) ([]rotation.Unit, error) {
	all, err := o.Store.DependentsOfSystem(ctx, system)
	if err != nil {
		return nil, err
	}
	var out []rotation.Unit
	for _, d := range all {
		var reads []string
		for _, path := range d.Uses {
			if files[d.System+"\x00"+path] != nil {
				reads = append(reads, path)
			}
		}
		switch {
		case d.Kind == estate.DependentUnit && (len(reads) > 0 || d.State == "active" && len(d.Requires) > 0):
			out = append(out, rotation.Unit{
				SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Name: d.Name, Running: d.State == "active" || d.State == "failed" || d.State == "activating",
				Reads: reads, After: d.After, Requires: d.Requires, Check: d.Check,
			})
		case len(reads) == 0:
		default:
			*notes = append(*notes, fmt.Sprintf("%s on %s reads the copy at each run: nothing to restart", d.Place, d.System))
		}
	}
	return out, nil
}

// Rehearse checks everything about a rotation that can be checked without
// changing anything.
func (o *Operator) Rehearse(ctx context.Context, by string, a store.Account, policy rotation.Policy) (store.Rehearsal, error) {
	if err := o.notRotating(ctx, a); err != nil {
		return store.Rehearsal{}, err
	}
	plan, err := o.plan(ctx, a, policy)
	if err != nil {
		return store.Rehearsal{}, err
	}
	v := store.Rehearsal{AccountID: a.ID, CreatedBy: by, Plan: plan}
	entry := ledger.Entry{Actor: by, Act: "rotation.rehearse", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = o.act(ctx, entry, func() error {
		v.Checks, err = o.checks(ctx, a, plan)
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

func (o *Operator) checks(ctx context.Context, a store.Account, plan rotation.Plan) ([]connect.Checked, error) {
	values, err := o.values(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	checks := []connect.Checked{o.currentValue(ctx, a, values.current)}
	// Each system is asked once, all at the same time.
	intentions := map[string][]connect.Intention{}
	for _, s := range plan.Steps {
		switch s.Kind {
		case rotation.StepChange:
			ref := refOf(a)
			intentions[s.System] = append(intentions[s.System], connect.Intention{Change: &ref, Current: values.current})
		case rotation.StepReplace:
			intentions[s.System] = append(intentions[s.System], connect.Intention{Replace: s.Subject, Places: s.Places, Current: values.current})
		case rotation.StepRestart:
			intentions[s.System] = append(intentions[s.System], connect.Intention{Restart: s.Subject})
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
	for _, note := range plan.Notes {
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

func (o *Operator) currentValue(ctx context.Context, a store.Account, current secret.Value) connect.Checked {
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
		out = append(out, fmt.Sprintf("%s %v %v %v %+v", s.Title(), s.Places, s.Needs, s.After, s.Check))
	}
	return out
}
