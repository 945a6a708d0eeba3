package naming_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/naming"
)

// What a name of a trusted domain, an identifier of before a move, and an entry for a
// foreign principal mean, and why others mean nobody.
func TestTrustedDomainsAndFormerIdentifiers(t *testing.T) {
	const own, pilots = "S-1-5-21-1004336348-1177238915-682003330", "S-1-5-21-42-43-44"
	domains := []naming.Domain{
		{Names: []string{"LARKMOOR", "larkmoor.example"}, SID: own, ReadBy: "dir"},
		{Names: []string{"PILOTS", "pilots.example"}, SID: pilots, TrustedBy: "dir"},
		{Names: []string{"HARBOUR", "harbour.example"}, SID: "S-1-5-21-7-8-9", TrustedBy: "dir"},
		{Names: []string{"HARBOUR", "harbour.example"}, SID: "S-1-5-21-7-8-9", ReadBy: "harbour"},
	}
	known := naming.NewIndex([]naming.Known{
		{ID: "1", System: "d", Name: "svc-berth", SID: own + "-1113", FormerSIDs: []string{pilots + "-1200", pilots + "-1201"}, Domains: domains[0].Names},
		{ID: "2", System: "d", Name: "svc-tide", SID: own + "-1114", FormerSIDs: []string{own + "-1113"}, Domains: domains[0].Names},
	}, domains...)
	for text, c := range map[string]struct{ id, why string }{
		own + "-1113":            {"1", `the only known account with the security identifier`},
		pilots + "-1200":         {"1", "in a domain that it was moved from"},
		"s-1-5-21-42-43-44-1201": {"1", "in a domain that it was moved from"},
		"CN=" + own + "-1114,CN=ForeignSecurityPrincipals,DC=pilots,DC=example": {"2", "the only known account with the security identifier"},
		pilots + "-1300":           {"", "the domain PILOTS, pilots.example is trusted by that of dir, and no system here reads it: add its directory"},
		`PILOTS\svc-chart`:         {"", "no known account answers to the domain name \"PILOTS\\svc-chart\": the domain PILOTS, pilots.example is trusted by that of dir"},
		"svc-chart@Pilots.Example": {"", "is trusted by that of dir"},
		`HARBOUR\svc-crane`:        {"", "although harbour reads that domain: the account was deleted, or the steward may not see it"},
		own + "-4711":              {"", "although dir reads that domain"},
		"S-1-5-21-1-1-1-500":       {"", "of a domain or a host that no system here reads, and that none of the domains that are read trusts"},
		own + "0-1113":             {"", "of a domain or a host that no system here reads"},
		`NOWHERE\svc-chart`:        {"", "no known account answers to"},
		"CN=S-1-5-21-x,CN=ForeignSecurityPrincipals,DC=pilots,DC=example": {"", "distinguished name"},
		"CN=" + own + "-1113,CN=Users,DC=larkmoor,DC=example":             {"", "distinguished name"},
	} {
		res, err := naming.Resolve(text, naming.Context{}, known)
		require.NoError(t, err, text)
		assert.Contains(t, res.Why, c.why, text)
		if c.id == "" {
			assert.Equal(t, naming.Unknown, res.State, text)
			continue
		}
		if assert.Len(t, res.Accounts, 1, text) {
			assert.Equal(t, c.id, res.Accounts[0].ID, text)
		}
	}
}
