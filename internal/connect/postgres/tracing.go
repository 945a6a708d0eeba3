package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mossledger.example/moss/internal/connect"
)

// tracing tells statements to whoever wants to see them. What is given to them beside is no
// part of that.
type tracing struct{ to connect.Trace }

type begun struct {
	text string
	at   time.Time
}

// TraceQueryStart implements pgx.QueryTracer.
func (t tracing) TraceQueryStart(ctx context.Context, _ *pgx.Conn, data pgx.TraceQueryStartData) context.Context {
	if !t.to.On() {
		return ctx
	}
	return context.WithValue(ctx, begun{}, begun{data.SQL, time.Now()})
}

// TraceQueryEnd implements pgx.QueryTracer.
func (t tracing) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, data pgx.TraceQueryEndData) {
	if b, traced := ctx.Value(begun{}).(begun); traced {
		t.to.Tell(connect.Ended("sql", b.text, b.at, data.Err, func(err error) bool {
			var said *pgconn.PgError
			return errors.As(err, &said) && said.Code == "42501" // insufficient_privilege
		}))
	}
}
