package e2e

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// large is a service with 10,000 accounts, one of which 500 places on 50 hosts use. Some
// names are as long as names may be.
func large(t *testing.T) *user {
	u := newService(t)
	ctx := t.Context()
	require.NoError(t, u.StopService(syscall.SIGTERM))
	s, err := store.Open(ctx, u.File("data"), time.Now)
	require.NoError(t, err)
	directory, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory", Address: "192.0.2.1", Port: 636})
	require.NoError(t, err)
	accounts := make([]estate.Account, 10_000)
	for i := range accounts {
		name := fmt.Sprintf("svc-%05d", i)
		if i%1000 == 999 {
			name += "-" + strings.Repeat("harbour", 41)
		}
		accounts[i] = estate.Account{StableID: fmt.Sprint(i), Name: name, DN: "CN=" + name + ",OU=Service Accounts,DC=larkmoor,DC=example", Type: "user", Enabled: estate.Yes, PasswordChanged: time.Date(2026, 1, 1, 0, i, 0, 0, time.UTC)}
	}
	seen := store.NewSeen()
	require.NoError(t, s.PutAccounts(ctx, directory, accounts, seen, &records.Tally{}))
	for h := range 50 {
		host, err := s.AddSystem(ctx, records.System{Name: fmt.Sprintf("quay%02d", h), Kind: "unix-host", Address: fmt.Sprintf("192.0.2.%d", 10+h), Port: 22})
		require.NoError(t, err)
		var units []estate.Dependent
		for i := range 10 {
			units = append(units, estate.Dependent{Kind: estate.DependentUnit, Place: fmt.Sprintf("berth%d.service", i), Name: fmt.Sprintf("berth%d.service", i), RunsAs: "svc-00000", State: "active"})
		}
		require.NoError(t, s.PutDependents(ctx, host, units, store.NewSeen(), &records.Tally{}))
	}
	list := map[records.DependentID][]ties.Tie{}
	for id := range 500 {
		list[records.DependentID(id+1)] = []ties.Tie{{Account: "1", Evidence: estate.Configured, Strength: estate.StrengthRunsAs, Detail: "runs as svc-00000"}}
	}
	require.NoError(t, s.PutTies(ctx, list))
	require.NoError(t, s.Close())
	require.NoError(t, u.StartService(ctx, 0))
	return u
}

// TestConsoleWithMany: a list of 10,000 is paged, filtered and sorted by the service; what
// is long is cut and not broken; a radius of 500 is drawn with a map of the whole, and can
// be walked by keys.
func TestConsoleWithMany(t *testing.T) {
	t.Parallel()
	u := large(t)
	b := newBrowser(t, u.URL)
	b.open("/", "Sign in")
	b.fill("input[autocomplete=username]", "ines")
	b.fill("input[type=password]", strings.TrimSpace(readFile(t, u.File("user.pw"))))
	b.press("Sign in")
	b.see("Overview")

	rows := func() int {
		return evaluate[int](b, "document.querySelectorAll('tbody tr.ant-table-row').length")
	}
	within := func(what string) {
		b.settle()
		wide := evaluate[int](b, "document.documentElement.scrollWidth - document.documentElement.clientWidth")
		assert.LessOrEqual(t, wide, 1, "%s scrolls sideways", what)
		high := evaluate[int](b, "Math.max(...[...document.querySelectorAll('tbody tr.ant-table-row')].map(r => r.offsetHeight))")
		assert.Less(t, high, 50, "%s: a row breaks", what)
	}
	b.open("/accounts", "1–50 of 1,000 or more")
	assert.Equal(t, 50, rows())
	b.press("Next")
	b.see("51–100 of 1,000 or more")
	b.press("Previous")
	b.see("1–50 of 1,000 or more")
	b.open("/accounts?f=name~09999", "1–1 of 1")
	within("the longest name")
	b.accessible("the longest name")
	b.open("/accounts?sort=-name", "svc-09998")
	within("sorted")
	b.open("/accounts?f=name*=svc-09*", "1–50 of 1,000")
	b.do(chromedp.EmulateViewport(390, 844))
	b.open("/accounts?f=name~09999", "1–1 of 1")
	b.settle()
	assert.LessOrEqual(t, evaluate[int](b, "document.documentElement.scrollWidth - document.documentElement.clientWidth"), 1, "the longest name in a hand")
	b.do(chromedp.EmulateViewport(1280, 800))

	b.open("/accounts/1/radius", "500 dependents")
	b.settle()
	b.accessible("a radius of 500")
	b.shot("many-radius")
	assert.NotZero(t, evaluate[int](b, "[...document.querySelectorAll('canvas')].filter(c => c.width > 100).length"), "it is drawn")
	assert.Equal(t, 1, evaluate[int](b, "document.querySelectorAll('.map img').length"), "the map of the whole is there")
	evaluate[bool](b, "document.querySelector('.graph').focus(); true")
	said := func() string {
		return evaluate[string](b, "document.querySelector('.graph').parentElement.querySelector('[aria-live]').innerText")
	}
	b.do(chromedp.KeyEvent(kb.ArrowDown))
	b.settle()
	first := said()
	assert.NotEmpty(t, first, "what the keys stand on is told")
	b.do(chromedp.KeyEvent(kb.ArrowRight))
	b.settle()
	assert.NotEqual(t, first, said(), "the next key goes on")
	t.Logf("radius of 500: painted after %.0f ms, all there after %.0f ms", evaluate[float64](b, "performance.getEntriesByName('first-contentful-paint')[0].startTime"), evaluate[float64](b, "performance.now()"))
}

func readFile(t *testing.T, name string) string {
	t.Helper()
	raw, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(raw)
}
