package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/changes"
	"mossledger.example/moss/internal/store/database"
	"mossledger.example/moss/internal/store/lookup"
)

const systemColumns = "systems.id, systems.name, kind, address, port, steward, site, environment, owner, options, trusted_ca, facts, state, state_words, checked, visited, read_completely, check_stages, revision, trusted_words, COALESCE((SELECT MAX(w.approval_id) FROM approval_systems w JOIN approvals a ON a.id = w.approval_id WHERE w.system_id = systems.id AND a.state = 'asked' AND a.kind = 'endpoint'), 0), COALESCE((SELECT group_concat(fingerprint, ' ') FROM host_keys WHERE system_id = systems.id), '')"

func scanSystem(row interface{ Scan(...any) error }, more ...any) (records.System, error) {
	var v records.System
	var options, facts, checked, visited, complete, stages, keys string
	err := row.Scan(append([]any{&v.ID, &v.Name, &v.Kind, &v.Address, &v.Port, &v.Steward, &v.Site, &v.Environment, &v.Owner, &options, &v.TrustedCA, &facts, &v.State, &v.StateWords, &checked, &visited, &complete, &stages, &v.Revision, &v.Trusted, &v.Waits, &keys}, more...)...)
	v.Options, v.Facts = database.FromJSON[map[string]string](options), database.FromJSON[connect.Facts](facts)
	v.Stages = database.FromJSON[[]connect.StageResult](stages)
	v.Checked, v.Visited, v.Complete = database.TimeOf(checked), database.TimeOf(visited), database.TimeOf(complete)
	v.HostKeys = strings.Fields(keys)
	if v.Options == nil {
		v.Options = map[string]string{}
	}
	return v, database.OrNotFound(err)
}

var systemList = database.Listing[records.System]{
	From: "systems", ID: "systems.id", Sort: "name", Scan: systemColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "name"},
		{Name: "kind", Sql: "kind"},
		{Name: "address", Sql: "address"},
		{Name: "port", Sql: "port", Number: true},
		{Name: "steward", Sql: "steward"},
		{Name: "site", Sql: "site"},
		{Name: "environment", Sql: "environment"},
		{Name: "owner", Sql: "owner"},
		{Name: "state", Sql: "state", Values: []string{"new", "ok", "failed", "incomplete"}},
		{Name: "state_words", Sql: "state_words"},
		{Name: "checked", Sql: "checked", Hidden: true},
		{Name: "visited", Sql: "visited", Hidden: true},
		{Name: "read_completely", Sql: "read_completely", Hidden: true},
		{Name: "id", Sql: "systems.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.System, error) { return scanSystem(rows, new(any), new(any)) },
}

// Systems lists systems.
func (s *Store) Systems(ctx context.Context, q records.Query) (records.Page[records.System], error) {
	return database.PageOf(ctx, s.Read, systemList, q)
}

// AllSystems returns every system, in order of name.
func (s *Store) AllSystems(ctx context.Context) ([]records.System, error) {
	var out []records.System
	cursor := ""
	for {
		p, err := s.Systems(ctx, records.Query{Limit: 1000, Cursor: cursor})
		if err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
		if cursor = p.Next; cursor == "" {
			return out, nil
		}
	}
}

// System returns one by id or, when that is no number, by name.
func (s *Store) System(ctx context.Context, idOrName string) (records.System, error) {
	v, err := scanSystem(s.Read.QueryRowContext(ctx, "SELECT "+systemColumns+" FROM systems WHERE name = ? OR id = CAST(? AS INTEGER) AND CAST(CAST(? AS INTEGER) AS TEXT) = ? ORDER BY name = ? DESC LIMIT 1", idOrName, idOrName, idOrName, idOrName, idOrName))
	if err != nil {
		return v, fmt.Errorf("system %q: %w", idOrName, err)
	}
	return v, nil
}

// SystemByID returns one by id. (A name may look like a number.)
func (s *Store) SystemByID(ctx context.Context, id records.SystemID) (records.System, error) {
	v, err := scanSystem(s.Read.QueryRowContext(ctx, "SELECT "+systemColumns+" FROM systems WHERE id = ?", id))
	if err != nil {
		return v, fmt.Errorf("system %d: %w", id, err)
	}
	return v, nil
}

