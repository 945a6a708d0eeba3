package rights

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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

// A directory that does not show whether it has the feature, or fails while members are read,
// costs nothing of what else is known.
func TestTimesThatCannotBeRead(t *testing.T) {
	for _, shown := range []bool{false, true} {
		r := New(Directory{Windows: true, Configuration: "CN=Configuration", Bases: []string{"DC=larkmoor"}, Search: func(_ context.Context, base, _ string, _ []string, each func([]*ldap.Entry) error) error {
			if shown && strings.HasPrefix(base, "CN=Partitions,") {
				return each([]*ldap.Entry{ldap.NewEntry(base, map[string][]string{"msDS-EnabledFeature": {timedFeature + "CN=x"}})})
			}
			return ldap.NewError(ldap.LDAPResultUnwillingToPerform, errors.New("not now"))
		}}, func(connect.Batch) error { return nil })
		require.NoError(t, r.timed(t.Context()))
		assert.Len(t, r.problems, map[bool]int{true: 1}[shown])
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		assert.ErrorIs(t, r.timed(ctx), context.Canceled)
	}
}
