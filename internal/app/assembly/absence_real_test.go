package assembly_test

import (
	"crypto/rand"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// empty is an operator with nothing in it.
func empty(t *testing.T) *ferry {
	t.Helper()
	s, err := store.Open(t.Context(), t.TempDir(), time.Now)
	require.NoError(t, err)
	o, err := assembly.New(t.Context(), assembly.Config{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() {
		o.Stop()
		require.NoError(t, s.Close())
	})
	return &ferry{Application: o, t: t}
}

// realDirectory adds a directory of the lab as "dir", and reads it.
func (f *ferry) realDirectory(d *lab.Directory, options map[string]string) {
	f.t.Helper()
	require.NoError(f.t, f.Inventory.SaveSteward(f.t.Context(), ines, "dir", d.Manager, secret.New(lab.ManagerPassword), secret.Value{}))
	_, err := f.Inventory.Add(f.t.Context(), ines, records.System{Name: "dir", Kind: "directory", Address: d.Address, Port: d.Port, Steward: "dir", TrustedCA: d.CA, Options: options})
	require.NoError(f.t, err)
	require.Equal(f.t, "done", f.visit("dir").State)
}

// present counts the accounts of a system that are not gone.
func (f *ferry) present(system string) int {
	f.t.Helper()
	page, err := f.Store.Accounts(f.t.Context(), records.Query{Filters: []string{"system=" + system, "gone="}, Limit: 1})
	require.NoError(f.t, err)
	return page.Total
}

// A deny entry in a real domain hides accounts that are there: none of them is
// told as gone, few or many, and one that was really deleted is.
func TestARealDenyEntry(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	var names []string
	for i := range 80 {
		names = append(names, fmt.Sprintf("svc-line%02d", i))
	}
	d := lab.Samba(t, "127.0.0.71", names...)
	f := empty(t)
	ctx := t.Context()
	f.realDirectory(d, nil)
	all := f.present("dir")
	require.Greater(t, all, 80)

	services := "OU=Service Accounts," + d.Base
	show := d.Hide(t, services)
	visit := f.visit("dir")
	assert.Equal(t, "incomplete", visit.State, visit.Words)
	assert.Less(t, visit.Counts["accounts"], all-70, "they are hidden")
	assert.Zero(t, visit.Vanished)
	assert.Equal(t, all, f.present("dir"))
	assert.NotEmpty(t, f.findings("unread-system"))

	// Hidden, and one of them deleted: neither can be told from the other.
	d.Delete(t, d.DN("svc-line07"))
	f.visit("dir")
	assert.Equal(t, all, f.present("dir"))

	// Seen again: only the deleted one is gone.
	show()
	visit = f.visit("dir")
	assert.Equal(t, "done", visit.State, visit.Words)
	assert.Equal(t, 1, visit.Vanished)
	assert.Equal(t, all-1, f.present("dir"))
	_, _, err := f.Picture.FindAccount(ctx, "svc-line07")
	assert.ErrorIs(t, err, app.ErrNotFound)
}
