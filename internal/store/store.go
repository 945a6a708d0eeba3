// Package store keeps everything in one SQLite database file.
//
// There is one writing connection and a small pool of reading ones; the
// database runs in write-ahead mode and is synced at every commit, because the
// laws of sealing and journalling depend on it. Transactions are short: a
// survey writes in batches. Lists go through one mechanism (list.go) that
// filters and sorts by named columns and pages by key.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers decide by.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("already there")
	ErrStale    = errors.New("changed by somebody else in the meantime")
)

// inUse is an ErrConflict in words of its own.
type inUse string

func (e inUse) Error() string { return string(e) }

// Is makes it an ErrConflict for callers that decide.
func (e inUse) Is(target error) bool { return target == ErrConflict }

// Store is an open database. Safe for concurrent use.
type Store struct {
	generation atomic.Int64
	write      *sql.DB
	read       *sql.DB
	now        func() time.Time
	ledger     *ledgerKeys
}

// Open opens or creates the database in a folder and brings it up to date.
func Open(ctx context.Context, folder string, now func() time.Time) (*Store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	file := filepath.Join(folder, "moss.db")
	if f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, fmt.Errorf("database file: %w", err)
	} else if err := f.Close(); err != nil {
		return nil, fmt.Errorf("database file: %w", err)
	}
	dsn := func(extra string) string {
		return "file:" + (&url.URL{Path: file}).EscapedPath() + "?_pragma=page_size(8192)&_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_pragma=cache_size(-65536)&_pragma=wal_autocheckpoint(8000)" + extra
	}
	s := &Store{now: now}
	var err error
	if s.write, err = sql.Open("sqlite", dsn("&_txlock=immediate")); err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	s.write.SetMaxOpenConns(1)
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.write, mustSub())
	if err == nil {
		_, err = provider.Up(ctx)
	}
	if err != nil {
		_ = s.write.Close()
		return nil, fmt.Errorf("bring the database up to date: %w", err)
	}
	if s.read, err = sql.Open("sqlite", dsn("&_pragma=query_only(1)")); err != nil {
		_ = s.write.Close()
		return nil, fmt.Errorf("open the database for reading: %w", err)
	}
	s.read.SetMaxOpenConns(4)
	return s, nil
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.read.Close(), s.write.Close()) }

// Ping tells whether the database answers and can be written.
func (s *Store) Ping(ctx context.Context) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES ('ping', ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", s.stamp())
		return err
	})
}

const timeLayout = "2006-01-02T15:04:05.000Z"

func (s *Store) stamp() string { return stampOf(s.now()) }

func stampOf(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(timeLayout)
}

func timeOf(text string) time.Time {
	t, _ := time.Parse(timeLayout, text)
	return t
}

// Generation changes whenever what a picture of dependents is made of does.
func (s *Store) Generation() int64 { return s.generation.Load() }

// inTx runs f in a writing transaction.
func (s *Store) inTx(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	if err := f(tx); err != nil {
		return errors.Join(err, ignoreDone(tx.Rollback()))
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("commit: %w", err)
	}
	return nil
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

func text(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("store: %T cannot be written as JSON: %v", v, err)) // a programming error
	}
	return string(raw)
}

func parse[T any](raw string) (out T) {
	_ = json.Unmarshal([]byte(raw), &out) // written by text
	return out
}

func one(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Meta returns a value of the program itself, or ErrNotFound.
func (s *Store) Meta(ctx context.Context, key string) ([]byte, error) {
	var value []byte
	err := s.read.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = ?", key).Scan(&value)
	return value, one(err)
}

// SetMeta stores a value of the program itself; nil removes it.
func (s *Store) SetMeta(ctx context.Context, key string, value []byte) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if value == nil {
			_, err := tx.ExecContext(ctx, "DELETE FROM meta WHERE key = ?", key)
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", key, value)
		return err
	})
}
