package building

import (
	"cmp"
	"fmt"
	"slices"
	"sort"

	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
)

// Build makes the plan. A rotation seals, changes and proves the new value at
// the authority, then replaces every copy and every log-on that a system keeps,
// restarts every running reader in start order, never two replicas (dependents
// of the same name on different systems) at once, and proves each. An
// assignment leaves the authority alone: it proves the current value and gives
// it to the log-ons chosen; of an account whose password its directory makes there is
// none to prove. A credential that several points accept, like a key
// pair, is changed and proven at all of them before any holder gets it.
func Build(in Input) rotation.Plan {
	b := &builder{in: in, plan: rotation.Plan{
		Kind: in.Kind, CredentialID: in.CredentialID, Credential: in.Credential, Of: in.Of, Type: in.Type, Length: in.Length, Without: in.Without, Lasts: in.Lasts, Limits: in.Limits, Given: in.Given, Turn: in.Turn,
		Authority: in.Authority, OnFailure: in.OnFailure, When: in.When, Windows: in.Windows, AtWindowEnd: in.AtWindowEnd, Patience: cmp.Or(in.Patience, rotation.DefaultPatience), Notes: []rotation.Note{},
	}, restarts: map[string][]int{}, running: map[string][]Unit{}, replaceOf: map[string]int{}, logOnOf: map[string]int{}, restartOf: map[string]int{}, proveOf: map[string]int{}, groupOf: map[string][]int{}, lastTaken: map[string]int{}}
	if b.plan.When == "" {
		b.plan.When = rotation.RestartNow
	}
	switch {
	case in.Kind == rotation.KindAssign && in.Managed:
		b.plan.Managed = true // hosts fetch the value themselves: each dependent that starts proves it
	case in.Kind == rotation.KindAssign:
		for _, p := range in.Points {
			b.signIns = append(b.signIns, b.add(rotation.Step{Kind: rotation.StepSignIn, SystemID: p.SystemID, System: p.System, Subject: p.Account}))
		}
	default:
		b.plan.Kind = ""
		seal := rotation.Step{Kind: rotation.StepSeal, Subject: in.Credential, GivenBy: in.GivenBy}
		if in.Of.Pair() {
			seal.Dependent = estate.DependentKey
		}
		if in.Turn != nil {
			seal.Next = in.Turn.Account
		}
		b.sealed = b.add(seal)
	}
	units, cycles := startOrder(in.Units)
	if in.Kind != rotation.KindAssign {
		b.open(b.stops(units))
	}
	for _, u := range units {
		b.running[u.SystemID] = append(b.running[u.SystemID], u)
	}
	first := b.firstAlone(units)
	b.replacements(func(string, string) bool { return true }, func(LogOn) bool { return true })
	for _, words := range cycles {
		b.note(rotation.NoteInfo, "%s", words)
	}
	for _, u := range units {
		if u.key() != first {
			b.restart(u, b.running[u.SystemID])
		}
	}
	b.shows()
	if in.Kind != rotation.KindAssign {
		b.close()
	}
	if len(b.plan.Steps) > 0 {
		b.note(rotation.NoteInfo, "a system that is away is waited for, up to %s before that counts as a failure, and without end once something is being undone", calendar.Spell(b.plan.Patience))
	}
	if len(in.Files)+len(in.LogOns) == 0 && !in.Of.Pair() {
		b.note(rotation.NoteInfo, "no held copy and no stored log-on is known: only the authority is changed")
	}
	return b.plan
}

// stops adds what is stopped before the change, and returns what the change needs. Those
// that start last are stopped first. Only what reads a copy, or has a log-on, can give
// the old value.
func (b *builder) stops(units []Unit) []int {
	needs := []int{b.sealed}
	if !b.in.StopFirst || b.plan.When != rotation.RestartNow {
		return needs
	}
	before := map[string]int{} // by system
	for _, u := range slices.Backward(units) {
		if !u.Running || !b.gives(u) {
			continue
		}
		stop := rotation.Step{Kind: rotation.StepStop, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Needs: []int{b.sealed}, Window: b.in.Window}
		if i, found := before[u.SystemID]; found {
			stop.Needs = append(stop.Needs, i)
		}
		before[u.SystemID] = b.add(stop)
		needs = append(needs, before[u.SystemID])
	}
	return b.all(needs...)
}

