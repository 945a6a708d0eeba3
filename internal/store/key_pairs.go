package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// KeyPair is a key, known by the fingerprint of its public half: where it lets
// its holder in, and who holds it, is in the dependents with that fingerprint.
type KeyPair struct {
	ID          int64     `json:"id"`
	Fingerprint string    `json:"fingerprint" doc:"SHA256:... of the public half"`
	Type        string    `json:"type"`
	Bits        int       `json:"bits,omitempty"`
	Name        string    `json:"name" doc:"Comment of an entry, or where it is held"`
	Doors       int       `json:"doors" doc:"Entries that let its holder in"`
	Holders     int       `json:"holders" doc:"Files that hold its private half"`
	Custody     bool      `json:"custody"`
	Verdict     string    `json:"verdict" enum:"accepted,refused,unclear,"`
	Rotated     time.Time `json:"rotated,omitzero"`
	FirstSeen   time.Time `json:"first_seen"`
}

// Credential names it.
func (k KeyPair) Credential() Credential { return Credential{KeyID: k.ID} }

const (
	keyKinds = "d.kind IN ('key', 'authorized key') AND json_extract(d.key, '$.fingerprint') = k.fingerprint AND d.gone = ''"
	keyFrom  = "key_pairs k LEFT JOIN custody c ON c.key_id = k.id"
	// Also those that are nowhere any more stay, while they are in custody.
	keyThere   = "(c.id IS NOT NULL OR EXISTS (SELECT 1 FROM dependents d WHERE " + keyKinds + "))"
	keyDoors   = "(SELECT COUNT(*) FROM dependents d WHERE " + keyKinds + " AND d.kind = 'authorized key')"
	keyHolders = "(SELECT COUNT(*) FROM dependents d WHERE " + keyKinds + " AND d.kind = 'key')"
	keyColumns = "k.id, k.fingerprint, k.type, k.bits, k.name, " + keyDoors + ", " + keyHolders + ", c.id IS NOT NULL, COALESCE(c.verdict, ''), COALESCE(c.rotated, ''), k.first_seen"
)

func scanKeyPair(row interface{ Scan(...any) error }, more ...any) (KeyPair, error) {
	var k KeyPair
	var rotated, seen string
	err := row.Scan(append([]any{&k.ID, &k.Fingerprint, &k.Type, &k.Bits, &k.Name, &k.Doors, &k.Holders, &k.Custody, &k.Verdict, &rotated, &seen}, more...)...)
	k.Rotated, k.FirstSeen = timeOf(rotated), timeOf(seen)
	return k, one(err)
}

// KeyPairs lists them.
func (s *Store) KeyPairs(ctx context.Context, q Query) (Page[KeyPair], error) {
	return page(ctx, s.read, listing[KeyPair]{
		from: keyFrom, where: keyThere, id: "k.id", sort: "name", scan: keyColumns,
		columns: []column{
			{name: "id", sql: "k.id", number: true},
			{name: "name", sql: "k.name"},
			{name: "fingerprint", sql: "k.fingerprint"},
			{name: "type", sql: "k.type"},
			{name: "bits", sql: "k.bits", number: true},
			{name: "doors", sql: keyDoors, number: true},
			{name: "holders", sql: keyHolders, number: true},
			{name: "custody", sql: "c.id IS NOT NULL", number: true},
			{name: "verdict", sql: "COALESCE(c.verdict, '')"},
			{name: "rotated", sql: "COALESCE(c.rotated, '')"},
			{name: "first_seen", sql: "k.first_seen"},
		},
		scanRow: func(rows *sql.Rows) (KeyPair, error) { return scanKeyPair(rows, new(any), new(any)) },
	}, q)
}

// KeyPair returns one by id.
func (s *Store) KeyPair(ctx context.Context, id int64) (KeyPair, error) {
	return s.keyPair(ctx, fmt.Sprintf("key %d", id), "k.id = ?", id)
}

// KeyPairOf returns the one with a fingerprint.
func (s *Store) KeyPairOf(ctx context.Context, fingerprint string) (KeyPair, error) {
	return s.keyPair(ctx, "key "+fingerprint, "k.fingerprint = ?", fingerprint)
}

func (s *Store) keyPair(ctx context.Context, what, where string, args ...any) (KeyPair, error) {
	k, err := scanKeyPair(s.read.QueryRowContext(ctx, "SELECT "+keyColumns+" FROM "+keyFrom+" WHERE "+where, args...))
	if err != nil {
		return k, fmt.Errorf("%s: %w", what, err)
	}
	return k, nil
}

