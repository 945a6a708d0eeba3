package privilege

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func account(id string) Principal { return Principal{ID: id, Kind: KindAccount, Name: id} }
func group(id string) Principal   { return Principal{ID: id, Kind: KindGroup, Name: id} }

func through(chains [][]Link) []string {
	var out []string
	for _, c := range chains {
		out = append(out, Right{Path: c}.Through())
	}
	return out
}

// The shortest chain, through a circle, the primary group named as that, everyone at the end.
func TestEffectiveMembershipHasItsChain(t *testing.T) {
	g := NewGraph([]Principal{account("svc"), account("other"), group("crew"), group("deck"), group("ops"), group("root"), {ID: "world", Kind: KindEveryone, Name: "PUBLIC"}}, []Membership{
		{Member: "svc", Group: "crew"},
		{Member: "crew", Group: "deck"},
		{Member: "deck", Group: "crew"},
		{Member: "deck", Group: "ops"},
		{Member: "svc", Group: "ops", How: "primary group"},
		{Member: "ops", Group: "root", Term: "after SET ROLE"},
		{Member: "deck", Group: "root"},
		{Member: "world", Group: "guests"},
		{Member: "other", Group: "svc"},
	})
	assert.Equal(t, []string{"crew", "ops (primary group)", "crew > deck", "ops (primary group) > root", "PUBLIC", "PUBLIC > guests"}, through(g.Effective("svc")))
	assert.Nil(t, g.Effective("nobody"))
	p, known := g.Principal("guests")
	assert.True(t, known)
	assert.Equal(t, KindUnknown, p.Kind, "a group that nobody listed is there all the same")
	g.Each([]Kind{KindAccount}, func(p Principal, in Set) {
		var ids []string
		for of := range in.All() {
			ids = append(ids, of.ID)
		}
		want := []string{}
		for _, chain := range g.Effective(p.ID) {
			want = append(want, chain[len(chain)-1].ID)
		}
		assert.ElementsMatch(t, want, ids, p.ID)
	})
	assert.NotContains(t, through(g.Effective("crew")), "PUBLIC", "a group is not somebody")
}

// A term on one of two chains of the same length is not put on the right.
func TestTheChainWithoutATermIsTaken(t *testing.T) {
	g := NewGraph([]Principal{account("svc"), group("a"), group("b"), group("top")}, []Membership{
		{Member: "svc", Group: "top", Term: "after SET ROLE"}, {Member: "svc", Group: "top"},
	})
	assert.Empty(t, g.Effective("svc")[0][1].Term)
}

// Whatever the graph: what is reached is what a plain closure of the relation has, and
// each chain is one of its edges.
func TestEffectiveMembershipIsTheClosure(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 14).Draw(t, "principals")
		edges := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) [2]int {
			return [2]int{rapid.IntRange(0, n-1).Draw(t, "from"), rapid.IntRange(0, n-1).Draw(t, "to")}
		}), 0, 40).Draw(t, "edges")
		var principals []Principal
		var memberships []Membership
		var has [14][14]bool
		for i := range n {
			principals = append(principals, group(fmt.Sprint(i)))
		}
		for _, e := range edges {
			memberships = append(memberships, Membership{Member: fmt.Sprint(e[0]), Group: fmt.Sprint(e[1])})
			has[e[0]][e[1]] = true
		}
		direct := has
		for k := range n { // Warshall
			for i := range n {
				for j := range n {
					has[i][j] = has[i][j] || has[i][k] && has[k][j]
				}
			}
		}
		g := NewGraph(principals, memberships)
		each := map[string][]string{}
		g.Each([]Kind{KindGroup}, func(p Principal, in Set) {
			for of := range in.All() {
				each[p.ID] = append(each[p.ID], of.ID)
				require.True(t, in.Has(of.ID))
			}
			require.Len(t, each[p.ID], in.Len())
			require.False(t, in.Has("nobody"))
		})
		for i := range n {
			var want []string
			for j := range n {
				if i != j && has[i][j] {
					want = append(want, fmt.Sprint(j))
				}
			}
			var got []string
			for _, chain := range g.Effective(fmt.Sprint(i)) {
				got = append(got, chain[len(chain)-1].ID)
				for k := 1; k < len(chain); k++ {
					var from, to int
					_, _ = fmt.Sscan(chain[k-1].ID, &from)
					_, _ = fmt.Sscan(chain[k].ID, &to)
					require.True(t, direct[from][to], "a chain goes along memberships")
				}
			}
			require.ElementsMatch(t, want, got)
			require.ElementsMatch(t, want, each[fmt.Sprint(i)])
		}
	})
}

