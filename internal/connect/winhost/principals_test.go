package winhost

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
)

// What tasks of hosts as they come run as, in the words that hosts use: none of it is an
// account that somebody looks for, and what is one stays one.
func TestPrincipalsOfTasks(t *testing.T) {
	for _, v := range []struct {
		user, group string
		want        estate.Identity
	}{
		{"SYSTEM", "", estate.IdentityBuiltIn},
		{"LOCAL SERVICE", "", estate.IdentityBuiltIn},
		{"NETWORK SERVICE", "", estate.IdentityBuiltIn},
		{"INTERACTIVE", "", estate.IdentityBuiltIn},
		{"LOKALER DIENST", "", estate.IdentityBuiltIn},
		{"SERVICE R\u00c9SEAU", "", estate.IdentityBuiltIn},
		{"NT-AUTORIT\u00c4T\\SYSTEM", "", estate.IdentityBuiltIn},
		{`NT AUTHORITY\INTERACTIVE`, "", estate.IdentityBuiltIn},
		{`VORDEFINIERT\Administratoren`, "", estate.IdentityBuiltIn},
		{"S-1-5-18", "", estate.IdentityBuiltIn},
		{"S-1-5-4", "", estate.IdentityBuiltIn},
		{"S-1-1-0", "", estate.IdentityBuiltIn},
		{"", "Users", estate.IdentityBuiltIn},
		{"", "Benutzer", estate.IdentityBuiltIn},
		{"", "S-1-5-32-545", estate.IdentityBuiltIn},
		{"", "S-1-5-11", estate.IdentityBuiltIn},
		{"S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464", "", estate.IdentityVirtual},
		{`NT SERVICE\TrustedInstaller`, "", estate.IdentityVirtual},
		{"", `LARKMOOR\Operations Staff`, ""},
		{"", "S-1-5-21-1004336348-1177238915-682003330-512", ""},
		{"", "", ""},
		// Accounts.
		{`LARKMOOR\svc-berth`, "", estate.IdentityNamed},
		{"svc-berth@larkmoor.example", "", estate.IdentityNamed},
		{`NORTH1\Benutzer`, "", estate.IdentityNamed},
		{"svc-local", "", estate.IdentityNamed},
		{"S-1-5-21-1004336348-1177238915-682003330-1113", "", estate.IdentityNamed},
		{`LARKMOOR\local service`, "", estate.IdentityNamed},
		{`LARKMOOR\gmsa-berth$`, "", estate.IdentityManaged},
	} {
		runsAs, whoever := principal(v.user, v.group)
		assert.Equal(t, v.want, naming.IdentityOf(runsAs), "%q of %q: %q", v.user, v.group, runsAs)
		assert.Equal(t, v.group != "" && v.user == "", whoever != "", "%q", v.group)
	}
}
