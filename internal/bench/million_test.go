package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service"
	"mossledger.example/moss/internal/store"
)

// The large estate.
const (
	perHost         = 500 // dependents: a million in all
	largeClients    = 8
	largePassword   = "slow-tides-keep-time"
	dependentsEvery = 50 // of an account
)

// fill takes accounts and dependents into a store that has the systems, and
// returns the account with the large radius.
func fill(b *testing.B, folder string) (account records.AccountID, took time.Duration) {
	ctx := context.Background()
	s, err := store.Open(ctx, folder, time.Now)
	require.NoError(b, err)
	began := time.Now()
	systems, err := s.AllSystems(ctx)
	require.NoError(b, err)
	require.Len(b, systems, largeHosts+1)
	ids := map[string]records.SystemID{}
	for _, v := range systems {
		ids[v.Name] = v.ID
	}
	directory := ids["domain"]
	var accounts []estate.Account
	for i := range largeAccounts {
		accounts = append(accounts, estate.Account{StableID: fmt.Sprintf("guid-%d", i), Name: fmt.Sprintf("svc-%s-%d", words[i%len(words)], i), Type: "user", Enabled: estate.Yes, Locked: estate.No, Description: "account of the " + words[(i*7)%len(words)]})
	}
	var tally records.Tally
	require.NoError(b, s.PutAccounts(ctx, directory, accounts, store.NewSeen(), &tally))
	page, err := s.Accounts(ctx, records.Query{Limit: 1000, Sort: "id"})
	require.NoError(b, err)
	known := page.Items
	for h := range largeHosts {
		id := ids[fmt.Sprintf("host%04d", h)]
		list := make([]estate.Dependent, 0, perHost)
		for i := range perHost {
			word := words[(h+i)%len(words)]
			switch i % 5 {
			case 0, 1:
				file := fmt.Sprintf("/etc/%s/%s-%d.env", word, word, i)
				list = append(list, estate.Dependent{Kind: estate.DependentFile, Place: file + "#PASSWORD", Name: filepath.Base(file), Path: file, Copy: &estate.Copy{Format: "env", Key: "PASSWORD", Part: "value", Line: 2, Names: []string{"svc-" + word}, Fingerprint: fmt.Sprintf("f%d-%d", h, i)}})
			default:
				u := estate.Dependent{Kind: estate.DependentUnit, Place: fmt.Sprintf("%s-%d.service", word, i), Name: fmt.Sprintf("%s-%d.service", word, i), Description: "serves the " + word, RunsAs: "svc-" + word, State: []string{"active", "active", "active", "failed"}[(h+i)%4], StartMode: "enabled", Executable: "/opt/" + word + "/bin/serve --port " + fmt.Sprint(8000+i)}
				if i%5 == 2 {
					previous := words[(h+i-2)%len(words)]
					u.Uses = []string{fmt.Sprintf("/etc/%s/%s-%d.env", previous, previous, i-2)}
				}
				list = append(list, u)
			}
		}
		require.NoError(b, s.PutDependents(ctx, id, list, store.NewSeen(), &tally))
	}
	require.NoError(b, s.MergeIndexes(ctx)) // as a survey does at its end
	// Ties: one account has 5,000 files, each read by a unit; the others a few.
	count, err := s.Dependents(ctx, 0, records.Query{Limit: 1})
	require.NoError(b, err)
	require.True(b, count.More)
	large := known[len(known)/2].ID
	derived := map[records.DependentID][]ties.Tie{}
	for n := int64(1); n <= int64(largeHosts*perHost); n += perHost / 5 {
		owner := known[int(n/perHost)%len(known)].ID
		if n/(perHost/5) < int64(radiusNodes)/2*2 {
			owner = large
		}
		derived[records.DependentID(n)] = []ties.Tie{{Account: fmt.Sprint(owner), Evidence: estate.Held, Strength: estate.StrengthMatches, Detail: "holds the sealed value"}}
	}
	require.NoError(b, s.PutTies(ctx, derived))
	require.NoError(b, s.Close())
	return large, time.Since(began)
}

var words = []string{"berth", "tide", "manifest", "gangway", "fuel", "quay", "harbour", "lamp", "winch", "kiosk", "crew", "buoy", "signal", "weather", "fare", "ledger", "boat", "rope", "anchor", "deck"}

