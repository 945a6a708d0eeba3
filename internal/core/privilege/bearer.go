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
	not  map[int32]bool   // by list, of those that were looked at: it is about something else
	m    *Model
}

// Ask makes a question ready.
func (m *Model) Ask(q Question) *Asked {
	return &Asked{Question: q, said: map[int32][]int8{}, not: map[int32]bool{}, m: m}
}

// elsewhere reports whether a list is about something else. It is looked at once, and only
// where somebody has an entry of it.
func (a *Asked) elsewhere(list int32) bool {
	not, looked := a.not[list]
	if !looked {
		not = !about(&a.m.Lists[list], a.Question)
		a.not[list] = not
	}
	return not
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
		said[at.seq] = int8(m.matches(&m.Lists[at.list], e, a.Question)) + 1
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
	to    int32 // the principal that it is given to
	first int32 // the principal next to the bearer on the path to it; -1 for itself
	own   bool  // it is not given to everyone
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
				b.held = append(b.held, held{place: at, to: n, first: -1, own: true})
			}
		}
	}
	slices.SortFunc(b.held, func(x, y held) int { return cmp.Or(cmp.Compare(x.list, y.list), cmp.Compare(x.seq, y.seq)) })
	for i := range b.held {
		h := &b.held[i]
		for n := h.to; n != start; n = b.w.from[n] {
			h.own = h.own && b.m.Graph.members[n].Kind != KindEveryone
			h.first = n
		}
		h.own = h.own && !b.m.Lists[h.list].Entries[h.seq].Default
	}
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
		if !a.elsewhere(b.held[from].list) {
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
		if a.elsewhere(h.list) {
			continue
		}
		if e := &b.m.Lists[h.list].Entries[h.seq]; !e.Deny && b.m.asked(a, h.place, e) != AnswerNo {
			out = append(out, b.m.right(b.w, h.to, h.place))
		}
	}
	return out
}

// Each calls visit for every entry that gives it something, with the number of the list and
// of the entry, and of it among all that it holds (see Right). Left out are those that come
// through one of some principals, and what it is given as one of everyone, or has because nothing
// says otherwise: that is not its own.
func (b *Bearer) Each(through []string, visit func(list, entry, at int)) {
	var marked []int32
	for _, id := range through {
		if b.LiesIn(id) {
			marked = append(marked, b.m.Graph.number[id])
		}
	}
	for at := range b.held {
		h := &b.held[at]
		if !h.own || b.m.Lists[h.list].Entries[h.seq].Deny || len(marked) > 0 && b.passes(h.to, marked) {
			continue
		}
		visit(int(h.list), int(h.seq), at)
	}
}

// passes reports whether the path to a principal goes by one of some.
func (b *Bearer) passes(to int32, marked []int32) bool {
	for n := to; n != b.start; n = b.w.from[n] {
		if slices.Contains(marked, n) {
			return true
		}
	}
	return false
}

// Right is one of all that it holds, with the path.
func (b *Bearer) Right(at int) Right { return b.m.right(b.w, b.held[at].to, b.held[at].place) }

// First is the place among Direct of the group by which it has one of all that it holds; -1
// where it holds that itself.
func (b *Bearer) First(at int) int {
	if b.held[at].first >= 0 {
		for i, e := range b.m.Graph.up[b.start] {
			if e.to == b.held[at].first {
				return i
			}
		}
	}
	return -1
}

// Direct are the groups and roles that it is listed in, not those that these lie in.
func (b *Bearer) Direct() (out []Link) {
	for _, e := range b.m.Graph.up[b.start] {
		p := b.m.Graph.members[e.to]
		out = append(out, Link{ID: p.ID, Name: p.Name, Kind: p.Kind, How: e.how, Term: e.term})
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
