package charter

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

var now = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

// quay is a unix host: svc-manifest runs what it should and more, by a group too.
func quay() Known {
	host := []privilege.Object{{Kind: "host", Name: "quay1"}}
	return Known{Name: "quay1", Kind: "unix-host", Now: now, Model: privilege.NewModel(privilege.NewGraph([]privilege.Principal{
		{ID: "u1", Kind: privilege.KindAccount, Name: "svc-manifest"},
		{ID: "u2", Kind: privilege.KindAccount, Name: "svc-berth"},
		{ID: "g1", Kind: privilege.KindGroup, Name: "manifest"},
		{ID: "g2", Kind: privilege.KindGroup, Name: "wheel"},
		{ID: "g3", Kind: privilege.KindGroup, Name: "svc-manifest"},
		{ID: "all", Kind: privilege.KindEveryone, Name: "everyone"},
	}, []privilege.Membership{{Member: "u1", Group: "g2"}, {Member: "u1", Group: "g3", How: "primary group"}}), []privilege.List{
		{Key: "sudo", Decides: privilege.DecidesLast, Objects: host, Entries: []privilege.Entry{
			{To: "u1", Verb: privilege.VerbRun, What: "/usr/bin/systemctl reload manifest.service", As: "root", Text: "svc-manifest ALL = NOPASSWD: /usr/bin/systemctl reload manifest.service", Source: "/etc/sudoers.d/manifest:1"},
			{To: "u1", Verb: privilege.VerbRun, What: "/usr/bin/systemctl stop berth.service", As: "root"},
			{To: "g2", Verb: privilege.VerbRun, What: "ALL", As: "ALL"},
			{To: "u2", Verb: privilege.VerbRun, What: "/usr/bin/passwd *", As: "root", Unsure: "a netgroup"},
		}},
		{Key: "sshd", Decides: privilege.DecidesFirst, Objects: host, Entries: []privilege.Entry{{To: "all", Verb: privilege.VerbSignIn}}},
	}, sudo.Matches)}
}

func linesOf(t *testing.T, known Known, a estate.Account, text string) map[string]Line {
	t.Helper()
	d, err := Parse(text)
	require.NoError(t, err)
	c := Compare(known, []*Document{d})
	c.Turn(a)
	out := map[string]Line{}
	for _, l := range c.Lines(0, nil) {
		out[l.Section+": "+strings.TrimPrefix(l.Item, NeverPrefix)] = l
	}
	for _, l := range c.GroupLines(0) {
		out[l.Section+": "+strings.TrimPrefix(l.Item, NeverPrefix)] = l
	}
	return out
}

