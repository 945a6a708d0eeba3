package connect

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/secret"
)

type taken struct{ list []Operation }

func (t *taken) Active() bool     { return true }
func (t *taken) Take(o Operation) { t.list = append(t.list, o) }

// What looks like a secret is left out of what is shown, whoever sent it.
func TestTracedWithoutSecrets(t *testing.T) {
	for text, want := range map[string]string{
		`ALTER ROLE "svc" PASSWORD 'SCRAM-SHA-256$4096:abc=$def=:ghi='`:                                             `ALTER ROLE "svc" PASSWORD '[secret]'`,
		`ALTER ROLE svc PASSWORD 'md50123456789abcdef0123456789abcdef'`:                                             `ALTER ROLE svc PASSWORD '[secret]'`,
		`ALTER ROLE svc PASSWORD 'it''s plain'`:                                                                     `ALTER ROLE svc PASSWORD '[secret]'`,
		`alter user 'a'@'%' identified via mysql_native_password using '*0123456789ABCDEF0123456789ABCDEF01234567'`: `alter user 'a'@'%' identified via mysql_native_password using '[secret]'`,
		`CREATE USER 'a'@'%' IDENTIFIED BY 'Tide-1'`:                                                                `CREATE USER 'a'@'%' IDENTIFIED BY '[secret]'`,
		`<p:StartPassword>Tide-1 &amp; more</p:StartPassword><p:StartMode>Automatic</p:StartMode>`:                  `<p:StartPassword>[secret]</p:StartPassword><p:StartMode>Automatic</p:StartMode>`,
		`svc:$6$salt$hashhashhash/hash:19000`:                                                                       `svc:[secret]:19000`,
		`/usr/bin/systemctl restart berth.service`:                                                                  `/usr/bin/systemctl restart berth.service`,
		`SELECT rolname FROM pg_roles WHERE rolname = $1`:                                                           `SELECT rolname FROM pg_roles WHERE rolname = $1`,
	} {
		to := &taken{}
		Trace{to}.Tell(Ended("sql", text, time.Now(), nil, nil))
		got := to.list[0].Text
		assert.NotContains(t, got, "Tide-1")
		assert.NotContains(t, got, "plain'")
		assert.Equal(t, want, got)
	}
	to := &taken{}
	Trace{to}.Tell(Ended("ldap", "bind with Neap-Tide-77", time.Now(), errors.New("refused: Neap-Tide-77"), func(error) bool { return true }), secret.New("Neap-Tide-77"))
	assert.NotContains(t, to.list[0].Text+to.list[0].Words, "Neap-Tide-77")
	assert.Equal(t, OperationRefused, to.list[0].Outcome)
	assert.NotPanics(t, func() { Trace{}.Tell(Operation{}) }, "nobody wants to see it")
}
