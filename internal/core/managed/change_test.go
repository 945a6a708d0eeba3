package managed

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChangesThatNobodyMeant(t *testing.T) {
	good := AccountChange{Act: Create, Name: "gmsa-gates$", Container: "CN=M,DC=larkmoor,DC=example", DN: "CN=gmsa-gates,CN=M,DC=larkmoor,DC=example", DNSName: "gates.larkmoor.example", Interval: IntervalDefault, Encryption: EncryptionGood,
		Services: []string{"HTTP/gates.larkmoor.example", "MSSQLSvc/gates.larkmoor.example:1433", "ldap/gates.larkmoor.example/larkmoor.example"}}
	require.NoError(t, good.Check())
	for words, change := range map[string]func(*AccountChange){
		"no act":                       func(c *AccountChange) { c.Act = "remove" },
		"ends with a $":                func(c *AccountChange) { c.Name = "gates" },
		"at most 15":                   func(c *AccountChange) { c.Name = "gmsa-of-the-gates$" },
		"no name for":                  func(c *AccountChange) { c.Name = "-gates$" },
		"digits only":                  func(c *AccountChange) { c.Name = "4471$" },
		"not said where":               func(c *AccountChange) { c.DN = "" },
		"1 to 3650 days":               func(c *AccountChange) { c.Interval = 0 },
		"not not set":                  func(c *AccountChange) { c.Encryption = 0 },
		"not DES-CBC-CRC, AES128":      func(c *AccountChange) { c.Encryption = 9 },
		`"gates" is no whole`:          func(c *AccountChange) { c.DNSName = "gates" },
		`"192.0.2.7" is no whole`:      func(c *AccountChange) { c.DNSName = "192.0.2.7" },
		`"-.example" is no whole`:      func(c *AccountChange) { c.DNSName = "-.example" },
		`"HTTP" is no service`:         func(c *AccountChange) { c.Services = []string{"HTTP"} },
		"is given twice":               func(c *AccountChange) { c.Services = append(c.Services, "http/GATES.larkmoor.example") },
		"name the group":               func(c *AccountChange) { c.Act = Permit },
		`"a$b" is no name`:             func(c *AccountChange) { c.Name = "a$b$" },
		`"gates)(cn=*" is no name for`: func(c *AccountChange) { c.Name = "gates)(cn=*$" },
		`no service principal name`:    func(c *AccountChange) { c.Services = []string{"HTTP/a)(b"} },
	} {
		c := good
		c.Services = append([]string(nil), good.Services...)
		change(&c)
		err := c.Check()
		require.Error(t, err, words)
		assert.Contains(t, err.Error(), words)
	}
	good.Group = "CN=Gate Hosts,DC=larkmoor,DC=example"
	assert.True(t, strings.HasSuffix(good.Words(), "every 30 days, for the hosts of CN=Gate Hosts,DC=larkmoor,DC=example"))
	assert.Equal(t, "delete the managed account gmsa-gates$ again", good.BackWords())
	good.Act = Permit
	require.NoError(t, good.Check())
	assert.Contains(t, good.BackWords(), "no longer")
	permit := good
	good.Act = Forbid
	require.NoError(t, good.Check())
	assert.Equal(t, permit.BackWords(), good.Words())
	assert.Equal(t, permit.Words()+" again", good.BackWords())
	assert.Contains(t, good.Title(true, false), "may not ask")
	for title, c := range map[string]struct{ proof, undo bool }{"restart the host north1, between 2026-12-01 02:00 and 2026-12-01 04:00 UTC": {}, "prove that north1 is up again": {proof: true}, "north1 is not restarted once more": {undo: true}} {
		from := time.Date(2026, 12, 1, 2, 0, 0, 0, time.UTC)
		assert.Equal(t, title, HostTitle("north1", from, from.Add(2*time.Hour), c.proof, c.undo))
	}
}
