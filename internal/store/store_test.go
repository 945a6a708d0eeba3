package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

type clock struct{ now time.Time }

func (c *clock) tick() time.Time {
	c.now = c.now.Add(time.Second)
	return c.now
}

func open(t *testing.T, folder string) *Store { return openBy(t, database.Driver, folder) }

func openBy(t *testing.T, driver, folder string) *Store {
	t.Helper()
	c := &clock{time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}
	s, err := openWith(t.Context(), driver, folder, c.tick)
	require.NoError(t, err)
	sealer, err := secret.NewSealer(bytes.Repeat([]byte{1}, secret.KeySize), rand.Reader)
	require.NoError(t, err)
	require.NoError(t, s.OpenLedger(t.Context(), sealer, s.FolderWitness()))
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func staff(n int) []estate.Account {
	var out []estate.Account
	for i := range n {
		out = append(out, estate.Account{
			StableID: fmt.Sprintf("id-%03d", i), Name: fmt.Sprintf("Name%03d", (i*37)%n), Type: []string{"user", "managed", ""}[i%3], Enabled: estate.Yes,
			Description: []string{"", "100% of_it", `back\slash`, "Ünï"}[i%4], PasswordChanged: time.Date(2026, 1, 1+i%28, 0, 0, 0, 0, time.UTC), NeverExpire: i%2 == 0,
		})
	}
	return out
}

func TestReopenedWithData(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	id, err := s.AddSystem(t.Context(), records.System{Name: "dir", Kind: "directory"}, ledger.Entry{Actor: "ines", Act: "system.add", Phase: ledger.Outcome})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(t.Context(), id, staff(250), NewSeen(), &records.Tally{}))
	require.NoError(t, s.Close())
	s = open(t, folder) // migrations run again, and find nothing to do
	page, err := s.Accounts(t.Context(), records.Query{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, 250, page.Total)
	report, err := s.LedgerVerify(t.Context())
	require.NoError(t, err)
	assert.True(t, report.OK(), "%v", report.Problems)
	require.NoError(t, s.InTx(t.Context(), func(tx *sql.Tx) error {
		_, err := tx.Exec("UPDATE ledger SET leaf = replace(leaf, 'ines', 'inez') WHERE idx = 1")
		return err
	}))
	report, err = s.LedgerVerify(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, report.Altered)
	_, err = s.AddSystem(t.Context(), records.System{Name: "DIR", Kind: "directory"})
	assert.ErrorIs(t, err, records.ErrConflict)
	assert.ErrorIs(t, s.ChangeSystem(t.Context(), records.System{ID: id}, 99), records.ErrStale)
}

// Law 4: many that vanish at once, or with another sight, are a question for a
// person; what was asked for and is there stays.
func TestManyAbsencesAreAQuestion(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	visit := func(list []estate.Account, sight string, stays ...int64) []records.Held {
		t.Helper()
		var tally records.Tally
		seen := NewSeen()
		require.NoError(t, s.PutAccounts(ctx, id, list, seen, &tally))
		end := ScopeEnd{Scope: "accounts", Table: "accounts", Condition: "1", Complete: true, Seen: seen, Sight: sight, Stays: map[int64]bool{}}
		for _, v := range stays {
			end.Stays[v] = true
		}
		held, err := s.EndScopes(ctx, id, []ScopeEnd{end}, &tally)
		require.NoError(t, err)
		return held
	}
	gone := func() int {
		page, err := s.Accounts(ctx, records.Query{Filters: []string{"gone!="}})
		require.NoError(t, err)
		return page.Total
	}
	all := staff(600)
	require.Empty(t, visit(all, "a"))
	require.Empty(t, visit(all[:597], "a"), "some go: nothing special")
	require.Equal(t, 3, gone())
	held := visit(all[:500], "a")
	require.Len(t, held, 1, "97 of 597 are more than fifty")
	assert.Equal(t, 97, held[0].Count)
	assert.Contains(t, held[0].Why, "97 of 597 vanished at once")
	assert.Equal(t, 3, gone())
	waiting, err := s.HeldScopes(ctx)
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	assert.Empty(t, visit(all[:597], "a"), "they are back, and nothing waits any more")
	waiting, err = s.HeldScopes(ctx)
	require.NoError(t, err)
	assert.Empty(t, waiting)
	_, err = s.ConfirmAbsence(ctx, id)
	require.ErrorIs(t, err, records.ErrConflict, "there is nothing to confirm")
	assert.Len(t, visit(all[:596], "b"), 1, "one, but with another log-on")
	assert.Equal(t, 3, gone())
	// A person confirms, once.
	_, err = s.ConfirmAbsence(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, visit(all[:400], "b"))
	assert.Equal(t, 200, gone())
	assert.Len(t, visit(all[:300], "b"), 1)
	assert.Empty(t, visit(all[:400], "b"))
	last, err := s.Accounts(ctx, records.Query{Filters: []string{"name=" + all[399].Name, "gone="}})
	require.NoError(t, err)
	assert.Empty(t, visit(all[:399], "b", int64(last.Items[0].ID)))
	assert.Equal(t, 200, gone(), "it was asked for, and is there")
}

// Law 4: only a scope that was read completely marks things as gone.
func TestAbsenceNeedsProof(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	visit := func(list []estate.Account, complete bool) records.Tally {
		var tally records.Tally
		seen := NewSeen()
		require.NoError(t, s.PutAccounts(ctx, id, list, seen, &tally))
		_, err = s.EndScopes(ctx, id, []ScopeEnd{{Scope: "accounts", Table: "accounts", Condition: "1", Complete: complete, Why: "cut off", Seen: seen}}, &tally)
		require.NoError(t, err)
		return tally
	}
	gone := func() int {
		page, err := s.Accounts(ctx, records.Query{Filters: []string{"gone!="}})
		require.NoError(t, err)
		return page.Total
	}
	all := staff(205)
	assert.Equal(t, records.Tally{Added: 205, AccountsTouched: true}, visit(all, true))
	assert.Equal(t, records.Tally{}, visit(all, true), "unchanged")
	first, err := s.Accounts(ctx, records.Query{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, records.Tally{}, visit(all[:10], false), "cut off: nothing is gone")
	assert.Zero(t, gone())
	changed := append([]estate.Account(nil), all...)
	changed[7].Description, changed[8].Name = "new words", "Renamed"
	assert.Equal(t, records.Tally{Altered: 2, AccountsTouched: true}, visit(changed, true))
	tally := visit(changed[:200], true)
	assert.Equal(t, 5, tally.Vanished)
	assert.Equal(t, 5, gone())
	assert.Equal(t, records.Tally{Altered: 5, AccountsTouched: true}, visit(changed, true), "they came back: that is no news of a new account")
	assert.Zero(t, gone())
	again, err := s.Account(ctx, first.Items[0].ID)
	require.NoError(t, err)
	assert.Equal(t, first.Items[0].FirstSeen, again.FirstSeen)
	assert.True(t, again.Seen.After(first.Items[0].Seen), "a complete reading saw also what did not change")
}

// Paging by key gives every row once, in order, whatever the column.
func TestPagingEqualsOneLongPage(t *testing.T) {
	s := open(t, t.TempDir())
	id, err := s.AddSystem(t.Context(), records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(t.Context(), id, staff(97), NewSeen(), &records.Tally{}))
	for _, c := range accountList.Columns {
		for _, sign := range []string{"", "-"} {
			long, err := s.Accounts(t.Context(), records.Query{Sort: sign + c.Name, Limit: 1000})
			require.NoError(t, err, c.Name)
			var ids, paged []records.AccountID
			for _, a := range long.Items {
				ids = append(ids, a.ID)
			}
			cursor := ""
			for {
				p, err := s.Accounts(t.Context(), records.Query{Sort: sign + c.Name, Limit: 10, Cursor: cursor})
				require.NoError(t, err, c.Name)
				for _, a := range p.Items {
					paged = append(paged, a.ID)
				}
				if cursor = p.Next; cursor == "" {
					break
				}
			}
			require.Equal(t, ids, paged, sign+c.Name)
		}
	}
	for filter, want := range map[string]int{"description~100% of_": 24, `description~k\s`: 24, "name=name005": 1, "name!~Name0": 0, "never_expires=true": 49, "password_changed<2026-01-05": 16, "type=": 32, "description~%": 24} {
		p, err := s.Accounts(t.Context(), records.Query{Filters: []string{filter}})
		require.NoError(t, err, filter)
		assert.Equal(t, want, p.Total, filter)
	}
	for _, bad := range []records.Query{{Filters: []string{"colour=red"}}, {Filters: []string{"nothing"}}, {Sort: "colour"}, {Limit: 1001}, {Cursor: "zzz"}, {Filters: []string{"name=x'; DROP TABLE accounts; --"}, Sort: "name;"}} {
		_, err := s.Accounts(t.Context(), bad)
		assert.ErrorIs(t, err, database.ErrQuery, "%+v", bad)
	}
}

// The end of a rotation and the places of its values are one transaction.
func TestValuesFollowTheEndOfTheRotation(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(1), NewSeen(), &records.Tally{}))
	c, err := s.NotePassword(ctx, 1)
	require.NoError(t, err)
	require.NoError(t, s.TakeCustody(ctx, records.Secret{CredentialID: c.ID, Sealed: []byte("a"), Fingerprint: "fa"}, "ines", ""))
	r := records.Rotation{CredentialID: c.ID, Credential: "a", OnFailure: "undo"}
	r.ID, err = s.BeginRotation(ctx, r)
	require.NoError(t, err)
	_, err = s.BeginRotation(ctx, r)
	assert.ErrorIs(t, err, records.ErrConflict, "one rotation of an account at a time")
	assert.ErrorIs(t, s.ReleaseCustody(ctx, c.ID), records.ErrConflict)
	require.NoError(t, s.AddCandidate(ctx, records.Secret{CredentialID: c.ID, RotationID: r.ID, Sealed: []byte("b"), Fingerprint: "fb"}))
	finished := rotation.Record{Seq: 1, Event: rotation.EventFinished, Step: -1, Result: rotation.FinishedDone}
	require.NoError(t, s.AppendJournal(ctx, r, finished, "finished", "done", records.Effects{Settlement: &records.Settlement{Winner: 2, Loser: 1, LoserRefused: true}}))
	assert.Error(t, s.AppendJournal(ctx, r, finished, "finished", "done", records.Effects{Settlement: &records.Settlement{Winner: 1, Loser: 2}}), "a record is written once")
	all, err := s.Secrets(ctx, c.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{records.SecretCurrent, records.SecretRetired}, []string{all[0].State, all[1].State})
	assert.NotEqual(t, all[0].Binding(), all[1].Binding(), "each value is bound to its own record")
}
