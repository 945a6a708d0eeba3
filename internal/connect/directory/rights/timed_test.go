package rights

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
)

// A link has a time only in the one form that says so; whatever else stands there is a name.
func TestLinksWithATime(t *testing.T) {
	for value, want := range map[string]struct {
		dn    string
		left  time.Duration
		timed bool
	}{
		"<TTL=3600,CN=berth,DC=larkmoor,DC=example>": {"CN=berth,DC=larkmoor,DC=example", time.Hour, true},
		"<TTL=0,CN=berth>":                           {"CN=berth", 0, true},
		"CN=berth,DC=larkmoor,DC=example":            {"CN=berth,DC=larkmoor,DC=example", 0, false},
		"<TTL=,CN=berth>":                            {"<TTL=,CN=berth>", 0, false},
		"<TTL=-1,CN=berth>":                          {"<TTL=-1,CN=berth>", 0, false},
		"<TTL=99999999999999999999,CN=berth>":        {"<TTL=99999999999999999999,CN=berth>", 0, false},
		"<TTL=5,CN=berth":                            {"<TTL=5,CN=berth", 0, false},
		"<TTL=5>":                                    {"<TTL=5>", 0, false},
		"<TTL=5,>":                                   {"<TTL=5,>", 0, false},
		"<TTL=60,CN=a\\,b\\<TTL=1\\,c>,DC=larkmoor,DC=example>": {"CN=a\\,b\\<TTL=1\\,c>,DC=larkmoor,DC=example", time.Minute, true},
	} {
		dn, left, timed := linkOf(value)
		assert.Equal(t, want.dn, dn, value)
		assert.Equal(t, want.left, left, value)
		assert.Equal(t, want.timed, timed, value)
	}
}

// Of a group that does not show all its members at once it is said that some are not known.
func TestMembersInParts(t *testing.T) {
	r := New(Directory{Windows: true}, func(connect.Batch) error { return nil })
	r.byDN[values.Fold("CN=berth")], r.byDN[values.Fold("CN=tide")] = "one", "two"
	now := time.Date(2026, 11, 30, 12, 0, 20, 0, time.UTC)
	r.ends(ldap.NewEntry("CN=Crew", map[string][]string{"member;range=0-1499": {"<TTL=60,CN=berth>", "CN=tide", "<TTL=60,CN=nobody>"}}), now)
	assert.Equal(t, map[string]time.Time{"one\x00" + values.Fold("CN=Crew"): time.Date(2026, 11, 30, 12, 1, 0, 0, time.UTC)}, r.until)
	assert.Len(t, r.problems, 1)
}
