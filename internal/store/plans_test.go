package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
)

// watched is a driver that remembers which statements are run.
type watched struct {
	driver.Driver
	lock sync.Mutex
	seen map[string]bool
}

func (w *watched) note(query string) {
	w.lock.Lock()
	defer w.lock.Unlock()
	if w.seen != nil {
		w.seen[query] = true
	}
}

func (w *watched) Open(name string) (driver.Conn, error) {
	c, err := w.Driver.Open(name)
	return &watchedConn{c, w}, err
}

type watchedConn struct {
	driver.Conn
	w *watched
}

func (c *watchedConn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	return c.Conn.(driver.ConnBeginTx).BeginTx(ctx, o)
}

func (c *watchedConn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	c.w.note(query)
	return c.Conn.(driver.ConnPrepareContext).PrepareContext(ctx, query)
}

func (c *watchedConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	c.w.note(query)
	return c.Conn.(driver.ExecerContext).ExecContext(ctx, query, args)
}

func (c *watchedConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	c.w.note(query)
	return c.Conn.(driver.QueryerContext).QueryContext(ctx, query, args)
}

// scanOf is a plan's line that looks at every row of a table that grows with
// the estate; subqueries and lists in a parameter are no tables.
var scanOf = regexp.MustCompile(`^SCAN (accounts|a|dependents|d|ties|t|findings|f|visits|v)( |$)`)

// Reading one system of many looks at that system's rows, not at all. What is
// asked once a survey, over everything, is not part of it.
func TestAVisitScansNoTable(t *testing.T) {
	plain, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	w := &watched{Driver: plain.Driver()}
	require.NoError(t, plain.Close())
	sql.Register("sqlite-watched", w)
	driverName = "sqlite-watched"
	defer func() { driverName = "sqlite" }()
	s := open(t, t.TempDir())
	ctx := t.Context()

	var systems []System
	for i := range 20 {
		id, err := s.AddSystem(ctx, System{Name: fmt.Sprintf("host%02d", i), Kind: "unix-host", Port: 22 + i})
		require.NoError(t, err)
		v, err := s.System(ctx, fmt.Sprint(id))
		require.NoError(t, err)
		systems = append(systems, v)
	}
	visit := func(v System) {
		survey, visits, err := s.BeginSurvey(ctx, "ines", []System{v})
		require.NoError(t, err)
		seen := map[string]*Seen{"accounts": NewSeen(), "dependents": NewSeen()}
		var tally Tally
		require.NoError(t, s.PutAccounts(ctx, v.ID, people(30), seen["accounts"], &tally))
		var units []estate.Dependent
		for i := range 30 {
			units = append(units, estate.Dependent{Kind: estate.DependentUnit, Place: fmt.Sprintf("u%02d.service", i), Name: fmt.Sprintf("u%02d", i), State: "active", RunsAs: "Name001"})
		}
		require.NoError(t, s.PutDependents(ctx, v.ID, units, seen["dependents"], &tally))
		_, err = s.EndScopes(ctx, v.ID, []ScopeEnd{
			{Scope: "accounts", Table: "accounts", Condition: "1", Complete: true, Seen: seen["accounts"]},
			{Scope: "units", Table: "dependents", Condition: "kind = 'unit'", Complete: true, Seen: seen["dependents"]},
		}, &tally)
		require.NoError(t, err)
		visits[0].State = "done"
		require.NoError(t, s.SaveVisit(ctx, visits[0], &connect.Facts{}))
		list, err := s.DependentsOfSystem(ctx, v.ID)
		require.NoError(t, err)
		derived := map[int64][]ties.Tie{}
		for _, d := range list {
			derived[d.ID] = nil
		}
		require.NoError(t, s.PutTies(ctx, derived))
		require.NoError(t, s.SetFindings(ctx, fmt.Sprintf("system/%d/", v.ID), []Finding{{Key: fmt.Sprintf("system/%d/x", v.ID), Kind: "x", Severity: "low", What: "x"}}))
		require.NoError(t, s.EndSurvey(ctx, survey, "done"))
	}
	for _, v := range systems {
		visit(v)
	}
	w.lock.Lock()
	w.seen = map[string]bool{}
	w.lock.Unlock()
	visit(systems[7])
	w.lock.Lock()
	seen := w.seen
	w.seen = nil
	w.lock.Unlock()
	assert.Greater(t, len(seen), 15)
	for query := range seen {
		if word := strings.ToUpper(strings.Fields(query)[0]); word == "PRAGMA" || word == "BEGIN" || word == "COMMIT" || word == "ROLLBACK" {
			continue
		}
		args := make([]any, strings.Count(query, "?"))
		rows, err := s.write.QueryContext(ctx, "EXPLAIN QUERY PLAN "+query, args...)
		require.NoError(t, err, query)
		for rows.Next() {
			var id, parent, unused int
			var detail string
			require.NoError(t, rows.Scan(&id, &parent, &unused, &detail))
			assert.False(t, scanOf.MatchString(detail), "%s\n%s", detail, query)
		}
		require.NoError(t, rows.Err())
		require.NoError(t, rows.Close()) //nolint:sqlclosecheck // one after the other
	}
}
