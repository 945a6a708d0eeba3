package charter

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/core/reach"
)

// State is what one thing of a charter comes to.
type State string

// States of a Line.
const (
	StateMet       State = "met"
	StateMissing   State = "missing"   // it needs it, and has it not
	StateExcess    State = "excess"    // it has it, and the charter does not say so
	StateForbidden State = "forbidden" // it has what it must never have
	StateDiffers   State = "differs"   // the account itself is otherwise
	StateUnknown   State = "unknown"   // it cannot be said
)

// States lists all.
func States() []State {
	return []State{StateMet, StateMissing, StateExcess, StateForbidden, StateDiffers, StateUnknown}
}

// Sections of a charter that lines come of.
const (
	SectionMust    = "must"
	SectionNever   = "never"
	SectionAccount = "account"
	SectionOneOn   = "one_on"
	SectionGroups  = "groups"
	SectionBeyond  = "beyond" // what no section speaks of
)

// Line is what one thing of a charter comes to for one account on one system.
type Line struct {
	State   State
	Section string
	Item    string // in words
	Why     string
	When    string // what is missing breaks something then
	Because string // as the charter says
	By      []privilege.Right
	Change  *privilege.RightChange
}

// Known is what is known of one system.
type Known struct {
	Name, Kind string
	Model      *privilege.Model
	Unread     string // why its rights are not known completely; "" where they are
	Now        time.Time
	Reached    map[string]Reached // by target: what ports answered there last
}

// Reached is what a port answered, asked from the system, or from the service where nothing can
// be asked from there.
type Reached struct {
	reach.Ask
	Outcome reach.Outcome
	Words   string
	At      time.Time
}

// Comparison holds charters against what is known of one system. It is made once, turned to
// one account after the other, and belongs to one goroutine.
type Comparison struct {
	known    Known
	charters []prepared
	bearer   *privilege.Bearer
	account  estate.Account
	there    bool              // the account is known to the model
	guest    bool              // the account belongs to another system
	stranger bool              // which the system does not know
	told     map[entryKey]bool // entries by which it has what is forbidden: they are not told as excess as well
}

type entryKey struct {
	list string
	seq  int
}

func (c *Comparison) tell(by []privilege.Right) {
	for _, r := range by {
		if c.told == nil {
			c.told = map[entryKey]bool{}
		}
		c.told[entryKey{r.List, r.Seq}] = true
	}
}

type prepared struct {
	*Document
	items    []asked  // must and never, those that are about this system
	accepted []Item   // must and may, those that are about this system
	through  []string // principals that it may lie in: what they give is accepted
	entries  [][]int8 // by list: of each entry, 0 for not yet known, 1 for not accepted, 2 for accepted
	groups   map[string]bool
}

// asked is an item with what is asked for it.
type asked struct {
	*Item
	section   string
	words     string
	groups    []string // ids of those of the name
	questions []*privilege.Asked
	pattern   string // of never: names of objects; "" where the question says it
}

// Compare makes ready.
func Compare(known Known, charters []*Document) *Comparison {
	c := &Comparison{known: known, bearer: known.Model.Bearer()}
	for _, d := range charters {
		p := prepared{Document: d, entries: make([][]int8, len(known.Model.Lists)), groups: map[string]bool{}}
		var ids []string
		for _, s := range []struct {
			section string
			items   []Item
		}{{SectionMust, d.Must}, {"may", d.May}, {SectionNever, d.Never}} {
			for i := range s.items {
				item := &s.items[i]
				if !isOn(item.On, known.Name, known.Kind) || !item.meant(known.Kind) {
					continue
				}
				a := c.ask(item, s.section)
				if s.section != SectionNever {
					p.accepted = append(p.accepted, *item)
					ids = append(ids, a.groups...)
				}
				if s.section != "may" {
					p.items = append(p.items, a)
				}
			}
		}
		p.through = ids
		for _, id := range ids {
			p.groups[id] = true
		}
		c.charters = append(c.charters, p)
	}
	return c
}

