package database

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Witness keeps the last signed head outside the database, so that an older
// database that is put back is told. Load returns "" when nothing was kept.
type Witness interface {
	Load() (string, error)
	Save(checkpoint string) error
}

// book is the ledger as this process knows it. What is in the database must
// agree with it before anything is appended.
type book struct {
	lock       sync.Mutex
	signer     note.Signer
	verifier   string
	Witness    Witness
	end        *ledger.Book // as committed
	Checkpoint string       // its signed head; "" while the ledger is empty
	pending    *pendingEnd  // of the transaction under way
	doubt      *pendingEnd  // of a commit whose end is not known
	trouble    error        // why nothing may be appended; wraps ledger.ErrBroken
	rolledBack bool         // the trouble is an older database, whole in itself
	told       bool         // the finding stands
	remarks    []string     // what a person should know, and no reason to stop
}

type pendingEnd struct {
	tx         *sql.Tx
	end        *ledger.Book
	checkpoint string
}

// LedgerKey is where the sealed signing key of the ledger stands.
const LedgerKey = "ledger-signing-key"

// OpenLedger loads the ledger's signing key, or makes it with an empty
// database, and holds what is stored against the signed head and against the
// head that the witness kept. A ledger that does not hold is no error: the
// service runs, and LedgerTrouble tells why nothing can be recorded.
func (s *DB) OpenLedger(ctx context.Context, sealer *secret.Sealer, witness Witness) error {
	s.sealer = sealer
	b := &book{Witness: witness, end: ledger.NewBook()}
	kept, err := witness.Load()
	if err != nil {
		return fmt.Errorf("the head of the ledger that is kept beside the master key: %w", err)
	}
	if kept != "" && !ledger.WellFormed(kept) {
		// Torn by a power failure, mostly. Whoever tore it could as well have taken it away.
		b.remarks = append(b.remarks, "the head of the ledger that is kept beside the master key is damaged, as by a power failure")
		kept = ""
	}
	fresh, err := s.Untouched(ctx)
	if err != nil {
		return err
	}
	fresh = fresh && kept == ""
	sealed, err := s.Meta(ctx, LedgerKey)
	if errors.Is(err, records.ErrNotFound) && fresh {
		sealed, err = s.makeLedgerKey(ctx, sealer)
	}
	s.book = b
	if errors.Is(err, records.ErrNotFound) {
		b.broken("its signing key is gone from the database, which is not empty")
		return s.tellLedger(ctx)
	}
	if err != nil {
		return err
	}
	if err := b.load(sealer, sealed); err != nil {
		return err
	}
	if err := s.openEnd(ctx, kept, fresh); err != nil {
		return err
	}
	if b.trouble == nil && b.Checkpoint == "" {
		return s.Record(ctx, ledger.Entry{Actor: "service", Act: "ledger.begin", Phase: ledger.Outcome, Result: "done", Detail: b.verifier})
	}
	return s.tellLedger(ctx)
}

// Untouched: nothing was ever done with this database.
func (s *DB) Untouched(ctx context.Context) (bool, error) {
	var n int
	err := s.Read.QueryRowContext(ctx, "SELECT (SELECT COUNT(*) FROM ledger) + (SELECT COUNT(*) FROM ledger_hashes) + (SELECT COUNT(*) FROM ledger_head) + (SELECT COUNT(*) FROM users) + (SELECT COUNT(*) FROM systems) + (SELECT COUNT(*) FROM stewards) + (SELECT COUNT(*) FROM secrets)").Scan(&n)
	return n == 0, err
}

func (s *DB) makeLedgerKey(ctx context.Context, sealer *secret.Sealer) ([]byte, error) {
	key, _, err := note.GenerateKey(rand.Reader, ledger.Origin)
	if err != nil {
		return nil, fmt.Errorf("make the ledger's key: %w", err)
	}
	sealed, err := sealer.Seal(LedgerKey, secret.New(key))
	if err != nil {
		return nil, err
	}
	return sealed, s.SetMeta(ctx, LedgerKey, sealed)
}