func holders(h []Holder) []string {
	var out []string
	for _, h := range h {
		name := h.Principal.Name
		if !h.Allowed {
			name += "?"
		}
		out = append(out, name)
	}
	return out
}

// The three ways to decide, what is left out, and what cannot be seen.
func TestWhoMay(t *testing.T) {
	principals := []Principal{account("berth"), account("tide"), account("fuel"), group("crew"), {ID: "world", Kind: KindEveryone, Name: "everyone"}}
	memberships := []Membership{{Member: "berth", Group: "crew"}, {Member: "tide", Group: "crew"}}
	allow, deny := Entry{To: "crew", Verb: "read"}, Entry{To: "tide", Verb: "read", Deny: true}
	unsure := func(e Entry) Entry { e.Unsure = "only from a net group that is not known"; return e }
	but := Entry{To: "world", Verb: VerbEverything, Not: []string{"crew"}}
	for _, c := range []struct {
		name    string
		decides Decides
		entries []Entry
		want    []string
	}{
		{"any is enough", DecidesAny, []Entry{allow, {To: "fuel", Verb: VerbEverything}}, []string{"berth", "tide", "fuel"}},
		{"the last decides", DecidesLast, []Entry{allow, deny}, []string{"berth"}},
		{"the last decides, turned round", DecidesLast, []Entry{deny, allow}, []string{"berth", "tide"}},
		{"the first decides", DecidesFirst, []Entry{deny, allow}, []string{"berth"}},
		{"another verb does not", DecidesFirst, []Entry{{To: "world", Verb: "write", Deny: true}, allow}, []string{"berth", "tide"}},
		{"who is left out", DecidesAny, []Entry{but}, []string{"fuel"}},
		{"perhaps allowed", DecidesLast, []Entry{unsure(allow)}, []string{"berth?", "tide?"}},
		{"perhaps denied", DecidesLast, []Entry{allow, unsure(deny)}, []string{"berth", "tide?"}},
		{"perhaps, and surely", DecidesAny, []Entry{unsure(allow), allow}, []string{"berth", "tide"}},
		{"denied first, perhaps allowed before", DecidesFirst, []Entry{unsure(allow), {To: "world", Verb: "read", Deny: true}}, []string{"berth?", "tide?"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			lists := []List{{Key: "list", Decides: c.decides, Objects: []Object{{Kind: "table", Name: "Bookings"}}, Entries: c.entries}}
			m := NewModel(NewGraph(principals, memberships), lists, nil)
			assert.ElementsMatch(t, c.want, holders(m.Who(Question{Verb: "read", Object: Object{Kind: "table", Name: "bookings"}})))
			assert.Empty(t, m.Who(Question{Verb: "read", Object: Object{Kind: "table", Name: "fares"}}), "another object")
			for _, p := range []string{"berth", "tide", "fuel"} {
				assert.Equal(t, slices.Contains(c.want, p), m.Decide(p, Question{Verb: "read"}).Allowed, p)
			}
		})
	}
	m := NewModel(NewGraph(principals, memberships), []List{
		{Key: "a", Decides: DecidesLast, Entries: []Entry{allow, deny}, Objects: []Object{{Kind: ObjectSystem}}},
		{Key: "b", Decides: DecidesAny, Entries: []Entry{{To: "tide", Verb: "read", What: "fares", Terms: []string{"with its password"}}}, Objects: []Object{{Kind: "table", Name: "x"}}},
	}, nil)
	assert.True(t, m.Decide("tide", Question{Verb: "read", What: "FARES"}).Allowed, "one list that allows is enough")
	assert.False(t, m.Decide("tide", Question{Verb: "read", What: "rates"}).Allowed)
	assert.Equal(t, "nothing is known of it here", m.Decide("stranger", Question{Verb: "read"}).Unsure)
	rights := m.Rights("tide")
	require.Len(t, rights, 3)
	assert.Equal(t, "crew", rights[0].Through())
	assert.True(t, rights[1].Deny, "what takes something is told as well")
	assert.Equal(t, []string{"with its password"}, rights[2].Terms)
	assert.Nil(t, m.Rights("stranger"))
}

// Entries of lists that decide by any of them come in an order of their own, others stay.
func TestOrderOfLists(t *testing.T) {
	entries := []Entry{{To: "b", Verb: "x"}, {To: "a", Verb: "y"}, {To: "a", Verb: "x"}}
	l := List{Decides: DecidesAny, Entries: slices.Clone(entries), Objects: []Object{{Kind: "t", Name: "b"}, {Kind: "t", Name: "a"}}}
	l.Lower()
	assert.Equal(t, []Entry{entries[2], entries[1], entries[0]}, l.Entries)
	assert.Equal(t, "a", l.Objects[0].Name)
	l = List{Decides: DecidesLast, Entries: slices.Clone(entries)}
	l.Lower()
	assert.Equal(t, entries, l.Entries)
}