func TestCompare(t *testing.T) {
	manifest := estate.Account{StableID: "u1", Name: "svc-manifest", Enabled: estate.Yes, NeverExpire: true, PasswordChanged: now.AddDate(0, 0, -100), Shell: "/bin/bash"}
	got := linesOf(t, quay(), manifest, `charter: manifest-import
must:
  - run: /usr/bin/systemctl reload manifest.service
  - run: /usr/bin/systemctl restart manifest.service
  - member_of: manifest
    because: the drop folder
  - member_of: tidewatch
  - do: select
    to: table:x
    systems: [kind:postgresql]
  - run: "@read"
never:
  - run: ALL
  - member_of: wheel
  - run: ALL
    as: nobody
    systems: [another*]
account: {enabled: true, password_expires: true, account_ends: true, password_changed_within: 90, shell: false}
groups:
  - name: manifest
  - name: tidewatch
`)
	state := map[string]State{}
	for k, l := range got {
		state[k] = l.State
	}
	assert.Equal(t, map[string]State{
		"must: run /usr/bin/systemctl reload manifest.service":                    StateMet,
		"must: run /usr/bin/systemctl restart manifest.service":                   StateMet, // wheel may
		"must: member of manifest":                                                StateMissing,
		"must: member of tidewatch":                                               StateMissing,
		"never: run ALL":                                                          StateForbidden,
		"never: member of wheel":                                                  StateForbidden,
		"account: it is enabled":                                                  StateMet,
		"account: its password expires":                                           StateDiffers,
		"account: the account ends some day":                                      StateDiffers,
		"account: its password was changed within 90 days":                        StateDiffers,
		"account: it has no shell to sign in with":                                StateDiffers,
		"beyond: run /usr/bin/systemctl stop berth.service as root on host quay1": StateExcess,
		"groups: group manifest":                                                  StateMet,
		"groups: group tidewatch":                                                 StateMissing,
	}, state)
	missing := got["must: member of manifest"]
	assert.Equal(t, WhenNextStart, missing.When)
	assert.Equal(t, "the drop folder", missing.Because)
	assert.Equal(t, &privilege.RightChange{Give: true, To: "svc-manifest", ToID: "u1", ToKind: privilege.KindAccount, Group: "manifest", GroupID: "g1"}, missing.Change)
	assert.Contains(t, got["must: member of tidewatch"].Why, "no such group")
	forbidden := got["never: run ALL"]
	assert.Equal(t, "wheel", forbidden.By[0].Through())
	assert.Equal(t, &privilege.RightChange{To: "svc-manifest", ToID: "u1", ToKind: privilege.KindAccount, Group: "wheel", GroupID: "g2"}, forbidden.Change, "it leaves the group by which it may")
	got = linesOf(t, quay(), manifest, "charter: a\n")
	assert.Equal(t, "ALL", got["beyond: member of wheel"].By[1].What, "with what the membership gives")
	assert.Equal(t, "/etc/sudoers.d/manifest:1", quay().Model.Lists[0].Entries[0].Source)

	// What a charter allows is no excess; what a group that it must lie in gives is none.
	got = linesOf(t, quay(), manifest, "charter: a\nmust: [{member_of: wheel}]\nmay: [{run: /usr/bin/systemctl * *.service}]\n")
	assert.Len(t, got, 1)
	assert.Equal(t, StateMet, got["must: member of wheel"].State)
	// Of a rule that another one takes back nothing is told.
	known := quay()
	known.Model.Lists[0].Entries = append(known.Model.Lists[0].Entries, privilege.Entry{To: "u1", Verb: privilege.VerbRun, What: "/usr/bin/systemctl stop berth.service", As: "root", Deny: true})
	known.Model = privilege.NewModel(known.Model.Graph, known.Model.Lists, sudo.Matches)
	got = linesOf(t, known, manifest, "charter: a\n")
	assert.NotContains(t, got, "beyond: run /usr/bin/systemctl stop berth.service as root on host quay1")
	assert.Contains(t, got, "beyond: run /usr/bin/systemctl reload manifest.service as root on host quay1")
}

// A group that the charter asks for is not left: what it lies in, or is given, is taken.
func TestCompareDeeper(t *testing.T) {
	graph := privilege.NewGraph([]privilege.Principal{{ID: "u", Kind: privilege.KindAccount, Name: "svc-berth"}, {ID: "t", Kind: privilege.KindGroup, Name: "Terminals", DN: "CN=Terminals"}, {ID: "o", Kind: privilege.KindGroup, Name: "Operations", DN: "CN=Operations"}}, []privilege.Membership{{Member: "u", Group: "t"}, {Member: "t", Group: "o"}})
	list := func(to string) []privilege.List {
		return []privilege.List{{Key: "a", Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "account", Name: "svc-gangway"}}, Entries: []privilege.Entry{{To: to, Verb: "reset password", Text: "(OA;;CR;x;;S-1)"}}}}
	}
	text := "charter: a\nmust: [{member_of: Terminals}]\nnever: [{do: reset password, to: 'account:*'}]\n"
	berth := estate.Account{StableID: "u", Name: "svc-berth", DN: "CN=svc-berth"}
	got := linesOf(t, Known{Name: "d", Kind: "directory", Model: privilege.NewModel(graph, list("o"), nil)}, berth, text)
	assert.Equal(t, &privilege.RightChange{To: "Terminals", ToID: "t", ToDN: "CN=Terminals", ToKind: privilege.KindGroup, Group: "Operations", GroupID: "o", GroupDN: "CN=Operations"}, got["never: reset password on every account"].Change)
	got = linesOf(t, Known{Name: "d", Kind: "directory", Model: privilege.NewModel(graph, list("t"), nil)}, berth, text)
	assert.Equal(t, "(OA;;CR;x;;S-1)", got["never: reset password on every account"].Change.Text)
	assert.Equal(t, StateForbidden, got["never: reset password on every account"].State, "what a group that it must lie in gives is accepted, and what is forbidden is forbidden")
	assert.Len(t, got, 2)
}

