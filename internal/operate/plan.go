package operate

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

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
	// Patience is how long a system that is away is waited for before the policy
	// decides; 0 for the usual time.
	Patience time.Duration
	// KeyType is of the new key of a key pair; "" for that of the old one.
	KeyType string
}

const longestPatience = 30 * 24 * time.Hour

func (o *Operator) checkWish(w *Wish) error {
	switch w.Policy {
	case rotation.PolicyStop, rotation.PolicyContinue, rotation.PolicyUndo:
	default:
		return fmt.Errorf("%w: unknown policy %q (stop, continue or undo)", ErrInput, w.Policy)
	}
	if w.Patience < 0 || w.Patience > longestPatience {
		return fmt.Errorf("%w: a system that is away can be waited for up to %s before the policy decides, not %s", ErrInput, rotation.Spell(longestPatience), rotation.Spell(w.Patience))
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

	decisions map[int64]map[string]store.CopyDecision

	runsWith  map[string]string // where a unit's processes have the value, by system and unit
	restarted map[string]bool   // units that are, because of a file
}

// plan builds the plan of a rotation or an assignment from the picture.
func (o *Operator) plan(ctx context.Context, s Subject, wish Wish) (rotation.Plan, error) {
	if err := o.checkWish(&wish); err != nil {
		return rotation.Plan{}, err
	}
	o.Settled(ctx)
	if k, isKey := s.(store.KeyPair); isKey {
		return o.planKey(ctx, k, wish)
	}
	a := s.(store.Account) //nolint:forcetypeassert // there are two kinds
	if wish.KeyType != "" {
		return rotation.Plan{}, fmt.Errorf("%w: a type of key is for key pairs, %s is an account", ErrInput, a.Name)
	}
	if err := o.placeAround(ctx, a, wish.Assign); err != nil {
		return rotation.Plan{}, err
	}
	p := &planner{
		Operator: o, account: a, wish: wish, files: map[string]*rotation.File{}, logOns: map[string]bool{}, systems: map[int64]bool{}, runsWith: map[string]string{}, restarted: map[string]bool{},
		input: rotation.Input{
			AccountID: strconv.FormatInt(a.ID, 10), Account: a.Name, AuthorityID: strconv.FormatInt(a.SystemID, 10), Authority: a.System, Policy: wish.Policy,
			When: wish.When, NotBefore: wish.NotBefore, NotAfter: wish.NotAfter, Patience: wish.Patience,
		},
	}
	var err error
	if len(wish.Assign) > 0 {
		p.input.Kind = rotation.KindAssign
		err = p.chosen(ctx)
	} else {
		p.overlap(ctx)
		if err = p.ownLogOns(ctx); err == nil {
			err = p.tied(ctx)
		}
	}
	if err != nil {
		return rotation.Plan{}, err
	}
	return p.build(ctx)
}

// build makes the plan of what was gathered.
func (p *planner) build(ctx context.Context) (rotation.Plan, error) {
	for _, f := range p.files {
		p.input.Files = append(p.input.Files, *f)
	}
	for id := range p.systems {
		if err := p.units(ctx, id); err != nil {
			return rotation.Plan{}, err
		}
	}
	p.unexplained()
	plan := rotation.Build(p.input)
	sort.Strings(p.notes)
	plan.Notes = append(plan.Notes, p.notes...)
	return plan, nil
}

// overlap finds out whether the authority accepts two values at once. If it
// cannot be asked, one value replaces the other, as everywhere else.
func (p *planner) overlap(ctx context.Context) {
	v, err := p.Store.SystemByID(ctx, p.account.SystemID)
	if err != nil {
		return
	}
	connector, target, err := p.target(ctx, v)
	overlapper, able := connector.(connect.Overlapper)
	if err != nil || !able {
		return
	}
	can, why, err := overlapper.Overlaps(ctx, target, refOf(p.account))
	switch {
	case err != nil:
		p.note("whether %s accepts two values at once could not be asked: %v", v.Name, err)
	case !can:
		p.note("%s does not accept two values of it at once: %s", v.Name, why)
	}
	p.input.Overlap = can && err == nil
}

func (p *planner) note(format string, args ...any) {
	p.notes = append(p.notes, fmt.Sprintf(format, args...))
}

// tied gathers everything that is tied to the account.
func (p *planner) tied(ctx context.Context) (err error) {
	tied, err := p.Store.DependentsOfAccount(ctx, p.account.ID)
	if err != nil {
		return err
	}
	if p.decisions, err = p.Store.CopyDecisions(ctx); err != nil {
		return err
	}
	var runsAs []store.Dependent
	mentions := 0
	for _, d := range tied {
		strength := strengthFor(d, p.account.ID)
		decision := p.decisions[d.SystemID][d.Place]
		switch {
		case d.Copy != nil && strength == string(estate.StrengthMatches) && decision.Decision == store.CopyLeave && d.Kind != estate.DependentProcess:
			p.note("left: %s on %s holds the value and stays as it is: %s decided so (%s)", d.Place, d.System, decision.By, decision.Reason)
		case d.Copy != nil && strength == string(estate.StrengthMatches) && d.Copy.Fixed != "" && d.Kind != estate.DependentProcess:
			p.note("irreplaceable: %s line %d on %s: %s", d.Path, d.Copy.Line, d.System, d.Copy.Fixed)
		case d.Copy != nil && strength == string(estate.StrengthDoubtful) && decision.Decision == store.CopyReplace:
			p.file(d, "")
		case d.Copy != nil && strength == string(estate.StrengthDoubtful) && decision.Decision == store.CopyLeave:
			p.note("%s on %s is no copy: %s decided so (%s)", d.Place, d.System, decision.By, decision.Reason)
		case d.Copy != nil && strength == string(estate.StrengthDoubtful):
			p.note("doubtful: %s on %s: %s", d.Place, d.System, detailFor(d, p.account.ID))
		case d.Kind == estate.DependentProcess:
			p.process(d, strength)
		case d.Copy != nil && strength == string(estate.StrengthMatches):
			p.file(d, "")
		case d.Copy != nil && strength == string(estate.StrengthAmbiguous):
			p.notes = append(p.notes, ambiguousNote(d))
		case d.Copy != nil && strength == string(estate.StrengthReused):
			p.note("%s on %s holds the same value beside another account: it is left alone", d.Place, d.System)
		case d.Copy != nil && strength == string(estate.StrengthMentions):
			mentions++
		case strength == string(estate.StrengthSignsIn):
			// What nothing explains is told by the rehearsal.
		case d.Kind == estate.DependentKeytab:
			p.note("%s on %s is left alone: the key tab holds a key made of the old password; make it anew afterwards", d.Place, d.System)
		case d.Key != nil:
			p.note("%s on %s is a key, which a new password does not change: %s", d.Place, d.System, detailFor(d, p.account.ID))
		case strength == string(estate.StrengthSaid):
			p.note("%s on %s: %s; see to it yourself", d.Place, d.System, detailFor(d, p.account.ID))
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
	if mentions > 0 {
		p.note("%d files only mention the account: they are left alone", mentions)
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

// process tells of a running program that holds the value: nothing can be
// replaced in it, and only what its unit reads anew helps it.
func (p *planner) process(d store.Dependent, strength string) {
	switch {
	case d.Copy == nil || strength != string(estate.StrengthMatches) && strength != string(estate.StrengthAmbiguous):
	case len(d.Requires) > 0:
		p.runsWith[d.System+"\x00"+d.Requires[0]] = d.Copy.Format + " " + d.Copy.Key
	default:
		p.note("by hand: %s on %s, %s, has the value in its %s: it keeps the old one until somebody starts it anew", d.Path, d.System, d.Description, d.Copy.Format)
	}
}

// unexplained tells of units that run with the value although nothing that was
// read there says where they get it.
func (p *planner) unexplained() {
	for key, where := range p.runsWith {
		system, unit, _ := strings.Cut(key, "\x00")
		if !p.restarted[key] {
			p.note("unexplained: %s on %s runs with the value (%s), and no file that it is known to read holds it: it starts with whatever it gets from there", unit, system, where)
		}
	}
}

func (p *planner) file(d store.Dependent, holds string) { p.place(d, locatorOf(d), holds) }

func (p *planner) place(d store.Dependent, place held.Locator, holds string) {
	key := d.System + "\x00" + d.Path
	if p.files[key] == nil {
		p.files[key] = &rotation.File{SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Path: d.Path, Holds: holds}
	}
	p.files[key].Places = append(p.files[key].Places, place)
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
			owned, err := p.Store.Secrets(ctx, p.account.Credential())
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

// concerned are the dependents of a system that use what this plan changes, and
// what needs them: only those are brought up. What is down for another reason
// is somebody else's.
func (p *planner) concerned(all []store.Dependent) map[string]bool {
	out := map[string]bool{}
	for _, d := range all {
		for _, path := range d.Uses {
			out[d.Place] = out[d.Place] || p.files[d.System+"\x00"+path] != nil
		}
		if p.logOns[logOnKey(d)] || strengthFor(d, p.account.ID) == string(estate.StrengthRunsAs) {
			out[d.Place] = true
		}
	}
	for again := true; again; {
		again = false
		for _, d := range all {
			if !out[d.Place] && slices.ContainsFunc(d.Requires, func(name string) bool { return out[name] }) {
				out[d.Place], again = true, true
			}
		}
	}
	return out
}

// units finds what runs on a system and uses any of what is replaced, or
// stands and falls with something that does.
func (p *planner) units(ctx context.Context, system int64) error {
	all, err := p.Store.DependentsOfSystem(ctx, system)
	if err != nil {
		return err
	}
	named := map[string]bool{}
	for _, d := range all {
		for _, path := range d.Uses {
			named[path] = true
		}
	}
	concerned := p.concerned(all)
	for _, d := range all {
		var reads []string
		for _, path := range d.Uses {
			if p.files[d.System+"\x00"+path] != nil {
				reads = append(reads, path)
			}
		}
		// A unit that was seen signed in, or runs with the value, reads a copy
		// that nothing names.
		runsWith := p.runsWith[d.System+"\x00"+d.Place] != ""
		if len(reads) == 0 && d.Kind == estate.DependentUnit && d.Up() && (runsWith || slices.ContainsFunc(d.Ties, func(t store.Tie) bool {
			return t.AccountID == p.account.ID && t.Evidence == string(estate.Observed)
		})) {
			for key := range p.files {
				if path, found := strings.CutPrefix(key, d.System+"\x00"); found && !named[path] {
					reads = append(reads, path)
				}
			}
			slices.Sort(reads)
			if len(reads) > 0 && runsWith {
				p.note("%s on %s runs with the value, and nothing names the copies there: it is restarted after them", d.Place, d.System)
			} else if len(reads) > 0 {
				p.note("%s on %s was seen signed in as the account, and nothing names the copies there: it is restarted after them", d.Place, d.System)
			}
		}
		p.restarted[d.System+"\x00"+d.Place] = d.Kind == estate.DependentUnit && len(reads) > 0
		if d.Kind == estate.DependentProcess {
			if len(reads) > 0 {
				p.note("by hand: %s on %s, %s, reads a copy there: it keeps the old value until somebody starts it anew", d.Path, d.System, d.Description)
			}
			continue
		}
		u := rotation.Unit{
			SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Kind: d.Kind, Name: d.Place, Reads: reads, After: d.After, Requires: d.Requires, Check: d.Check,
			Running: d.Up() || d.Kind == estate.DependentUnit && d.State == "failed", Start: p.wish.Start && !d.Up() && d.ByItself() && concerned[d.Place],
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
