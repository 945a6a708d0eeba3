package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/changes"
	"mossledger.example/moss/internal/store/custody"
	"mossledger.example/moss/internal/store/database"
)

const (
	dependentFrom    = "dependents d JOIN systems ON systems.id = d.system_id" + dependentScopes
	dependentScopes  = " LEFT JOIN scopes ON scopes.system_id = d.system_id AND scopes.scope = CASE d.kind WHEN 'unit' THEN 'units' WHEN 'cron' THEN 'cron' WHEN 'service' THEN 'services' WHEN 'task' THEN 'tasks' WHEN 'pool' THEN 'pools' WHEN 'declared' THEN '' WHEN 'issued key' THEN 'keys' WHEN 'tls port' THEN 'certificates' ELSE 'files' END"
	dependentSeen    = "CASE WHEN d.gone = '' THEN MAX(d.seen, COALESCE(scopes.completed, '')) ELSE d.seen END"
	dependentTies    = "COALESCE((SELECT json_group_array(json_object('account_id', t.account_id, 'account', a.name, 'system', sa.name, 'evidence', t.evidence, 'strength', t.strength, 'detail', t.detail, 'first_seen', t.first_seen)) FROM ties t JOIN accounts a ON a.id = t.account_id JOIN systems sa ON sa.id = a.system_id WHERE t.dependent_id = d.id), '[]')"
	dependentColumns = "d.id, d.system_id, systems.name, d.kind, d.place, d.name, d.description, d.runs_as, d.state, d.start_mode, d.executable, d.schedule, d.path, d.uses, d.after, d.requires, d.copy, d.key, d.first_seen, " + dependentSeen + ", d.changed, d.gone, d.identity, d.stores, d.stored, d.started, d.result, d.reloads, d.given, d.given_at, d.given_account, d.app_check, d.value_limit, " + dependentTies + ", " + dependentReaders
	dependentReaders = "CASE WHEN d.kind IN ('file', 'key', 'certificate', 'cloud key') THEN COALESCE((SELECT json_group_array(u.name) FROM readers r JOIN dependents u ON u.id = r.dependent_id WHERE r.system_id = d.system_id AND r.path = d.path AND u.gone = ''), '[]') ELSE '[]' END"
	dependentAccount = "COALESCE((SELECT group_concat(a.name, ' ') FROM ties t JOIN accounts a ON a.id = t.account_id WHERE t.dependent_id = d.id), '')"
	dependentProof   = "COALESCE((SELECT group_concat(t.evidence || ' ' || t.strength, ' ') FROM ties t WHERE t.dependent_id = d.id), '')"
)

func scanDependent(row interface{ Scan(...any) error }, more ...any) (records.Dependent, error) {
	var v records.Dependent
	var uses, after, requires, copied, key, first, seen, changed, gone, started, givenAt, check, limit, tied, readers string
	err := row.Scan(append([]any{&v.ID, &v.SystemID, &v.System, &v.Kind, &v.Place, &v.Name, &v.Description, &v.RunsAs, &v.State, &v.StartMode, &v.Executable, &v.Schedule, &v.Path, &uses, &after, &requires, &copied, &key, &first, &seen, &changed, &gone, &v.Identity, &v.Stores, &v.Stored, &started, &v.Result, &v.Reloads, &v.Given, &givenAt, &v.GivenTo, &check, &limit, &tied, &readers}, more...)...)
	v.Uses, v.After, v.Requires, v.Copy = database.FromJSON[[]string](uses), database.FromJSON[[]string](after), database.FromJSON[[]string](requires), database.FromJSON[*estate.Copy](copied)
	v.Key = database.FromJSON[*estate.Key](key)
	v.FirstSeen, v.Seen, v.Changed, v.Gone = database.TimeOf(first), database.TimeOf(seen), database.TimeOf(changed), database.TimeOf(gone)
	v.Started, v.GivenAt = database.TimeOf(started), database.TimeOf(givenAt)
	v.Ties = database.FromJSON[[]records.Tie](tied)
	if v.Ties == nil {
		v.Ties = []records.Tie{}
	}
	if v.Readers = database.FromJSON[[]string](readers); v.Readers == nil {
		v.Readers = []string{}
	}
	if check != "" {
		v.Check = database.FromJSON[*rotation.AppCheck](check)
	}
	if limit != "" {
		v.Limit = database.FromJSON[*credential.Limit](limit)
	}
	return v, database.OrNotFound(err)
}

