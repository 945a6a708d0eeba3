package privilege

import (
	"iter"
	"math/bits"
	"slices"
)

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
	asked map[place]Answer // what entries say to the question, where many are asked it
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

// Each calls visit for every principal of some kinds with the set of all that it lies in.
// The set is used again for the next. What groups lie in is worked out once for each of
// them, not once for each member.
func (g *Graph) Each(kinds []Kind, visit func(p Principal, in Set)) {
	c := g.closures()
	in := Set{g: g, upper: c.upper, place: c.place, bits: make([]uint64, c.words)}
	for n, p := range g.members {
		if !slices.Contains(kinds, p.Kind) {
			continue
		}
		clear(in.bits)
		c.into(in.bits, int32(n))
		if p.Kind == KindAccount || p.Kind == KindRole {
			for _, e := range g.everyone {
				in.add(c.place[e])
				c.into(in.bits, e)
			}
		}
		if at := c.place[n]; at >= 0 { // what lies in itself by a circle
			in.bits[at/64] &^= 1 << (at % 64)
		}
		visit(p, in)
	}
}

// Set is what a principal lies in.
type Set struct {
	g     *Graph
	upper []int32 // principals that something lies in, by their place in the set
	place []int32 // the other way round; -1 for none
	bits  []uint64
}

func (s Set) add(at int32) {
	if at >= 0 {
		s.bits[at/64] |= 1 << (at % 64)
	}
}

// Len is how many there are.
func (s Set) Len() (n int) {
	for _, w := range s.bits {
		n += bits.OnesCount64(w)
	}
	return n
}

// Has reports whether a principal is among them.
func (s Set) Has(id string) bool {
	n, known := s.g.number[id]
	if !known || s.place[n] < 0 {
		return false
	}
	return s.bits[s.place[n]/64]>>(s.place[n]%64)&1 == 1
}

// All yields them.
func (s Set) All() iter.Seq[Principal] {
	return func(yield func(Principal) bool) {
		for w, word := range s.bits {
			for ; word != 0; word &= word - 1 {
				if !yield(s.g.members[s.upper[w*64+bits.TrailingZeros64(word)]]) {
					return
				}
			}
		}
	}
}

// closures has for each principal that something lies in all that it lies in itself.
// Those that lie in each other share one.
type closures struct {
	g     *Graph
	upper []int32
	place []int32
	words int
	of    [][]uint64 // by place
}

// into adds to a set what a principal is listed in, and what that lies in.
func (c *closures) into(set []uint64, n int32) {
	for _, e := range c.g.up[n] {
		at := c.place[e.to]
		set[at/64] |= 1 << (at % 64)
		for w, word := range c.of[at] {
			set[w] |= word
		}
	}
}

// closures finds circles and their order (Tarjan, "Depth-first search and linear graph
// algorithms", 1972), without recursion: groups may be as deep as they like.
func (g *Graph) closures() *closures {
	c := &closures{g: g, place: make([]int32, len(g.members))}
	for n := range c.place {
		c.place[n] = -1
	}
	for n := range g.up {
		for _, e := range g.up[n] {
			if c.place[e.to] < 0 {
				c.place[e.to] = int32(len(c.upper))
				c.upper = append(c.upper, e.to)
			}
		}
	}
	for _, e := range g.everyone {
		if c.place[e] < 0 {
			c.place[e] = int32(len(c.upper))
			c.upper = append(c.upper, e)
		}
	}
	c.words = (len(c.upper) + 63) / 64
	c.of = make([][]uint64, len(c.upper))
	index, low := make([]int32, len(c.upper)), make([]int32, len(c.upper))
	onStack := make([]bool, len(c.upper))
	var stack []int32
	type frame struct{ at, next int32 }
	var counter int32
	for root := range c.upper {
		if index[root] != 0 {
			continue
		}
		work := []frame{{at: int32(root)}}
		for len(work) > 0 {
			f := &work[len(work)-1]
			if index[f.at] == 0 {
				counter++
				index[f.at], low[f.at] = counter, counter
				stack, onStack[f.at] = append(stack, f.at), true
			}
			edges := g.up[c.upper[f.at]]
			if int(f.next) < len(edges) {
				to := c.place[edges[f.next].to]
				f.next++
				switch {
				case index[to] == 0:
					work = append(work, frame{at: to})
				case onStack[to]:
					low[f.at] = min(low[f.at], index[to])
				}
				continue
			}
			at := f.at
			work = work[:len(work)-1]
			if len(work) > 0 {
				below := work[len(work)-1].at
				low[below] = min(low[below], low[at])
			}
			if low[at] == index[at] {
				stack = c.circle(stack, onStack, at)
			}
		}
	}
	return c
}

// circle makes the set that all of one circle share: what each lies in was made before.
func (c *closures) circle(stack []int32, onStack []bool, root int32) []int32 {
	from := len(stack) - 1
	for stack[from] != root {
		from--
	}
	set := make([]uint64, c.words)
	for _, at := range stack[from:] {
		onStack[at] = false
		c.of[at] = set
	}
	for _, at := range stack[from:] {
		for _, e := range c.g.up[c.upper[at]] {
			to := c.place[e.to]
			set[to/64] |= 1 << (to % 64)
			for w, word := range c.of[to] {
				set[w] |= word
			}
		}
	}
	return stack[:from]
}
