package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"fmt"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
)

type ledgerKeys struct {
	signer   note.Signer
	verifier string
}

const (
	metaLedgerKey      = "ledger-signing-key"
	metaLedgerVerifier = "ledger-verifier"
)

// OpenLedger loads the ledger's signing key, or makes it at first start.
func (s *Store) OpenLedger(ctx context.Context, sealer *secret.Sealer) error {
	sealed, err := s.Meta(ctx, metaLedgerKey)
	if err != nil {
		key, verifier, err := note.GenerateKey(rand.Reader, ledger.Origin)
		if err != nil {
			return fmt.Errorf("make the ledger's key: %w", err)
		}
		if sealed, err = sealer.Seal(metaLedgerKey, secret.New(key)); err != nil {
			return err
		}
		if err := s.SetMeta(ctx, metaLedgerVerifier, []byte(verifier)); err != nil {
			return err
		}
		if err := s.SetMeta(ctx, metaLedgerKey, sealed); err != nil {
			return err
		}
	}
	key, err := sealer.Open(metaLedgerKey, sealed)
	if err != nil {
		return fmt.Errorf("the ledger's signing key: %w", err)
	}
	signer, err := note.NewSigner(key.RevealString())
	if err != nil {
		return fmt.Errorf("the ledger's signing key: %w", err)
	}
	verifier, err := s.Meta(ctx, metaLedgerVerifier)
	if err != nil {
		return err
	}
	s.ledger = &ledgerKeys{signer: signer, verifier: string(verifier)}
	return nil
}

// Record appends entries in one transaction.
func (s *Store) Record(ctx context.Context, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error { return s.record(ctx, tx, entries...) })
}

// record appends entries in the caller's transaction.
func (s *Store) record(ctx context.Context, tx *sql.Tx, entries ...ledger.Entry) error {
	var head ledger.Head
	if err := tx.QueryRowContext(ctx, "SELECT COALESCE(MAX(idx) + 1, 0) FROM ledger").Scan(&head.Size); err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	hashes := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, index := range indexes {
			var raw []byte
			if err := tx.QueryRowContext(ctx, "SELECT hash FROM ledger_hashes WHERE idx = ?", index).Scan(&raw); err != nil {
				return nil, fmt.Errorf("hash %d: %w", index, err)
			}
			copy(out[i][:], raw)
		}
		return out, nil
	})
	for _, e := range entries {
		e.Index, e.Time = head.Size, s.now().UTC()
		leaf, err := e.Encode()
		if err != nil {
			return err
		}
		add, next, err := ledger.Append(head.Size, leaf, hashes)
		if err != nil {
			return fmt.Errorf("ledger: %w", err)
		}
		start := tlog.StoredHashIndex(0, head.Size)
		for i, hash := range add {
			if _, err := tx.ExecContext(ctx, "INSERT INTO ledger_hashes (idx, hash) VALUES (?, ?)", start+int64(i), hash[:]); err != nil {
				return fmt.Errorf("ledger: %w", err)
			}
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO ledger (idx, leaf, hash) VALUES (?, ?, ?)", head.Size, leaf, add[0][:]); err != nil {
			return fmt.Errorf("ledger: %w", err)
		}
		head = next
	}
	checkpoint, err := ledger.SignHead(head, s.ledger.signer)
	if err != nil {
		return fmt.Errorf("sign the ledger: %w", err)
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO ledger_head (one, size, checkpoint) VALUES (1, ?, ?) ON CONFLICT (one) DO UPDATE SET size = excluded.size, checkpoint = excluded.checkpoint", head.Size, checkpoint)
	return err
}

// LedgerList lists entries, the newest first unless asked otherwise.
func (s *Store) LedgerList(ctx context.Context, q Query) (Page[ledger.Entry], error) {
	field := func(name string) column {
		return column{name: name, sql: "COALESCE(json_extract(leaf, '$." + name + "'), '')"}
	}
	return page(ctx, s.read, listing[ledger.Entry]{
		from: "ledger", id: "idx", sort: "-index", scan: "leaf",
		columns: []column{{name: "index", sql: "idx", number: true}, field("time"), field("actor"), field("act"), field("phase"), field("subject"), field("system"), field("ref"), field("result"), field("reason"), field("detail")},
		scanRow: func(rows *sql.Rows) (e ledger.Entry, err error) {
			var leaf []byte
			if err := rows.Scan(padded(&leaf)...); err != nil {
				return e, err
			}
			if err := json.Unmarshal(leaf, &e); err != nil {
				e.Detail = "this entry cannot be read: verify the ledger"
			}
			return e, nil
		},
	}, q)
}

// LedgerVerify recomputes the whole ledger.
func (s *Store) LedgerVerify(ctx context.Context) (ledger.Report, error) {
	// One transaction, so that entries and checkpoint belong together.
	tx, err := s.read.BeginTx(ctx, nil)
	if err != nil {
		return ledger.Report{}, err
	}
	defer func() { _ = tx.Rollback() }()
	var checkpoint string
	if err := tx.QueryRowContext(ctx, "SELECT checkpoint FROM ledger_head WHERE one = 1").Scan(&checkpoint); err != nil && one(err) != ErrNotFound {
		return ledger.Report{}, err
	}
	rows, err := tx.QueryContext(ctx, "SELECT idx, leaf, hash FROM ledger ORDER BY idx")
	if err != nil {
		return ledger.Report{}, err
	}
	defer rows.Close()
	return ledger.Verify(func() (ledger.Stored, bool, error) {
		if !rows.Next() {
			return ledger.Stored{}, false, rows.Err()
		}
		var stored ledger.Stored
		var hash []byte
		err := rows.Scan(&stored.Index, &stored.Leaf, &hash)
		copy(stored.Hash[:], hash)
		return stored, true, err
	}, checkpoint, s.ledger.verifier)
}

// LedgerCheckpoint returns the signed head and the key to verify it with.
func (s *Store) LedgerCheckpoint(ctx context.Context) (checkpoint, verifier string, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT checkpoint FROM ledger_head WHERE one = 1").Scan(&checkpoint)
	return checkpoint, s.ledger.verifier, one(err)
}
