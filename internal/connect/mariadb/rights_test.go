package mariadb

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/privilege"
)

// Names of databases in grants are patterns, unless escaped, and the closest one counts.
func TestNamesOfDatabases(t *testing.T) {
	for db, want := range map[string]struct {
		name    string
		pattern bool
	}{
		"bookings": {"bookings", false}, `book\_ings`: {"book_ings", false}, "book_ings": {"book_ings", true}, "tide%": {"tide%", true}, `a\%b\_c`: {"a%b_c", false}, `a\_b%`: {`a\_b%`, true},
	} {
		name, pattern := unescaped(db)
		assert.Equal(t, want.name, name, db)
		assert.Equal(t, want.pattern, pattern, db)
	}
	for _, c := range []struct {
		name, pattern string
		want          bool
	}{{"tides", "tide%", true}, {"tide%", "tides", false}, {`book\_ings`, "book_ings", true}, {"bookxings", "book_ings", true}, {"book_ings", `book\_ings`, false}, {"tide%", "tide%", false}, {"other", "tide%", false}, {"tides%", "tide%", true}} {
		assert.Equal(t, c.want, closerName(c.name, c.pattern), "%+v", c)
	}
	r := rightsReader{roles: map[string]bool{"crew": true, "deck": true}, lists: map[string]int{}}
	r.onDatabases([]onDatabase{
		{to: "account:u@%", shown: "u", db: "tide%", verbs: []string{"UPDATE"}},
		{to: "account:u@%", shown: "u", db: "tides", verbs: []string{"SELECT"}},
		{to: "account:v@%", shown: "v", db: "tide%", verbs: []string{"DELETE"}},
		{to: "role:crew", shown: "crew", role: true, db: "tide%", verbs: []string{"INSERT"}},
		{to: "role:deck", shown: "deck", role: true, db: "tides", verbs: []string{"INSERT"}},
	})
	m := privilege.NewModel(privilege.NewGraph([]privilege.Principal{{ID: "account:u@%", Kind: privilege.KindAccount}, {ID: "account:v@%", Kind: privilege.KindAccount}, {ID: "role:crew", Kind: privilege.KindRole}}, nil), r.Lists, nil)
	say := func(who, verb, table string) string {
		d := m.Decide(who, privilege.Question{Verb: verb, Object: privilege.Object{Kind: "table", Name: table}})
		switch {
		case d.Allowed:
			return "yes"
		case d.Unsure != "":
			return "perhaps"
		}
		return "no"
	}
	assert.Equal(t, "yes", say("account:u@%", "select", "tides.x"))
	assert.Equal(t, "no", say("account:u@%", "update", "tides.x"), "the closer name alone counts")
	assert.Equal(t, "yes", say("account:u@%", "update", "tidewater.x"))
	assert.Equal(t, "yes", say("account:v@%", "delete", "tides.x"), "to whom only the pattern is given")
	assert.Equal(t, "perhaps", say("role:crew", "insert", "tides.x"), "it depends on the roles that somebody has together")
	assert.Equal(t, "yes", say("role:crew", "insert", "tidewater.x"))
}