// dependentText is what people search dependents for, beside systems and
// accounts. The index of parts has the same.
const dependentText = "(CASE instr(d.place, d.name) WHEN 0 THEN d.name || ' ' ELSE '' END || d.place || ' ' || d.description || ' ' || d.runs_as || ' ' || d.executable)"

var dependentList = database.Listing[records.Dependent]{
	From: dependentFrom, ID: "d.id", Sort: "system", Scan: dependentColumns, Plain: "dependents d", Joined: "systems.",
	Parts: &database.Parts{
		Table: "parts_dependents", Columns: []string{"name", "place", "description", "runs_as", "executable"}, Asked: 3,
		Search: `(d.system_id IN (SELECT id FROM systems WHERE name LIKE ? ESCAPE '\') OR d.id IN (SELECT t.dependent_id FROM accounts a CROSS JOIN ties t ON t.account_id = a.id WHERE a.name LIKE ? ESCAPE '\') OR ` + dependentText + ` LIKE ? ESCAPE '\')`,
		Texts:  `SELECT d.id FROM parts_dependents p CROSS JOIN dependents d ON d.id = p.rowid WHERE parts_dependents MATCH ? AND ` + dependentText + ` LIKE ? ESCAPE '\'`,
		Others: `SELECT d.id FROM dependents d WHERE d.system_id IN (SELECT id FROM systems WHERE name LIKE ? ESCAPE '\')
			UNION SELECT t.dependent_id AS id FROM accounts a CROSS JOIN ties t ON t.account_id = a.id WHERE a.name LIKE ? ESCAPE '\'`,
	},
	BySort: "systems CROSS JOIN dependents d ON d.system_id = systems.id" + dependentScopes,
	Columns: []database.Column{
		{Name: "name", Sql: "d.name"},
		{Name: "system", Sql: "systems.name"},
		{Name: "kind", Sql: "d.kind"},
		{Name: "place", Sql: "d.place"},
		{Name: "description", Sql: "d.description"},
		{Name: "runs_as", Sql: "d.runs_as"},
		{Name: "account", Sql: dependentAccount},
		{Name: "evidence", Sql: dependentProof, Hidden: true},
		{Name: "account_id", Sql: "COALESCE((SELECT group_concat(t.account_id, ' ') FROM ties t WHERE t.dependent_id = d.id), '')", Hidden: true},
		{Name: "identity", Sql: "d.identity"},
		{Name: "stores", Sql: "d.stores", Hidden: true},
		{Name: "state", Sql: "d.state"},
		{Name: "result", Sql: "d.result"},
		{Name: "start_mode", Sql: "d.start_mode"},
		{Name: "executable", Sql: "d.executable"},
		{Name: "schedule", Sql: "d.schedule"},
		{Name: "path", Sql: "d.path"},
		{Name: "first_seen", Sql: "d.first_seen", Hidden: true},
		{Name: "started", Sql: "d.started", Hidden: true},
		{Name: "seen", Sql: dependentSeen, Hidden: true},
		{Name: "changed", Sql: "d.changed", Hidden: true},
		{Name: "gone", Sql: "d.gone", Hidden: true},
		{Name: "id", Sql: "d.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Dependent, error) { return scanDependent(rows, new(any), new(any)) },
}

// Dependents lists dependents; account limits them to those tied to one (0 for all).
func (s *Store) Dependents(ctx context.Context, account records.AccountID, q records.Query) (records.Page[records.Dependent], error) {
	l := dependentList
	if account != 0 {
		l.Where = fmt.Sprintf("d.id IN (SELECT dependent_id FROM ties WHERE account_id = %d)", account)
	}
	return database.PageOf(ctx, s.Read, l, q)
}

// Dependent returns one by id.
func (s *Store) Dependent(ctx context.Context, id records.DependentID) (records.Dependent, error) {
	v, err := scanDependent(s.Read.QueryRowContext(ctx, "SELECT "+dependentColumns+" FROM "+dependentFrom+" WHERE d.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("dependent %d: %w", id, err)
	}
	return v, nil
}

// DependentsOfSystem returns all present dependents of a system.
func (s *Store) DependentsOfSystem(ctx context.Context, system records.SystemID) ([]records.Dependent, error) {
	return s.dependentsWhere(ctx, "d.system_id = ? AND d.gone = ''", system)
}

// DependentsOfAccount returns all present dependents tied to an account.
func (s *Store) DependentsOfAccount(ctx context.Context, account records.AccountID) ([]records.Dependent, error) {
	return s.dependentsWhere(ctx, "d.id IN (SELECT dependent_id FROM ties WHERE account_id = ?) AND d.gone = ''", account)
}

func (s *Store) dependentsWhere(ctx context.Context, where string, args ...any) ([]records.Dependent, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Dependent, error) { return scanDependent(rows) },
		"SELECT "+dependentColumns+" FROM "+dependentFrom+" WHERE "+where+" ORDER BY systems.name, d.kind, d.place", args...)
}

// PutDependents takes in a batch of what a visit saw.
func (s *Store) PutDependents(ctx context.Context, system records.SystemID, batch []estate.Dependent, seen *Seen, tally *records.Tally) error {
	defer s.PictureAltered()
	if len(batch) == 0 {
		return nil
	}
	keys := make([]string, len(batch))
	for i, d := range batch {
		keys[i] = string(d.Kind) + "\x01" + d.Place
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		have, err := known(ctx, tx, "SELECT id, kind || char(1) || place, digest, gone <> '' FROM dependents WHERE system_id = ? AND kind || char(1) || place IN (SELECT value FROM json_each(?))", system, keys)
		if err != nil {
			return fmt.Errorf("read known dependents: %w", err)
		}
		insert, err := tx.PrepareContext(ctx, `INSERT INTO dependents (system_id, kind, place, name, description, runs_as, state, start_mode, executable, schedule, path, uses, after, requires, copy, fingerprint, digest, first_seen, seen, changed, identity, stores, stored, started, result, key, reloads)
			VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
			ON CONFLICT (system_id, kind, place) DO UPDATE SET name=excluded.name, description=excluded.description, runs_as=excluded.runs_as, state=excluded.state, start_mode=excluded.start_mode, executable=excluded.executable, schedule=excluded.schedule, path=excluded.path, uses=excluded.uses, after=excluded.after, requires=excluded.requires, copy=excluded.copy, fingerprint=excluded.fingerprint, digest=excluded.digest, seen=excluded.seen, changed=excluded.changed, gone='', identity=excluded.identity, stores=excluded.stores, stored=excluded.stored, started=excluded.started, result=excluded.result, key=excluded.key, reloads=excluded.reloads
			RETURNING id`)
		if err != nil {
			return err
		}
		defer insert.Close()
		var altered []int64
		digests := make([][]byte, len(batch))
		for i, d := range batch {
			digests[i] = digestOf(d)
			if k, found := have[keys[i]]; found && (k.gone || string(k.digest) != string(digests[i])) {
				altered = append(altered, k.id)
			}
		}
		became, err := s.OfDependents(ctx, tx, system, &seen.Look, altered)
		if err != nil {
			return err
		}
		now := s.Stamp()
		for i, d := range batch {
			digest := digests[i]
			k, found := have[keys[i]]
			if found && !k.gone && string(k.digest) == string(digest) {
				seen.add(k.id)
				continue
			}
			fingerprint := ""
			if d.Copy != nil {
				fingerprint = d.Copy.Fingerprint
			}
			var id int64
			err := insert.QueryRowContext(ctx, system, d.Kind, d.Place, d.Name, d.Description, d.RunsAs, d.State, d.StartMode, d.Executable, d.Schedule, d.Path, database.AsJSON(d.Uses), database.AsJSON(d.After), database.AsJSON(d.Requires), database.AsJSON(d.Copy), fingerprint, digest, now, now, now, naming.IdentityOf(d.RunsAs), d.Stores, d.Stored, database.StampOf(d.Started), d.Result, database.AsJSON(d.Key), d.Reloads).Scan(&id)
			if err != nil {
				return fmt.Errorf("dependent %s: %w", d.Place, err)
			}
			seen.add(id)
			if found { // one that comes back is not new
				tally.Altered++
			} else {
				tally.Added++
			}
			if err := became.Written(ctx, tx, changes.Dependent{Dependent: &d, ID: id, Known: found, Gone: k.gone, Fingerprint: fingerprint}); err != nil {
				return err
			}
		}
		return became.End(ctx, tx)
	})
}

