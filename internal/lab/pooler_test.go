package lab_test

import (
	"crypto/md5"
	"encoding/hex"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A pooler's list of users holds copies: passwords, and verifiers that were derived of
// them. Both are found, and made anew; a real pooler reads what was written and reaches
// the server with it. What only the server can make is told.
func TestUserListsOfAPooler(t *testing.T) {
	d := lab.PostgreSQL(t, "127.0.0.87", 5432)
	d.AllowMD5(t)
	d.Run(t, "SET password_encryption='md5'; CREATE ROLE svc_old LOGIN PASSWORD '"+lab.AccountPassword+"'; GRANT berth_owner TO svc_old;")
	sum := md5.Sum([]byte(lab.AccountPassword + "svc_old"))
	scram := strings.TrimSpace(d.Run(t, "SELECT rolpassword FROM pg_authid WHERE rolname = 'svc_berth1';"))
	list := ";; who may come through\n\"svc_old\" \"md5" + hex.EncodeToString(sum[:]) + "\"  ; since 2014\n\n\"svc_plain\" \"" + lab.AccountPassword + "\"\n\"svc_berth1\" \"" + scram + "\"\n\"svc_else\" \"md5" + strings.Repeat("ab", 16) + "\"\n"
	h := lab.NewHost(t, "pooler", 42)
	require.NoError(t, os.MkdirAll(h.Root+"/etc/pgbouncer", 0o755))
	const path = "/etc/pgbouncer/userlist.txt"
	require.NoError(t, os.WriteFile(h.Root+path, []byte(list), 0o640))
	h.Boot(t)
	pooler := lab.NewPooler(t, d, "127.0.0.87", 6432, []byte(list))
	require.True(t, pooler.Reaches(t, "svc_old", lab.AccountPassword), "the pooler reads what it was given")

	old, next := secret.New(lab.AccountPassword), secret.New(`Another-"Passw0rd"-2`)
	key := secret.New(strings.Repeat("k", 32))
	fingerprints := secret.FingerprinterFromKey(key)
	found := map[string]estate.Copy{}
	_, err := unixhost.Connector{}.Visit(t.Context(), h.Target(), connect.VisitRequest{FingerprintKey: key, Values: []secret.Value{next, old}, Known: []string{fingerprints.Of(old)}}, func(b connect.Batch) error {
		for _, one := range b.Dependents {
			if one.Path == path && one.Copy.Format == string(layout.UserList) {
				found[one.Copy.Key] = *one.Copy
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.Len(t, found, 4)
	assert.Equal(t, fingerprints.Of(old), found["svc_old"].Fingerprint, "it is of the value in custody")
	assert.Equal(t, held.PartVerifier, found["svc_old"].Part)
	assert.Equal(t, []string{"svc_old"}, found["svc_old"].Names)
	assert.Equal(t, fingerprints.Of(old), found["svc_plain"].Fingerprint)
	assert.Contains(t, found["svc_berth1"].Fixed, "a SCRAM verifier")
	assert.NotEqual(t, fingerprints.Of(old), found["svc_else"].Fingerprint)

	places := []held.Locator{{Layout: layout.UserList, Key: "svc_old", Part: held.PartVerifier}, {Layout: layout.UserList, Key: "svc_plain", Part: held.PartValue}}
	host := unixhost.Connector{}
	for _, line := range host.Rehearse(t.Context(), h.Target(), []connect.Intention{{Replace: path, Places: places, Current: old}}) {
		assert.NotEqual(t, connect.CheckFailed, line.Result, "%+v", line)
	}
	target := d.Target("bookings")
	target.Options = map[string]string{postgres.OptionVerifier: "keep"}
	var ref connect.AccountRef
	_, err = postgres.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			if a.Name == "svc_old" {
				ref = connect.AccountRef{StableID: a.StableID, Name: a.Name}
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.NoError(t, postgres.Connector{}.Accept(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: old, New: next}, connect.AcceptNew))
	require.NoError(t, host.ReplaceCopies(t.Context(), h.Target(), path, places, old, next))
	require.NoError(t, host.ReplaceCopies(t.Context(), h.Target(), path, places, old, next), "again is harmless")
	raw, err := os.ReadFile(h.Root + path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "  ; since 2014\n\n\"svc_plain\" \"Another-\"\"Passw0rd\"\"-2\"\n\"svc_berth1\" \""+scram+"\"\n", "all else is as it was")
	pooler.Reload(t, raw)
	assert.True(t, pooler.Reaches(t, "svc_old", next.RevealString()))
	require.NoError(t, host.ReplaceCopies(t.Context(), h.Target(), path, places, next, old))
	back, err := os.ReadFile(h.Root + path)
	require.NoError(t, err)
	assert.Equal(t, list, string(back), "and back, to the byte")
	err = host.ReplaceCopies(t.Context(), h.Target(), path, []held.Locator{{Layout: layout.UserList, Key: "svc_berth1", Part: held.PartVerifier}}, old, next)
	require.ErrorContains(t, err, "it holds neither the old nor the new value")
}
