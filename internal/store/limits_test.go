package store

import (
	"database/sql"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/radius"
	"mossledger.example/moss/internal/records"
)

// A picture with more than is read at once says so.
func TestRadiusTellsItsLimit(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "quay1", Kind: "unix-host"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(1), NewSeen(), &records.Tally{}))
	fill := func(from, to int) {
		for _, statement := range []string{
			`INSERT INTO dependents (id, system_id, kind, place, name, description, runs_as, state, start_mode, executable, schedule, path, uses, after, requires, copy, fingerprint, digest, first_seen, seen, changed)
				WITH RECURSIVE n(i) AS (SELECT ? UNION ALL SELECT i + 1 FROM n WHERE i < ?) SELECT i, 1, 'unit', 'u' || i, 'u' || i, '', '', '', '', '', '', '', 'null', 'null', 'null', 'null', '', x'01', '', '', '' FROM n`,
			`INSERT INTO ties (account_id, dependent_id, evidence, strength, detail, first_seen, seen)
				WITH RECURSIVE n(i) AS (SELECT ? UNION ALL SELECT i + 1 FROM n WHERE i < ?) SELECT 1, i, 'configured', 'runs as', '', '', '' FROM n`,
		} {
			require.NoError(t, s.InTx(ctx, func(tx *sql.Tx) error {
				_, err := tx.ExecContext(ctx, statement, from, to)
				return err
			}))
		}
	}
	a, err := s.Account(ctx, 1)
	require.NoError(t, err)
	walk := func() radius.Graph {
		g, err := radius.Walk(AccountNode(a), 1, 10*mostSteps, s.RadiusSource(ctx, nil, false))
		require.NoError(t, err)
		return g
	}
	fill(1, mostSteps)
	g := walk()
	assert.Len(t, g.Nodes, mostSteps+1)
	assert.False(t, g.More)
	fill(mostSteps+1, mostSteps+1)
	g = walk()
	assert.Len(t, g.Nodes, mostSteps+1)
	assert.True(t, g.More)
}

// Letters beyond a to z are compared as they stand, by every operator alike.
func TestFiltersBeyondASCII(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "quay1", Kind: "unix-host"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(40), NewSeen(), &records.Tally{})) // a quarter has the description Ünï
	for filter, want := range map[string]int{"description=Ünï": 10, "description=ÜNï": 10, "description=ünï": 0, "description~Ün": 10, "description~ün": 0, "description*=Ü*": 10, "description*=ÜN?": 10, "description*=ü*": 0} {
		page, err := s.Accounts(ctx, records.Query{Filters: []string{filter}})
		require.NoError(t, err)
		assert.Equal(t, want, page.Total, filter)
	}
}