// TieSource makes a ties.Known for a moment.
func (s *Store) TieSource(ctx context.Context) (ties.Known, error) { return s.Lookup(ctx) }

// PutTies replaces the ties of a dependent.
func (s *Store) PutTies(ctx context.Context, derived map[records.DependentID][]ties.Tie) error {
	defer s.PictureAltered()
	some := false
	ids := make([]records.DependentID, 0, len(derived))
	for id, list := range derived {
		some = some || len(list) > 0
		ids = append(ids, id)
	}
	// Most systems have no ties and had none: nothing is written then.
	if !some {
		tied, err := database.Collect(ctx, s.Read, database.Single[int64], "SELECT id FROM ties WHERE dependent_id IN (SELECT value FROM json_each(?)) LIMIT 1", database.AsJSON(ids))
		if err != nil || len(tied) == 0 {
			return err
		}
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		now := s.Stamp()
		// Most dependents have no ties and had none: nothing is written then.
		had := map[records.DependentID]bool{}
		tied, err := database.Collect(ctx, tx, database.Single[records.DependentID], "SELECT DISTINCT dependent_id FROM ties WHERE dependent_id IN (SELECT value FROM json_each(?))", database.AsJSON(ids))
		if err != nil {
			return err
		}
		for _, id := range tied {
			had[id] = true
		}
		tiedTo := map[records.AccountID]bool{}
		for id, list := range derived {
			if len(list) == 0 && !had[id] {
				continue
			}
			var keep []string
			for _, t := range list {
				if n, err := strconv.ParseInt(t.Account, 10, 64); err == nil {
					tiedTo[records.AccountID(n)] = true
				}
				keep = append(keep, t.Account+" "+string(t.Evidence))
				_, err := tx.ExecContext(ctx, `INSERT INTO ties (account_id, dependent_id, evidence, strength, detail, first_seen, seen) VALUES (CAST(? AS INTEGER),?,?,?,?,?,?)
					ON CONFLICT (account_id, dependent_id, evidence) DO UPDATE SET strength=excluded.strength, detail=excluded.detail, seen=excluded.seen`,
					t.Account, id, t.Evidence, t.Strength, t.Detail, now, now)
				if err != nil {
					return fmt.Errorf("tie: %w", err)
				}
			}
			raw, err := json.Marshal(keep)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "DELETE FROM ties WHERE dependent_id = ? AND evidence IN ('configured', 'held') AND account_id || ' ' || evidence NOT IN (SELECT value FROM json_each(?))", id, string(raw)); err != nil {
				return fmt.Errorf("tie: %w", err)
			}
		}
		if len(tiedTo) == 0 {
			return nil
		}
		return custody.NotePasswords(ctx, tx, slices.Collect(maps.Keys(tiedTo)), " AND "+custody.PasswordUsed)
	})
}

