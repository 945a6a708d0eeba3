package assembly_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// People who decide, change and import at the same moment.

// Many import one list, and change one system, at once: each system is there once, and
// of changes to one state of it one is made.
func TestManyImportAndChangeAtOnce(t *testing.T) {
	f := start(t)
	var list strings.Builder
	list.WriteString("name,address,kind\n")
	for i := range 12 {
		fmt.Fprintf(&list, "new%d,192.0.2.%d,unix-host\n", i, i+1)
	}
	var all sync.WaitGroup
	var lock sync.Mutex
	added := 0
	for range 6 {
		all.Add(1)
		go func() {
			defer all.Done()
			done, err := f.Inventory.ImportList(t.Context(), ines, strings.NewReader(list.String()), inventory.Defaults{Steward: "hosts"})
			sane(t, err)
			lock.Lock()
			defer lock.Unlock()
			added += len(done.Added)
		}()
	}
	all.Wait()
	assert.Equal(t, 12, added, "each is added by one")
	page, err := f.Store.Systems(t.Context(), records.Query{Filters: []string{"name*=new*"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 12)
	have := page.Items[0]
	made := 0
	for i := range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			next := have
			next.Owner = fmt.Sprint("owner", i)
			err := f.Inventory.Change(t.Context(), ines, have, next, have.Revision)
			if !errors.Is(err, records.ErrStale) {
				sane(t, err)
			}
			if err == nil {
				lock.Lock()
				defer lock.Unlock()
				made++
			}
		}()
	}
	all.Wait()
	assert.Equal(t, 1, made, "the others looked at what is no more")
	require.NoError(t, f.Store.LedgerTrouble())
}

// Two administrators who take the role from each other at the same moment: one stays.
func TestAnAdministratorIsLeft(t *testing.T) {
	f := start(t)
	yes := true
	for round := range 6 {
		one, other := fmt.Sprintf("one%d", round), fmt.Sprintf("other%d", round)
		for _, name := range []string{one, other} {
			f.person(name, "administrator", "auditor")
		}
		page, err := f.Store.Users(t.Context(), records.Query{})
		require.NoError(t, err)
		for _, u := range page.Items { // of earlier rounds
			if u.Name != one && u.Name != other {
				u.Roles = []string{"viewer"}
				require.NoError(t, f.Store.ChangeUser(t.Context(), u, false))
			}
		}
		var all sync.WaitGroup
		for by, of := range map[string]string{one: other, other: one} {
			all.Add(1)
			go func() {
				defer all.Done()
				who := access.Actor{Name: by, Roles: []string{"administrator", "auditor"}}
				change := people.Change{Roles: []string{"auditor"}}
				if round%2 == 0 {
					change = people.Change{Disabled: &yes}
				}
				_, err := f.People.Change(t.Context(), who, of, change)
				sane(t, err)
			}()
		}
		all.Wait()
		left, err := f.Store.PersonsWithRole(t.Context(), "administrator", "")
		require.NoError(t, err)
		assert.Len(t, left, 1)
	}
}

// Many decide about one request: it is carried out once, or not at all.
func TestManyApproveAtOnce(t *testing.T) {
	for _, refused := range []bool{false, true} {
		f := start(t)
		a := f.take("svc-tidefeed")
		f.person("ines", "operator")
		f.person("ola", "approver")
		f.person("ben", "approver")
		_, waits, err := f.Rotations.Override(t.Context(), ines, cred(f, a), undo, "leaked", "no time")
		require.NoError(t, err)
		v, err := f.Store.Approval(t.Context(), waits)
		require.NoError(t, err)
		var all sync.WaitGroup
		var lock sync.Mutex
		approved := 0
		for i := range 16 {
			all.Add(1)
			go func() {
				defer all.Done()
				who := []access.Actor{ola, ben}[i%2]
				if refused && i%3 == 0 {
					_, err := f.Approvals.Refuse(t.Context(), who, waits, "no")
					sane(t, err)
					return
				}
				_, err := f.Approvals.Approve(t.Context(), who, waits, v.Digest, "")
				sane(t, err)
				if err == nil {
					lock.Lock()
					defer lock.Unlock()
					approved++
				}
			}()
		}
		all.Wait()
		page, err := f.Store.Rotations(t.Context(), records.Query{})
		require.NoError(t, err)
		assert.LessOrEqual(t, approved, 1)
		require.Len(t, page.Items, approved)
		v, err = f.Store.Approval(t.Context(), waits)
		require.NoError(t, err)
		assert.Equal(t, approved == 1, v.State == records.ApprovalApproved, v.State)
		for _, r := range page.Items {
			require.Equal(t, rotation.FinishedDone, f.ended(r.ID).Result)
		}
		f.agrees(a, "tide1", "/etc/tide/feed.pw")
	}
}

// Many take, reset and release one account, and verify it: what is sealed is in
// force, whoever came last.
func TestManyTakeCustodyAtOnce(t *testing.T) {
	f := start(t)
	a := f.take("svc-tidefeed")
	f.Rotations.Settled(t.Context())
	c := cred(f, a)
	value, err := f.Sealed.Values(t.Context(), c.ID)
	require.NoError(t, err)
	var all sync.WaitGroup
	for i := range 9 { // three values of before are fewer wrong ones than lock an account
		all.Add(1)
		go func() {
			defer all.Done()
			var err error
			switch i % 3 {
			case 0:
				err = f.Custody.Reset(t.Context(), ines, "at once", c)
			case 1:
				_, err = f.Custody.Verify(t.Context(), ines, c)
			case 2:
				_, err = f.Custody.Take(t.Context(), ines, c, value.Current)
			}
			if err != nil && !strings.Contains(err.Error(), "refused") { // a value of before is
				sane(t, err)
			}
		}()
	}
	all.Wait()
	now, err := f.Sealed.Values(t.Context(), c.ID)
	require.NoError(t, err)
	assert.True(t, f.estate.Directory.Accepts(larkmoor.DN(a.Name), now.Current.RevealString()), "what is current is in force")
	assert.Equal(t, 1, strings.Count(f.statesOf(c), "current"), f.statesOf(c))
	assert.NotContains(t, f.statesOf(c), "candidate", "none hangs in the air")
}
