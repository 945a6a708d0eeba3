package lab

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
)

// A fine-grained policy of a real domain is found where it applies, and obeyed
// where it applies only.
func TestFineGrainedPolicy(t *testing.T) {
	d := Samba(t, "127.0.0.51", "svc-gangway")
	d.FineGrained(t, "forty", 40, "svc-gangway")
	ids := map[string]string{}
	_, err := directory.Connector{}.Visit(t.Context(), d.Target("dc1"), connect.VisitRequest{}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			ids[a.Name] = a.StableID
		}
		return nil
	})
	require.NoError(t, err)
	for name, want := range map[string]int{"svc-berth": 12, "svc-gangway": 40} {
		rules, err := directory.Connector{}.PasswordRules(t.Context(), d.Target("dc1"), connect.AccountRef{StableID: ids[name], Name: name})
		require.NoError(t, err, name)
		if rules.Unknown == "" {
			assert.Equal(t, want, rules.Shortest, "%s: %+v", name, rules)
		} else {
			// The manager of the lab may not read the container of policies: told.
			assert.Equal(t, 40, want, "%s: %+v", name, rules)
			assert.Contains(t, rules.Unknown, "may not read it")
		}
	}
	d.AllowReadingPolicies(t)
	rules, err := directory.Connector{}.PasswordRules(t.Context(), d.Target("dc1"), connect.AccountRef{StableID: ids["svc-gangway"], Name: "svc-gangway"})
	require.NoError(t, err)
	assert.Equal(t, 40, rules.Shortest, "%+v", rules)
	assert.Contains(t, rules.From, "forty")
}