// ContextOf says how references on a system are read.
func ContextOf(v records.System) naming.Context {
	return naming.Context{System: v.ID.String(), Host: estate.Kind(v.Kind).IsHost()}
}

// Reused finds passwords that belong to several accounts: by the values in
// custody, and by the accounts that copies stand beside. Copies that hold
// another value than their account's say nothing of whose it is.
func (s *Store) Reused(ctx context.Context) ([]records.Reuse, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (r records.Reuse, err error) {
		var accounts, places string
		err = rows.Scan(&r.Fingerprint, &accounts, &r.AccountID, &r.System, &places)
		r.Accounts, r.Places = database.FromJSON[[]string](accounts), database.FromJSON[[]string](places)
		return r, err
	}, `WITH uses AS (
		SELECT x.fingerprint, c.account_id FROM secrets x JOIN credentials c ON c.id = x.credential_id WHERE x.state = 'current' AND c.state = 'custody' AND c.account_id IS NOT NULL
		UNION SELECT d.fingerprint, t.account_id FROM dependents d JOIN ties t ON t.dependent_id = d.id
			WHERE d.gone = '' AND d.fingerprint <> '' AND t.strength IN ('matches', 'beside', 'differs')
				AND NOT EXISTS (SELECT 1 FROM secrets x JOIN credentials c ON c.id = x.credential_id WHERE x.fingerprint = d.fingerprint AND c.account_id = t.account_id AND x.state = 'retired')
	), many AS (SELECT fingerprint, MIN(account_id) AS one FROM uses GROUP BY fingerprint HAVING COUNT(DISTINCT account_id) > 1)
	SELECT m.fingerprint, (SELECT json_group_array(name) FROM (SELECT a.name FROM uses u JOIN accounts a ON a.id = u.account_id WHERE u.fingerprint = m.fingerprint ORDER BY a.name)),
		m.one, (SELECT systems.name FROM accounts a JOIN systems ON systems.id = a.system_id WHERE a.id = m.one),
		(SELECT json_group_array(place) FROM (SELECT systems.name || ':' || d.place AS place FROM dependents d JOIN systems ON systems.id = d.system_id WHERE d.fingerprint = m.fingerprint AND d.gone = '' ORDER BY 1))
	FROM many m ORDER BY m.fingerprint`)
}

