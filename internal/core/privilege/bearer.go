package privilege

import (
	"cmp"
	"slices"
)

// Asked is a question that is asked for many: what each entry says to it is worked out
// once. It belongs to one Model and one goroutine.
type Asked struct {
	Question
	said map[int32][]int8 // by list: of each entry, 0 for not asked yet, else the answer and one
	not  []bool           // by list: it is about something else
}

// Ask makes a question ready.
func (m *Model) Ask(q Question) *Asked {
	a := &Asked{Question: q, said: map[int32][]int8{}, not: make([]bool, len(m.Lists))}
	for i := range m.Lists {
		a.not[i] = !about(&m.Lists[i], q)
	}
	return a
}

func (m *Model) asked(a *Asked, at place, e *Entry) Answer {
	if a.Verb != "" && !Covers(e.Verb, a.Verb) {
		return AnswerNo
	}
	said := a.said[at.list]
	if said == nil {
		said = make([]int8, len(m.Lists[at.list].Entries))
		a.said[at.list] = said
	}
	if said[at.seq] == 0 {
		said[at.seq] = int8(m.matches(e, a.Question)) + 1
	}
	return Answer(said[at.seq] - 1)
}

// Bearer is one principal with all entries that reach it, for many questions about it. It
// is used again for the next (Of), and belongs to one goroutine.
type Bearer struct {
	m     *Model
	w     *walk
	start int32
	held  []held
}

type held struct {
	place
	to int32 // the principal that it is given to
}

// Bearer makes one.
func (m *Model) Bearer() *Bearer { return &Bearer{m: m, w: m.Graph.walk()} }

// Of turns to a principal, and reports whether anything is known of it.
func (b *Bearer) Of(id string) bool {
	b.held = b.held[:0]
	start, known := b.m.Graph.number[id]
	if !known {
		b.w.round++
		return false
	}
	b.start = start
	for _, n := range b.m.Graph.reach(b.w, start) {
		for _, at := range b.m.byPrincipal[n] {
			if !b.m.leftOut(b.w, &b.m.Lists[at.list].Entries[at.seq]) {
				b.held = append(b.held, held{at, n})
			}
		}
	}
	slices.SortFunc(b.held, func(x, y held) int { return cmp.Or(cmp.Compare(x.list, y.list), cmp.Compare(x.seq, y.seq)) })
	return true
}

// LiesIn reports whether it lies in a group or role.
func (b *Bearer) LiesIn(id string) bool {
	n, known := b.m.Graph.number[id]
	return known && n != b.start && b.w.seen[n] == b.w.round
}

// PathTo is the chain to what it lies in.
func (b *Bearer) PathTo(id string) []Link {
	if n, known := b.m.Graph.number[id]; known && b.w.seen[n] == b.w.round {
		return b.m.Graph.path(b.w, n)
	}
	return nil
}

// Decide answers a question for it, as Model.Decide does.
func (b *Bearer) Decide(a *Asked) Decision {
	var out Decision
	for from := 0; from < len(b.held); {
		to := from + 1
		for to < len(b.held) && b.held[to].list == b.held[from].list {
			to++
		}
		if !a.not[b.held[from].list] {
			b.decideOne(a, b.held[from:to], &out)
		}
		from = to
	}
	return out
}

// decideOne answers by those entries of one list that reach it.
func (b *Bearer) decideOne(a *Asked, entries []held, out *Decision) {
	l := &b.m.Lists[entries[0].list]
	s := settling{decides: l.Decides}
	for k := range entries {
		h := entries[k]
		if l.Decides == DecidesLast {
			h = entries[len(entries)-1-k]
		}
		e := &l.Entries[h.seq]
		answer := b.m.asked(a, h.place, e)
		if answer == AnswerNo {
			continue
		}
		if s.take(e, answer) {
			break
		}
	}
	out.add(s.decision())
}

// By are the entries that may allow what is asked, each with its path.
func (b *Bearer) By(a *Asked) (out []Right) {
	for _, h := range b.held {
		if a.not[h.list] {
			continue
		}
		if e := &b.m.Lists[h.list].Entries[h.seq]; !e.Deny && b.m.asked(a, h.place, e) != AnswerNo {
			out = append(out, b.m.right(b.w, h.to, h.place))
		}
	}
	return out
}

// Each calls visit for every entry that gives it something, with the number of the list and
// of the entry, and whether a principal of the chain to it satisfies through: nil is never
// satisfied. What it is given as one of everyone is not its own, and left out.
func (b *Bearer) Each(through []bool, visit func(list, entry int, accepted bool)) {
	for _, h := range b.held {
		if b.m.Lists[h.list].Entries[h.seq].Deny {
			continue
		}
		own, accepted := true, false
		for n := h.to; n >= 0; n = b.w.from[n] {
			own = own && b.m.Graph.members[n].Kind != KindEveryone
			accepted = accepted || n != b.start && through != nil && through[n]
		}
		if own {
			visit(int(h.list), int(h.seq), accepted)
		}
	}
}

// Right is one of its entries, with the path.
func (b *Bearer) Right(list, entry int) Right {
	for _, h := range b.held {
		if int(h.list) == list && int(h.seq) == entry {
			return b.m.right(b.w, h.to, h.place)
		}
	}
	return Right{}
}

// Direct are the groups and roles that it is listed in, not those that these lie in.
func (b *Bearer) Direct() (out []Link) {
	for _, e := range b.m.Graph.up[b.start] {
		p := b.m.Graph.members[e.to]
		out = append(out, Link{ID: p.ID, Name: p.Name, Kind: p.Kind, How: e.how, Term: e.term})
	}
	return out
}

// Marked has true for each of some principals, by their numbers: for Each.
func (g *Graph) Marked(ids []string) []bool {
	out := make([]bool, len(g.members))
	for _, id := range ids {
		if n, known := g.number[id]; known {
			out[n] = true
		}
	}
	return out
}

// Named are the principals of a name.
func (g *Graph) Named(named func(Principal) bool, kinds ...Kind) (ids []string) {
	for _, p := range g.members {
		if slices.Contains(kinds, p.Kind) && named(p) {
			ids = append(ids, p.ID)
		}
	}
	return ids
}

// Things are the objects that a list of the model is about.
func (m *Model) Things(list int) []Object { return m.Lists[list].Objects }
