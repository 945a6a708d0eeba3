package inventory

import (
	"crypto/rand"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	_ "mossledger.example/moss/internal/connect/redis" // a kind of system

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// A system that moves between the last look at what was asked for and the sealing is
// not sealed where it moved to.
func TestACarriedEndpointIsTheOneThatWasAskedFor(t *testing.T) {
	ctx := t.Context()
	s, err := store.Open(ctx, t.TempDir(), time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(base.Stop)
	require.NoError(t, s.OpenLedger(ctx, base.Sealer, s.FolderWitness()))
	inventory := New(base, s, sealed.New(base, s), approval.New(base, s))
	for _, name := range []string{"ola", "ines"} {
		require.NoError(t, s.AddUser(ctx, records.User{Name: name, Password: "x", Roles: access.Roles()}, false, ledger.Entry{Actor: name, Act: "user.add", Phase: ledger.Outcome}))
	}
	ines, ola := access.Actor{Name: "ines", Roles: access.Roles()}, access.Actor{Name: "ola", Roles: access.Roles()}
	require.NoError(t, inventory.SaveSteward(ctx, ines, "stores", "mossmgr", secret.New("Steward-Passw0rd-1"), secret.Value{}))
	id, err := inventory.Add(ctx, ines, records.System{Name: "cache", Kind: "redis", Address: "192.0.2.10", Steward: "stores"})
	require.NoError(t, err)
	asked, err := s.WaitsFor(ctx, id)
	require.NoError(t, err)
	require.NoError(t, inventory.sameEndpoints(ctx, asked), "the last look")

	have, err := s.SystemByID(ctx, id)
	require.NoError(t, err)
	next := have
	next.Address = "198.51.100.66"
	require.NoError(t, inventory.Change(ctx, ines, have, next, have.Revision))
	require.ErrorIs(t, inventory.carryEndpoints(ctx, ola, ines, asked), app.ErrRefused)
	_, err = s.Endpoint(ctx, id)
	require.NoError(t, err)
	now, err := s.SystemByID(ctx, id)
	require.NoError(t, err)
	e, err := inventory.sealedEndpoint(ctx, now)
	require.NoError(t, err)
	require.Empty(t, e.Address, "nothing is sealed")

	// Back where it was asked for, it is carried out.
	have = now
	next = have
	next.Address = "192.0.2.10"
	require.NoError(t, inventory.Change(ctx, ines, have, next, have.Revision))
	require.NoError(t, inventory.carryEndpoints(ctx, ola, ines, asked))
	e, err = inventory.sealedEndpoint(ctx, now)
	require.NoError(t, err)
	require.Equal(t, "192.0.2.10", e.Address)
}
