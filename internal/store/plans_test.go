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
	"mossledger.example/moss/internal/records"
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

// watching opens a store whose statements are remembered between two calls.
func watching(t *testing.T, name string) (s *Store, during func(do func()) []string) {
	t.Helper()
	plain, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	w := &watched{Driver: plain.Driver()}
	require.NoError(t, plain.Close())
	sql.Register(name, w)
	s = openBy(t, name, t.TempDir())
	return s, func(do func()) []string {
		w.lock.Lock()
		w.seen = map[string]bool{}
		w.lock.Unlock()
		do()
		w.lock.Lock()
		defer w.lock.Unlock()
		var out []string
		for query := range w.seen {
			if word := strings.ToUpper(strings.Fields(query)[0]); word != "PRAGMA" && word != "BEGIN" && word != "COMMIT" && word != "ROLLBACK" {
				out = append(out, query)
			}
		}
		w.seen = nil
		return out
	}
}

// planOf is how a statement would be carried out.
func planOf(t *testing.T, s *Store, query string) (lines []string) {
	t.Helper()
	rows, err := s.Read.QueryContext(t.Context(), "EXPLAIN QUERY PLAN "+query, make([]any, strings.Count(query, "?"))...)
	require.NoError(t, err, query)
	defer rows.Close()
	for rows.Next() {
		var id, parent, unused int
		var detail string
		require.NoError(t, rows.Scan(&id, &parent, &unused, &detail))
		lines = append(lines, detail)
	}
	require.NoError(t, rows.Err())
	return lines
}

// Reading one system of many looks at that system's rows, not at all. What is
// asked once a survey, over everything, is not part of it.
func TestAVisitScansNoTable(t *testing.T) {
	s, during := watching(t, "sqlite-watched-visit")
	ctx := t.Context()

	var systems []records.System
	for i := range 20 {
		id, err := s.AddSystem(ctx, records.System{Name: fmt.Sprintf("host%02d", i), Kind: "unix-host", Port: 22 + i})
		require.NoError(t, err)
		v, err := s.System(ctx, fmt.Sprint(id))
		require.NoError(t, err)
		systems = append(systems, v)
	}
	visit := func(v records.System) {
		survey, visits, err := s.BeginSurvey(ctx, "ines", []records.System{v})
		require.NoError(t, err)
		seen := map[string]*Seen{"accounts": NewSeen(), "dependents": NewSeen()}
		var tally records.Tally
		require.NoError(t, s.PutAccounts(ctx, v.ID, staff(30), seen["accounts"], &tally))
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
		derived := map[records.DependentID][]ties.Tie{}
		for _, d := range list {
			derived[d.ID] = nil
		}
		require.NoError(t, s.PutTies(ctx, derived))
		require.NoError(t, s.SetFindings(ctx, fmt.Sprintf("system/%d/", v.ID), []records.Finding{{Key: fmt.Sprintf("system/%d/x", v.ID), Kind: "x", Severity: "low", What: "x"}}))
		require.NoError(t, s.EndSurvey(ctx, survey, "done"))
	}
	for _, v := range systems {
		visit(v)
	}
	seen := during(func() { visit(systems[7]) })
	assert.Greater(t, len(seen), 15)
	for _, query := range seen {
		for _, line := range planOf(t, s, query) {
			assert.False(t, scanOf.MatchString(line), "%s\n%s", line, query)
		}
	}
}

// A page of a list reads a page, not the table: what it is sorted by at first has an
// index, and so has what one item is found by.
func TestAPageReadsNoTable(t *testing.T) {
	s, during := watching(t, "sqlite-watched-lists")
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "host", Kind: "unix-host"})
	require.NoError(t, err)
	var tally records.Tally
	require.NoError(t, s.PutAccounts(ctx, id, staff(30), NewSeen(), &tally))
	require.NoError(t, s.PutDependents(ctx, id, []estate.Dependent{{Kind: estate.DependentUnit, Place: "a.service", Name: "a"}}, NewSeen(), &tally))
	discard := func(_ any, err error) { t.Helper(); require.NoError(t, err) }
	lists := map[string]func(q records.Query){
		"accounts":               func(q records.Query) { discard(s.Accounts(ctx, q)) },
		"dependents":             func(q records.Query) { discard(s.Dependents(ctx, 0, q)) },
		"findings":               func(q records.Query) { discard(s.Findings(ctx, false, q)) },
		"findings, cleared ones": func(q records.Query) { discard(s.Findings(ctx, true, q)) },
		"ledger":                 func(q records.Query) { discard(s.LedgerList(ctx, q)) },
		"rotations":              func(q records.Query) { discard(s.Rotations(ctx, q)) },
		"surveys":                func(q records.Query) { discard(s.Surveys(ctx, q)) },
		"visits":                 func(q records.Query) { discard(s.Visits(ctx, 1, q)) },
		"systems":                func(q records.Query) { discard(s.Systems(ctx, q)) },
		"sockets":                func(q records.Query) { discard(s.Sockets(ctx, q)) },
		"rights":                 func(q records.Query) { discard(s.GivenRights(ctx, false, q)) },
		"rights, taken ones":     func(q records.Query) { discard(s.GivenRights(ctx, true, q)) },
		"credentials":            func(q records.Query) { discard(s.Credentials(ctx, q)) },
	}
	for name, list := range lists {
		for _, query := range during(func() { list(records.Query{Limit: 50}) }) {
			if strings.Contains(query, "COUNT(*)") {
				continue // bounded by its own limit
			}
			lines := planOf(t, s, query)
			if name == "sockets" { // the system at the other end is chosen among those of an address
				require.LessOrEqual(t, strings.Count(strings.Join(lines, "\n"), "USE TEMP B-TREE FOR ORDER BY"), 1, "%s\n%s", query, strings.Join(lines, "\n"))
				continue
			}
			assert.NotContains(t, lines, "USE TEMP B-TREE FOR ORDER BY", "%s\n%s\n%s", name, query, strings.Join(lines, "\n"))
		}
	}
	for name, find := range map[string]func(){
		"account":    func() { discard(s.Account(ctx, 1)) },
		"dependent":  func() { discard(s.Dependent(ctx, 1)) },
		"system":     func() { discard(s.System(ctx, "host")) },
		"of account": func() { discard(s.DependentsOfAccount(ctx, 1)) },
		"of system":  func() { discard(s.DependentsOfSystem(ctx, id)) },
		"radius":     func() { _, _ = s.Journal(ctx, 1, 0) },
	} {
		for _, query := range during(find) {
			for _, line := range planOf(t, s, query) {
				assert.False(t, scanOf.MatchString(line), "%s: %s\n%s", name, line, query)
			}
		}
	}
}