// gives: a unit has the value from a file, or as its log-on.
func (b *builder) gives(u Unit) bool {
	return slices.ContainsFunc(b.in.Files, func(f File) bool { return f.SystemID == u.SystemID && slices.Contains(u.Reads, f.Path) }) ||
		slices.ContainsFunc(b.in.LogOns, func(l LogOn) bool {
			return l.SystemID == u.SystemID && l.Place.Key() == u.Place().Key()
		})
}

type builder struct {
	in      Input
	plan    rotation.Plan
	signIns []int // that prove the value that everything else gets
	ends    []int
	sealed  int
	guarded []guarded
	// By system and place: the steps that a restart must wait for, that
	// restart it (or take it down with another), and that prove it.
	replaceOf, logOnOf, restartOf, proveOf map[string]int
	groupOf                                map[string][]int // by name of the group: the proofs of those in it, in order
	lastTaken                              map[string]int   // by system and name: the latest proof of what takes it down
	restarts                               map[string][]int
	running                                map[string][]Unit // by system
}

// few is how many needs stand in a step itself.
const few = 4

// all makes one need of many: else each of a thousand steps would list a
// thousand others.
func (b *builder) all(needs ...int) []int {
	if len(needs) <= few {
		return needs
	}
	return []int{b.add(rotation.Step{Kind: rotation.StepAll, Subject: b.in.Credential, Needs: slices.Clone(needs)})}
}

func (b *builder) add(s rotation.Step) int {
	s.Index = len(b.plan.Steps)
	if s.Needs == nil {
		s.Needs = []int{}
	}
	b.plan.Steps = append(b.plan.Steps, s)
	return s.Index
}

func (b *builder) note(kind rotation.NoteKind, format string, args ...any) {
	b.plan.Notes = append(b.plan.Notes, rotation.Note{Kind: kind, Text: fmt.Sprintf(format, args...)})
}

// replacements adds those copies and log-ons that are chosen and were not added before.
func (b *builder) replacements(file func(system, path string) bool, logOn func(LogOn) bool) {
	files := slices.DeleteFunc(slices.Clone(b.in.Files), func(f File) bool {
		_, added := b.replaceOf[f.SystemID+"\x00"+f.Path]
		return added || !file(f.SystemID, f.Path)
	})
	sort.Slice(files, func(i, j int) bool {
		return files[i].System+"\x00"+files[i].Path < files[j].System+"\x00"+files[j].Path
	})
	for _, f := range files {
		replace := rotation.Step{Kind: rotation.StepReplace, SystemID: f.SystemID, System: f.System, Subject: f.Path, Places: f.Places, Holds: f.Holds, Needs: slices.Clone(b.signIns)}
		if b.in.Turn != nil {
			replace.Next = b.in.Turn.Account
		}
		if replace.Adds() && len(b.in.Stewards) == 0 && len(b.guarded) == 1 {
			// New tickets cannot be read until it is there, and it takes nothing away: it
			// does not wait until the change is proven, or known to every server.
			replace.Needs = slices.Clone(b.guarded[0].changes)
		}
		i := b.add(replace)
		b.replaceOf[f.SystemID+"\x00"+f.Path] = i
		b.ends = append(b.ends, i)
	}
	logOns := slices.DeleteFunc(slices.Clone(b.in.LogOns), func(l LogOn) bool {
		_, added := b.logOnOf[l.SystemID+"\x00"+l.Place.Key()]
		return added || !logOn(l)
	})
	sort.Slice(logOns, func(i, j int) bool {
		return logOns[i].System+"\x00"+logOns[i].Place.Key() < logOns[j].System+"\x00"+logOns[j].Place.Key()
	})
	for _, l := range logOns {
		i := b.add(rotation.Step{Kind: rotation.StepLogOn, SystemID: l.SystemID, System: l.System, Subject: l.Place.Place, Dependent: l.Place.Kind, LogOn: &rotation.StepLogOnAs{Was: l.Was, WasID: l.WasID, Account: l.Account, Moved: l.Moved, Back: l.Back}, Needs: slices.Clone(b.signIns)})
		b.logOnOf[l.SystemID+"\x00"+l.Place.Key()] = i
		b.ends = append(b.ends, i)
	}
}

