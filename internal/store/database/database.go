// Package database is the one SQLite file in which everything is kept: how it is
// opened and brought up to date, how it is written, listed and searched, and the
// ledger, which grows in the same transactions as what it tells of. The tables are
// those of the packages above it.
//
// There is one writing connection and a small pool of reading ones; the
// database runs in write-ahead mode and is synced at every commit, because the
// laws of sealing and journalling depend on it. Transactions are short: a
// survey writes in batches. Lists go through one mechanism (list.go) that
// filters and sorts by named columns and pages by key. What callers get are records
// (package records): rows of tables do not leave the store.
package database

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Migrations are the statements that bring a database from each version to the next.
func Migrations() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // embedded at build time
	}
	return sub
}

// InUse is an ErrConflict in words of its own.
type InUse string

func (e InUse) Error() string { return string(e) }

// Is makes it an ErrConflict for callers that decide.
func (e InUse) Is(target error) bool { return target == records.ErrConflict }

// DB is an open database. Safe for concurrent use.
type DB struct {
	generation atomic.Int64
	write      *sql.DB
	writing    chan struct{} // whose turn it is to write
	Read       *Reader
	Now        func() time.Time
	book       *book
	sealer     *secret.Sealer // marks rows that nobody else may write
	file       string
	held       *os.File // locks the database for this process

	// tellTrouble raises the finding about the ledger, or clears it without trouble.
	TellTrouble func(ctx context.Context, trouble error) error
}

// FileName is the database's name in its folder.
const FileName = "moss.db"

// Driver is the registered one.
const Driver = "sqlite"

// Exists reports whether a folder holds a database. An empty file is none.
func Exists(folder string) bool {
	info, err := os.Stat(filepath.Join(folder, FileName))
	return err == nil && info.Size() > 0
}

// Open opens or creates the database in a folder and brings it up to date. It
// belongs to this process until Close: a second one is refused (ErrHeld). driver is
// Driver, or one that looks at the statements of that.
func Open(ctx context.Context, driver, folder string, now func() time.Time) (_ *DB, err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	s := &DB{Now: now, writing: make(chan struct{}, 1), file: filepath.Join(folder, FileName)}
	if s.held, err = hold(folder); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = s.Close()
		}
	}()
	if f, err := os.OpenFile(s.file, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, fmt.Errorf("database file: %w", err)
	} else if err := f.Close(); err != nil {
		return nil, fmt.Errorf("database file: %w", err)
	}
	// The page size counts only before the first page is written, and so before
	// the journal mode: the driver runs _pragma in the order of the alphabet, and
	// its own words after them.
	dsn := func(first, extra string) string {
		return "file:" + (&url.URL{Path: s.file}).EscapedPath() + "?" + first + "_busy_timeout=10000&_journal_mode=WAL&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_pragma=cache_size(-65536)&_pragma=wal_autocheckpoint(1000)" + extra
	}
	if s.write, err = sql.Open(driver, dsn("_pragma=page_size(8192)&", "&_pragma=secure_delete(1)&_txlock=immediate")); err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	s.write.SetMaxOpenConns(1)
	if err := s.sound(ctx); err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.write, Migrations())
	if err == nil {
		err = notNewer(ctx, provider)
	}
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("bring the database up to date: %w", err)
	}
	s.Read = &Reader{of: s}
	if s.Read.DB, err = sql.Open(driver, dsn("", "&_pragma=query_only(1)")); err != nil {
		return nil, fmt.Errorf("open the database for reading: %w", err)
	}
	s.Read.SetMaxOpenConns(4)
	return s, nil
}

// Errors of opening.
var (
	ErrHeld    = errors.New("the database is in use")
	ErrDamaged = errors.New("the database is damaged")
	ErrNewer   = errors.New("the database is newer than this program")
)

// sound makes SQLite's quick check.
func (s *DB) sound(ctx context.Context) error {
	damaged := func(words string) error {
		return fmt.Errorf("%w: %s: %s; put a backup of this file back, or recover what can be read with sqlite3's .recover into a new file", ErrDamaged, s.file, words)
	}
	var words string
	if err := s.write.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&words); err != nil {
		return damaged(err.Error())
	}
	if words != "ok" {
		return damaged(strings.ReplaceAll(words, "\n", " "))
	}
	return nil
}