// Everything on one thing is what there is to do to that thing, and no other verb of the system.
func TestEverythingOfAThing(t *testing.T) {
	entries := []Entry{{To: "a", Verb: VerbEverything, Text: "(GA)"}}
	m := NewModel(NewGraph([]Principal{{ID: "a", Kind: KindAccount, Name: "a"}}, nil), []List{
		{Key: "1", Decides: DecidesFirst, Objects: []Object{{Kind: "account", Name: "svc-tide"}}, Entries: entries},
		{Key: "2", Decides: DecidesFirst, Objects: []Object{{Kind: "service", Name: "Tide"}}, Entries: entries},
		{Key: "3", Decides: DecidesAny, Objects: []Object{{Kind: "table", Name: "tides"}}, Entries: entries},
	}, nil)
	for verb, want := range map[string]bool{"reset password": true, "delete": true, "start": true, "select": true, VerbEverything: true, "replicate secrets": false, "write members": false, "shut down": false, VerbSignIn: false} {
		q := Question{Verb: verb}
		if verb == "shut down" || verb == "write members" || verb == "replicate secrets" { // a table may have any
			q.Object.Kind = "service"
		}
		assert.Equal(t, want, m.Decide("a", q).Allowed, verb)
		b := m.Bearer()
		b.Of("a")
		assert.Equal(t, want, b.Decide(m.Ask(q)).Allowed, verb)
	}
	m.Lists = m.Lists[:1]
	m = NewModel(m.Graph, m.Lists, nil)
	assert.False(t, m.Decide("a", Question{Verb: "replicate secrets"}).Allowed, "not even where nothing is named that it is done to")
}

// A list that decides alone has the word, whatever others say, and where it has none leaves
// theirs.
func TestAlone(t *testing.T) {
	people := []Principal{{ID: "a", Kind: KindAccount, Name: "a"}, {ID: "b", Kind: KindAccount, Name: "b"}, {ID: "c", Kind: KindAccount, Name: "c"}, {ID: "all", Kind: KindEveryone, Name: "Everyone"}}
	whole := []Object{{Kind: ObjectSystem, Name: "north1"}}
	service := func(to string, deny bool, unsure string) Entry {
		return Entry{To: to, Verb: VerbSignIn, What: AsService, Deny: deny, Unsure: unsure, Text: "x"}
	}
	list := func(decides Decides, entries ...Entry) List {
		return List{Key: string(decides), Decides: decides, Objects: whole, Entries: entries}
	}
	q := Question{Verb: VerbSignIn, What: AsService}
	type answer struct {
		allowed, alone bool
		unsure         string
	}
	for name, c := range map[string]struct {
		lists []List
		want  map[string]answer
	}{
		"others are not heard":      {[]List{list(DecidesAny, service("a", false, ""), service("b", false, "")), list(DecidesAlone, service("a", false, ""), service("all", true, ""))}, map[string]answer{"a": {true, true, ""}, "b": {false, true, ""}}},
		"whichever comes first":     {[]List{list(DecidesAlone, service("all", true, "")), list(DecidesAny, service("b", false, ""))}, map[string]answer{"b": {false, true, ""}}},
		"about something else":      {[]List{list(DecidesAlone, Entry{To: "all", Verb: VerbSignIn, What: AsBatch, Deny: true}), list(DecidesAny, service("b", false, ""))}, map[string]answer{"b": {true, false, ""}, "a": {false, false, ""}}},
		"it is not sure of the end": {[]List{list(DecidesAlone, service("a", false, ""), service("all", true, "a group"))}, map[string]answer{"a": {true, true, ""}, "b": {false, false, "a group"}}},
		"nor of who is denied":      {[]List{list(DecidesAlone, service("b", true, "perhaps"), service("all", false, ""))}, map[string]answer{"b": {false, true, "perhaps"}, "c": {true, true, ""}}},
	} {
		m := NewModel(NewGraph(people, nil), c.lists, nil)
		b := m.Bearer()
		for id, want := range c.want {
			d := m.Decide(id, q)
			assert.Equal(t, want, answer{d.Allowed, d.Alone, d.Unsure}, "%s: %s", name, id)
			b.Of(id)
			d = b.Decide(m.Ask(q))
			assert.Equal(t, want, answer{d.Allowed, d.Alone, d.Unsure}, "%s: %s, asked for many", name, id)
		}
	}
}