// restart adds what must happen so that a unit runs with the new value.
func (b *builder) restart(u Unit, all []Unit) {
	key := u.key()
	var needs []int
	for _, path := range u.Reads {
		if i, found := b.replaceOf[u.SystemID+"\x00"+path]; found {
			needs = append(needs, i)
		}
	}
	if i, found := b.logOnOf[key]; found {
		needs = append(needs, i)
	}
	switch {
	case !u.Running && !u.Start:
		if len(needs) > 0 {
			b.note(rotation.NoteInfo, "%s on %s is not running: what it uses is replaced, it is not started", u.Name, u.System)
		}
		return
	case b.plan.When == rotation.RestartLeave:
		switch {
		case len(needs) > 0 && u.Running:
			b.note(rotation.NoteLatent, "%s on %s is left running with the old value until somebody restarts it", u.Name, u.System)
		case len(needs) > 0:
			b.note(rotation.NoteInfo, "%s on %s is down and is left so: what it uses is replaced, it is not started", u.Name, u.System)
		}
		return
	}
	// What another restart takes down and brings back is not restarted again,
	// but only proven: a service stands and falls with those that it needs.
	if u.Kind.LogsOn() || len(needs) == 0 {
		if roots := b.rootsOf(u); len(roots) > 0 {
			revive := rotation.Step{Kind: rotation.StepRevive, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Check: u.Check, Needs: roots}
			for _, name := range u.Requires {
				if i, found := b.proveOf[u.SystemID+"\x00"+estate.PlaceKey(u.Kind, name)]; found {
					revive.After = append(revive.After, i)
				}
			}
			r := b.add(revive)
			b.restartOf[key], b.proveOf[key] = roots[0], r
			b.ends = append(b.ends, r)
			return
		}
	}
	if len(needs) == 0 && !u.Start {
		return
	}
	restart := rotation.Step{Kind: rotation.StepRestart, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Needs: needs, Reload: b.reloads(u), NotBefore: b.in.NotBefore, NotAfter: b.in.NotAfter, Window: u.Window, Expected: u.Expected, Groups: u.Groups}
	if len(needs) > 0 && b.apart(u) {
		b.note(rotation.NoteLatent, "%s on %s is restarted in the window %s, and the value that it runs with is refused from the change on: until then it cannot sign in anew", u.Name, u.System, u.Window)
	}
	groups := b.after(u, &restart)
	var along []Unit
	if restart.Reload {
		restart.Expected = 0 // it stays up
	} else {
		along = b.along(u, all, &restart)
	}
	r := b.add(restart)
	b.restarts[u.SystemID] = append(b.restarts[u.SystemID], r)
	p := b.add(rotation.Step{Kind: rotation.StepProve, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Check: u.Check, Needs: []int{r}})
	b.restartOf[key], b.proveOf[key] = r, p
	for group := range groups {
		b.groupOf[group] = append(b.groupOf[group], p)
	}
	for _, other := range along {
		b.lastTaken[other.key()] = p
	}
	b.ends = append(b.ends, r, p)
}

// after has a restart come after those that start before it, that are declared to, and
// that are in a group with it, of which only some are restarted at the same time. It
// returns the groups.
func (b *builder) after(u Unit, restart *rotation.Step) map[string]int {
	for _, name := range u.After {
		if i, found := b.proveOf[u.SystemID+"\x00"+estate.PlaceKey(u.Kind, name)]; found {
			restart.After = append(restart.After, i)
		}
	}
	for _, other := range u.Behind {
		if i, found := b.proveOf[other.key()]; found && !slices.Contains(restart.After, i) {
			restart.After = append(restart.After, i)
		}
	}
	groups := b.groups(u)
	for group, most := range groups {
		if list := b.groupOf[group]; len(list) >= most && !slices.Contains(restart.After, list[len(list)-most]) {
			restart.After = append(restart.After, list[len(list)-most])
		}
	}
	slices.Sort(restart.After)
	return groups
}

