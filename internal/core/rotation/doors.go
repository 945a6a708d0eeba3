package rotation

import (
	"cmp"
	"slices"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
)

// keyDoor is an account that a key opens, with the steps about it.
type keyDoor struct {
	systemID, system, account, via string
	changes, retires               []int
}

// openDoors has every file of entries let the holder of the new key in beside
// the old one, and proves at each account that it does.
func (b *builder) openDoors(seal int) {
	files := slices.Clone(b.in.Doors)
	slices.SortFunc(files, func(x, y KeyDoor) int {
		return cmp.Or(cmp.Compare(x.System, y.System), cmp.Compare(x.Account, y.Account), cmp.Compare(x.Path, y.Path))
	})
	for _, f := range files {
		change := b.add(Step{Kind: StepChange, SystemID: f.SystemID, System: f.System, Subject: f.Path, Overlap: true, Door: &Door{Account: f.Account}, Needs: []int{seal}})
		if n := len(b.doors); n == 0 || b.doors[n-1].systemID != f.SystemID || b.doors[n-1].account != f.Account {
			b.doors = append(b.doors, keyDoor{systemID: f.SystemID, system: f.System, account: f.Account, via: f.Via})
		}
		last := &b.doors[len(b.doors)-1]
		last.changes = append(last.changes, change)
		last.via = cmp.Or(last.via, f.Via)
	}
	for _, d := range b.doors {
		if d.account == "" {
			b.note("whom the entries of %s let in is not known: they are changed, and nobody can prove it by signing in", b.plan.Steps[d.changes[0]].Subject+" on "+d.system)
			b.signIns = append(b.signIns, d.changes...)
			continue
		}
		b.signIns = append(b.signIns, b.add(d.proof(StepSignIn, d.changes)))
	}
	b.signIns = b.all(b.signIns...)
	b.note("overlap: every door accepts both keys until every holder has the new one")
}

// closeDoors removes the old key once everything else has succeeded, and
// proves that it is refused.
func (b *builder) closeDoors() {
	needs := b.all(append(slices.Clone(b.signIns), b.ends...)...)
	for i := range b.doors {
		d := &b.doors[i]
		for _, j := range d.changes {
			retire := b.plan.Steps[j]
			retire.Kind, retire.Needs, retire.Overlap = StepRetire, needs, false
			d.retires = append(d.retires, b.add(retire))
		}
	}
	for _, d := range b.doors {
		if d.account != "" {
			b.add(d.proof(StepRefuse, d.retires)) // which need everything else
		}
	}
}

func (d keyDoor) proof(kind StepKind, needs []int) Step {
	return Step{Kind: kind, SystemID: d.systemID, System: d.system, Subject: d.account, Door: &Door{Account: d.account, Via: d.via}, Needs: needs}
}

// ofKey: the step is about a key pair.
func (s Step) ofKey() bool {
	return s.Door != nil || s.Kind == StepSeal && s.Dependent == estate.DependentKey || s.Kind == StepReplace && len(s.Places) > 0 && s.Places[0].Layout == held.LayoutPEM
}

// keyTitle is a step about a key pair, or its undoing, in a few words.
func (s Step) keyTitle(undo bool) string {
	key, other, from := "new", "old", ""
	if undo {
		key, other = other, key
	}
	if s.Door != nil && s.Door.Via != "" {
		from = " from " + s.Door.Via
	}
	switch s.Kind {
	case StepSeal:
		if undo {
			return "give up the new key of " + s.Subject
		}
		return "seal a new key for " + s.Subject
	case StepChange:
		if undo {
			return "remove the new key from " + s.Subject + " on " + s.System
		}
		return "add the new key beside the old one in " + s.Subject + " on " + s.System
	case StepRetire:
		if undo {
			return "add the old key beside the new one in " + s.Subject + " on " + s.System
		}
		return "remove the old key from " + s.Subject + " on " + s.System
	case StepSignIn:
		return "sign in as " + s.Subject + " on " + s.System + from + " with the " + key + " key"
	case StepReplace:
		if undo {
			return "put the old key back in " + s.Subject + " on " + s.System
		}
		return "replace the key in " + s.Subject + " on " + s.System
	default:
		return "prove that " + s.Subject + " on " + s.System + from + " refuses the " + other + " key"
	}
}
