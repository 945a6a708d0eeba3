package store

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// PutSessions replaces what is known of who is signed in to a data store.
func (s *Store) PutSessions(ctx context.Context, system records.SystemID, list []estate.Session) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions_seen WHERE system_id = ?", system); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx, "INSERT INTO sessions_seen (system_id, stable_id, account, client, port, application, database, since, seen) VALUES (?,?,?,?,?,?,?,?,?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		now := s.Stamp()
		for _, v := range list {
			if _, err := insert.ExecContext(ctx, system, v.StableID, v.Account, v.Client, v.Port, v.Application, v.Database, database.StampOf(v.Since), now); err != nil {
				return fmt.Errorf("session of %s: %w", v.Account, err)
			}
		}
		return nil
	})
}

// PutSockets replaces what is known of a host's connections and open ports.
func (s *Store) PutSockets(ctx context.Context, system records.SystemID, list []estate.Socket) error {
	defer s.PictureAltered()
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM sockets WHERE system_id = ?", system); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx, "INSERT INTO sockets (system_id, listens, local, local_port, peer, peer_port, uid, unit, program, seen) VALUES (?,?,?,?,?,?,?,?,?,?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		now := s.Stamp()
		for _, v := range list {
			if _, err := insert.ExecContext(ctx, system, v.Listens, v.Local, v.LocalPort, v.Peer, v.PeerPort, v.UID, v.Unit, v.Program, now); err != nil {
				return fmt.Errorf("socket %s:%d: %w", v.Local, v.LocalPort, err)
			}
		}
		return nil
	})
}

// PutUses adds recorded uses to those that are known. Records that were
// taken in before are told by their times, and count once.
func (s *Store) PutUses(ctx context.Context, system records.SystemID, list []estate.Use) error {
	if len(list) == 0 {
		return nil
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		insert, err := tx.PrepareContext(ctx, `INSERT INTO uses (system_id, account, client, how, key, failed, first, last, count) VALUES (?,?,?,?,?,?,?,?,?)
			ON CONFLICT (system_id, account, client, how, key, failed) DO UPDATE SET
				count = CASE WHEN excluded.first > last THEN count + excluded.count ELSE MAX(count, excluded.count) END, first = MIN(first, excluded.first), last = MAX(last, excluded.last)`)
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, v := range list {
			if _, err := insert.ExecContext(ctx, system, v.Account, v.Client, v.How, v.Key, v.Failed, database.StampOf(v.First), database.StampOf(v.Last), v.Count); err != nil {
				return fmt.Errorf("use by %s: %w", v.Account, err)
			}
		}
		return nil
	})
}

// hostOf finds the host with an address: the one that was added with it, or one
// that has a socket with it.
const hostOf = `COALESCE((SELECT h.id FROM systems h WHERE h.address = x.client AND h.kind IN ('unix-host', 'windows-host') ORDER BY h.id LIMIT 1),
	(SELECT k.system_id FROM sockets k WHERE k.local = x.client AND x.client NOT IN ('', '127.0.0.1', '::1') LIMIT 1), 0)`

// MostSeenUses is how many observed uses are read at once; whoever gets so many
// has not got all.
const MostSeenUses = 200_000

// SeenUses joins sessions with the sockets of hosts, and adds recorded uses.
// Sessions of Moss Ledger itself are left out. account is 0 for all.
func (s *Store) SeenUses(ctx context.Context, account records.AccountID) ([]records.SeenUse, error) {
	where := ""
	if account != 0 {
		where = fmt.Sprintf(" WHERE account_id = %d", account)
	}
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.SeenUse, err error) {
		var first, last string
		err = rows.Scan(&v.AccountID, &v.Account, &v.SystemID, &v.System, &v.Client, &v.Port, &v.Application, &v.How, &v.HostID, &v.Host, &v.Unit, &v.Program, &v.UID, &v.Failed, &first, &last, &v.Count)
		v.First, v.Last = database.TimeOf(first), database.TimeOf(last)
		return v, err
	}, `WITH live AS (
		SELECT a.id AS account_id, a.name AS account, x.system_id, x.client, x.port, x.application, x.since, x.seen, d.address AS server, d.port AS server_port, d.name AS system
		FROM sessions_seen x JOIN accounts a ON a.system_id = x.system_id AND a.stable_id = x.stable_id JOIN systems d ON d.id = x.system_id
			LEFT JOIN stewards l ON l.name = d.steward
		WHERE a.name <> COALESCE(l.account, '')
	), joined AS (
		SELECT x.*, k.system_id AS host_id, k.unit, k.program, k.uid FROM live x
		LEFT JOIN sockets k ON k.local_port = x.port AND k.listens = 0 AND k.local = x.client AND (x.client NOT IN ('127.0.0.1', '::1')
			OR k.system_id IN (SELECT h.id FROM systems h WHERE h.address = x.server))
	)
	SELECT * FROM (
		SELECT x.account_id, x.account, x.system_id, x.system, x.client, x.port, x.application, 'session' AS how, COALESCE(x.host_id, `+hostOf+`) AS host_id,
			COALESCE((SELECT name FROM systems WHERE id = COALESCE(x.host_id, `+hostOf+`)), '') AS host, COALESCE(x.unit, '') AS unit, COALESCE(x.program, '') AS program, COALESCE(x.uid, '') AS uid, 0 AS failed,
			CASE x.since WHEN '' THEN x.seen ELSE x.since END AS first, x.seen AS last, 1 AS count
		FROM joined x
		UNION ALL
		SELECT x.account_id, x.account, x.system_id, d.name, x.client, 0, '', x.how, `+hostOf+`, COALESCE((SELECT name FROM systems WHERE id = `+hostOf+`), ''), '', '', '', x.failed, x.first, x.last, x.count
		FROM uses x JOIN systems d ON d.id = x.system_id WHERE x.account_id <> 0
	)`+where+` ORDER BY account_id, last DESC LIMIT `+strconv.Itoa(MostSeenUses))
}