// meant reports whether a kind of system knows such a thing at all: a command by its path is
// run on hosts, one without in stores that have commands.
func (i *Item) meant(kind string) bool {
	if i.Run == "" {
		return true
	}
	if _, run, _ := sudo.Digested(i.Run); strings.HasPrefix(run, "/") || i.Run == "ALL" || strings.HasPrefix(i.Run, "sudoedit") {
		return kind == string(estate.KindUnixHost)
	}
	return kind == string(estate.KindRedis)
}

// mostObjects is how many objects a pattern is asked for.
const mostObjects = 500

func (c *Comparison) ask(item *Item, section string) asked {
	out := asked{Item: item, section: section, words: item.Words()}
	if section == SectionNever {
		out.words = NeverPrefix + out.words
	}
	m := c.known.Model
	switch {
	case item.MemberOf != "":
		out.groups = m.Graph.Named(func(p privilege.Principal) bool {
			return strings.EqualFold(p.Name, item.MemberOf) || strings.EqualFold(p.ID, item.MemberOf)
		}, privilege.KindGroup, privilege.KindRole, privilege.KindUnknown)
		return out
	case item.Reach != "":
		return out
	case item.Run != "":
		out.questions = []*privilege.Asked{m.Ask(privilege.Question{Verb: privilege.VerbRun, What: item.Run, As: item.As})}
		return out
	}
	q := privilege.Question{Verb: item.Do, What: item.What, Object: c.object(item.To)}
	if !strings.Contains(q.Object.Name, "*") {
		out.questions = []*privilege.Asked{m.Ask(q)}
		return out
	}
	pattern := q.Object.Name
	if section != SectionMust {
		q.Object.Name = ""
		out.pattern, out.questions = pattern, []*privilege.Asked{m.Ask(q)}
		return out
	}
	seen := map[string]bool{}
	for i := range m.Lists {
		for _, o := range m.Things(i) {
			if o.Like || o.Name == privilege.AllNames || q.Object.Kind != "" && o.Kind != q.Object.Kind || seen[o.Kind+":"+o.Name] || len(seen) == mostObjects || !fits(strings.ToLower(pattern), strings.ToLower(o.Name)) {
				continue
			}
			seen[o.Kind+":"+o.Name] = true
			one := q
			one.Object = privilege.Object{Kind: o.Kind, Name: o.Name}
			out.questions = append(out.questions, m.Ask(one))
		}
	}
	if len(out.questions) == 0 {
		out.questions = []*privilege.Asked{m.Ask(q)}
	}
	return out
}

// object is what an item is done to: KIND:NAME where the system has objects of that kind.
func (c *Comparison) object(to string) privilege.Object {
	kind, name, found := strings.Cut(to, ":")
	if !found {
		return privilege.Object{Name: to}
	}
	for i := range c.known.Model.Lists {
		for _, o := range c.known.Model.Things(i) {
			if o.Kind == kind {
				return privilege.Object{Kind: kind, Name: name}
			}
		}
	}
	if strings.ContainsAny(kind, " /.\\=") {
		return privilege.Object{Name: to} // a name with a colon in it
	}
	return privilege.Object{Kind: kind, Name: name}
}

// Turn turns to an account of the system.
func (c *Comparison) Turn(a estate.Account) {
	c.account, c.guest, c.stranger = a, false, false
	c.there = c.bearer.Of(a.StableID)
}

// TurnGuest turns to an account of another system, as the system knows it. Of a charter only
// what names the system or its kind is about a guest.
// Of one that it does not know, only what names the system itself: it need not be on each of a kind.
func (c *Comparison) TurnGuest(a estate.Account, as privilege.Principal, known bool) {
	a.StableID, a.Name = as.ID, cmp.Or(as.Name, a.Name)
	c.Turn(a)
	c.guest, c.stranger = true, !known
}

// Elsewhere reports whether a charter says anything of a system for accounts of other ones:
// its items name it, or its kind, and then only of those that it knows.
func (d *Document) Elsewhere(name, kind string) (anything, named bool) {
	for _, i := range slices.Concat(d.Must, d.Never) {
		if len(i.On) == 0 || !isOn(i.On, name, kind) || !i.meant(kind) {
			continue
		}
		anything = true
		named = named || byName(i.On, name, kind)
	}
	return anything, named
}