// load opens the signing key and derives the verifying one from it: a verifier
// that stands somewhere could be a forger's.
func (b *book) load(sealer *secret.Sealer, sealed []byte) error {
	key, err := sealer.Open(LedgerKey, sealed)
	if err != nil {
		return fmt.Errorf("the ledger's signing key: %w", err)
	}
	if b.signer, err = note.NewSigner(key.RevealString()); err != nil {
		return errors.New("the ledger's signing key is sealed, but is not a key")
	}
	// PRIVATE+KEY+name+hash+base64(algorithm, seed), see package note.
	parts := strings.SplitN(key.RevealString(), "+", 5)
	raw, err := base64.StdEncoding.DecodeString(parts[len(parts)-1])
	if err != nil || len(raw) != 1+ed25519.SeedSize {
		return errors.New("the ledger's signing key is sealed, but is not an ed25519 key")
	}
	public, _ := ed25519.NewKeyFromSeed(raw[1:]).Public().(ed25519.PublicKey)
	b.verifier, err = note.NewEd25519VerifierKey(b.signer.Name(), public)
	return err
}

func (b *book) broken(format string, args ...any) {
	b.trouble = fmt.Errorf("%w: %s", ledger.ErrBroken, fmt.Sprintf(format, args...))
}

// openEnd reads the end of the stored ledger and holds it against its
// signature and against what the witness kept.
func (s *DB) openEnd(ctx context.Context, kept string, fresh bool) error {
	b := s.book
	tx, err := s.Read.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	rows, size, checkpoint, err := storedEnd(ctx, tx)
	if err != nil {
		return err
	}
	if checkpoint == "" {
		if !fresh {
			b.broken("it is empty, although the database is not")
		}
		return nil
	}
	head, err := ledger.OpenHead(checkpoint, b.verifier)
	switch {
	case err != nil:
		b.broken("%v", err)
	case head.Size != rows || head.Size != size:
		b.broken("the signed head covers %d entries, %d are stored", head.Size, rows)
	}
	if b.trouble != nil {
		return nil
	}
	end, err := ledger.OpenBook(head, storedHashes(ctx, tx))
	if err != nil {
		b.trouble = err
		return nil
	}
	b.end, b.Checkpoint = end, checkpoint
	return s.holdAgainst(ctx, tx, kept)
}

func (s *DB) holdAgainst(ctx context.Context, tx *sql.Tx, kept string) error {
	b := s.book
	if kept == "" {
		b.remarks = append(b.remarks, "no head of the ledger was kept beside the master key: whether the database is an older one cannot be told this time")
		return b.keep()
	}
	head, err := ledger.OpenHead(kept, b.verifier)
	if err != nil {
		b.broken("the head that is kept beside the master key was not signed with this ledger's key: %v", err)
		return nil
	}
	if have := b.end.Head(); head.Size > have.Size {
		b.broken("%d entries were signed, the database has %d: an older database was put back", head.Size, have.Size)
		b.rolledBack = true
		return nil
	}
	proof, err := ledger.Prove(max(head.Size, 1), b.end.Head().Size, storedHashes(ctx, tx))
	if err == nil && head.Size > 0 {
		err = ledger.CheckProof(head, b.end.Head(), proof)
	}
	if err != nil {
		b.trouble = fmt.Errorf("%w: what was signed before is not in it: %w", ledger.ErrBroken, err)
		return nil
	}
	return b.keep()
}

func (b *book) keep() error {
	if err := b.Witness.Save(b.Checkpoint); err != nil {
		b.remarks = append(b.remarks, fmt.Sprintf("the head of the ledger cannot be kept beside the master key (%v): an older database that is put back would not be told", err))
	}
	return nil
}

func storedEnd(ctx context.Context, tx *sql.Tx) (rows, size int64, checkpoint string, err error) {
	if err = tx.QueryRowContext(ctx, "SELECT COALESCE(MAX(idx) + 1, 0) FROM ledger").Scan(&rows); err != nil {
		return 0, 0, "", fmt.Errorf("ledger: %w", err)
	}
	err = tx.QueryRowContext(ctx, "SELECT size, checkpoint FROM ledger_head WHERE one = 1").Scan(&size, &checkpoint)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return rows, size, checkpoint, err
}

func storedHashes(ctx context.Context, tx *sql.Tx) tlog.HashReader {
	return tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, index := range indexes {
			var raw []byte
			if err := tx.QueryRowContext(ctx, "SELECT hash FROM ledger_hashes WHERE idx = ?", index).Scan(&raw); err != nil {
				return nil, fmt.Errorf("hash %d: %w", index, OrNotFound(err))
			}
			if len(raw) != tlog.HashSize {
				return nil, fmt.Errorf("hash %d has %d bytes", index, len(raw))
			}
			copy(out[i][:], raw)
		}
		return out, nil
	})
}

