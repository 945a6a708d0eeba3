package privilege

import (
	"cmp"
	"slices"
	"strings"
)

// Matcher tells whether an entry is about what is asked for. A kind of system whose
// entries have patterns brings its own; without one the texts must be the same.
type Matcher func(e Entry, what Question) Answer

// Answer of a Matcher.
type Answer int

// Answers.
const (
	AnswerNo Answer = iota
	AnswerYes
	AnswerUnsure // it depends on what nobody here can see
)

// Question is what somebody may be allowed to do.
type Question struct {
	Verb   string
	Object Object // Kind "" for any; Name "" for any
	What   string // a command, a column; "" for any
	As     string // whose rights a command is to run with; "" for the default
}

// Model is what is known of one system.
type Model struct {
	Graph   *Graph
	Lists   []List
	Matches Matcher

	byPrincipal map[int32][]place
}

type place struct{ list, seq int32 }

// NewModel makes one.
func NewModel(graph *Graph, lists []List, matches Matcher) *Model {
	m := &Model{Graph: graph, Lists: lists, Matches: matches, byPrincipal: map[int32][]place{}}
	for i, l := range lists {
		for j, e := range l.Entries {
			n := graph.of(e.To)
			m.byPrincipal[n] = append(m.byPrincipal[n], place{int32(i), int32(j)})
		}
	}
	return m
}