// BenchmarkMillion asks a service with a million dependents over HTTP, with 8
// clients at once.
func BenchmarkMillion(b *testing.B) {
	folder := b.TempDir()
	url, code, stop := serve(b, folder)
	post, token := owner(b, url, code)
	post("/api/v1/systems", `{"name":"domain","kind":"directory","address":"192.0.2.1"}`)
	for h := range largeHosts {
		post("/api/v1/systems", fmt.Sprintf(`{"name":"host%04d","kind":"unix-host","address":"198.51.%d.%d"}`, h, h/250, h%250+1))
	}
	stop()
	before := sizeOf(b, folder)
	account, took := fill(b, folder)
	fmt.Printf("%d dependents on %d hosts taken in %v; %.0f bytes in the store for each\n", largeHosts*perHost, largeHosts, took.Round(time.Second), float64(sizeOf(b, folder)-before)/float64(largeHosts*perHost))
	url, _, stop = serve(b, folder)
	defer stop()
	get := asker(b, url, token)
	asks := []struct {
		name string
		path func(r *rand.Rand) string
	}{
		{"search, as typed", func(r *rand.Rand) string {
			word := words[r.IntN(len(words))]
			return "/search?q=" + word[:2+r.IntN(len(word)-1)]
		}},
		{"search, two words", func(r *rand.Rand) string { return "/search?q=" + words[r.IntN(len(words))] + "+serv" }},
		{"list, first page", func(*rand.Rand) string { return "/dependents" }},
		{"list of a system", func(r *rand.Rand) string {
			return fmt.Sprintf("/dependents?filter=system%%3Dhost%04d", r.IntN(largeHosts))
		}},
		{"list, state=failed", func(*rand.Rand) string { return "/dependents?filter=state%3Dfailed" }},
		{"list, name~part", func(r *rand.Rand) string { return "/dependents?filter=name~" + words[r.IntN(len(words))] + "-4" }},
		{"list, part and state", func(r *rand.Rand) string {
			return "/dependents?filter=place~" + words[r.IntN(len(words))] + "-49&filter=state%3Dfailed"
		}},
		{"list, searched", func(r *rand.Rand) string { return "/dependents?search=" + words[r.IntN(len(words))] + "-4" }},
		{"list, searched, rare", func(r *rand.Rand) string { return fmt.Sprintf("/dependents?search=host%03d", r.IntN(200)) }},
		{"accounts, first page", func(*rand.Rand) string { return "/accounts" }},
		{"an account", func(r *rand.Rand) string { return fmt.Sprintf("/accounts/%d", 1+r.IntN(largeAccounts)) }},
		{fmt.Sprintf("radius of %d", radiusNodes), func(*rand.Rand) string { return fmt.Sprintf("/accounts/%d/radius", account) }},
	}
	for _, ask := range asks {
		if strings.HasPrefix(ask.name, "radius") { // what nobody has looked at since something changed
			var first []time.Duration
			for n := range 10 {
				took, _ := get(ask.path(nil) + fmt.Sprintf("?limit=%d", radiusNodes+1+n))
				first = append(first, took)
			}
			sort.Slice(first, func(i, j int) bool { return first[i] < first[j] })
			get(ask.path(nil))
			fmt.Printf("%-22s %4d first looks by one client, median %8v, slowest %8v\n", ask.name, len(first), first[5].Round(time.Millisecond/10), first[9].Round(time.Millisecond/10))
		}
		askAll(b, ask.name, get, ask.path)
	}
}

// askAll asks with all clients at once, and tells how long answers took.
func askAll(b *testing.B, name string, get func(path string) (time.Duration, int), path func(r *rand.Rand) string) {
	var lock sync.Mutex
	var all []time.Duration
	var clients sync.WaitGroup
	bytes := 0
	for c := range largeClients {
		clients.Add(1)
		go func() {
			defer clients.Done()
			r := rand.New(rand.NewPCG(uint64(c), 7))
			for began, n := time.Now(), 0; n < requestsEach && time.Since(began) < 20*time.Second; n++ {
				took, size := get(path(r))
				lock.Lock()
				all, bytes = append(all, took), max(bytes, size)
				lock.Unlock()
			}
		}()
	}
	clients.Wait()
	sort.Slice(all, func(i, j int) bool { return all[i] < all[j] })
	fmt.Printf("%-22s %4d requests, median %8v, 99th percentile %8v, up to %d bytes\n", name, len(all), all[len(all)/2].Round(time.Millisecond/10), all[len(all)*99/100].Round(time.Millisecond/10), bytes)
	b.ReportMetric(float64(all[len(all)*99/100].Milliseconds()), "ms-99th:"+strings.ReplaceAll(name, " ", "-"))
}

// owner sets a new service up, and posts to it as its first person.
func owner(b *testing.B, url, code string) (post func(path, body string) map[string]any, token string) {
	post = func(path, body string) map[string]any {
		request, err := http.NewRequestWithContext(context.Background(), http.MethodPost, url+path, strings.NewReader(body))
		require.NoError(b, err)
		request.Header.Set("Content-Type", "application/json")
		if token != "" {
			request.Header.Set("Authorization", "Bearer "+token)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(b, err)
		defer response.Body.Close()
		out := map[string]any{}
		require.NoError(b, json.NewDecoder(response.Body).Decode(&out))
		require.Less(b, response.StatusCode, 300, "%v", out)
		return out
	}
	post("/api/v1/setup", fmt.Sprintf(`{"code":%q,"name":"ines","password":%q}`, code, largePassword))
	token, _ = post("/api/v1/sessions", fmt.Sprintf(`{"name":"ines","password":%q,"token":true}`, largePassword))["token"].(string)
	require.NotEmpty(b, token)
	return post, token
}

// asker asks for a path, and tells how long that took and how much came.
func asker(b *testing.B, url, token string) func(path string) (time.Duration, int) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: largeClients}}
	return func(path string) (time.Duration, int) {
		request, err := http.NewRequestWithContext(context.Background(), http.MethodGet, url+"/api/v1"+path, nil)
		require.NoError(b, err)
		request.Header.Set("Authorization", "Bearer "+token)
		began := time.Now()
		response, err := client.Do(request)
		require.NoError(b, err)
		n, err := io.Copy(io.Discard, response.Body)
		require.NoError(b, err)
		_ = response.Body.Close()
		require.Equal(b, 200, response.StatusCode, path)
		return time.Since(began), int(n)
	}
}

// serve runs the service on a folder.
func serve(b *testing.B, folder string) (url, code string, stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan [2]string, 1), make(chan error, 1)
	go func() {
		ended <- service.Run(ctx, service.Config{Data: folder, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), Ready: func(url, code string) { ready <- [2]string{url, code} }})
	}()
	select {
	case at := <-ready:
		return at[0], at[1], func() {
			cancel()
			require.NoError(b, <-ended)
		}
	case err := <-ended:
		cancel()
		require.NoError(b, err)
		return "", "", nil
	}
}

func sizeOf(b *testing.B, folder string) (size int64) {
	require.NoError(b, filepath.Walk(folder, func(_ string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			size += info.Size()
		}
		return err
	}))
	return size
}
