package store

import (
	"bytes"
	"crypto/rand"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/radius"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// TestFromEveryVersion opens a database as each earlier version left it, with
// data, sealed values and a rotation that is not finished.
func TestFromEveryVersion(t *testing.T) {
	for version := int64(1); version <= 35; version++ {
		t.Run(fmt.Sprint(version), func(t *testing.T) { fromVersion(t, version) })
	}
}

// oldEntry writes the first entry of a ledger as the first versions did.
func oldEntry(t *testing.T, db *sql.DB, key string) {
	leaf, err := ledger.Entry{Actor: "ines", Act: "service.set-up", Phase: ledger.Outcome, Result: "done"}.Encode()
	require.NoError(t, err)
	add, _, next, err := ledger.NewBook().Append(leaf)
	require.NoError(t, err)
	signer, err := note.NewSigner(key)
	require.NoError(t, err)
	checkpoint, err := ledger.SignHead(next.Head(), signer)
	require.NoError(t, err)
	for statement, args := range map[string][]any{
		"INSERT INTO ledger (idx, leaf, hash) VALUES (0, ?, ?)":            {leaf, add[0][:]},
		"INSERT INTO ledger_hashes (idx, hash) VALUES (0, ?)":              {add[0][:]},
		"INSERT INTO ledger_head (one, size, checkpoint) VALUES (1, 1, ?)": {checkpoint},
	} {
		_, err := db.ExecContext(t.Context(), statement, args...)
		require.NoError(t, err)
	}
}

func fromVersion(t *testing.T, version int64) {
	folder := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "moss.db")+"?_pragma=foreign_keys(1)")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, database.Migrations())
	require.NoError(t, err)
	_, err = provider.UpTo(t.Context(), min(version, 9))
	require.NoError(t, err)
	const at = "2026-03-01T08:00:00.000000000Z"
	sealer, err := secret.NewSealer(bytes.Repeat([]byte{1}, secret.KeySize), rand.Reader)
	require.NoError(t, err)
	key, _, err := note.GenerateKey(rand.Reader, ledger.Origin)
	require.NoError(t, err)
	sealed, err := sealer.Seal(database.LedgerKey, secret.New(key))
	require.NoError(t, err)
	_, err = db.ExecContext(t.Context(), "INSERT INTO meta (key, value) VALUES (?, ?), ('ledger-verifier', 'as version 1 kept it'), ('schedule/survey', '2026-03-01T08:00:00Z')", database.LedgerKey, sealed)
	require.NoError(t, err)
	oldEntry(t, db, key)
	for _, statement := range []string{
		`INSERT INTO systems (id, name, kind, address, port, logon, site, environment, owner, options, trusted_ca, created) VALUES (1, 'quay1', 'unix-host', '192.0.2.7', 22, '', '', '', '', '{}', '', '` + at + `')`,
		`INSERT INTO accounts (id, system_id, stable_id, name, folded, dn, dn_normal, upn, sid, uid, type, display_name, description, owner, enabled, locked, must_change, never_expires, password_changed, password_expires, account_expires, last_logon, lists, digest, first_seen, seen, changed)
			VALUES (1, 1, 'm:1001', 'svc-berth', 'svc-berth', '', '', '', '', '1001', 'local', '', '', '', 'yes', 'no', 0, 0, '', '', '', '', '{}', x'01', '` + at + `', '` + at + `', '` + at + `')`,
		`INSERT INTO accounts (id, system_id, stable_id, name, folded, dn, dn_normal, upn, sid, uid, type, display_name, description, owner, enabled, locked, must_change, never_expires, password_changed, password_expires, account_expires, last_logon, lists, digest, first_seen, seen, changed)
			VALUES (2, 1, 'm:1002', 'SVC-Straße', 'svc-straße', 'CN="Straße, 2",DC=b', '', 'SVC-Straße@b', '', '1002', 'local', '', '', '', 'yes', 'no', 0, 0, '', '', '', '', '{}', x'01', '` + at + `', '` + at + `', '` + at + `')`,
		`INSERT INTO dependents (id, system_id, kind, place, name, description, runs_as, state, start_mode, executable, schedule, path, uses, after, requires, copy, fingerprint, digest, first_seen, seen, changed)
			VALUES (1, 1, 'unit', 'berth.service', 'berth.service', '', 'berth', 'active', 'enabled', '', '', '', '["/etc/b.env"]', 'null', '["db.service"]', 'null', '', x'01', '` + at + `', '` + at + `', '` + at + `'),
			(2, 1, 'unit', 'db.service', 'db.service', '', 'root', 'active', 'enabled', '', '', '', 'null', 'null', 'null', 'null', '', x'01', '` + at + `', '` + at + `', '` + at + `'),
			(3, 1, 'file', '/etc/b.env#P', 'b.env', '', '', '', '', '', '', '/etc/b.env', 'null', 'null', 'null', '{"format":"env","key":"P","line":1,"fingerprint":"f1"}', 'f1', x'01', '` + at + `', '` + at + `', '` + at + `')`,
		`INSERT INTO rotations (id, account_id, account, authority, plan, policy, mode, requested_by, reason, override, started) VALUES (1, 1, 'svc-berth', 'quay1',
			'{"account_id":"1","account":"svc-berth","authority_id":"1","authority":"quay1","policy":"undo","steps":[{"index":0,"kind":"seal","subject":"svc-berth"},{"index":1,"kind":"restart","system_id":"1","system":"quay1","subject":"berth.service","needs":[0]}],"notes":[]}',
			'undo', 'running', 'ines', 'quarterly', '', '` + at + `')`,
		`INSERT INTO journal (rotation_id, seq, time, event, step, undo, result, memo, words, actor, reason) VALUES (1, 1, '` + at + `', 'started', -1, 0, 'undo', '', '', '', ''), (1, 2, '` + at + `', 'intent', 0, 0, '', '', '', '', '')`,
		`INSERT INTO secrets (id, account_id, rotation_id, state, sealed, fingerprint, created) VALUES (7, 1, NULL, 'current', x'0102', 'f1', '` + at + `'), (9, 1, 1, 'candidate', x'0304', 'f2', '` + at + `')`,
		`INSERT INTO custody (account_id, taken, taken_by, verdict) VALUES (1, '` + at + `', 'ines', 'accepted')`,
		`INSERT INTO rehearsals (id, account_id, created, created_by, plan, checks, verdict) VALUES (3, 1, '` + at + `', 'ines', '{"steps":[]}', '[]', 'passed')`,
	} {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
	if version >= 4 {
		for _, statement := range []string{
			`INSERT INTO key_pairs (id, fingerprint, type, bits, name, first_seen) VALUES (5, 'SHA256:k', 'ssh-ed25519', 0, 'backup@quay1', '` + at + `')`,
			`INSERT INTO custody (key_id, taken, taken_by, verdict) VALUES (5, '` + at + `', 'ines', 'accepted')`,
			`INSERT INTO secrets (id, key_id, state, sealed, fingerprint, public, created) VALUES (11, 5, 'current', x'05', 'f5', 'SHA256:k', '` + at + `')`,
			`INSERT INTO rotations (id, key_id, account, authority, plan, policy, mode, result, requested_by, reason, override, started, ended) VALUES (2, 5, 'backup@quay1', 'quay1',
				'{"kind":"key","account_id":"","key_id":"5","key_type":"ssh-ed25519","account":"backup@quay1","authority_id":"","authority":"quay1","policy":"undo","steps":[],"notes":[]}', 'undo', 'finished', 'done', 'ines', 'quarterly', '', '` + at + `', '` + at + `')`,
		} {
			_, err := db.ExecContext(t.Context(), statement)
			require.NoError(t, err, statement)
		}
	}
	if version > 1 { // from then on the program writes them itself
		_, err := db.ExecContext(t.Context(), "UPDATE dependents SET identity = CASE runs_as WHEN 'berth' THEN 'named' WHEN 'root' THEN 'built-in' ELSE '' END")
		require.NoError(t, err)
	}
	// From the tenth on the same data came there by migrating.
	_, err = provider.UpTo(t.Context(), version)
	require.NoError(t, err)
	if version >= 27 { // rights, before groups had their distinguished names
		_, err = db.ExecContext(t.Context(), `INSERT INTO right_principals (id, system_id, key, kind, name, lies_in, digest) VALUES (1, 1, 'g:27', 'group', 'sudo', '[]', x'01'), (2, 1, 'm:1001', 'account', 'svc-berth', '[{"g":"g:27"}]', x'02')`)
		require.NoError(t, err)
	}
	if version >= 28 {
		for _, statement := range []string{
			`INSERT INTO charters (id, name, label, document, description, changed, changed_by) VALUES (1, 'berth', 'berth', 'charter: berth', '', '` + at + `', 'ines')`,
			`INSERT INTO charter_lines (id, charter_id, system_id, account_id, section, item, state, why, at_next, detail, since) VALUES (1, 1, 1, 1, 'must', 'member of sudo', 'met', '', '', '{}', '` + at + `')`,
		} {
			_, err = db.ExecContext(t.Context(), statement)
			require.NoError(t, err, statement)
		}
	}
	require.NoError(t, db.Close())

	s := open(t, folder)
	require.NoError(t, s.LedgerTrouble())
	require.NoError(t, s.Record(t.Context(), ledger.Entry{Actor: "ines", Act: "test", Phase: ledger.Outcome}), "the ledger goes on")
	report, err := s.LedgerVerify(t.Context())
	require.NoError(t, err)
	require.True(t, report.OK(), "%v", report.Problems)
	if version >= 27 {
		principals, memberships, _, err := s.RightsOf(t.Context(), 1)
		require.NoError(t, err)
		require.Len(t, principals, 2)
		require.Len(t, memberships, 1)
	}
	if version >= 28 {
		lines, err := s.CharterLines(t.Context(), false, records.Query{})
		require.NoError(t, err)
		require.Len(t, lines.Items, 1)
		assert.Equal(t, "svc-berth", lines.Items[0].Account)
	}
	duty, err := s.Duty(t.Context(), "survey")
	require.NoError(t, err)
	assert.Equal(t, "2026-03-01T08:00:00Z", duty.Begun.Format(time.RFC3339), "what is due regularly is not forgotten")
	_, err = s.Meta(t.Context(), "schedule/survey")
	require.ErrorIs(t, err, records.ErrNotFound)
	all, err := s.DependentsOfSystem(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, all, 3)
	seen := map[string]records.Dependent{}
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

	// Law 2: every sealed value is there, and bound to the same record.
	password, err := s.PasswordOf(t.Context(), 1)
	require.NoError(t, err)
	secrets, err := s.Secrets(t.Context(), password.ID)
	require.NoError(t, err)
	require.Len(t, secrets, 2)
	assert.Equal(t, records.Secret{ID: 9, CredentialID: password.ID, Kind: credential.Password, AccountID: 1, RotationID: 1, State: records.SecretCandidate, Sealed: []byte{3, 4}, Fingerprint: "f2", Created: database.TimeOf(at), SystemID: 1}, secrets[0])
	assert.Equal(t, "secret/account=1/fingerprint=f1", secrets[1].FormerBinding())
	journal, err := s.Journal(t.Context(), 1, 0)
	require.NoError(t, err)
	require.Len(t, journal, 2)
	assert.Equal(t, rotation.EventIntent, journal[1].Event)
	_, err = s.BeginRotation(t.Context(), records.Rotation{CredentialID: password.ID, Credential: "svc-berth", OnFailure: "undo"})
	require.ErrorIs(t, err, records.ErrConflict, "one at a time, also across versions")
	latest, err := s.LatestRehearsal(t.Context(), password.ID)
	require.NoError(t, err)
	assert.Equal(t, records.RehearsalID(3), latest.ID)
	assert.True(t, password.InCustody())
	assert.Equal(t, "ines", password.TakenBy)
	assert.Equal(t, "accepted", password.Verdict)
	assert.Equal(t, "svc-berth", unfinished[0].Credential)
	assert.Equal(t, records.AccountID(1), unfinished[0].AccountID)
	assert.Equal(t, credential.Password, unfinished[0].Plan.Of)
	assert.Equal(t, "svc-berth", unfinished[0].Plan.Credential)

	// A key keeps its number, which its sealed values are bound to.
	if version >= 4 {
		key, err := s.KeyOf(t.Context(), "SHA256:k")
		require.NoError(t, err)
		assert.Equal(t, records.CredentialID(5), key.ID)
		assert.True(t, key.InCustody())
		sealed, err := s.Secrets(t.Context(), key.ID)
		require.NoError(t, err)
		require.Len(t, sealed, 1)
		assert.Equal(t, "secret/key=5/fingerprint=f5", sealed[0].Binding())
		r, err := s.Rotation(t.Context(), 2)
		require.NoError(t, err)
		assert.Equal(t, []string{"rotate", "ssh-key", "ssh-ed25519", "5"}, []string{r.Kind, string(r.Plan.Of), r.Plan.Type, r.Plan.CredentialID})
	}

	// Names are folded by today's rule; from then on the program does it.
	if version < 8 {
		lookup, err := s.Lookup(t.Context())
		require.NoError(t, err)
		for _, text := range []string{"svc-STRASSE", `.\svc-straße`, "svc-strasse@b", `cn=strasse\2c 2,dc=B`} {
			res, err := naming.Resolve(text, naming.Context{}, lookup)
			require.NoError(t, err)
			assert.Equal(t, naming.Resolved, res.State, text)
		}
	}

	// What is the same as before is taken in with its new columns.
	tally := records.Tally{}
	again := seen["berth.service"].Dependent
	again.Result = "exit-code"
	require.NoError(t, s.PutDependents(t.Context(), 1, []estate.Dependent{again}, NewSeen(), &tally))
	d, err := s.Dependent(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, "exit-code", d.Result)
	page, err := s.Dependents(t.Context(), 0, records.Query{Filters: []string{"name*=B?rth.*", "identity=named", "result=exit-code"}})
	require.NoError(t, err)
	assert.Equal(t, 1, page.Total)

	// What was there before is found, and who reads and needs it is known.
	assert.Equal(t, []string{"berth.service"}, seen["/etc/b.env#P"].Readers)
	hits, err := s.Search(t.Context(), "ber", 10)
	require.NoError(t, err)
	kinds := map[string]int{}
	for _, h := range hits {
		kinds[h.Kind]++
	}
	assert.Equal(t, map[string]int{"account": 1, "dependent": 1}, kinds)
	require.NoError(t, s.PutTies(t.Context(), map[records.DependentID][]ties.Tie{2: {{Account: "1", Evidence: estate.Configured, Strength: estate.StrengthRunsAs}}}))
	a, err := s.Account(t.Context(), 1)
	require.NoError(t, err)
	g, err := radius.Walk(AccountNode(a), 3, 10, s.RadiusSource(t.Context(), nil, false))
	require.NoError(t, err)
	assert.Contains(t, strings.Join(g.Tree(), "\n"), "berth.service  [needs]")

	// Lists follow their rows: renamed, gone, and gone with their system.
	again.Uses, again.Requires, again.Description = []string{"/etc/c.env"}, nil, "renamed zeppelin"
	require.NoError(t, s.PutDependents(t.Context(), 1, []estate.Dependent{again}, NewSeen(), &tally))
	d, err = s.Dependent(t.Context(), 3)
	require.NoError(t, err)
	assert.Empty(t, d.Readers)
	hits, err = s.Search(t.Context(), "zepp", 10)
	require.NoError(t, err)
	assert.Len(t, hits, 1)
	var n int
	require.NoError(t, s.InTx(t.Context(), func(tx *sql.Tx) error {
		_, err := tx.ExecContext(t.Context(), "DELETE FROM dependents WHERE id = 1")
		return err
	}))
	require.NoError(t, s.Read.QueryRowContext(t.Context(), "SELECT (SELECT COUNT(*) FROM readers) + (SELECT COUNT(*) FROM needers) + (SELECT COUNT(*) FROM found_dependents WHERE found_dependents MATCH 'zeppelin')").Scan(&n))
	assert.Zero(t, n)
}