// along are the services that go down and come back with one, with what they have stored
// then: its restart waits for that.
func (b *builder) along(u Unit, all []Unit, restart *rotation.Step) []Unit {
	if u.Kind != estate.DependentService {
		return nil
	}
	along := needing(u, all)
	for _, other := range along {
		if i, found := b.logOnOf[other.key()]; found {
			restart.Needs = append(restart.Needs, i)
		}
		restart.Along = append(restart.Along, other.Place())
		if i, found := b.lastTaken[other.key()]; found && !slices.Contains(restart.After, i) {
			restart.After = append(restart.After, i)
		}
	}
	return along
}

// reloads: a unit that can reads its files again and stays up, where a port of its own proves
// that it did. Of others it is not known whether they look at a file again.
func (b *builder) reloads(u Unit) bool {
	return u.Reloads && u.Running && !b.in.NoReload && slices.ContainsFunc(b.in.Shown, func(p Point) bool { return p.SystemID == u.SystemID && p.Unit == u.Name })
}

// rootsOf finds the restarts on the same system that take a unit down. What
// merely comes back with another is no root of its own.
func (b *builder) rootsOf(u Unit) []int {
	var out []int
	for _, i := range b.restarts[u.SystemID] {
		s := b.plan.Steps[i]
		if s.Reload {
			continue // nothing goes down
		}
		taken := slices.Contains(s.Along, u.Place())
		if u.Kind == estate.DependentUnit {
			for _, name := range u.Requires {
				taken = taken || b.restartedWith(u.SystemID, estate.Place{Kind: u.Kind, Place: name}, i)
			}
		}
		if taken {
			out = append(out, i)
		}
	}
	return out
}

func (b *builder) restartedWith(system string, place estate.Place, restart int) bool {
	i, found := b.restartOf[system+"\x00"+estate.PlaceKey(place.Kind, place.Place)]
	return found && i == restart
}

// needing lists the running units that need a unit, directly or not.
func needing(u Unit, all []Unit) []Unit {
	var out []Unit
	taken := map[string]bool{u.key(): true}
	for again := true; again; {
		again = false
		for _, other := range all {
			if taken[other.key()] || other.SystemID != u.SystemID || other.Kind != u.Kind || !other.Running && !other.Start {
				continue
			}
			for _, name := range other.Requires {
				if taken[u.SystemID+"\x00"+estate.PlaceKey(u.Kind, name)] {
					taken[other.key()], again = true, true
				}
			}
			if taken[other.key()] {
				out = append(out, other)
			}
		}
	}
	return out
}

// startOrder sorts units so that each comes after those it starts after.
// Cycles are broken where they close, and reported.
func startOrder(units []Unit) ([]Unit, []string) {
	sorted := append([]Unit(nil), units...)
	for i := range sorted {
		if sorted[i].Kind == "" {
			sorted[i].Kind = estate.DependentUnit
		}
	}
	// What need not wait for a window comes first: a replica of it that must would hold it
	// up.
	sort.Slice(sorted, func(i, j int) bool {
		if a, b := sorted[i].Window != "", sorted[j].Window != ""; a != b {
			return b
		}
		return sorted[i].System+"\x00"+sorted[i].Name < sorted[j].System+"\x00"+sorted[j].Name
	})
	at := map[string]int{}
	for i, u := range sorted {
		at[u.key()] = i
	}
	var out []Unit
	var notes []string
	mark := make([]int, len(sorted)) // 0 new, 1 on the path, 2 placed
	var visit func(i int)
	visit = func(i int) {
		mark[i] = 1
		for _, name := range sorted[i].After {
			j, found := at[sorted[i].SystemID+"\x00"+estate.PlaceKey(sorted[i].Kind, name)]
			if !found || mark[j] == 2 {
				continue
			}
			if mark[j] == 1 {
				notes = append(notes, fmt.Sprintf("start order of %s and %s on %s is a circle: restarted one after the other", sorted[i].Name, name, sorted[i].System))
				continue
			}
			visit(j)
		}
		for _, other := range sorted[i].Behind {
			switch j, found := at[other.key()]; {
			case !found || mark[j] == 2:
			case mark[j] == 1:
				notes = append(notes, fmt.Sprintf("the order of %s on %s and %s on %s is a circle: restarted one after the other", sorted[i].Name, sorted[i].System, other.Name, sorted[j].System))
			default:
				visit(j)
			}
		}
		mark[i] = 2
		out = append(out, sorted[i])
	}
	for i := range sorted {
		if mark[i] == 0 {
			visit(i)
		}
	}
	return out, notes
}
