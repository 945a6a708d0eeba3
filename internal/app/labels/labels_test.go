package labels

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

var ines = access.Actor{Name: "ines", Roles: access.Roles()}

// made is an estate of a directory with some accounts.
func made(t *testing.T, folder string, accounts int) (*Labels, *store.Store, func()) {
	t.Helper()
	s, err := store.Open(t.Context(), folder, time.Now)
	require.NoError(t, err)
	base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, s.OpenLedger(t.Context(), base.Sealer, s.FolderWitness()))
	if accounts > 0 {
		id, err := s.AddSystem(t.Context(), records.System{Name: "dir", Kind: "directory"})
		require.NoError(t, err)
		list := make([]estate.Account, accounts)
		for i := range list {
			list[i] = estate.Account{StableID: fmt.Sprint(i), Name: fmt.Sprintf("svc-%04d", i), Type: "user"}
		}
		require.NoError(t, s.PutAccounts(t.Context(), id, list, store.NewSeen(), &records.Tally{}))
	}
	return New(base, s), s, func() { base.Stop(); require.NoError(t, s.Close()) }
}

func labelled(t *testing.T, s *store.Store, label string) int {
	t.Helper()
	page, err := s.AccountsLabelled(t.Context(), label, records.Query{})
	require.NoError(t, err)
	if page.More {
		return 1001
	}
	return page.Total
}

// A service that ended between saving a rule and applying it applies it when it is there
// again; one that had applied all does nothing.
func TestARuleThatWasSavedAndNotApplied(t *testing.T) {
	folder := t.TempDir()
	labels, s, end := made(t, folder, 30)
	draft := Draft{Name: "tens", Label: "ten", Condition: `account.name.endsWith("0")`}
	p, err := labels.Preview(t.Context(), ines, draft)
	require.NoError(t, err)
	assert.Equal(t, 3, p.Matches)
	_, err = labels.Save(t.Context(), ines, draft, p.Mark)
	require.NoError(t, err)
	assert.Equal(t, 3, labelled(t, s, "ten"))
	_, err = s.AddRule(t.Context(), records.Rule{Name: "fives", Label: "five", Condition: `account.name.endsWith("5")`, ChangedBy: "ines"})
	require.NoError(t, err)
	end()

	labels, s, end = made(t, folder, 0)
	require.NoError(t, labels.Recover(t.Context()))
	labels.base.Work.Wait()
	assert.Equal(t, 3, labelled(t, s, "five"))
	before, err := s.Meta(t.Context(), metaApplied)
	require.NoError(t, err)
	require.NoError(t, labels.Recover(t.Context()))
	labels.base.Work.Wait()
	after, err := s.Meta(t.Context(), metaApplied)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "nothing was left to apply")
	end()
}

// More accounts than are read at once are all looked at, by several at once, and each page
// is written; what a preview shows of them is what saving does.
func TestManyAccounts(t *testing.T) {
	labels, s, end := made(t, t.TempDir(), 2*atOnce+17)
	defer end()
	save := func(d Draft) (Preview, Applied) {
		p, err := labels.Preview(t.Context(), ines, d)
		require.NoError(t, err)
		did, err := labels.Save(t.Context(), ines, d, p.Mark)
		require.NoError(t, err)
		return p, did
	}
	p, did := save(Draft{Name: "all", Label: "everybody", Condition: "true"})
	assert.Equal(t, 2*atOnce+17, p.Matches)
	assert.Len(t, p.Rows, mostShown)
	assert.Equal(t, Applied{Accounts: 2*atOnce + 17, Changed: 2*atOnce + 17}, did)
	assert.Equal(t, 1001, labelled(t, s, "everybody"))
	p, did = save(Draft{Name: "ALL", Label: "everybody", Condition: `account.name.startsWith("svc-20")`})
	assert.Equal(t, 17, p.Matches)
	assert.Equal(t, 2*atOnce, p.Stops, "the name of a rule is the same in any letters")
	assert.Equal(t, 2*atOnce, p.Lose)
	assert.Equal(t, 2*atOnce, did.Changed)
	assert.Equal(t, 17, labelled(t, s, "everybody"))

	// The mark of one draft is that of no other, and of no other time.
	one := Draft{Name: "one", Label: "one", Condition: `account.name == "svc-0001"`}
	seen, err := labels.Preview(t.Context(), ines, one)
	require.NoError(t, err)
	for what, d := range map[string]Draft{
		"another label": {Name: "one", Label: "two", Condition: one.Condition}, "the other way round": {Name: "one", Label: "one", Excludes: true, Condition: one.Condition},
		"another condition that matches the same": {Name: "one", Label: "one", Condition: `account.name in ["svc-0001"]`}, "another name": {Name: "uno", Label: "one", Condition: one.Condition},
	} {
		_, err := labels.Save(t.Context(), ines, d, seen.Mark)
		require.ErrorIs(t, err, app.ErrRefused, what)
	}
	require.NoError(t, labels.Put(t.Context(), ines, 2, "one", "meanwhile"))
	_, err = labels.Save(t.Context(), ines, one, seen.Mark)
	require.ErrorIs(t, err, app.ErrRefused, "it would give nothing any more")
	_, err = labels.Preview(t.Context(), access.Actor{Name: "vera", Roles: []string{access.RoleViewer}}, one)
	require.ErrorIs(t, err, access.ErrDenied)
}

// Without rules nothing is looked at: a survey of a large directory does not wait for it. What
// the last rule gave went with it.
func TestWithoutRules(t *testing.T) {
	labels, s, end := made(t, t.TempDir(), 20)
	defer end()
	draft := Draft{Name: "all", Label: "everybody", Condition: "1 / (size(dependents)) == 1 || true"}
	p, err := labels.Preview(t.Context(), ines, draft)
	require.NoError(t, err)
	_, err = labels.Save(t.Context(), ines, draft, p.Mark)
	require.NoError(t, err)
	assert.Equal(t, 20, labelled(t, s, "everybody"))
	gone := Draft{Name: "all", Remove: true}
	p, err = labels.Preview(t.Context(), ines, gone)
	require.NoError(t, err)
	assert.Equal(t, 20, p.Lose)
	did, err := labels.Save(t.Context(), ines, gone, p.Mark)
	require.NoError(t, err)
	assert.Zero(t, did.Accounts, "no account was looked at")
	assert.Zero(t, labelled(t, s, "everybody"))
	_, err = labels.Save(t.Context(), ines, gone, p.Mark)
	require.ErrorIs(t, err, app.ErrNotFound)
}

// Who gives up waiting for a preview gets none, and takes no place.
func TestPreviewsWait(t *testing.T) {
	labels, _, end := made(t, t.TempDir(), 1)
	defer end()
	for range previewsAtOnce {
		labels.looks <- struct{}{}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := labels.Preview(ctx, ines, Draft{Name: "a", Label: "a", Condition: "true"})
	require.ErrorIs(t, err, context.Canceled)
	<-labels.looks
	_, err = labels.Preview(t.Context(), ines, Draft{Name: "a", Label: "a", Condition: "true"})
	require.NoError(t, err)
}