// DependentsOfKey returns the entries that let the holder of a key in, and the
// files that hold it.
func (s *Store) DependentsOfKey(ctx context.Context, fingerprint string) ([]Dependent, error) {
	return s.dependentsWhere(ctx, "d.kind IN ('key', 'authorized key') AND json_extract(d.key, '$.fingerprint') = ? AND d.gone = ''", fingerprint)
}

// NoteKeyPairs gives every key that was seen a row. A new key that a rotation is
// spreading is not another pair.
func (s *Store) NoteKeyPairs(ctx context.Context) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO key_pairs (fingerprint, type, bits, name, first_seen)
			SELECT fp, MAX(type), MAX(bits), COALESCE(MAX(comment), MAX(place)), MIN(seen) FROM (
				SELECT json_extract(d.key, '$.fingerprint') AS fp, COALESCE(json_extract(d.key, '$.type'), '') AS type, COALESCE(json_extract(d.key, '$.bits'), 0) AS bits,
					CASE WHEN d.kind = 'authorized key' THEN NULLIF(json_extract(d.key, '$.comment'), '') END AS comment, d.name || ' on ' || systems.name AS place, d.first_seen AS seen
				FROM dependents d JOIN systems ON systems.id = d.system_id WHERE d.kind IN ('key', 'authorized key') AND d.gone = '')
			WHERE fp IS NOT NULL AND fp <> '' AND NOT EXISTS (SELECT 1 FROM key_pairs p WHERE p.fingerprint = fp)
				AND NOT EXISTS (SELECT 1 FROM secrets x WHERE x.public = fp AND x.state IN ('candidate', 'current'))
			GROUP BY fp`)
		return err
	})
}

// becomes gives a key pair another public half. What a survey noted of it as a
// pair of its own meanwhile gives way.
func becomes(ctx context.Context, tx *sql.Tx, id int64, k KeyPair) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM key_pairs WHERE fingerprint = ? AND id <> ? AND id NOT IN (SELECT key_id FROM custody WHERE key_id IS NOT NULL UNION SELECT key_id FROM rotations WHERE key_id IS NOT NULL UNION SELECT key_id FROM rehearsals WHERE key_id IS NOT NULL)", k.Fingerprint, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE key_pairs SET fingerprint = ?, type = ?, bits = ? WHERE id = ?", k.Fingerprint, k.Type, k.Bits, id)
	return err
}

// KeyIs says that a file now holds another key, or that a door lets another one
// in.
type KeyIs struct {
	SystemID int64
	Path     string
	Door     bool // a file of entries
	From, To KeyPair
}

func (s *Store) keyIs(ctx context.Context, tx *sql.Tx, k KeyIs) error {
	const set = "key = json_set(key, '$.fingerprint', ?, '$.type', ?, '$.bits', ?, '$.public', ''), digest = x'00', seen = ?"
	now := s.stamp()
	if !k.Door {
		_, err := tx.ExecContext(ctx, "UPDATE dependents SET "+set+" WHERE system_id = ? AND kind = 'key' AND path = ? AND json_extract(key, '$.fingerprint') = ?",
			k.To.Fingerprint, k.To.Type, k.To.Bits, now, k.SystemID, k.Path, k.From.Fingerprint)
		return err
	}
	// A survey may have seen the new entry meanwhile.
	before, after := k.Path+"#"+k.From.Fingerprint, k.Path+"#"+k.To.Fingerprint
	seen, err := tx.ExecContext(ctx, "UPDATE dependents SET gone = '', seen = ? WHERE system_id = ? AND kind = 'authorized key' AND place = ?", now, k.SystemID, after)
	if err != nil {
		return err
	}
	if n, err := seen.RowsAffected(); err != nil {
		return err
	} else if n > 0 {
		_, err = tx.ExecContext(ctx, "UPDATE dependents SET gone = ? WHERE system_id = ? AND kind = 'authorized key' AND place = ? AND gone = ''", now, k.SystemID, before)
		return err
	}
	_, err = tx.ExecContext(ctx, "UPDATE dependents SET place = ?, name = CASE name WHEN ? THEN ? ELSE name END, "+set+" WHERE system_id = ? AND kind = 'authorized key' AND place = ?",
		after, k.From.Fingerprint, k.To.Fingerprint, k.To.Fingerprint, k.To.Type, k.To.Bits, now, k.SystemID, before)
	return err
}
