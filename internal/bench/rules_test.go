package bench

import (
	"crypto/rand"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// BenchmarkRules applies 200 rules to 10,000 accounts, of which every second has five
// dependents: the first time, when labels are written, and again, when nothing changed. The
// goal is two seconds.
func BenchmarkRules(b *testing.B) {
	accounts, count := 10_000, 200
	if testing.Short() {
		accounts, count = 500, 20
	}
	ctx := b.Context()
	for b.Loop() {
		s, err := store.Open(ctx, b.TempDir(), time.Now)
		require.NoError(b, err)
		sealer, err := secret.NewSealer(make([]byte, secret.KeySize), rand.Reader)
		require.NoError(b, err)
		require.NoError(b, s.OpenLedger(ctx, sealer, s.FolderWitness()))
		base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
		require.NoError(b, err)
		directory, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory", Environment: "production"})
		require.NoError(b, err)
		host, err := s.AddSystem(ctx, records.System{Name: "quay1", Kind: "windows-host"})
		require.NoError(b, err)
		list := make([]estate.Account, accounts)
		for i := range list {
			list[i] = estate.Account{StableID: fmt.Sprint(i), Name: fmt.Sprintf("svc-%d", i), DN: fmt.Sprintf("CN=svc-%d,OU=Team %d,DC=larkmoor,DC=example", i, i%100), Type: "user", Enabled: estate.Yes, Groups: []string{fmt.Sprintf("Group %d", i%50), "Operations"}, PasswordChanged: time.Date(2026, 1, 1, 0, i, 0, 0, time.UTC)}
		}
		require.NoError(b, s.PutAccounts(ctx, directory, list, store.NewSeen(), &records.Tally{}))
		var dependents []estate.Dependent
		tied := map[records.DependentID][]ties.Tie{}
		for i := range accounts * 5 / 2 {
			dependents = append(dependents, estate.Dependent{Kind: estate.DependentService, Place: fmt.Sprintf("Berth%d", i), Name: fmt.Sprintf("Berth%d", i), RunsAs: "x"})
			tied[records.DependentID(i+1)] = []ties.Tie{{Account: fmt.Sprint(i/5*2 + 1), Evidence: estate.Configured, Strength: estate.StrengthRunsAs}}
		}
		require.NoError(b, s.PutDependents(ctx, host, dependents, store.NewSeen(), &records.Tally{}))
		require.NoError(b, s.PutTies(ctx, tied))
		for i := range count {
			when := fmt.Sprintf(`account.name.startsWith("svc-%d") && system.environment == "production"`, i)
			switch i % 4 {
			case 1:
				when = fmt.Sprintf(`account.dn.contains(",OU=Team %d,") || "Group %d" in account.groups`, i%100, i%50)
			case 2:
				when = fmt.Sprintf(`now - account.password_changed > duration("%dh") && account.name.endsWith("%d")`, 1000+i, i%100)
			case 3:
				when = fmt.Sprintf(`dependents.exists(d, d.kind == "service" && d.name.matches("^Berth%d"))`, i)
			}
			_, err := s.AddRule(ctx, records.Rule{Name: fmt.Sprintf("rule-%d", i), Label: fmt.Sprintf("label-%d", i%40), Excludes: i%10 == 9, Condition: when, ChangedBy: "bench"})
			require.NoError(b, err)
		}
		all := labels.New(base, s)
		for _, round := range []string{"first", "again"} {
			begun := time.Now()
			did, err := all.Apply(ctx)
			require.NoError(b, err)
			require.Equal(b, accounts, did.Accounts)
			b.ReportMetric(time.Since(begun).Seconds(), round+"-s")
			if round == "first" {
				require.Positive(b, did.Changed)
			} else {
				require.Zero(b, did.Changed)
			}
		}
		// A text in which every rule is another one is looked at before it is applied.
		now, err := s.AllRules(ctx)
		require.NoError(b, err)
		var drafts []labels.Draft
		for _, r := range now {
			drafts = append(drafts, labels.Draft{Name: r.Name, Label: r.Label + "-2", Excludes: r.Excludes, Condition: r.Condition})
		}
		begun := time.Now()
		shown, err := all.PreviewAll(ctx, drafts)
		require.NoError(b, err)
		b.ReportMetric(time.Since(begun).Seconds(), "text-s")
		alone, err := all.PreviewAll(ctx, drafts[3:4])
		require.NoError(b, err)
		require.Equal(b, alone[0], shown[3], "each says what it would say by itself")
		base.Stop()
		require.NoError(b, s.Close())
	}
}