// What nobody can see is no answer.
func TestCompareUnknown(t *testing.T) {
	known := quay()
	berth := estate.Account{StableID: "u2", Name: "svc-berth", Enabled: estate.Unknown}
	text := "charter: a\nmust: [{run: /usr/bin/passwd x}, {member_of: manifest}]\nnever: [{run: ALL}, {run: /usr/bin/passwd root}]\naccount: {enabled: true, password_expires: false}\n"
	got := linesOf(t, known, berth, text)
	assert.Equal(t, StateUnknown, got["must: run /usr/bin/passwd x"].State)
	assert.Equal(t, "a netgroup", got["must: run /usr/bin/passwd x"].Why)
	assert.Equal(t, StateUnknown, got["never: run /usr/bin/passwd root"].State)
	assert.Equal(t, StateMet, got["never: run ALL"].State)
	assert.Equal(t, StateMissing, got["must: member of manifest"].State)
	assert.Equal(t, StateUnknown, got["account: it is enabled"].State)
	assert.Equal(t, StateUnknown, got["account: its password never expires"].State)
	assert.Equal(t, StateExcess, got["beyond: run /usr/bin/passwd * as root on host quay1"].State)

	known.Unread = "/etc/sudoers.d: permission denied"
	got = linesOf(t, known, berth, text)
	assert.Equal(t, StateUnknown, got["never: run ALL"].State, "what was not read may hold it")
	assert.Contains(t, got["never: run ALL"].Why, "permission denied")
	assert.Equal(t, StateUnknown, got["must: member of manifest"].State)
}

// Objects by patterns: what must be so is so for each that is known, what must never be for none.
func TestComparePatterns(t *testing.T) {
	table := func(name, verb string) privilege.List {
		return privilege.List{Key: name, Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "table", Name: name}}, Entries: []privilege.Entry{{To: "r", Verb: verb}, {To: "s", Verb: "select"}}}
	}
	known := Known{Name: "db", Kind: "postgresql", Model: privilege.NewModel(privilege.NewGraph([]privilege.Principal{{ID: "r", Kind: privilege.KindAccount, Name: "r"}, {ID: "s", Kind: privilege.KindAccount, Name: "s"}}, nil), []privilege.List{table("b.public.a", "select"), table("b.public.pay", "update")}, nil)}
	text := "charter: a\nmust: [{do: select, to: 'table:b.public.*'}]\nnever: [{do: update, to: 'table:*'}, {do: update, to: 'table:*.audit'}]\n"
	got := linesOf(t, known, estate.Account{StableID: "r", Name: "r"}, text)
	assert.Equal(t, StateMissing, got["must: select on table b.public.*"].State)
	assert.Equal(t, "not on table b.public.pay", got["must: select on table b.public.*"].Why)
	assert.Equal(t, "b.public.pay", got["must: select on table b.public.*"].Change.Object.Name)
	assert.Equal(t, StateForbidden, got["never: update on every table"].State)
	assert.Equal(t, StateMet, got["never: update on table *.audit"].State)
	got = linesOf(t, known, estate.Account{StableID: "s", Name: "s"}, text)
	assert.Equal(t, StateMet, got["must: select on table b.public.*"].State)
	assert.Equal(t, StateMet, got["never: update on every table"].State)
	assert.Len(t, got, 3, "nothing is beyond")
}

