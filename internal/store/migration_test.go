package store

import (
	"database/sql"
	"path/filepath"
	"testing"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
)

// TestFromVersionOne opens a database as the first version left it, with data
// and a rotation that is not finished.
func TestFromVersionOne(t *testing.T) {
	folder := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "moss.db")+"?_pragma=foreign_keys(1)")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, mustSub())
	require.NoError(t, err)
	_, err = provider.UpTo(t.Context(), 1)
	require.NoError(t, err)
	const at = "2026-03-01T08:00:00.000000000Z"
	for _, statement := range []string{
		`INSERT INTO systems (id, name, kind, address, port, logon, site, environment, owner, options, trusted_ca, created) VALUES (1, 'quay1', 'unix-host', '192.0.2.7', 22, '', '', '', '', '{}', '', '` + at + `')`,
		`INSERT INTO accounts (id, system_id, stable_id, name, folded, dn, dn_normal, upn, sid, uid, type, display_name, description, owner, enabled, locked, must_change, never_expires, password_changed, password_expires, account_expires, last_logon, lists, digest, first_seen, seen, changed)
			VALUES (1, 1, 'm:1001', 'svc-berth', 'svc-berth', '', '', '', '', '1001', 'local', '', '', '', 'yes', 'no', 0, 0, '', '', '', '', '{}', x'01', '` + at + `', '` + at + `', '` + at + `')`,
		`INSERT INTO dependents (id, system_id, kind, place, name, description, runs_as, state, start_mode, executable, schedule, path, uses, after, requires, copy, fingerprint, digest, first_seen, seen, changed)
			VALUES (1, 1, 'unit', 'berth.service', 'berth.service', '', 'berth', 'active', 'enabled', '', '', '', '["/etc/b.env"]', 'null', '["db.service"]', 'null', '', x'01', '` + at + `', '` + at + `', '` + at + `'),
			(2, 1, 'unit', 'db.service', 'db.service', '', 'root', 'active', 'enabled', '', '', '', 'null', 'null', 'null', 'null', '', x'01', '` + at + `', '` + at + `', '` + at + `'),
			(3, 1, 'file', '/etc/b.env#P', 'b.env', '', '', '', '', '', '', '/etc/b.env', 'null', 'null', 'null', '{"format":"env","key":"P","line":1,"fingerprint":"f1"}', 'f1', x'01', '` + at + `', '` + at + `', '` + at + `')`,
		`INSERT INTO rotations (id, account_id, account, authority, plan, policy, mode, requested_by, reason, override, started) VALUES (1, 1, 'svc-berth', 'quay1',
			'{"account_id":"1","account":"svc-berth","authority_id":"1","authority":"quay1","policy":"undo","steps":[{"index":0,"kind":"seal","subject":"svc-berth"},{"index":1,"kind":"restart","system_id":"1","system":"quay1","subject":"berth.service","needs":[0]}],"notes":[]}',
			'undo', 'running', 'ines', 'quarterly', '', '` + at + `')`,
	} {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())

	s := open(t, folder)
	all, err := s.DependentsOfSystem(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, all, 3)
	seen := map[string]Dependent{}
	for _, d := range all {
		seen[d.Place] = d
	}
	assert.Equal(t, estate.IdentityNamed, seen["berth.service"].Identity)
	assert.Equal(t, estate.IdentityBuiltIn, seen["db.service"].Identity)
	assert.Empty(t, seen["/etc/b.env#P"].Identity)
	assert.Equal(t, []string{"/etc/b.env"}, seen["berth.service"].Uses)
	assert.Equal(t, "f1", seen["/etc/b.env#P"].Copy.Fingerprint)
	unfinished, err := s.Unfinished(t.Context())
	require.NoError(t, err)
	require.Len(t, unfinished, 1)
	assert.Equal(t, string(rotation.KindRotate), unfinished[0].Kind)
	assert.Equal(t, estate.Place{Kind: estate.DependentUnit, Place: "berth.service"}, unfinished[0].Plan.Steps[1].At(), "a plan of then is understood now")

	// What is the same as before is taken in with its new columns.
	tally := Tally{}
	again := seen["berth.service"].Dependent
	again.Result = "exit-code"
	require.NoError(t, s.PutDependents(t.Context(), 1, []estate.Dependent{again}, NewSeen(), &tally))
	d, err := s.Dependent(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, "exit-code", d.Result)
	page, err := s.Dependents(t.Context(), 0, Query{Filters: []string{"name*=B?rth.*", "identity=named", "result=exit-code"}})
	require.NoError(t, err)
	assert.Equal(t, 1, page.Total)
}
