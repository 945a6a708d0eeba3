package privilege

import "slices"

// Graph knows which principal lies in which. It is made once and read by many.
type Graph struct {
	number   map[string]int32
	members  []Principal
	up       [][]edge // to groups
	everyone []int32
}

type edge struct {
	to        int32
	how, term string
}

// NewGraph makes one. A membership that names a principal that is not listed makes one of
// the kind unknown, so that nothing is passed over.
func NewGraph(principals []Principal, memberships []Membership) *Graph {
	g := &Graph{number: make(map[string]int32, len(principals)), members: make([]Principal, 0, len(principals))}
	for _, p := range principals {
		if _, twice := g.number[p.ID]; !twice {
			g.add(p)
		}
	}
	for _, m := range memberships {
		from, to := g.of(m.Member), g.of(m.Group)
		g.up[from] = append(g.up[from], edge{to, m.How, m.Term})
	}
	return g
}

func (g *Graph) add(p Principal) int32 {
	n := int32(len(g.members))
	g.number[p.ID] = n
	g.members, g.up = append(g.members, p), append(g.up, nil)
	if p.Kind == KindEveryone {
		g.everyone = append(g.everyone, n)
	}
	return n
}

func (g *Graph) of(id string) int32 {
	if n, known := g.number[id]; known {
		return n
	}
	return g.add(Principal{ID: id, Kind: KindUnknown, Name: id})
}

// Len is how many principals there are.
func (g *Graph) Len() int { return len(g.members) }

// Principal returns one by its id.
func (g *Graph) Principal(id string) (Principal, bool) {
	n, known := g.number[id]
	if !known {
		return Principal{ID: id, Kind: KindUnknown, Name: id}, false
	}
	return g.members[n], true
}

// walk is what one walk needs; it is used again for the next.
type walk struct {
	seen  []int32 // the number of the walk that came by
	from  []int32 // the step before
	by    []edge  // by which it was come to
	queue []int32
	round int32
}

func (g *Graph) walk() *walk {
	n := len(g.members)
	return &walk{seen: make([]int32, n), from: make([]int32, n), by: make([]edge, n)}
}

// reach goes up from one, nearest first: each group is come to by its shortest chain, and
// one that holds itself is walked once. Of two chains of the same length that without a
// term is taken.
func (g *Graph) reach(w *walk, start int32) []int32 {
	w.round++
	w.queue = append(w.queue[:0], start)
	w.seen[start], w.from[start] = w.round, -1
	for at := 0; at < len(w.queue); at++ {
		now := w.queue[at]
		for _, terms := range []bool{false, true} {
			for _, e := range g.up[now] {
				if (e.term != "") == terms && w.seen[e.to] != w.round {
					w.seen[e.to], w.from[e.to], w.by[e.to] = w.round, now, e
					w.queue = append(w.queue, e.to)
				}
			}
		}
	}
	if kind := g.members[start].Kind; kind == KindAccount || kind == KindRole {
		for _, n := range g.everyone {
			if w.seen[n] != w.round {
				w.seen[n], w.from[n], w.by[n] = w.round, start, edge{to: n}
				w.queue = append(w.queue, n)
			}
		}
		for at := 1; at < len(w.queue); at++ { // what everyone lies in
			for _, e := range g.up[w.queue[at]] {
				if w.seen[e.to] != w.round {
					w.seen[e.to], w.from[e.to], w.by[e.to] = w.round, w.queue[at], e
					w.queue = append(w.queue, e.to)
				}
			}
		}
	}
	return w.queue
}

// path is the chain from the start of the last walk to one that it came to.
func (g *Graph) path(w *walk, to int32) []Link {
	var out []Link
	for n := to; n >= 0; n = w.from[n] {
		p := g.members[n]
		s := Link{ID: p.ID, Name: p.Name, Kind: p.Kind}
		if w.from[n] >= 0 {
			s.How, s.Term = w.by[n].how, w.by[n].term
		}
		out = append(out, s)
	}
	slices.Reverse(out)
	return out
}

// Effective are all groups and roles that a principal lies in, nearest first, each with
// the chain to it.
func (g *Graph) Effective(id string) [][]Link {
	start, known := g.number[id]
	if !known {
		return nil
	}
	w := g.walk()
	reached := g.reach(w, start)[1:]
	out := make([][]Link, 0, len(reached))
	for _, n := range reached {
		out = append(out, g.path(w, n))
	}
	return out
}

// Each calls visit for every principal of some kinds with the ids of all that it lies in.
// The slice is used again for the next.
func (g *Graph) Each(kinds []Kind, visit func(p Principal, groups []string)) {
	w := g.walk()
	var ids []string
	for n, p := range g.members {
		if !slices.Contains(kinds, p.Kind) {
			continue
		}
		ids = ids[:0]
		for _, to := range g.reach(w, int32(n))[1:] {
			ids = append(ids, g.members[to].ID)
		}
		visit(p, ids)
	}
}
