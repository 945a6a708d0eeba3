package assembly_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// A name may be a number, and a uid is not a name: what a person means is told by
// the system before it.
func TestNumbersAsNames(t *testing.T) {
	f := empty(t)
	ctx := t.Context()
	add := func(system, kind string, accounts ...estate.Account) {
		id, err := f.Store.AddSystem(ctx, records.System{Name: system, Kind: kind})
		require.NoError(t, err)
		for i := range accounts {
			accounts[i].StableID = system + accounts[i].Name + accounts[i].UID
		}
		require.NoError(t, f.Store.PutAccounts(ctx, id, accounts, store.NewSeen(), &records.Tally{}))
	}
	add("hda", "directory", estate.Account{Name: "10023", DN: "uid=10023,ou=people,dc=larkmoor,dc=example"}, estate.Account{Name: "007", DN: "uid=007,ou=people,dc=larkmoor,dc=example"})
	add("quay1", "unix-host", estate.Account{Name: "tide", UID: "10023"}, estate.Account{Name: "berth", UID: "7"})
	add("10023", "unix-host", estate.Account{Name: "tide", UID: "1001"}) // a system may be called so, too
	for spelling, want := range map[string]string{
		"hda/10023": "10023 on hda", "quay1/10023": "tide on quay1", "hda/007": "007 on hda", "quay1/7": "berth on quay1", "007": "", "10023": "",
		"10023/tide": "tide on 10023", "10023/1001": "tide on 10023", "1001": "tide on 10023",
	} {
		a, _, err := f.Picture.FindAccount(ctx, spelling)
		if want == "" {
			assert.ErrorContains(t, err, "ambiguous", spelling)
			continue
		}
		if assert.NoError(t, err, spelling) {
			assert.Equal(t, want, a.Name+" on "+a.System, spelling)
		}
	}
	for _, spelling := range []string{"hda/7", "quay1/1001", "hda/10024"} {
		_, _, err := f.Picture.FindAccount(ctx, spelling)
		assert.ErrorIs(t, err, app.ErrNotFound, spelling)
	}
}