// MostKeyUses is how many keys are read at once; whoever gets so many says that
// there may be more.
const MostKeyUses = 5000

// KeyUses returns the keys that open something.
func (s *Store) KeyUses(ctx context.Context) ([]records.KeyUse, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (k records.KeyUse, err error) {
		var doors, holders string
		err = rows.Scan(&k.Fingerprint, &k.Name, &k.System, &k.DependentID, &doors, &holders)
		k.Doors, k.Holders = database.FromJSON[[]string](doors), database.FromJSON[[]string](holders)
		return k, err
	}, `SELECT fp, MIN(name), MIN(system), MIN(id), json_group_array(DISTINCT door),
		(SELECT json_group_array(systems.name || ':' || h.place) FROM dependents h JOIN systems ON systems.id = h.system_id WHERE h.kind = 'key' AND h.gone = '' AND json_extract(h.key, '$.fingerprint') = fp)
		FROM (SELECT json_extract(d.key, '$.fingerprint') AS fp, d.name, systems.name AS system, d.id, COALESCE(json_extract(d.key, '$.lets'), '?') || ' on ' || systems.name AS door
			FROM dependents d JOIN systems ON systems.id = d.system_id LEFT JOIN stewards l ON l.name = systems.steward
			WHERE d.kind = 'authorized key' AND d.gone = '' AND COALESCE(json_extract(d.key, '$.lets'), '') <> COALESCE(l.account, '-') ORDER BY systems.name, d.place) GROUP BY fp ORDER BY fp LIMIT `+strconv.Itoa(MostKeyUses))
}

// HoldingFingerprint returns the files that hold a value.
func (s *Store) HoldingFingerprint(ctx context.Context, fingerprint string) ([]records.Dependent, error) {
	ids, err := database.Collect(ctx, s.Read, database.Single[records.DependentID], "SELECT id FROM dependents WHERE fingerprint = ? AND fingerprint <> '' AND gone = '' AND kind = 'file' ORDER BY id", fingerprint)
	var out []records.Dependent
	for _, id := range ids {
		d, err := s.Dependent(ctx, id)
		if err != nil {
			return out, err
		}
		out = append(out, d)
	}
	return out, err
}

// DependentsOfKey returns the entries that let the holder of a key in, and the
// files that hold it.
func (s *Store) DependentsOfKey(ctx context.Context, fingerprint string) ([]records.Dependent, error) {
	return s.dependentsWhere(ctx, "d.kind IN ('key', 'authorized key', 'cloud key', 'issued key', 'certificate', 'tls port') AND json_extract(d.key, '$.fingerprint') = ? AND d.gone = ''", fingerprint)
}

// HoldersOfKeyID returns the files that hold a key of an issuer, by its number.
func (s *Store) HoldersOfKeyID(ctx context.Context, keyID string) ([]records.Dependent, error) {
	return s.dependentsWhere(ctx, "d.kind = 'cloud key' AND json_extract(d.key, '$.key_id') = ? AND d.gone = ''", keyID)
}