// Record appends entries in one transaction.
func (s *DB) Record(ctx context.Context, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error { return s.Enter(ctx, tx, entries...) })
}

// Enter appends entries in the caller's transaction.
func (s *DB) Enter(ctx context.Context, tx *sql.Tx, entries ...ledger.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	b := s.book
	b.lock.Lock()
	defer b.lock.Unlock()
	if err := b.agree(ctx, tx); err != nil {
		return err
	}
	end := b.end
	if b.pending != nil && b.pending.tx == tx {
		end = b.pending.end
	}
	for _, e := range entries {
		e.Index, e.Time = end.Head().Size, s.Now().UTC()
		leaf, err := e.Encode()
		if err != nil {
			return err
		}
		add, first, next, err := end.Append(leaf)
		if err != nil {
			return fmt.Errorf("ledger: %w", err)
		}
		for i, hash := range add {
			if _, err := tx.ExecContext(ctx, "INSERT INTO ledger_hashes (idx, hash) VALUES (?, ?)", first+int64(i), hash[:]); err != nil {
				return fmt.Errorf("ledger: %w", err)
			}
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO ledger (idx, leaf, hash) VALUES (?, ?, ?)", e.Index, leaf, add[0][:]); err != nil {
			return fmt.Errorf("ledger: %w", err)
		}
		end = next
	}
	checkpoint, err := ledger.SignHead(end.Head(), b.signer)
	if err != nil {
		return fmt.Errorf("sign the ledger: %w", err)
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO ledger_head (one, size, checkpoint) VALUES (1, ?, ?) ON CONFLICT (one) DO UPDATE SET size = excluded.size, checkpoint = excluded.checkpoint", end.Head().Size, checkpoint); err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	b.pending = &pendingEnd{tx, end, checkpoint}
	return nil
}

// agree holds the stored end against the one in memory: what somebody else
// wrote is never signed.
func (b *book) agree(ctx context.Context, tx *sql.Tx) error {
	if b.trouble != nil {
		return b.trouble
	}
	want, size := b.Checkpoint, b.end.Head().Size
	if b.pending != nil && b.pending.tx == tx {
		want, size = b.pending.checkpoint, b.pending.end.Head().Size
	}
	rows, stored, checkpoint, err := storedEnd(ctx, tx)
	if err != nil {
		return err
	}
	if b.doubt != nil && checkpoint == b.doubt.checkpoint { // it was committed after all
		b.end, b.Checkpoint = b.doubt.end, b.doubt.checkpoint
		want, size = b.Checkpoint, b.end.Head().Size
	}
	b.doubt = nil
	if checkpoint != want || rows != size || stored != size {
		b.broken("its end in the database (%d entries) is not the one that this service wrote (%d entries): somebody else changed it", rows, size)
		return b.trouble
	}
	return nil
}

// settled tells how a transaction ended.
func (b *book) settled(tx *sql.Tx, committed bool, unknown error) {
	if b == nil {
		return
	}
	b.lock.Lock()
	defer b.lock.Unlock()
	p := b.pending
	if p == nil || p.tx != tx {
		return
	}
	b.pending = nil
	switch {
	case committed:
		b.end, b.Checkpoint = p.end, p.checkpoint
		_ = b.Witness.Save(b.Checkpoint) // told at the next start, when it cannot be
	case unknown != nil:
		b.doubt = p
	}
}

// LedgerTrouble says why nothing can be recorded, or nil.
func (s *DB) LedgerTrouble() error {
	s.book.lock.Lock()
	defer s.book.lock.Unlock()
	return s.book.trouble
}

// LedgerRemarks are what a person should know about the ledger at start.
func (s *DB) LedgerRemarks() []string { return s.book.remarks }

// tellLedger tells the trouble of the ledger, or that there is none.
func (s *DB) tellLedger(ctx context.Context) error {
	trouble := s.LedgerTrouble()
	s.book.told = s.book.told || trouble != nil
	if s.TellTrouble == nil {
		return nil
	}
	return s.TellTrouble(ctx, trouble)
}

// AcceptRestored goes on with an older database that was put back on purpose.
// The ledger says so itself. Any other trouble stays.
func (s *DB) AcceptRestored(ctx context.Context, by string) error {
	b := s.book
	b.lock.Lock()
	trouble, rolledBack := b.trouble, b.rolledBack
	if rolledBack {
		b.trouble, b.rolledBack, b.told = nil, false, false
	}
	b.lock.Unlock()
	switch {
	case trouble == nil:
		return nil
	case !rolledBack:
		return trouble
	}
	if err := s.Record(ctx, ledger.Entry{Actor: by, Act: "ledger.accept-restored", Phase: ledger.Outcome, Result: "done", Detail: trouble.Error()}); err != nil {
		return err
	}
	return s.tellLedger(ctx)
}

// LedgerVerify recomputes the whole ledger and holds it against its signed
// head, the head that the witness kept, and further ones.
func (s *DB) LedgerVerify(ctx context.Context, earlier ...string) (ledger.Report, error) {
	// One transaction, so that entries and checkpoint belong together.
	tx, err := s.Read.BeginTx(ctx, nil)
	if err != nil {
		return ledger.Report{}, err
	}
	defer func() { _ = tx.Rollback() }()
	source := ledger.Source{VerifierKey: s.book.verifier, Earlier: earlier}
	if _, _, source.Checkpoint, err = storedEnd(ctx, tx); err != nil {
		return ledger.Report{}, err
	}
	leaves, err := tx.QueryContext(ctx, "SELECT idx, leaf, hash FROM ledger ORDER BY idx") //nolint:rowserrcheck // Next looks at it
	if err != nil {
		return ledger.Report{}, err
	}
	defer leaves.Close()
	source.Next = func() (stored ledger.Stored, ok bool, err error) {
		if !leaves.Next() {
			return stored, false, leaves.Err()
		}
		var hash []byte
		err = leaves.Scan(&stored.Index, &stored.Leaf, &hash)
		copy(stored.Hash[:], hash)
		return stored, true, err
	}
	hashes, err := tx.QueryContext(ctx, "SELECT idx, hash FROM ledger_hashes ORDER BY idx") //nolint:rowserrcheck,sqlclosecheck // Hashes looks at it; closed below
	if err != nil {
		return ledger.Report{}, err
	}
	defer hashes.Close()
	source.Hashes = func() (index int64, hash tlog.Hash, ok bool, err error) {
		if !hashes.Next() {
			return 0, hash, false, hashes.Err()
		}
		var raw []byte
		err = hashes.Scan(&index, &raw)
		copy(hash[:], raw)
		return index, hash, true, err
	}
	report, err := ledger.Verify(source)
	if err != nil {
		return report, err
	}
	if trouble := s.LedgerTrouble(); trouble != nil {
		report.Problems = append(report.Problems, trouble.Error())
	}
	return report, nil
}

// LedgerCheckpoint returns the signed head and the key to verify it with.
func (s *DB) LedgerCheckpoint(ctx context.Context) (checkpoint, verifier string, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT checkpoint FROM ledger_head WHERE one = 1").Scan(&checkpoint)
	return checkpoint, s.book.verifier, OrNotFound(err)
}

// LedgerProof proves that the ledger of now begins with that of an earlier
// size.
func (s *DB) LedgerProof(ctx context.Context, from int64) (checkpoint string, proof []tlog.Hash, err error) {
	tx, err := s.Read.BeginTx(ctx, nil)
	if err != nil {
		return "", nil, err
	}
	defer func() { _ = tx.Rollback() }()
	_, size, checkpoint, err := storedEnd(ctx, tx)
	if err != nil {
		return "", nil, err
	}
	if from < 1 || from > size {
		return "", nil, fmt.Errorf("%w: the ledger has %d entries: a proof begins at 1 to that many, not at %d", ErrQuery, size, from)
	}
	proof, err = ledger.Prove(from, size, storedHashes(ctx, tx))
	return checkpoint, proof, err
}

// LedgerLines returns lines of an export from an index on, without the header.
func (s *DB) LedgerLines(ctx context.Context, from int64, limit int) ([]string, error) {
	return Collect(ctx, s.Read, func(rows *sql.Rows) (string, error) {
		var leaf []byte
		err := rows.Scan(&leaf)
		return string(ledger.ExportLine(leaf)), err
	}, "SELECT leaf FROM ledger WHERE idx >= ? ORDER BY idx LIMIT ?", from, limit)
}

// FolderWitness keeps the head beside the database: better than nowhere, but
// whoever puts the whole folder back puts it back too.
func (s *DB) FolderWitness() Witness {
	return HeadFile(filepath.Join(filepath.Dir(s.file), HeadFileName))
}

// HeadFileName is the usual name of a HeadFile.
const HeadFileName = "ledger.head"
