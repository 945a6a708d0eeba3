package bench

import (
	"crypto/rand"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// BenchmarkSchedule works out when 10,000 credentials in custody are rotated, for a year,
// by a policy of 30 days in a nightly window: the turns of all, as each look does, and
// every night of the year. The goal is one second, and no night with more than twice the
// mean.
func BenchmarkSchedule(b *testing.B) {
	accounts := 10_000
	if testing.Short() {
		accounts = 1500
	}
	ctx, now := b.Context(), time.Now()
	s, err := store.Open(ctx, b.TempDir(), time.Now)
	require.NoError(b, err)
	defer func() { require.NoError(b, s.Close()) }()
	base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(b, err)
	require.NoError(b, s.OpenLedger(ctx, base.Sealer, s.FolderWitness()))
	directory, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(b, err)
	list := make([]estate.Account, accounts)
	for i := range list {
		list[i] = estate.Account{StableID: fmt.Sprint(i), Name: fmt.Sprintf("svc-%d", i), Type: "user", PasswordChanged: now.AddDate(-3, 0, 0)}
	}
	require.NoError(b, s.PutAccounts(ctx, directory, list, store.NewSeen(), &records.Tally{}))
	for i := range accounts {
		c, err := s.NotePassword(ctx, records.AccountID(i+1))
		require.NoError(b, err)
		require.NoError(b, s.TakeCustody(ctx, records.Secret{CredentialID: c.ID, Kind: credential.Password, AccountID: records.AccountID(i + 1), Sealed: []byte{1}, Fingerprint: fmt.Sprint("f", i)}, "ines", "taken"))
	}
	p := policies.New(base, s, approval.New(base, s))
	ines := access.Actor{Name: "ines", Roles: access.Roles()}
	_, err = p.SaveWindow(ctx, ines, records.Window{Name: "nights", Rule: "FREQ=DAILY", Begins: "2026-01-01T22:00", Zone: "Europe/Oslo", Minutes: 240})
	require.NoError(b, err)
	_, err = p.Save(ctx, ines, records.Policy{Name: "monthly", Window: "nights", PolicySettings: records.PolicySettings{EveryDays: 30}})
	require.NoError(b, err)
	start := time.Now()
	_, err = p.Refresh(ctx)
	require.NoError(b, err)
	first := time.Since(start)
	var again, year time.Duration
	var nights []policies.Night
	for b.Loop() {
		start := time.Now()
		_, err := p.Refresh(ctx)
		require.NoError(b, err)
		again, start = time.Since(start), time.Now()
		nights, err = p.Nights(ctx, now, now.AddDate(1, 0, 0))
		require.NoError(b, err)
		year = time.Since(start)
	}
	total, most := 0, 0
	for _, n := range nights {
		total += n.Count
		most = max(most, n.Count)
	}
	mean := float64(total) / float64(len(nights))
	require.InDelta(b, 365.0/30*float64(accounts), total, 1.1*float64(accounts))
	require.LessOrEqual(b, float64(most), 2*mean, "no night has more than twice the mean")
	b.ReportMetric(first.Seconds(), "s-first")
	b.ReportMetric(again.Seconds(), "s-again")
	b.ReportMetric(year.Seconds(), "s-year")
	b.ReportMetric(float64(most)/mean, "fullest/mean")
}
