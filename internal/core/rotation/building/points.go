package building

import (
	"cmp"
	"slices"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
)

// guarded is an account that the credential proves, with the steps about the
// points at which it is accepted there.
type guarded struct {
	systemID, system, account, via string
	next                           string // whose turn begins
	entries, issuer                bool   // files of entries let in, or an issuer's list of keys, and no password
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
		step := rotation.Step{Kind: rotation.StepChange, SystemID: p.SystemID, System: p.System, Subject: p.Account, Overlap: p.Overlap, Next: p.Next, Needs: slices.Clone(needs), Window: b.in.Window}
		if p.Path != "" {
			step.Subject, step.Door = p.Path, &rotation.Door{Account: p.Account, Issuer: p.Issuer, Certifies: p.Certifies, Names: p.Names}
		}
		step.Overlap = step.Overlap || p.Certifies
		change := b.add(step)
		if p.Certifies { // what it issues is looked at before it is taken
			b.signIns = append(b.signIns, change)
			continue
		}
		if n := len(b.guarded); n == 0 || b.guarded[n-1].systemID != p.SystemID || b.guarded[n-1].account != p.Account {
			b.guarded = append(b.guarded, guarded{systemID: p.SystemID, system: p.System, account: p.Account, via: p.Via, next: p.Next, entries: p.Path != "", issuer: p.Issuer})
		}
		last := &b.guarded[len(b.guarded)-1]
		last.changes = append(last.changes, change)
		last.via = cmp.Or(last.via, p.Via)
	}
	for i := range b.guarded {
		g := &b.guarded[i]
		if g.account == "" {
			b.note(rotation.NoteInfo, "whom the entries of %s let in is not known: they are changed, and nobody can prove it by signing in", b.plan.Steps[g.changes[0]].Subject+" on "+g.system)
			b.signIns = append(b.signIns, g.changes...)
			continue
		}
		g.proven = b.add(g.proof(rotation.StepSignIn, g.changes))
		b.signIns = append(b.signIns, g.proven)
	}
	// Nothing else can be done before we get in again ourselves.
	proven := slices.Clone(b.signIns)
	for _, own := range b.in.Stewards {
		b.signIns = append(b.signIns, b.add(rotation.Step{Kind: rotation.StepSteward, SystemID: own.SystemID, System: own.System, Subject: own.Name, Needs: proven}))
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
				retire.Kind, retire.Needs, retire.Overlap, retire.Window = rotation.StepRetire, needs, false, ""
				g.retires = append(g.retires, b.add(retire))
			}
		}
		if b.in.Turn != nil {
			b.note(rotation.NoteOverlap, "%s takes the place of %s on %s: both may sign in until everything is moved and every reader proven, then %s rests", b.in.Turn.Account, b.in.Points[0].Account, b.in.Authority, b.in.Points[0].Account)
		} else {
			b.note(rotation.NoteOverlap, "both %ss are accepted (%s) until every copy is replaced and every reader proven", b.in.Of.Word(), b.in.Authority)
		}
	}
	for _, g := range b.guarded {
		if g.account == "" {
			continue
		}
		if len(g.retires) > 0 {
			b.add(g.proof(rotation.StepRefuse, g.retires)) // which need everything else
			continue
		}
		refuse := g.proof(rotation.StepRefuse, []int{g.proven})
		refuse.After = b.ends
		b.add(refuse)
	}
}

// shows proves at the ports what clients see, once what listens there runs with what is in its
// files.
func (b *builder) shows() {
	ports := slices.Clone(b.in.Shown)
	slices.SortFunc(ports, func(x, y Point) int {
		return cmp.Or(cmp.Compare(x.System, y.System), cmp.Compare(x.Path, y.Path))
	})
	for _, p := range ports {
		step := rotation.Step{Kind: rotation.StepShow, SystemID: p.SystemID, System: p.System, Subject: p.Path, Door: &rotation.Door{Account: p.Path, Shows: true}}
		if i, found := b.proveOf[p.SystemID+"\x00"+estate.PlaceKey(estate.DependentUnit, p.Unit)]; found && p.Unit != "" {
			step.Needs = []int{i}
			if r, known := b.restartOf[p.SystemID+"\x00"+estate.PlaceKey(estate.DependentUnit, p.Unit)]; known {
				step.Needs = append(step.Needs, r)
			}
		} else {
			for i, s := range b.plan.Steps {
				if s.SystemID == p.SystemID && (s.Kind == rotation.StepProve || s.Kind == rotation.StepRestart || s.Kind == rotation.StepReplace) {
					step.Needs = append(step.Needs, i)
				}
			}
			if len(step.Needs) == 0 || !slices.ContainsFunc(step.Needs, func(i int) bool { return b.plan.Steps[i].Kind == rotation.StepRestart }) {
				b.note(rotation.NoteLatent, "port %s on %s goes on showing the old certificate until what listens there has read the new one: nothing of it is restarted", p.Path, p.System)
				continue
			}
		}
		b.ends = append(b.ends, b.add(step))
	}
}

func (g guarded) proof(kind rotation.StepKind, needs []int) rotation.Step {
	s := rotation.Step{Kind: kind, SystemID: g.systemID, System: g.system, Subject: g.account, Next: g.next, Needs: needs}
	if g.entries {
		s.Door = &rotation.Door{Account: g.account, Via: g.via, Issuer: g.issuer}
	}
	return s
}