// byName reports whether something is about a system by its name, not only by its kind.
func byName(on []string, name, kind string) bool {
	return slices.ContainsFunc(on, func(one string) bool { return !strings.HasPrefix(one, "kind:") && isOn([]string{one}, name, kind) })
}

// Lines holds one of the charters, by its place, against the account, and adds what comes of
// it to a list.
func (c *Comparison) Lines(charter int, out []Line) []Line {
	p := &c.charters[charter]
	clear(c.told)
	for i := range p.items {
		a := &p.items[i]
		if c.guest && len(a.On) == 0 || c.stranger && !byName(a.On, c.known.Name, c.known.Kind) {
			continue
		}
		line := Line{Section: a.section, Item: a.words, Because: a.Because}
		if a.section == SectionMust {
			c.must(a, &line)
		} else {
			c.never(p, a, &line)
		}
		out = append(out, line)
	}
	if c.guest {
		return out // what else its host gives it is no matter of this charter
	}
	return c.beyond(p, c.flags(p.Document, out))
}

// unread makes a line unknown where not everything was read.
func (c *Comparison) unread(line *Line, state State) {
	switch {
	case c.known.Unread != "":
		line.State, line.Why = StateUnknown, "not everything was read: "+c.known.Unread
	default:
		line.State = state
	}
}

func (c *Comparison) must(a *asked, line *Line) {
	if a.MemberOf != "" {
		for _, id := range a.groups {
			if c.bearer.LiesIn(id) {
				line.State = StateMet
				return
			}
		}
		c.unread(line, StateMissing)
		if len(a.groups) == 0 && line.State == StateMissing {
			line.Why = "there is no such group or role on " + c.known.Name
		}
		line.When = c.when(a.Item)
		line.Change = c.give(a, privilege.Object{})
		return
	}
	if a.Reach != "" {
		c.reached(a, line, StateMet, StateMissing)
		return
	}
	line.State = StateMet
	for _, q := range a.questions {
		d := c.bearer.Decide(q)
		switch {
		case d.Allowed:
		case d.Unsure != "":
			line.State, line.Why = StateUnknown, d.Unsure
		default:
			if c.unread(line, StateMissing); d.Alone {
				line.State, line.Why = StateMissing, ""
			}
			line.When = c.when(a.Item)
			line.Change = c.give(a, q.Object)
			if len(a.questions) > 1 {
				line.Why = strings.TrimPrefix(line.Why+"; not on "+q.Object.Kind+" "+q.Object.Name, "; ")
			}
			return
		}
	}
}

// reached says what a port answered last.
func (c *Comparison) reached(a *asked, line *Line, open, closed State) {
	want := a.Ask()
	got, known := c.known.Reached[want.Target]
	switch {
	case !known || got.Status != want.Status || got.Contains != want.Contains:
		line.State, line.Why = StateUnknown, "it was not asked yet: 'moss charter check' asks"
	case got.Outcome == reach.Unprobed:
		line.State, line.Why = StateUnknown, got.Words
	case got.Outcome == reach.Open:
		line.State = open
	default:
		line.State = closed
		if closed == StateMissing {
			line.Why, line.When = string(got.Outcome)+": "+got.Words, WhenNextUse
		}
	}
}

func (c *Comparison) give(a *asked, object privilege.Object) *privilege.RightChange {
	out := &privilege.RightChange{Give: true, To: c.account.Name, ToID: c.account.StableID, ToDN: c.account.DN, ToKind: privilege.KindAccount}
	if a.MemberOf == "" {
		out.Verb, out.Object, out.What, out.As = cmp.Or(a.Do, privilege.VerbRun), object, cmp.Or(a.Run, a.What), a.As
		return out
	}
	out.Group = a.MemberOf
	if len(a.groups) == 1 {
		c.group(out, a.groups[0])
	}
	return out
}

// group names the group of a change.
func (c *Comparison) group(change *privilege.RightChange, id string) {
	p, _ := c.known.Model.Graph.Principal(id)
	change.Group, change.GroupID, change.GroupDN = p.Name, id, p.DN
}