// TestBearerDecides: many questions about one at once are answered as one question alone is.
func TestBearerDecides(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	asked := 0
	for range 300 {
		var principals []privilege.Principal
		var memberships []privilege.Membership
		for i := range 6 {
			principals = append(principals, privilege.Principal{ID: fmt.Sprint("a", i), Kind: privilege.KindAccount}, privilege.Principal{ID: fmt.Sprint("g", i), Kind: privilege.KindGroup})
			memberships = append(memberships, privilege.Membership{Member: pick("a", "g") + fmt.Sprint(r.IntN(6)), Group: fmt.Sprint("g", r.IntN(6))})
		}
		principals = append(principals, privilege.Principal{ID: "all", Kind: privilege.KindEveryone})
		var lists []privilege.List
		for i := range 4 {
			l := privilege.List{Key: fmt.Sprint(i), Decides: privilege.Decides(pick("any", "first", "last")), Objects: []privilege.Object{{Kind: pick("table", "system"), Name: pick("t", "u", "*")}}}
			for range r.IntN(6) {
				e := privilege.Entry{To: pick("a0", "a1", "a2", "g0", "g1", "g2", "g3", "all"), Verb: pick("read", "write", "everything"), Deny: r.IntN(3) == 0}
				if r.IntN(5) == 0 {
					e.Unsure = "it depends"
				}
				if r.IntN(5) == 0 {
					e.Not = []string{pick("a0", "g1")}
				}
				l.Entries = append(l.Entries, e)
			}
			lists = append(lists, l)
		}
		m := privilege.NewModel(privilege.NewGraph(principals, memberships), lists, nil)
		b := m.Bearer()
		for _, verb := range []string{"read", "write", "sign in"} {
			for _, name := range []string{"", "t", "u"} {
				q := privilege.Question{Verb: verb, Object: privilege.Object{Name: name}}
				once := m.Ask(q)
				for i := range 6 {
					id := fmt.Sprint("a", i)
					require.True(t, b.Of(id))
					want, got := m.Decide(id, q), b.Decide(once)
					require.Equal(t, []any{want.Allowed, want.Unsure}, []any{got.Allowed, got.Unsure})
					asked++
				}
			}
		}
	}
	assert.Equal(t, 300*3*3*6, asked)
	assert.False(t, privilege.NewModel(privilege.NewGraph(nil, nil), nil, nil).Bearer().Of("nobody"))
}

// TestDraftHolds: what is drafted from an account holds for it, whatever it has: nothing is
// missing and nothing beyond.
func TestDraftHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	items := 0
	for n := range 200 {
		unix := n%2 == 0
		principals := []privilege.Principal{{ID: "all", Kind: privilege.KindEveryone, Name: "everyone"}}
		var memberships []privilege.Membership
		for i := range 4 {
			principals = append(principals, privilege.Principal{ID: fmt.Sprint("a", i), Kind: privilege.KindAccount, Name: fmt.Sprint("a", i)}, privilege.Principal{ID: fmt.Sprint("g", i), Kind: privilege.KindGroup, Name: fmt.Sprint("group", i)})
			memberships = append(memberships, privilege.Membership{Member: pick("a", "g") + fmt.Sprint(r.IntN(4)), Group: fmt.Sprint("g", r.IntN(4))})
		}
		var lists []privilege.List
		for i := range 3 {
			l := privilege.List{Key: fmt.Sprint(i), Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: pick("table", "view"), Name: pick("b.t", "b.u", "c.v")}}}
			if unix {
				l.Decides, l.Objects = privilege.DecidesLast, []privilege.Object{{Kind: "host", Name: "quay1"}}
			}
			for range r.IntN(5) {
				e := privilege.Entry{To: pick("a0", "a1", "g0", "g1", "g2", "all"), Verb: pick("select", "update", "everything"), What: pick("", "", "column")}
				if e.Verb == "everything" {
					e.What = ""
				}
				if unix {
					e.Verb, e.What, e.As = privilege.VerbRun, pick("ALL", "/usr/bin/true", "/usr/bin/id -u", "/usr/bin/systemctl restart *.service"), pick("root", "ALL", "nobody")
				}
				l.Entries = append(l.Entries, e)
			}
			lists = append(lists, l)
		}
		known := Known{Name: "s", Kind: "postgresql", Now: now, Model: privilege.NewModel(privilege.NewGraph(principals, memberships), lists, nil)}
		if unix {
			known.Kind, known.Model.Matches = "unix-host", sudo.Matches
		}
		a := estate.Account{StableID: "a0", Name: "a0", Enabled: estate.Yes}
		d := Draft("drafted", "drafted", []Sample{{Account: a, System: "s", Kind: known.Kind, Model: known.Model}})
		text, err := d.Text()
		require.NoError(t, err)
		for _, l := range linesOf(t, known, a, text) {
			require.Contains(t, []State{StateMet}, l.State, "%+v\n%s", l, text)
			items++
		}
	}
	assert.Greater(t, items, 500)
}

