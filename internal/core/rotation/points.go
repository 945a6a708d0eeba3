package rotation

import (
	"cmp"
	"slices"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/layout"
)

// guarded is an account that the credential proves, with the steps about the
// points at which it is accepted there.
type guarded struct {
	systemID, system, account, via string
	entries                        bool // files of entries let in, no authority
	changes, retires               []int
	proven                         int
}

// open has every point accept the new value, beside the old one where it can,
// and proves for each account that it does. Nothing else gets the new value
// before.
func (b *builder) open(needs []int) {
	points := slices.Clone(b.in.Points)
	slices.SortFunc(points, func(x, y Point) int {
		return cmp.Or(cmp.Compare(x.System, y.System), cmp.Compare(x.Account, y.Account), cmp.Compare(x.Path, y.Path))
	})
	for _, p := range points {
		step := Step{Kind: StepChange, SystemID: p.SystemID, System: p.System, Subject: p.Account, Overlap: p.Overlap, Needs: slices.Clone(needs)}
		if p.Path != "" {
			step.Subject, step.Door = p.Path, &Door{Account: p.Account}
		}
		change := b.add(step)
		if n := len(b.guarded); n == 0 || b.guarded[n-1].systemID != p.SystemID || b.guarded[n-1].account != p.Account {
			b.guarded = append(b.guarded, guarded{systemID: p.SystemID, system: p.System, account: p.Account, via: p.Via, entries: p.Path != ""})
		}
		last := &b.guarded[len(b.guarded)-1]
		last.changes = append(last.changes, change)
		last.via = cmp.Or(last.via, p.Via)
	}
	for i := range b.guarded {
		g := &b.guarded[i]
		if g.account == "" {
			b.note(NoteInfo, "whom the entries of %s let in is not known: they are changed, and nobody can prove it by signing in", b.plan.Steps[g.changes[0]].Subject+" on "+g.system)
			b.signIns = append(b.signIns, g.changes...)
			continue
		}
		g.proven = b.add(g.proof(StepSignIn, g.changes))
		b.signIns = append(b.signIns, g.proven)
	}
	// Nothing else can be done before we get in again ourselves.
	proven := slices.Clone(b.signIns)
	for _, own := range b.in.Stewards {
		b.signIns = append(b.signIns, b.add(Step{Kind: StepSteward, SystemID: own.SystemID, System: own.System, Subject: own.Name, Needs: proven}))
	}
	b.signIns = b.all(b.signIns...)
}

// close ends the time in which both values are accepted once everything else has
// succeeded: what was missed goes on working until then. It proves that the old
// value is refused.
func (b *builder) close() {
	if slices.ContainsFunc(b.in.Points, func(p Point) bool { return p.Overlap }) {
		needs := b.all(append(slices.Clone(b.signIns), b.ends...)...)
		for i := range b.guarded {
			g := &b.guarded[i]
			for _, j := range g.changes {
				retire := b.plan.Steps[j]
				if !retire.Overlap {
					continue
				}
				retire.Kind, retire.Needs, retire.Overlap = StepRetire, needs, false
				g.retires = append(g.retires, b.add(retire))
			}
		}
		b.note(NoteOverlap, "both %ss are accepted (%s) until every copy is replaced and every reader proven", b.in.Of.Word(), b.in.Authority)
	}
	for _, g := range b.guarded {
		if g.account == "" {
			continue
		}
		if len(g.retires) > 0 {
			b.add(g.proof(StepRefuse, g.retires)) // which need everything else
			continue
		}
		refuse := g.proof(StepRefuse, []int{g.proven})
		refuse.After = b.ends
		b.add(refuse)
	}
}

func (g guarded) proof(kind StepKind, needs []int) Step {
	s := Step{Kind: kind, SystemID: g.systemID, System: g.system, Subject: g.account, Needs: needs}
	if g.entries {
		s.Door = &Door{Account: g.account, Via: g.via}
	}
	return s
}

// ofKey: the step is about a key pair.
func (s Step) ofKey() bool {
	return s.Door != nil || s.Kind == StepSeal && s.Dependent == estate.DependentKey || s.Kind == StepReplace && len(s.Places) > 0 && s.Places[0].Layout == layout.PEM
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