// UnplacedUses returns the recorded uses whose account is not known yet, by
// system and name.
func (s *Store) UnplacedUses(ctx context.Context) (map[records.SystemID][]string, error) {
	type row struct {
		system records.SystemID
		name   string
	}
	rows, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.system, &r.name) },
		"SELECT DISTINCT system_id, account FROM uses WHERE account_id = 0")
	out := map[records.SystemID][]string{}
	for _, r := range rows {
		out[r.system] = append(out[r.system], r.name)
	}
	return out, err
}

// PlaceUse says whose uses those of a name are.
func (s *Store) PlaceUse(ctx context.Context, system records.SystemID, name string, account records.AccountID) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE uses SET account_id = ? WHERE system_id = ? AND account = ?", account, system, name)
		return err
	})
}

// PutObserved renews the ties that come from use. Those that were not seen
// since before are dropped.
func (s *Store) PutObserved(ctx context.Context, list []records.ObservedTie, before time.Time) error {
	defer s.PictureAltered()
	have, err := database.Collect(ctx, s.Read, database.Single[int64], "SELECT id FROM ties WHERE evidence = 'observed' LIMIT 1")
	if err != nil || len(list) == 0 && len(have) == 0 {
		return err
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, t := range list {
			seen := database.StampOf(t.Seen)
			if _, err := tx.ExecContext(ctx, `INSERT INTO ties (account_id, dependent_id, evidence, strength, detail, first_seen, seen) VALUES (?,?,'observed',?,?,?,?)
				ON CONFLICT (account_id, dependent_id, evidence) DO UPDATE SET detail=excluded.detail, seen=MAX(seen, excluded.seen)`, t.AccountID, t.DependentID, estate.StrengthSignsIn, t.Detail, seen, seen); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM ties WHERE evidence = 'observed' AND seen < ?", database.StampOf(before))
		return err
	})
}

// The system at the other end is the one with that address; of several the one with
// that port.
const socketPeer = " LEFT JOIN systems o ON o.id = (SELECT p.id FROM systems p WHERE p.address = k.peer AND k.peer <> '' ORDER BY (p.port = k.peer_port) DESC, p.id LIMIT 1)"