// Of a charter only what names a host, or its kind, is about an account of another system that
// the host knows.
func TestGuests(t *testing.T) {
	d, err := Parse(`charter: tide
must:
  - {do: sign in, what: as a service, systems: [kind:windows-host]}
  - {member_of: Terminal Services}
  - {run: /usr/bin/true, systems: [kind:windows-host]}
never:
  - {do: change, to: "service:*", systems: [north1]}
  - {do: everything}
account: {enabled: true}
`)
	require.NoError(t, err)
	for name, want := range map[string][2]bool{"north1 windows-host": {true, true}, "skerry1 windows-host": {true, false}, "quay1 unix-host": {true, false}, "dir directory": {false, false}} {
		system, kind, _ := strings.Cut(name, " ")
		anything, byName := d.Elsewhere(system, kind)
		if kind == "unix-host" {
			assert.False(t, anything, name)
			continue
		}
		assert.Equal(t, want, [2]bool{anything, byName}, name)
	}
	whole := []privilege.Object{{Kind: privilege.ObjectSystem, Name: "north1"}}
	m := privilege.NewModel(privilege.NewGraph([]privilege.Principal{{ID: "name:d\\a", Kind: privilege.KindAccount, Name: `D\a`}, {ID: "name:d\\b", Kind: privilege.KindAccount, Name: `D\b`}, {ID: "S-1-1-0", Kind: privilege.KindEveryone, Name: "Everyone"}}, nil), []privilege.List{
		{Key: "1", Decides: privilege.DecidesAlone, Objects: whole, Entries: []privilege.Entry{{To: "name:d\\a", Verb: privilege.VerbSignIn, What: privilege.AsService, Text: "x"}, {To: "S-1-1-0", Verb: privilege.VerbSignIn, What: privilege.AsService, Deny: true, Text: "x"}}},
		{Key: "2", Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "service", Name: "Tide"}}, Entries: []privilege.Entry{{To: "name:d\\b", Verb: "change", Text: "(A;;DC;;;x)"}}},
	}, nil)
	c := Compare(Known{Name: "north1", Kind: "windows-host", Model: m, Unread: "some"}, []*Document{d})
	lines := func(id string) (out []string) {
		c.TurnGuest(estate.Account{StableID: "guid", Name: "a"}, privilege.Principal{ID: id, Name: id}, id != "stranger")
		for _, l := range c.Lines(0, nil) {
			out = append(out, strings.TrimSpace(fmt.Sprint(l.State, ": ", l.Item, " ", l.When)))
		}
		return out
	}
	assert.Equal(t, []string{"met: sign in (as a service)", "unknown: never: change on every service"}, lines("name:d\\a"))
	assert.Equal(t, []string{"missing: sign in (as a service) at its next start", "forbidden: never: change on every service"}, lines("name:d\\b"), "a list that decides alone is certain")
	assert.Equal(t, []string{"unknown: never: change on every service"}, lines("stranger"), "one that it does not know need not be on each of a kind")
	c.Turn(estate.Account{StableID: "name:d\\b", Name: "b", Enabled: estate.Yes})
	assert.Greater(t, len(c.Lines(0, nil)), 4, "the next is no guest")
}
