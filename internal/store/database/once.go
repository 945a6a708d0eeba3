package database

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"
)

// Request is one request that starts something. Sent twice by the same person
// with the same key it is done once: its key is written in the transaction that
// begins the work, so neither a kill nor two requests at the same time come in
// between.
type Request struct {
	User, Key string
	Asked     string // digest of what was asked for
}

// ErrSentBefore is returned by what begins work when the context's request was
// taken by another that came first: ask Earlier for its answer.
var ErrSentBefore = errors.New("this request was sent before")

// ErrOtherRequest is returned when a key comes again with something else.
var ErrOtherRequest = errors.New("this Idempotency-Key was sent before with another request")

// keptRequests is how long a key is remembered.
const keptRequests = 7 * 24 * time.Hour

type requestKey struct{}

// WithRequest returns a context under which BeginSurvey, BeginRotation and
// AskApproval write the request's key together with what they begin.
func WithRequest(ctx context.Context, r Request) context.Context {
	return context.WithValue(ctx, requestKey{}, r)
}

// Earlier returns what a request was answered with when it came before.
func (s *DB) Earlier(ctx context.Context, r Request) (answer int64, found bool, err error) {
	var asked string
	err = s.Read.QueryRowContext(ctx, "SELECT request, answer FROM idempotency WHERE user = ? AND key = ?", r.User, r.Key).Scan(&asked, &answer)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	if err == nil && asked != r.Asked {
		return 0, false, ErrOtherRequest
	}
	return answer, err == nil, err
}

// Begun writes the key of the context's request, if it has one, beside what it
// began.
func (s *DB) Begun(ctx context.Context, tx *sql.Tx, answer int64) error {
	r, ok := ctx.Value(requestKey{}).(Request)
	if !ok {
		return nil
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM idempotency WHERE created < ?", StampOf(s.Now().Add(-keptRequests))); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO idempotency (user, key, request, answer, created) VALUES (?,?,?,?,?)", r.User, r.Key, r.Asked, answer, s.Stamp())
	if err != nil && strings.Contains(err.Error(), "UNIQUE") {
		return ErrSentBefore
	}
	return err
}
