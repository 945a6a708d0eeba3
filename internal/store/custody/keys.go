package custody

import (
	"context"
	"database/sql"
	"time"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// certified are the public halves that certificates are about.
const certified = "SELECT json_extract(key, '$.fingerprint') FROM dependents WHERE kind IN ('certificate', 'tls port') AND gone = '' AND json_extract(key, '$.fingerprint') <> ''"

// NoteKeys gives every key that was seen a row. A new key that a rotation is
// spreading is not another pair. A pair that an issuer accepts is that identity's key, also
// where it was seen in a file before.
func (s *Custody) NoteKeys(ctx context.Context) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		// The key of a certificate opens no account, unless an entry lets its holder in.
		_, err := tx.ExecContext(ctx, `UPDATE credentials SET kind = 'certificate' WHERE kind = 'ssh-key' AND state = 'seen' AND fingerprint <> '' AND fingerprint IN (`+certified+`)
			AND fingerprint NOT IN (SELECT json_extract(key, '$.fingerprint') FROM dependents WHERE kind = 'authorized key' AND gone = '')`)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO credentials (kind, fingerprint, type, bits, name, first_seen)
			SELECT CASE WHEN MAX(issued) THEN 'cloud-key' WHEN NOT MAX(entry) AND fp IN (`+certified+`) THEN 'certificate' ELSE 'ssh-key' END, fp, MAX(type), MAX(bits), COALESCE(MAX(comment), MAX(place)), MIN(seen) FROM (
				SELECT json_extract(d.key, '$.fingerprint') AS fp, COALESCE(json_extract(d.key, '$.type'), '') AS type, COALESCE(json_extract(d.key, '$.bits'), 0) AS bits,
					CASE d.kind WHEN 'authorized key' THEN NULLIF(json_extract(d.key, '$.comment'), '') WHEN 'issued key' THEN d.name END AS comment, d.kind IN ('cloud key', 'issued key') AS issued, d.kind = 'authorized key' AS entry, d.name || ' on ' || systems.name AS place, d.first_seen AS seen
				FROM dependents d JOIN systems ON systems.id = d.system_id WHERE d.kind IN ('key', 'authorized key', 'cloud key', 'issued key') AND d.gone = '')
			WHERE fp IS NOT NULL AND fp <> '' AND NOT EXISTS (SELECT 1 FROM credentials p WHERE p.kind IN (`+pairKinds+`) AND p.fingerprint = fp)
				AND NOT EXISTS (SELECT 1 FROM secrets x WHERE x.public = fp AND x.state IN ('candidate', 'current'))
			GROUP BY fp`)
		if err != nil {
			return err
		}
		// A certificate is called by the first name that it is good for.
		if _, err = tx.ExecContext(ctx, `UPDATE credentials SET name = i.called FROM (
				SELECT json_extract(key, '$.fingerprint') AS fp, MIN(COALESCE(json_extract(key, '$.names[0]'), name)) AS called FROM dependents WHERE kind IN ('certificate', 'tls port') AND gone = '' AND json_extract(key, '$.fingerprint') <> '' GROUP BY 1) i
			WHERE kind = 'certificate' AND fingerprint = i.fp AND name <> i.called`); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE credentials SET kind = 'cloud-key', name = i.called, account_id = i.account FROM (
				SELECT json_extract(d.key, '$.fingerprint') AS fp, MAX(d.name) AS called, MAX(t.account_id) AS account FROM dependents d JOIN ties t ON t.dependent_id = d.id AND t.strength = 'authorizes'
				WHERE d.kind = 'issued key' AND d.gone = '' GROUP BY fp) i
			WHERE fingerprint <> '' AND fingerprint = i.fp AND (state = 'seen' OR kind = 'cloud-key') AND (kind = 'ssh-key' OR name <> i.called OR account_id IS NOT i.account)`)
		return err
	})
}

// becomes gives a key another public half. What a survey noted of it as a
// pair of its own meanwhile gives way.
func becomes(ctx context.Context, tx *sql.Tx, id records.CredentialID, k credential.Public) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM credentials WHERE kind IN ("+pairKinds+") AND fingerprint = ? AND id <> ? AND state = 'seen' AND id NOT IN (SELECT credential_id FROM rotations UNION SELECT credential_id FROM rehearsals)", k.Fingerprint, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE credentials SET fingerprint = ?, type = ?, bits = ? WHERE id = ?", k.Fingerprint, k.Type, k.Bits, id)
	return err
}

func (s *Custody) keyIs(ctx context.Context, tx *sql.Tx, k records.KeyIs) error {
	const set = "key = json_set(key, '$.fingerprint', ?, '$.type', ?, '$.bits', ?, '$.public', ''), digest = x'00', seen = ?"
	now := s.Stamp()
	if !k.Door {
		_, err := tx.ExecContext(ctx, "UPDATE dependents SET "+set+" WHERE system_id = ? AND kind = 'key' AND path = ? AND json_extract(key, '$.fingerprint') = ?",
			k.To.Fingerprint, k.To.Type, k.To.Bits, now, k.SystemID, k.Path, k.From.Fingerprint)
		if err == nil { // the rest of what it says is read again by the survey that follows
			var begins, ends any
			if !k.Ends.IsZero() {
				begins, ends = k.Begins.UTC().Format(time.RFC3339), k.Ends.UTC().Format(time.RFC3339)
			}
			_, err = tx.ExecContext(ctx, "UPDATE dependents SET key = json_set(key, '$.fingerprint', ?, '$.public', '', '$.begins', COALESCE(?, json_extract(key, '$.begins')), '$.ends', COALESCE(?, json_extract(key, '$.ends'))), digest = x'00', seen = ? WHERE system_id = ? AND kind = 'certificate' AND path = ? AND json_extract(key, '$.fingerprint') = ?",
				k.To.Fingerprint, begins, ends, now, k.SystemID, k.Path, k.From.Fingerprint)
		}
		if err == nil && k.To.ID != "" {
			_, err = tx.ExecContext(ctx, "UPDATE dependents SET key = json_set(key, '$.fingerprint', ?, '$.type', ?, '$.bits', ?, '$.key_id', ?), digest = x'00', seen = ?, place = path || '#' || ? WHERE system_id = ? AND kind = 'cloud key' AND path = ? AND json_extract(key, '$.fingerprint') = ?",
				k.To.Fingerprint, k.To.Type, k.To.Bits, k.To.ID, now, k.To.ID, k.SystemID, k.Path, k.From.Fingerprint)
		}
		return err
	}
	if k.To.ID != "" {
		return nil // the survey that follows reads at the issuer what it has
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

// KeepChain keeps what an authority signed about a key; of zero where it was found.
func (s *Custody) KeepChain(ctx context.Context, fingerprint, chain string, authority records.SystemID) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO chains (fingerprint, chain, system_id, kept) VALUES (?, ?, NULLIF(?, 0), ?)
			ON CONFLICT (fingerprint) DO UPDATE SET chain = excluded.chain, kept = excluded.kept WHERE chains.system_id IS NULL`, fingerprint, chain, authority, s.Stamp())
		return err
	})
}

// Chain is what an authority signed about a key, and which authority that was; zero where it
// was found. ErrNotFound where none was kept.
func (s *Custody) Chain(ctx context.Context, fingerprint string) (chain string, authority records.SystemID, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT chain, COALESCE(system_id, 0) FROM chains WHERE fingerprint = ?", fingerprint).Scan(&chain, &authority)
	return chain, authority, database.OrNotFound(err)
}
