package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
)

// Several parts of the store may write in one transaction: what is done with the context
// that Together gives is written at once, or nothing of it is. Each part runs in a savepoint
// of its own, so that one which failed may be tried again later; what is read with that
// context sees what was written with it.

// joined is the transaction that a context belongs to.
type joined struct {
	lock  sync.Mutex
	tx    *sql.Tx
	depth int
}

type joinedKey struct{ of *DB }

func (s *DB) joined(ctx context.Context) *joined {
	j, _ := ctx.Value(joinedKey{s}).(*joined)
	return j
}

// Together runs f, and keeps what is written with its context if f returns nil. Nothing else
// is written meanwhile: f is to be short, and to ask nobody outside. Within another one it is
// a part of that.
func (s *DB) Together(ctx context.Context, f func(ctx context.Context) error) error {
	if s.joined(ctx) != nil {
		return s.InTx(ctx, func(*sql.Tx) error { return f(ctx) })
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		return f(context.WithValue(ctx, joinedKey{s}, &joined{tx: tx}))
	})
}

// part runs f within a transaction that has begun.
func (s *DB) part(ctx context.Context, j *joined, f func(*sql.Tx) error) error {
	j.lock.Lock()
	j.depth++
	name := fmt.Sprintf("part%d", j.depth)
	j.lock.Unlock()
	defer func() { j.lock.Lock(); j.depth--; j.lock.Unlock() }()
	if _, err := j.tx.ExecContext(ctx, "SAVEPOINT "+name); err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	before := s.book.mark(j.tx)
	if err := f(j.tx); err != nil {
		s.book.back(j.tx, before)
		_, undone := j.tx.ExecContext(context.WithoutCancel(ctx), "ROLLBACK TO "+name)
		_, released := j.tx.ExecContext(context.WithoutCancel(ctx), "RELEASE "+name)
		return errors.Join(err, undone, released)
	}
	if _, err := j.tx.ExecContext(ctx, "RELEASE "+name); err != nil {
		return fmt.Errorf("end: %w", err)
	}
	return nil
}

// mark is where the ledger ends within a transaction.
func (b *book) mark(tx *sql.Tx) *pendingEnd {
	if b == nil {
		return nil
	}
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.pending != nil && b.pending.tx == tx {
		return b.pending
	}
	return nil
}

// back has it end there again.
func (b *book) back(tx *sql.Tx, to *pendingEnd) {
	if b == nil {
		return
	}
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.pending != nil && b.pending.tx == tx {
		b.pending = to
	}
}

// Reader reads from a pool of connections, or within the transaction that a context belongs
// to.
type Reader struct {
	*sql.DB
	of *DB
}

// QueryContext runs a query.
func (r *Reader) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if j := r.of.joined(ctx); j != nil {
		return j.tx.QueryContext(ctx, query, args...)
	}
	return r.DB.QueryContext(ctx, query, args...)
}

// QueryRowContext runs a query for one row.
func (r *Reader) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if j := r.of.joined(ctx); j != nil {
		return j.tx.QueryRowContext(ctx, query, args...)
	}
	return r.DB.QueryRowContext(ctx, query, args...)
}
