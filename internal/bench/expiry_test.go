package bench

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/lives"
	_ "mossledger.example/moss/internal/connect/directory"
	_ "mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// What ends, in the benchmark: passwords of a directory and entries of authorized keys.
const (
	keysOfHost  = 1000
	endingSlice = 10_000
)

// endingSize is how many accounts and hosts there are: few where it is only tried.
func endingSize() (accounts, hosts int) {
	if testing.Short() {
		return 20_000, 20
	}
	return 500_000, 500
}

// BenchmarkExpiry asks a service for when a million passwords and keys end, over HTTP, with 8
// clients at once.
func BenchmarkExpiry(b *testing.B) {
	endingAccounts, endingHosts := endingSize()
	folder := b.TempDir()
	url, code, stop := serve(b, folder)
	post, token := owner(b, url, code)
	post("/api/v1/systems", `{"name":"domain","kind":"directory","address":"192.0.2.1"}`)
	for h := range endingHosts {
		post("/api/v1/systems", fmt.Sprintf(`{"name":"host%04d","kind":"unix-host","address":"198.51.%d.%d"}`, h, h/250, h%250+1))
	}
	stop()
	before := sizeOf(b, folder)
	began := time.Now()
	fillEnds(b, folder)
	fmt.Printf("%d passwords and keys taken in %v; %.0f bytes in the store for each\n", endingAccounts+endingHosts*keysOfHost, time.Since(began).Round(time.Second), float64(sizeOf(b, folder)-before)/float64(endingAccounts+endingHosts*keysOfHost))
	url, _, stop = serve(b, folder)
	defer stop()
	get := asker(b, url, token)
	for _, ask := range []struct{ name, path string }{
		{"timeline", "/expiry/timeline"},
		{"forecast of 30 days", "/expiry/forecast?days=30"},
		{"forecast of a year", "/expiry/forecast?days=366"},
		{"ends, first page", "/expiry"},
		{"ends of a system", "/expiry?filter=system%3Dhost0010"},
		{"ends, keys", "/expiry?filter=what%3Dkey"},
		{"ends, certificates", "/expiry?filter=what%3Dcertificate"},
		{"ends, one part", "/expiry?filter=at%3E2027-10-01&filter=at%3C2027-10-09"},
		{"outlived, first page", "/outlived"},
		{"outlived, of a system", "/outlived?filter=system%3Dhost0010&filter=remedy%3Ddelete"},
		{"ends, searched", "/expiry?search=svc-berth-100"},
	} {
		askAll(b, ask.name, get, func(*rand.Rand) string { return ask.path })
	}
}

// fillEnds takes them into a store that has the systems: nine of ten end within two years, at
// moments that are spread; of the others half never end and half are overdue.
func fillEnds(b *testing.B, folder string) {
	endingAccounts, endingHosts := endingSize()
	ctx := context.Background()
	s, err := store.Open(ctx, folder, time.Now)
	require.NoError(b, err)
	defer s.Close()
	systems, err := s.AllSystems(ctx)
	require.NoError(b, err)
	ids := map[string]records.SystemID{}
	for _, v := range systems {
		ids[v.Name] = v.ID
	}
	r := rand.New(rand.NewPCG(16, 7))
	end := func(n int) time.Time {
		switch n % 20 {
		case 0:
			return time.Time{}
		case 1:
			return time.Now().Add(-time.Duration(r.IntN(90*24)) * time.Hour)
		}
		return time.Now().Add(time.Duration(r.IntN(730*24*60)) * time.Minute)
	}
	var tally records.Tally
	for n := 0; n < endingAccounts; n += endingSlice {
		accounts := make([]estate.Account, 0, endingSlice)
		for i := n; i < n+endingSlice; i++ {
			at := end(i)
			accounts = append(accounts, estate.Account{StableID: fmt.Sprintf("guid-%d", i), Name: fmt.Sprintf("svc-%s-%d", words[i%len(words)], i), Type: "user", Enabled: estate.Yes, Locked: estate.No, PasswordExpires: at, NeverExpire: at.IsZero()})
		}
		require.NoError(b, s.PutAccounts(ctx, ids["domain"], accounts, store.NewSeen(), &tally))
	}
	for h := range endingHosts {
		list := make([]estate.Dependent, 0, keysOfHost)
		for i := range keysOfHost {
			list = append(list, estate.Dependent{Kind: estate.DependentAuthorized, Place: fmt.Sprintf("/home/%s/.ssh/authorized_keys#%d", words[i%len(words)], i), Name: words[i%len(words)], Key: &estate.Key{Type: "ssh-ed25519", Bits: 256, Fingerprint: fmt.Sprintf("SHA256:%d-%d", h, i), Lets: words[i%len(words)], Line: i + 1, Ends: end(i)}})
		}
		require.NoError(b, s.PutDependents(ctx, ids[fmt.Sprintf("host%04d", h)], list, store.NewSeen(), &tally))
	}
	require.NoError(b, s.MergeIndexes(ctx))
	for _, turn := range []string{"first", "second"} {
		began := time.Now()
		require.NoError(b, lives.New(s, time.Now).Judge(ctx))
		page, err := s.Outlived(ctx, records.Query{Limit: 1})
		require.NoError(b, err)
		fmt.Printf("all of them judged a %s time in %v: %d have outlived their purpose\n", turn, time.Since(began).Round(10*time.Millisecond), page.Total)
	}
}
