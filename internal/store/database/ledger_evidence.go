package database

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// mostEvidence is how many entries are proven at once.
const mostEvidence = 20_000

// LedgerEvidence are all entries about something, each with its proof against the signed
// head of now.
func (s *DB) LedgerEvidence(ctx context.Context, ref string) (out records.Evidence, err error) {
	tx, err := s.Read.BeginTx(ctx, nil)
	if err != nil {
		return out, err
	}
	defer func() { _ = tx.Rollback() }()
	_, size, checkpoint, err := storedEnd(ctx, tx)
	if err != nil {
		return out, err
	}
	out = records.Evidence{Checkpoint: checkpoint, Verifier: s.book.verifier, Size: size, Entries: []records.EvidenceEntry{}}
	type row struct {
		index int64
		leaf  []byte
	}
	list, err := Collect(ctx, tx, func(rows *sql.Rows) (v row, err error) { return v, rows.Scan(&v.index, &v.leaf) },
		"SELECT idx, leaf FROM ledger WHERE idx < ? AND json_valid(leaf) AND json_extract(leaf, '$.ref') = ? ORDER BY idx LIMIT ?", size, ref, mostEvidence)
	if err != nil {
		return out, err
	}
	hashes := storedHashes(ctx, tx)
	for _, r := range list {
		proof, err := ledger.ProveEntry(r.index, size, hashes)
		if err != nil {
			return out, fmt.Errorf("prove entry %d: %w", r.index, err)
		}
		e := records.EvidenceEntry{Index: r.index, Line: string(r.leaf), Hashes: []string{}}
		for _, h := range proof {
			e.Hashes = append(e.Hashes, h.String())
		}
		out.Entries = append(out.Entries, e)
	}
	return out, nil
}
