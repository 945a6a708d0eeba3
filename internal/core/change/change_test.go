package change

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

func TestAccounts(t *testing.T) {
	day := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	was := estate.Account{Name: "svc-berth", Enabled: "yes", Groups: []string{"berthing", "backup"}, PasswordChanged: day, LastLogOn: day}
	for _, c := range []struct {
		what  string
		now   func(*estate.Account)
		words string
	}{
		{"nothing", func(*estate.Account) {}, ""},
		{"use is no change", func(a *estate.Account) { a.LastLogOn = day.Add(time.Hour) }, ""},
		{"another order is none", func(a *estate.Account) { a.Groups = []string{"backup", "berthing"} }, ""},
		{"the same moment in another zone is none", func(a *estate.Account) { a.PasswordChanged = day.In(time.FixedZone("", 3600)) }, ""},
		{"memberships", func(a *estate.Account) { a.Groups = []string{"berthing", "operators"} }, "groups: now with operators, without backup"},
		{"a password", func(a *estate.Account) { a.PasswordChanged = day.AddDate(0, 0, 2) }, "password changed: 2026-11-01T08:00:00Z → 2026-11-03T08:00:00Z"},
		{"an end that was not there", func(a *estate.Account) { a.AccountExpires = day }, "account expires: nothing → 2026-11-01T08:00:00Z"},
		{"several", func(a *estate.Account) { a.Enabled, a.NeverExpire = "no", true }, "enabled: yes → no; never expires: no → yes"},
	} {
		now := was
		c.now(&now)
		assert.Equal(t, c.words, Words(Accounts(was, now)), c.what)
	}
}

// No fingerprint of a value is told, in any direction: only that there is another one.
func TestDependents(t *testing.T) {
	held := func(fingerprint, format string) estate.Dependent {
		return estate.Dependent{Kind: estate.DependentFile, Place: "/etc/berth.env#P", State: "x", Copy: &estate.Copy{Format: format, Fingerprint: fingerprint, Line: 3}}
	}
	for _, c := range []struct {
		what     string
		was, now estate.Dependent
		words    string
	}{
		{"a state is none", estate.Dependent{State: "running"}, estate.Dependent{State: "failed", Result: "1", Started: time.Unix(1, 0)}, ""},
		{"a line further down is none", held("aa", "env"), func() estate.Dependent { d := held("aa", "env"); d.Copy.Line = 9; return d }(), ""},
		{"another value", held("fp-1", "env"), held("fp-2", "env"), "value: one value → another value"},
		{"a mention became a copy", held("", "mention"), held("fp-2", "env"), "value: only a mention → another value"},
		{"not readable any more", held("fp-1", "env"), held("", "env"), "value: one value → not read"},
		{"a kept log-on", estate.Dependent{Stored: "fp-1"}, estate.Dependent{Stored: "fp-2"}, "value: one value → another value"},
		{"a kept log-on that was not shown before", estate.Dependent{}, estate.Dependent{Stored: "fp-2"}, ""},
		{"somebody else's account", estate.Dependent{RunsAs: "svc-berth"}, estate.Dependent{RunsAs: "odile"}, "runs as: svc-berth → odile"},
		{"what it reads", estate.Dependent{Uses: []string{"/a"}}, estate.Dependent{Uses: []string{"/a", "/b"}, After: []string{"db.service"}}, "uses: now with /b; starts after: now with db.service"},
		{"a key", estate.Dependent{Key: &estate.Key{Fingerprint: "SHA256:a", Mode: "600", Version: 3}}, estate.Dependent{Key: &estate.Key{Fingerprint: "SHA256:b", Mode: "644"}}, "fingerprint: SHA256:a → SHA256:b; mode: 600 → 644; key version: 3 → nothing"},
		{"of another kind", held("fp-1", "env"), estate.Dependent{Kind: estate.DependentFile, Place: "/etc/berth.env#P"}, ""},
	} {
		fields := Dependents(c.was, c.now)
		assert.Equal(t, c.words, Words(fields), c.what)
		raw, err := json.Marshal(fields)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "fp-", c.what)
	}
}

func TestSystems(t *testing.T) {
	fields := Systems(map[string]string{"address": "192.0.2.7", "site": "north", "option base": "DC=larkmoor"}, map[string]string{"address": "192.0.2.8", "site": "north", "port": "2022"})
	assert.Equal(t, "address: 192.0.2.7 → 192.0.2.8; option base: DC=larkmoor → nothing; port: nothing → 2022", Words(fields))
}

// TestFold: whatever happens to a thing in whatever order, the changes put together are
// those of the first look and the last one.
func TestFold(t *testing.T) {
	for seed := range uint64(4000) {
		random := rand.New(rand.NewPCG(seed, 1))
		account := func() *estate.Account {
			a := &estate.Account{Enabled: estate.Tristate([]string{"yes", "no"}[random.IntN(2)]), Owner: []string{"", "ines", "data team"}[random.IntN(3)]}
			for _, g := range []string{"berthing", "backup", "operators"} {
				if random.IntN(2) == 0 {
					a.Groups = append(a.Groups, g)
				}
			}
			return a
		}
		var last *estate.Account // the row as it was before it vanished
		there, wasThere := false, random.IntN(2) == 0
		var first estate.Account
		if wasThere {
			last, there = account(), true
			first = *last
		}
		existed := last != nil
		var what What
		var fields []Field
		known := false
		for range 1 + random.IntN(6) {
			var next What
			var more []Field
			switch {
			case there && random.IntN(3) == 0:
				next, there = Gone, false
			case there:
				now := account()
				if more = Accounts(*last, *now); len(more) == 0 {
					continue
				}
				next, last = Changed, now
			case existed:
				now := account()
				next, more, there = Back, Accounts(*last, *now), true
				last = now
			default:
				next, existed, there = New, true, true
				last = account()
			}
			if !known {
				what, fields, known = next, more, true
				continue
			}
			var none bool
			if what, fields, none = Fold(what, fields, next, more); none {
				what, fields, known = "", nil, false
			}
		}
		name := fmt.Sprintf("seed %d", seed)
		switch {
		case wasThere && there:
			expected := Accounts(first, *last)
			if len(expected) == 0 {
				require.False(t, known && len(fields) > 0, "%s: it is as it was: %v", name, fields)
				continue
			}
			require.Equal(t, Changed, what, name)
			require.Equal(t, sorted(expected), sorted(fields), name)
		case wasThere:
			require.Equal(t, Gone, what, name)
		case there:
			require.Contains(t, []What{New, Back}, what, name)
		default:
			require.False(t, known, "%s: it was not there before, and is not now", name)
		}
	}
}

func sorted(fields []Field) []Field {
	for i := range fields {
		slices.Sort(fields[i].Added)
		slices.Sort(fields[i].Removed)
	}
	slices.SortFunc(fields, func(a, b Field) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	out, _ := json.Marshal(fields)
	var plain []Field
	_ = json.Unmarshal(out, &plain)
	return plain
}