// AddSystem adds one. ErrConflict when the name, or kind, address and port, are taken.
func (s *Store) AddSystem(ctx context.Context, v records.System, entries ...ledger.Entry) (records.SystemID, error) {
	var id records.SystemID
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		var other string
		err := tx.QueryRowContext(ctx, "SELECT name FROM systems WHERE name = ? OR (kind = ? AND address = ? AND port = ? AND address <> '') LIMIT 1", v.Name, v.Kind, v.Address, v.Port).Scan(&other)
		if err == nil {
			return fmt.Errorf("system %q: %w as %q", v.Name, records.ErrConflict, other)
		}
		if v.Options == nil {
			v.Options = map[string]string{}
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO systems (name, kind, address, port, steward, site, environment, owner, options, trusted_ca, created) VALUES (?,?,?,?,?,?,?,?,?,?,?)",
			v.Name, v.Kind, v.Address, v.Port, v.Steward, v.Site, v.Environment, v.Owner, database.AsJSON(v.Options), v.TrustedCA, s.Stamp())
		if err != nil {
			return err
		}
		if id, err = database.Made[records.SystemID](res); err != nil {
			return err
		}
		if err := s.NoteSystem(ctx, tx, id, change.New, nil); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// ChangeSystem replaces what a person may change of a system. revision is the
// one that the person saw; ErrStale when it is not the current one.
func (s *Store) ChangeSystem(ctx context.Context, v records.System, revision int64, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		old, err := scanSystem(tx.QueryRowContext(ctx, "SELECT "+systemColumns+" FROM systems WHERE id = ?", v.ID))
		if err != nil {
			return fmt.Errorf("system %q: %w", v.Name, err)
		}
		res, err := tx.ExecContext(ctx, "UPDATE systems SET address=?, port=?, steward=?, site=?, environment=?, owner=?, options=?, trusted_ca=?, revision=revision+1 WHERE id=? AND revision=?",
			v.Address, v.Port, v.Steward, v.Site, v.Environment, v.Owner, database.AsJSON(v.Options), v.TrustedCA, v.ID, revision)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("system %q: %w", v.Name, records.ErrStale)
		}
		if fields := changes.OfSystems(old, v); len(fields) > 0 {
			if err := s.NoteSystem(ctx, tx, v.ID, change.Changed, fields); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

const accountsOf = "(SELECT id FROM accounts WHERE system_id = ?)"

const credentialsOf = "(SELECT id FROM credentials WHERE account_id IN " + accountsOf + ")"

// Removal tells what would go with a system.
func (s *Store) Removal(ctx context.Context, id records.SystemID) (v records.Removal, err error) {
	tx, err := s.Read.BeginTx(ctx, nil)
	if err != nil {
		return v, err
	}
	defer func() { _ = tx.Rollback() }()
	return removal(ctx, tx, id)
}

func removal(ctx context.Context, tx *sql.Tx, id records.SystemID) (v records.Removal, err error) {
	var secrets, copies, open int
	err = tx.QueryRowContext(ctx, `SELECT (SELECT COUNT(*) FROM accounts WHERE system_id = ? AND gone = ''), (SELECT COUNT(*) FROM dependents WHERE system_id = ? AND gone = ''),
		(SELECT COUNT(*) FROM rehearsals WHERE credential_id IN `+credentialsOf+`), (SELECT COUNT(*) FROM rotations WHERE credential_id IN `+credentialsOf+`),
		(SELECT COUNT(*) FROM secrets WHERE credential_id IN `+credentialsOf+`),
		(SELECT COUNT(*) FROM dependents d WHERE d.system_id = ? AND d.gone = '' AND (d.fingerprint <> '' AND d.fingerprint IN (SELECT fingerprint FROM secrets WHERE state <> 'retired') OR EXISTS (SELECT 1 FROM credentials c WHERE c.kind IN ('ssh-key', 'cloud-key') AND c.state = 'custody' AND d.kind IN ('key', 'authorized key', 'cloud key', 'issued key') AND c.fingerprint = json_extract(d.key, '$.fingerprint')))),
		(SELECT COUNT(*) FROM rotations r WHERE r.mode <> 'finished' AND EXISTS (SELECT 1 FROM json_each(r.plan, '$.steps') WHERE json_extract(value, '$.system_id') = CAST(? AS TEXT)))`,
		id, id, id, id, id, id, id).Scan(&v.Accounts, &v.Dependents, &v.Rehearsals, &v.Rotations, &secrets, &copies, &open)
	switch {
	case secrets > 0:
		v.Refused = "accounts of it are in custody: release them first"
	case copies > 0:
		v.Refused = fmt.Sprintf("%d places on it hold or admit something that is in custody: rotating without them would break them; release it first", copies)
	case open > 0:
		v.Refused = "a rotation that is not finished needs it"
	}
	return v, err
}

// RemoveSystem removes a system with all that was seen on it. ErrConflict
// while values in custody belong to it or stand on it.
func (s *Store) RemoveSystem(ctx context.Context, id records.SystemID, entries ...ledger.Entry) error {
	defer s.PictureAltered()
	return s.InTx(ctx, func(tx *sql.Tx) error {
		goes, err := removal(ctx, tx, id)
		if err != nil {
			return err
		}
		if goes.Refused != "" {
			return database.InUse(goes.Refused)
		}
		if err := s.NoteSystem(ctx, tx, id, change.Gone, nil); err != nil {
			return err
		}
		for _, statement := range []string{
			"DELETE FROM journal WHERE rotation_id IN (SELECT id FROM rotations WHERE credential_id IN " + credentialsOf + ")",
			"DELETE FROM interruptions WHERE rotation_id IN (SELECT id FROM rotations WHERE credential_id IN " + credentialsOf + ")",
			"DELETE FROM rotations WHERE credential_id IN " + credentialsOf,
			"DELETE FROM rehearsals WHERE credential_id IN " + credentialsOf,
			"DELETE FROM credentials WHERE account_id IN " + accountsOf,
			"UPDATE approvals SET state = 'superseded', words = 'the system was removed' WHERE state = 'asked' AND id IN (SELECT approval_id FROM approval_systems WHERE system_id = ?)",
			"DELETE FROM findings WHERE cleared = '' AND system = (SELECT name FROM systems WHERE id = ?)",
			"DELETE FROM systems WHERE id = ?",
		} {
			if _, err := tx.ExecContext(ctx, statement, id); err != nil {
				return fmt.Errorf("remove: %w", err)
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// SaveCheck stores what a check found.
func (s *Store) SaveCheck(ctx context.Context, id records.SystemID, report connect.CheckReport) error {
	state, words := "ok", ""
	for _, stage := range report.Stages {
		if !stage.OK {
			state, words = "failed", string(stage.Stage)+": "+stage.Detail
		}
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE systems SET check_stages=?, checked=?, state=?, state_words=?, facts=CASE WHEN ? THEN ? ELSE facts END WHERE id=?",
			database.AsJSON(report.Stages), s.Stamp(), state, words, state == "ok", database.AsJSON(report.Facts), id)
		return err
	})
}

// ClaimIdentity writes down what a system proved to be, unless another one of
// its kind proved to be the same before and they clash: the name of that one is
// returned then, and this one's identity is forgotten. Of two that both have it,
// from before it was looked at, the older one keeps it.
func (s *Store) ClaimIdentity(ctx context.Context, id records.SystemID, identity string, clash func(records.System) bool) (kept string, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		mine, err := scanSystem(tx.QueryRowContext(ctx, "SELECT "+systemColumns+" FROM systems WHERE id = ?", id))
		if err != nil {
			return fmt.Errorf("system %d: %w", id, err)
		}
		same, err := database.Collect(ctx, tx, func(rows *sql.Rows) (records.System, error) { return scanSystem(rows) },
			"SELECT "+systemColumns+" FROM systems WHERE kind = ? AND id <> ? AND json_extract(facts, '$.identity') = ? ORDER BY id", mine.Kind, id, identity)
		if err != nil {
			return err
		}
		for _, other := range same {
			if clash(other) && (mine.Facts.Identity != identity || other.ID < id) {
				kept = other.Name
				break
			}
		}
		if kept != "" {
			identity = ""
		}
		if mine.Facts.Identity == identity {
			return nil
		}
		mine.Facts.Identity = identity
		_, err = tx.ExecContext(ctx, "UPDATE systems SET facts = ? WHERE id = ?", database.AsJSON(mine.Facts), id)
		return err
	})
	return kept, err
}

// ApproveHostKey adds an approved fingerprint and drops earlier ones.
func (s *Store) ApproveHostKey(ctx context.Context, id records.SystemID, fingerprint, by string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		old, err := database.Collect(ctx, tx, database.Single[string], "SELECT fingerprint FROM host_keys WHERE system_id = ?", id)
		if err != nil {
			return err
		}
		if fields := change.Systems(map[string]string{"host key": strings.Join(old, " ")}, map[string]string{"host key": fingerprint}); len(old) > 0 && len(fields) > 0 {
			if err := s.NoteSystem(ctx, tx, id, change.Changed, fields); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM host_keys WHERE system_id = ?", id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO host_keys (system_id, fingerprint, approved_by, approved) VALUES (?,?,?,?)", id, fingerprint, by, s.Stamp()); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// SaveSteward adds or replaces a steward.
func (s *Store) SaveSteward(ctx context.Context, v records.Steward, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO stewards (name, account, password, private_key, created, changed) VALUES (?,?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET account=excluded.account, password=excluded.password, private_key=excluded.private_key, changed=excluded.changed`,
			v.Name, v.Account, v.SealedPassword, v.SealedKey, s.Stamp(), s.Stamp())
		if err != nil {
			return err
		}
		// What a person gives now counts, not an account in custody.
		if _, err := tx.ExecContext(ctx, "DELETE FROM steward_links WHERE steward = ? COLLATE NOCASE", v.Name); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// Steward returns one by name.
func (s *Store) Steward(ctx context.Context, name string) (records.Steward, error) {
	v := records.Steward{}
	var changed string
	err := s.Read.QueryRowContext(ctx, "SELECT name, account, password, private_key, changed FROM stewards WHERE name = ?", name).Scan(&v.Name, &v.Account, &v.SealedPassword, &v.SealedKey, &changed)
	if err != nil {
		return v, fmt.Errorf("steward %q: %w", name, database.OrNotFound(err))
	}
	v.Changed = database.TimeOf(changed)
	return v, nil
}

// Stewards lists all.
func (s *Store) Stewards(ctx context.Context, q records.Query) (records.Page[records.Steward], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Steward]{
		From: "stewards", ID: "stewards.rowid", Sort: "name",
		Scan:    "name, account, password IS NOT NULL, private_key IS NOT NULL, (SELECT COUNT(*) FROM systems WHERE systems.steward = stewards.name), changed",
		Columns: []database.Column{{Name: "name", Sql: "name"}, {Name: "account", Sql: "account"}, {Name: "changed", Sql: "changed", Hidden: true}},
		ScanRow: func(rows *sql.Rows) (v records.Steward, err error) {
			var changed string
			err = rows.Scan(database.Padded(&v.Name, &v.Account, &v.HasPassword, &v.HasKey, &v.Systems, &changed)...)
			v.Changed = database.TimeOf(changed)
			return v, err
		},
	}, q)
}

// RemoveSteward removes one; ErrConflict while a system uses it.
func (s *Store) RemoveSteward(ctx context.Context, name string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM stewards WHERE name = ? AND NOT EXISTS (SELECT 1 FROM systems WHERE steward = ?)", name, name)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return database.InUse(fmt.Sprintf("steward %q is used by a system, or is not there", name))
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// DomainsOf maps system ids to the names of their directory.
func (s *Store) DomainsOf(ctx context.Context) (map[records.SystemID][]string, error) {
	all, err := s.AllSystems(ctx)
	return lookup.DomainsOf(all), err
}

// Lookup makes one for a moment.
func (s *Store) Lookup(ctx context.Context) (*lookup.Lookup, error) {
	all, err := s.AllSystems(ctx)
	return lookup.New(ctx, s.Read, all), err
}

// Unread returns the systems that were not read completely, and how many there
// are in all.
func (s *Store) Unread(ctx context.Context) (list []records.Unread, all int, err error) {
	if err := s.Read.QueryRowContext(ctx, "SELECT COUNT(*) FROM systems").Scan(&all); err != nil {
		return nil, 0, err
	}
	list, err = database.Collect(ctx, s.Read, func(rows *sql.Rows) (u records.Unread, err error) {
		var visited, complete string
		err = rows.Scan(&u.Name, &u.State, &u.Words, &visited, &complete)
		u.Visited, u.Complete = database.TimeOf(visited), database.TimeOf(complete)
		return u, err
	}, "SELECT name, state, state_words, visited, read_completely FROM systems WHERE state <> 'ok' OR read_completely = '' ORDER BY name")
	return list, all, err
}