var socketList = database.Listing[records.SocketOf]{
	From: "sockets k JOIN systems h ON h.id = k.system_id" + socketPeer, BySort: "systems h CROSS JOIN sockets k ON k.system_id = h.id" + socketPeer,
	ID: "k.rowid", Sort: "system", Scan: "k.system_id, h.name, k.listens, k.local, k.local_port, k.peer, k.peer_port, k.uid, k.unit, k.program, COALESCE(o.id, 0), COALESCE(o.name, ''), k.seen",
	Columns: []database.Column{
		{Name: "system", Sql: "h.name"},
		{Name: "listens", Sql: "k.listens", Hidden: true},
		{Name: "local", Sql: "k.local"},
		{Name: "local_port", Sql: "k.local_port", Number: true},
		{Name: "peer", Sql: "k.peer"},
		{Name: "peer_port", Sql: "k.peer_port", Number: true},
		{Name: "peer_system", Sql: "COALESCE(o.name, '')"},
		{Name: "unit", Sql: "k.unit"},
		{Name: "program", Sql: "k.program"},
		{Name: "uid", Sql: "k.uid", Hidden: true},
		{Name: "seen", Sql: "k.seen", Hidden: true},
		{Name: "id", Sql: "k.rowid", Number: true, Hidden: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.SocketOf, err error) {
		var seen string
		err = rows.Scan(&v.SystemID, &v.System, &v.Listens, &v.Local, &v.LocalPort, &v.Peer, &v.PeerPort, &v.UID, &v.Unit, &v.Program, &v.PeerSystemID, &v.PeerSystem, &seen, new(any), new(any))
		v.Seen = database.TimeOf(seen)
		return v, err
	},
}

// Sockets lists connections and listening ports of hosts.
func (s *Store) Sockets(ctx context.Context, q records.Query) (records.Page[records.SocketOf], error) {
	return database.PageOf(ctx, s.Read, socketList, q)
}

// Declarations returns those that were not withdrawn; account is 0 for all.
func (s *Store) Declarations(ctx context.Context, account records.AccountID) ([]records.Declaration, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (d records.Declaration, err error) {
		var until, said string
		err = rows.Scan(&d.ID, &d.AccountID, &d.Account, &d.DependentID, &d.Place, &d.System, &d.Reason, &until, &d.SaidBy, &said)
		d.Until, d.Said = database.TimeOf(until), database.TimeOf(said)
		return d, err
	}, `SELECT c.id, c.account_id, a.name, c.dependent_id, d.place, systems.name, c.reason, c.until, c.said_by, c.said FROM declarations c
		JOIN accounts a ON a.id = c.account_id JOIN dependents d ON d.id = c.dependent_id JOIN systems ON systems.id = d.system_id
		WHERE c.withdrawn = '' AND (? = 0 OR c.account_id = ?) ORDER BY c.id`, account, account)
}

// Declare stores a declaration with its tie. Without a dependent one of the
// kind "declared" is made on the system, with the place as its name.
func (s *Store) Declare(ctx context.Context, d records.Declaration, system records.SystemID, entries ...ledger.Entry) (records.DeclarationID, error) {
	defer s.PictureAltered()
	var id records.DeclarationID
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		now := s.Stamp()
		if d.DependentID == 0 {
			if err := tx.QueryRowContext(ctx, `INSERT INTO dependents (system_id, kind, place, name, description, runs_as, state, start_mode, executable, schedule, path, uses, after, requires, copy, fingerprint, digest, first_seen, seen, changed)
				VALUES (?,?,?,?,?,'','','','','','','null','null','null','null','',x'00',?,?,?) ON CONFLICT (system_id, kind, place) DO UPDATE SET gone = '', seen = excluded.seen RETURNING id`,
				system, estate.DependentDeclared, d.Place, d.Place, d.Reason, now, now, now).Scan(&d.DependentID); err != nil {
				return err
			}
		}
		if err := tx.QueryRowContext(ctx, "INSERT INTO declarations (account_id, dependent_id, reason, until, said_by, said) VALUES (?,?,?,?,?,?) RETURNING id",
			d.AccountID, d.DependentID, d.Reason, database.StampOf(d.Until), d.SaidBy, now).Scan(&id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO ties (account_id, dependent_id, evidence, strength, detail, first_seen, seen) VALUES (?,?,'declared',?,?,?,?)
			ON CONFLICT (account_id, dependent_id, evidence) DO UPDATE SET detail=excluded.detail, seen=excluded.seen`, d.AccountID, d.DependentID, estate.StrengthSaid, declaredDetail(d), now, now); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

func declaredDetail(d records.Declaration) string {
	text := fmt.Sprintf("%s says so: %s", d.SaidBy, d.Reason)
	if !d.Until.IsZero() {
		text += ", until " + d.Until.UTC().Format(time.DateOnly)
	}
	return text
}

// Withdraw ends a declaration and its tie.
func (s *Store) Withdraw(ctx context.Context, id records.DeclarationID, by string, entries ...ledger.Entry) error {
	defer s.PictureAltered()
	return s.InTx(ctx, func(tx *sql.Tx) error {
		var account, dependent int64
		err := tx.QueryRowContext(ctx, "UPDATE declarations SET withdrawn = ?, withdrawn_by = ? WHERE id = ? AND withdrawn = '' RETURNING account_id, dependent_id", s.Stamp(), by, id).Scan(&account, &dependent)
		if err != nil {
			return fmt.Errorf("declaration %d: %w", id, database.OrNotFound(err))
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM ties WHERE account_id = ? AND dependent_id = ? AND evidence = 'declared'
			AND NOT EXISTS (SELECT 1 FROM declarations c WHERE c.account_id = ties.account_id AND c.dependent_id = ties.dependent_id AND c.withdrawn = '')`, account, dependent); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE dependents SET gone = ? WHERE id = ? AND kind = ? AND NOT EXISTS (SELECT 1 FROM ties WHERE dependent_id = dependents.id)", s.Stamp(), dependent, estate.DependentDeclared); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}