// NeverPrefix begins the words of what must never be.
const NeverPrefix = "never: "

// verbMember stands for a membership among rights.
const verbMember = "member"

// When what is missing breaks something.
const (
	WhenNextUse    = "at its next use"
	WhenNextSignIn = "at its next sign-in"
	WhenNextStart  = "at its next start"
)

func (c *Comparison) when(i *Item) string {
	switch {
	case i.Do == privilege.VerbSignIn && i.What == privilege.AsService:
		return WhenNextStart
	case i.Do == privilege.VerbSignIn:
		return WhenNextSignIn
	case i.MemberOf == "":
		return WhenNextUse
	case c.known.Kind == string(estate.KindUnixHost), c.known.Kind == string(estate.KindWindowsHost):
		return WhenNextStart // a process keeps the groups that it began with
	case c.known.Kind == string(estate.KindDirectory):
		return WhenNextSignIn
	}
	return WhenNextUse
}

func (c *Comparison) never(p *prepared, a *asked, line *Line) {
	if a.MemberOf != "" {
		for _, id := range a.groups {
			if path := c.bearer.PathTo(id); len(path) > 1 {
				line.State = StateForbidden
				line.By = []privilege.Right{{Verb: verbMember, Path: path}}
				line.Change, _ = c.leave(p, path)
				return
			}
		}
		c.unread(line, StateMet)
		return
	}
	if a.Reach != "" {
		c.reached(a, line, StateForbidden, StateMet)
		return
	}
	q := a.questions[0]
	d := c.bearer.Decide(q)
	if !d.Allowed && d.Unsure == "" {
		if c.unread(line, StateMet); d.Alone {
			line.State, line.Why = StateMet, ""
		}
		return
	}
	by := c.bearer.By(q)
	if a.pattern != "" {
		by = fitting(by, a.pattern)
		if len(by) == 0 {
			c.unread(line, StateMet)
			return
		}
	}
	line.By = by
	if !d.Allowed {
		line.State, line.Why = StateUnknown, d.Unsure
		return
	}
	line.State = StateForbidden
	if len(by) > 0 {
		line.Change = c.take(p, by[0])
		c.tell(by)
	}
}

// fitting keeps the rights on objects whose names fit a pattern.
func fitting(by []privilege.Right, pattern string) (out []privilege.Right) {
	for _, r := range by {
		for _, o := range r.Objects {
			if o.Kind == privilege.ObjectSystem || o.Name == privilege.AllNames || fits(strings.ToLower(pattern), strings.ToLower(o.Name)) {
				out = append(out, r)
				break
			}
		}
	}
	return out
}

// leave is the change by which an account is no longer in the last of a path: the first link
// that the charter does not ask for is undone. ok is false where it asks for all of them.
func (c *Comparison) leave(p *prepared, path []privilege.Link) (out *privilege.RightChange, ok bool) {
	for i := 1; i < len(path); i++ {
		if p.groups[path[i].ID] || path[i].Kind == privilege.KindEveryone {
			continue
		}
		who, _ := c.known.Model.Graph.Principal(path[i-1].ID)
		out = &privilege.RightChange{To: path[i-1].Name, ToID: path[i-1].ID, ToDN: who.DN, ToKind: path[i-1].Kind}
		if i == 1 {
			out.To, out.ToDN = c.account.Name, c.account.DN
		}
		c.group(out, path[i].ID)
		return out, true
	}
	return nil, false
}

// take is the change by which a right is no longer there: where it comes by a group that the
// charter does not ask for, the membership; else what the last of the path is given.
func (c *Comparison) take(p *prepared, r privilege.Right) *privilege.RightChange {
	if out, ok := c.leave(p, r.Path); ok {
		return out
	}
	to := r.Path[len(r.Path)-1]
	out := &privilege.RightChange{To: to.Name, ToID: to.ID, ToKind: to.Kind, Verb: r.Verb, What: r.What, As: r.As, Text: r.Text, Source: r.Source}
	if len(r.Objects) > 0 {
		out.Object = r.Objects[0]
	}
	return out
}