// notNewer refuses a database that a later version of the program migrated.
func notNewer(ctx context.Context, provider *goose.Provider) error {
	have, err := provider.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	known := provider.ListSources()
	if latest := known[len(known)-1].Version; have > latest {
		return fmt.Errorf("%w: it has version %d, this program knows versions up to %d: run the newer program, or put the backup made before its first start back", ErrNewer, have, latest)
	}
	return nil
}

// Close writes everything into the database file and closes it.
func (s *DB) Close() error {
	var errs []error
	if s.Read != nil && s.Read.DB != nil {
		errs = append(errs, s.Read.Close())
	}
	if s.write != nil {
		// What is in the log goes into the file, so that a copy of it is whole.
		_, _ = s.write.ExecContext(context.Background(), "PRAGMA wal_checkpoint(TRUNCATE)")
		errs = append(errs, s.write.Close())
	}
	return errors.Join(append(errs, s.held.Close())...)
}

// Ping tells whether the database answers and can be written.
func (s *DB) Ping(ctx context.Context) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES ('ping', ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", s.Stamp())
		return err
	})
}

const timeLayout = "2006-01-02T15:04:05.000Z"

// Stamp is the moment as the database writes it.
func (s *DB) Stamp() string { return StampOf(s.Now()) }

// StampOf writes a moment in UTC with three places of a second, so that text is in the
// order of time; "" for none.
func StampOf(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(timeLayout)
}

// TimeOf reads what StampOf wrote.
func TimeOf(text string) time.Time {
	t, _ := time.Parse(timeLayout, text)
	return t
}

// Mark is what only this service can write beside a row that it vouches for.
func (s *DB) Mark(of, text string) string { return s.sealer.Mark(of, text) }

// PictureAltered notes that what a picture of dependents is made of has changed.
func (s *DB) PictureAltered() { s.generation.Add(1) }

// Generation changes whenever what a picture of dependents is made of does.
func (s *DB) Generation() int64 { return s.generation.Load() }

// InTx runs f in a writing transaction. The turn lasts until the ledger knows how
// the transaction ended: the connection alone would be free before.
func (s *DB) InTx(ctx context.Context, f func(*sql.Tx) error) error {
	if j := s.joined(ctx); j != nil {
		return s.part(ctx, j, f)
	}
	select {
	case s.writing <- struct{}{}:
	case <-ctx.Done():
		return fmt.Errorf("begin: %w", ctx.Err())
	}
	broken, err := s.transact(ctx, f)
	<-s.writing
	if broken {
		return errors.Join(err, s.tellOnce(ctx))
	}
	return err
}

func (s *DB) transact(ctx context.Context, f func(*sql.Tx) error) (broken bool, err error) {
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return false, fmt.Errorf("begin: %w", err)
	}
	if err = f(tx); err == nil {
		err = s.index(ctx, tx)
	}
	if err != nil {
		s.book.settled(tx, false, nil)
		return errors.Is(err, ledger.ErrBroken), errors.Join(err, ignoreDone(tx.Rollback()))
	}
	err = tx.Commit()
	s.book.settled(tx, err == nil, err)
	if err != nil {
		return false, fmt.Errorf("commit: %w", err)
	}
	return false, nil
}

// tellOnce raises the finding about a ledger that was found broken while the
// service runs.
func (s *DB) tellOnce(ctx context.Context) error {
	s.book.lock.Lock()
	told := s.book.told
	s.book.told = true
	s.book.lock.Unlock()
	if told {
		return nil
	}
	return s.tellLedger(context.WithoutCancel(ctx))
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// AsJSON writes what a column keeps as JSON.
func AsJSON(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("store: %T cannot be written as JSON: %v", v, err)) // a programming error
	}
	return string(raw)
}

// FromJSON reads what AsJSON wrote.
func FromJSON[T any](raw string) (out T) {
	_ = json.Unmarshal([]byte(raw), &out) // written by asJSON
	return out
}

// OrNotFound is records.ErrNotFound where there is no row.
func OrNotFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return records.ErrNotFound
	}
	return err
}

// Meta returns a value of the program itself, or ErrNotFound.
func (s *DB) Meta(ctx context.Context, key string) ([]byte, error) {
	var value []byte
	err := s.Read.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = ?", key).Scan(&value)
	return value, OrNotFound(err)
}

// SetMeta stores a value of the program itself; nil removes it.
func (s *DB) SetMeta(ctx context.Context, key string, value []byte) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if value == nil {
			_, err := tx.ExecContext(ctx, "DELETE FROM meta WHERE key = ?", key)
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", key, value)
		return err
	})
}