// Rights are all entries that reach a principal, those that take something included, in
// the order of lists. Entries that leave it out are not among them.
func (m *Model) Rights(id string) []Right {
	start, known := m.Graph.number[id]
	if !known {
		return nil
	}
	w := m.Graph.walk()
	reached := m.Graph.reach(w, start)
	var out []Right
	for _, n := range reached {
		for _, at := range m.byPrincipal[n] {
			if e := &m.Lists[at.list].Entries[at.seq]; !m.leftOut(w, e) {
				out = append(out, m.right(w, n, at))
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Right) int {
		if c := strings.Compare(a.List, b.List); c != 0 {
			return c
		}
		return a.Seq - b.Seq
	})
	return out
}

// leftOut reports whether an entry leaves out the one whose walk it is.
func (m *Model) leftOut(w *walk, e *Entry) bool {
	for _, id := range e.Not {
		if n, known := m.Graph.number[id]; known && w.seen[n] == w.round {
			return true
		}
	}
	return false
}

func (m *Model) right(w *walk, n int32, at place) Right {
	l := &m.Lists[at.list]
	e := &l.Entries[at.seq]
	r := Right{Verb: e.Verb, Objects: l.Objects, As: e.As, What: e.What, Deny: e.Deny, Default: e.Default, Unsure: e.Unsure, Text: e.Text, Source: e.Source, List: l.Key, Seq: int(at.seq), Path: m.Graph.path(w, n)}
	for _, s := range r.Path {
		if s.Term != "" && !slices.Contains(r.Terms, s.Term) {
			r.Terms = append(r.Terms, s.Term)
		}
	}
	if e.Through != "" && len(r.Path) > 1 && !slices.Contains(r.Terms, e.Through) {
		r.Terms = append(r.Terms, e.Through)
	}
	r.Terms = append(r.Terms, e.Terms...)
	return r
}

// about reports whether a list may be about an object.
func about(l *List, q Question) bool {
	if q.Object.Kind == "" && q.Object.Name == "" {
		return true
	}
	for _, o := range l.Objects {
		if o.Kind == ObjectSystem || (q.Object.Kind == "" || q.Object.Kind == o.Kind) && (q.Object.Name == "" || named(o, q.Object.Name)) {
			return true
		}
	}
	return false
}

// named reports whether an object has a name, or a pattern that it fits.
func named(o Object, name string) bool {
	if o.Like {
		name = strings.ToLower(name)
		return Like(strings.ToLower(o.Name), name) && !slices.ContainsFunc(o.Except, func(p string) bool { return Like(strings.ToLower(p), name) })
	}
	return o.Name == AllNames || strings.EqualFold(o.Name, name)
}

// Like matches a pattern of SQL, with a backslash as the character that escapes. Where it
// fails it goes back to the last % only: a pattern of another's costs no more than its
// length times that of the text.
func Like(pattern, text string) bool {
	at, back, from := 0, -1, 0
	for i := 0; i < len(text); {
		switch {
		case at < len(pattern) && pattern[at] == '%':
			at++
			back, from = at, i
			continue
		case at+1 < len(pattern) && pattern[at] == '\\' && pattern[at+1] == text[i]:
			at, i = at+2, i+1
			continue
		case at < len(pattern) && pattern[at] != '\\' && (pattern[at] == '_' || pattern[at] == text[i]):
			at, i = at+1, i+1
			continue
		case back < 0:
			return false
		}
		from++
		at, i = back, from
	}
	return strings.Trim(pattern[at:], "%") == ""
}

// everythingOf is what there is to do to kinds of objects, where everything is less than each
// verb of the system: whoever has all rights on one account does not replicate secrets by that.
var everythingOf = map[string][]string{
	"account": {"reset password", "write service names", "write account control", "write key credentials", "write delegation", "read managed password", "change permissions", "take ownership", "delete"},
	"group":   {"write members", "add itself", "change permissions", "take ownership", "delete"},
	"unit":    {"create accounts", "link policies", "change permissions", "take ownership", "delete"},
	"domain":  {"replicate secrets", "create accounts", "link policies", "change permissions", "take ownership", "delete"},
	"service": {"start", "stop", "change", "change permissions", "take ownership", "delete"},
}

// covered reports whether having everything on some objects means having a verb.
func covered(objects []Object, verb string) bool {
	if verb == "" || verb == VerbEverything {
		return true
	}
	return slices.ContainsFunc(objects, func(o Object) bool {
		verbs, less := everythingOf[o.Kind]
		return !less || slices.Contains(verbs, verb)
	})
}

// matches reports whether an entry is about a question.
func (m *Model) matches(l *List, e *Entry, q Question) Answer {
	if e.Verb == VerbEverything && !covered(l.Objects, q.Verb) {
		return AnswerNo
	}
	if q.Verb != "" && !Covers(e.Verb, q.Verb) {
		return AnswerNo
	}
	if e.Verb == VerbEverything && e.What == "" {
		return AnswerYes
	}
	if m.Matches != nil {
		return m.Matches(*e, q)
	}
	if q.What != "" && e.What != "" && !strings.EqualFold(e.What, q.What) {
		return AnswerNo
	}
	return AnswerYes
}

// Decision is what the lists of a system say to a question for one principal.
type Decision struct {
	Allowed bool
	Unsure  string  // why it may be otherwise: something that nobody here can see
	By      []Right // the entries that decided
	Alone   bool    // a list that decides alone said so: what was not read changes nothing
}

// Decide answers a question for one principal.
func (m *Model) Decide(id string, q Question) Decision {
	start, known := m.Graph.number[id]
	if !known {
		return Decision{Unsure: "nothing is known of it here"}
	}
	w := m.Graph.walk()
	m.Graph.reach(w, start)
	return m.decide(w, q)
}

// decide answers for the one whose walk it is. One list that allows is enough.
func (m *Model) decide(w *walk, q Question) Decision {
	var out Decision
	for i := range m.Lists {
		if !about(&m.Lists[i], q) {
			continue
		}
		d := m.decideOne(w, int32(i), q)
		out.add(d)
	}
	return out
}

// add takes in what another list says: one that allows for sure is enough.
func (d *Decision) add(other Decision) {
	d.By = append(d.By, other.By...)
	switch {
	case d.Alone:
	case other.Alone:
		d.Allowed, d.Unsure, d.Alone = other.Allowed, other.Unsure, true
	case other.Allowed && other.Unsure == "" && !d.Allowed:
		d.Allowed, d.Unsure = true, ""
	case other.Unsure != "" && !d.Allowed && d.Unsure == "":
		d.Unsure = other.Unsure
	}
}

// decideOne answers by one list. An entry of which it cannot be said whether it applies
// leaves the answer to those after it, and takes the certainty from theirs.
func (m *Model) decideOne(w *walk, list int32, q Question) Decision {
	l := &m.Lists[list]
	s := settling{decides: l.Decides}
	for k := range l.Entries {
		j := k
		if l.Decides == DecidesLast {
			j = len(l.Entries) - 1 - k
		}
		e := &l.Entries[j]
		n, known := m.Graph.number[e.To]
		if !known || w.seen[n] != w.round || m.leftOut(w, e) {
			continue
		}
		answer := m.answer(w, place{list, int32(j)}, e, q)
		if answer == AnswerNo {
			continue
		}
		if !e.Deny {
			s.by = append(s.by, m.right(w, n, place{list, int32(j)}))
		}
		if s.take(e, answer) {
			break
		}
	}
	return s.decision()
}

// settling is what the entries of one list come to, one after the other in the order in
// which they decide.
type settling struct {
	decides           Decides
	allowed, settled  bool // settled: an entry has the word
	mayAllow, mayDeny string
	by                []Right
}

// take takes an entry that is about the question, and reports whether it has the word.
func (s *settling) take(e *Entry, answer Answer) bool {
	if answer == AnswerUnsure || e.Unsure != "" {
		why := cmp.Or(e.Unsure, "whether this applies cannot be seen from here: "+e.Text)
		if e.Deny {
			s.mayDeny = cmp.Or(s.mayDeny, why)
		} else {
			s.mayAllow = cmp.Or(s.mayAllow, why)
		}
		return false
	}
	s.allowed, s.settled = s.allowed || !e.Deny, true
	return s.decides != DecidesAny
}

func (s *settling) decision() Decision {
	out := Decision{Allowed: s.allowed, By: s.by}
	switch {
	case out.Allowed && s.decides != DecidesAny:
		out.Unsure = s.mayDeny
		out.Allowed = s.mayDeny == ""
	case !out.Allowed && s.decides == DecidesAlone && !s.settled:
		out.Unsure = cmp.Or(s.mayAllow, s.mayDeny)
	case !out.Allowed:
		out.Unsure = s.mayAllow
	}
	out.Alone = s.settled && s.decides == DecidesAlone
	return out
}

// answer is what an entry says to a question, once for all whom it is asked of.
func (m *Model) answer(w *walk, at place, e *Entry, q Question) Answer {
	if w.asked == nil {
		return m.matches(&m.Lists[at.list], e, q)
	}
	said, known := w.asked[at]
	if !known {
		said = m.matches(&m.Lists[at.list], e, q)
		w.asked[at] = said
	}
	return said
}

// Holder is one who may do what was asked for.
type Holder struct {
	Principal Principal
	Decision
}

// Who lists the principals of some kinds that may do it, or of whom it cannot be said.
func (m *Model) Who(q Question, kinds ...Kind) []Holder {
	if len(kinds) == 0 {
		kinds = []Kind{KindAccount}
	}
	w := m.Graph.walk()
	w.asked = map[place]Answer{}
	var out []Holder
	for n, p := range m.Graph.members {
		if !slices.Contains(kinds, p.Kind) {
			continue
		}
		m.Graph.reach(w, int32(n))
		if d := m.decide(w, q); d.Allowed || d.Unsure != "" && len(d.By) > 0 {
			out = append(out, Holder{p, d})
		}
	}
	return out
}
