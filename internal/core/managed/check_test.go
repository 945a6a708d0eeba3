package managed

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

func sound() Seen {
	return Seen{
		Now: noon, Controller: "tern.larkmoor.example", ControllerLevel: 7, DomainLevel: 7, ForestLevel: 7, Class: estate.Yes,
		Keys: []RootKey{{ID: "first", Created: noon.AddDate(-1, 0, 0), Begins: noon.AddDate(-1, 0, 0).Add(KeyDelay)}}, Container: "CN=Managed Service Accounts,DC=larkmoor,DC=example", MayCreate: estate.Yes,
		Account: &AccountSeen{
			Name: "gmsa-lockers$", Sort: SortGroup, Enabled: estate.Yes, Interval: 30, Encryption: 24, Changed: noon.AddDate(0, 0, -12),
			Permitted: []Entitled{{SID: "S-1-5-21-1-2-3-1200", Name: "Locker Hosts", Kind: "group"}},
		},
	}
}

func results(lines []Line) (out []Result) {
	for _, l := range lines {
		out = append(out, l.Result)
	}
	return out
}

// What is said of a directory, and that whatever is not met says what to do.
func TestPrerequisites(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Seen)
		want   []Result
		words  string // of the line that is not met
	}{
		"all is there":               {func(*Seen) {}, []Result{Met, Met, Met, Met}, ""},
		"an old schema":              {func(s *Seen) { s.Class = estate.No }, []Result{Missing, Met, Met, Met}, "no class"},
		"a schema that is hidden":    {func(s *Seen) { s.Class = estate.Unknown }, []Result{Unknown, Met, Met, Met}, "cannot be seen"},
		"an old controller":          {func(s *Seen) { s.ControllerLevel = 4 }, []Result{Met, Missing, Met, Met}, "tern.larkmoor.example is of level 4"},
		"a silent controller":        {func(s *Seen) { s.ControllerLevel, s.Controller = -1, "" }, []Result{Met, Unknown, Met, Met}, "the controller that answered"},
		"no root key":                {func(s *Seen) { s.Keys = nil }, []Result{Met, Met, Missing, Met}, "there is none"},
		"keys that are hidden":       {func(s *Seen) { s.Keys, s.KeysUnread = nil, "none is shown" }, []Result{Met, Met, Unknown, Met}, "none is shown"},
		"a key of this morning":      {func(s *Seen) { s.Keys = []RootKey{{"k", noon.Add(-3 * time.Hour), noon.Add(7 * time.Hour)}} }, []Result{Met, Met, Missing, Met}, "not used before 2026-11-30 19:00:00 UTC"},
		"one that was made to begin": {func(s *Seen) { s.Keys = []RootKey{{"k", noon.Add(-time.Hour), noon.Add(-11 * time.Hour)}} }, []Result{Met, Met, Missing, Met}, "before it was there"},
		"backdated long ago":         {func(s *Seen) { s.Keys = []RootKey{{"k", noon.Add(-11 * time.Hour), noon.Add(-21 * time.Hour)}} }, []Result{Met, Met, Met, Met}, ""},
		"one that begins next week":  {func(s *Seen) { s.Keys = []RootKey{{"k", noon.AddDate(0, 0, -9), noon.AddDate(0, 0, 7)}} }, []Result{Met, Met, Missing, Met}, "2026-12-07"},
		"a new one beside an old":    {func(s *Seen) { s.Keys = append(s.Keys, RootKey{"new", noon, noon.Add(KeyDelay)}) }, []Result{Met, Met, Met, Met}, ""},
		"a key of unknown age":       {func(s *Seen) { s.Keys = []RootKey{{ID: "k"}} }, []Result{Met, Met, Doubt, Met}, "does not tell when"},
		"a right that is missing":    {func(s *Seen) { s.MayCreate = estate.No }, []Result{Met, Met, Met, Missing}, "not in CN=Managed"},
		"a right that is not told":   {func(s *Seen) { s.MayCreate = estate.Unknown }, []Result{Met, Met, Met, Unknown}, "does not tell"},
		"a place that is not there":  {func(s *Seen) { s.ContainerUnread = "no such object (32)" }, []Result{Met, Met, Met, Missing}, "no such object"},
	} {
		s := sound()
		c.change(&s)
		lines := Prerequisites(s)
		assert.Equal(t, c.want, results(lines), name)
		for _, l := range lines {
			assert.Equal(t, l.Result != Met, l.Next != "", "%s: %+v", name, l)
			assert.NotEmpty(t, l.Words, "%s: %+v", name, l)
			if l.Result != Met {
				assert.Contains(t, l.Words, c.words, name)
			}
		}
	}
}

// A key that is too young is the one thing that waiting mends.
func TestAKeyThatIsTooYoung(t *testing.T) {
	s := sound()
	_, early := s.Early()
	assert.False(t, early, "one is in effect")
	s.Keys = []RootKey{{"k", noon.Add(-9 * time.Hour), noon.Add(time.Hour)}, {"later", noon, noon.Add(KeyDelay)}}
	at, early := s.Early()
	assert.True(t, early)
	assert.Equal(t, noon.Add(time.Hour), at)
	s.Now = at
	_, early = s.Early()
	assert.False(t, early, "its time has come, to the second")
	s.Keys = nil
	_, early = s.Early()
	assert.False(t, early, "there is none to wait for")
}

func TestAboutAccount(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*AccountSeen)
		want   []Result
	}{
		"sound":                      {func(*AccountSeen) {}, []Result{Met, Met, Met, Met}},
		"disabled":                   {func(a *AccountSeen) { a.Enabled = estate.No }, []Result{Missing, Met, Met, Met}},
		"perhaps disabled":           {func(a *AccountSeen) { a.Enabled = estate.Unknown }, []Result{Unknown, Met, Met, Met}},
		"no types set":               {func(a *AccountSeen) { a.Encryption = 0 }, []Result{Met, Doubt, Met, Met}},
		"old types only":             {func(a *AccountSeen) { a.Encryption = 4 }, []Result{Met, Missing, Met, Met}},
		"an old type besides":        {func(a *AccountSeen) { a.Encryption = 28 }, []Result{Met, Doubt, Met, Met}},
		"nobody is permitted":        {func(a *AccountSeen) { a.Permitted = nil }, []Result{Met, Met, Doubt, Met}},
		"everybody who signed in":    {func(a *AccountSeen) { a.Permitted = []Entitled{{SID: "S-1-5-11", Kind: "unknown"}} }, []Result{Met, Met, Missing, Met}},
		"all computers":              {func(a *AccountSeen) { a.Permitted = []Entitled{{SID: "S-1-5-21-1-2-3-515", Kind: "group"}} }, []Result{Met, Met, Missing, Met}},
		"a host by itself":           {func(a *AccountSeen) { a.Permitted[0].Kind = "computer" }, []Result{Met, Met, Doubt, Met}},
		"an interval that is hidden": {func(a *AccountSeen) { a.Interval = 0 }, []Result{Met, Met, Met, Unknown}},
		"never asked for":            {func(a *AccountSeen) { a.Changed = time.Time{} }, []Result{Met, Met, Met, Doubt}},
		"late":                       {func(a *AccountSeen) { a.Changed = noon.AddDate(0, 0, -40) }, []Result{Met, Met, Met, Doubt}},
	} {
		s := sound()
		c.change(s.Account)
		lines := AboutAccount(s)
		assert.Equal(t, c.want, results(lines), name)
		for _, l := range lines {
			assert.Equal(t, l.Result != Met, l.Next != "", "%s: %+v", name, l)
		}
	}
	s := sound()
	s.Account.Sort = SortSingle
	require.Len(t, AboutAccount(s), 1, "the older kind has neither group nor interval")
	assert.Equal(t, Unknown, AboutAccount(s)[0].Result)
	s.Account = nil
	assert.Empty(t, AboutAccount(s))
}

// A host learns its groups when it starts: what counts is which came first.
func TestAboutHost(t *testing.T) {
	host := func() *HostSeen {
		return &HostSeen{Name: "KIOSK4", Enabled: estate.Yes, Encryption: 24, Through: "Locker Hosts", Joined: noon.Add(-time.Hour)}
	}
	for name, c := range map[string]struct {
		h    OnHost
		want []Result
	}{
		"started after it joined":   {OnHost{Host: host(), System: "kiosk4", Booted: noon}, []Result{Met, Met, Met}},
		"started before":            {OnHost{Host: host(), System: "kiosk4", Booted: noon.Add(-2 * time.Hour)}, []Result{Met, Missing, Met}},
		"no system here":            {OnHost{Host: host()}, []Result{Met, Unknown, Met}},
		"never surveyed":            {OnHost{Host: host(), System: "kiosk4"}, []Result{Met, Unknown, Met}},
		"not permitted":             {OnHost{Name: "pier1", System: "pier1", Booted: noon}, []Result{Missing, Unknown, Unknown}},
		"its account is disabled":   {OnHost{Host: func() *HostSeen { h := host(); h.Enabled = estate.No; return h }(), Booted: noon}, []Result{Missing, Met, Met}},
		"permitted by itself":       {OnHost{Host: func() *HostSeen { h := host(); h.Through = ""; return h }(), Booted: noon.AddDate(-1, 0, 0)}, []Result{Met, Met, Met}},
		"joined at an unknown time": {OnHost{Host: func() *HostSeen { h := host(); h.Joined = time.Time{}; return h }(), Booted: noon}, []Result{Met, Unknown, Met}},
		"the group changed since":   {OnHost{Host: func() *HostSeen { h := host(); h.Joined, h.Latest = time.Time{}, noon; return h }(), Booted: noon.Add(-time.Minute)}, []Result{Met, Doubt, Met}},
		"the group changed before":  {OnHost{Host: func() *HostSeen { h := host(); h.Joined, h.Latest = time.Time{}, noon; return h }(), Booted: noon.Add(time.Minute)}, []Result{Met, Met, Met}},
		"no type in common":         {OnHost{Host: func() *HostSeen { h := host(); h.Encryption = 4; return h }(), Booted: noon}, []Result{Met, Met, Missing}},
		"types that are not set":    {OnHost{Host: func() *HostSeen { h := host(); h.Encryption = 0; return h }(), Booted: noon}, []Result{Met, Met, Doubt}},
	} {
		lines := AboutHost(*sound().Account, c.h)
		require.Len(t, lines, 4)
		assert.Equal(t, c.want, results(append(lines[:2:2], lines[3])), "%s: %+v", name, lines)
	}
	for version, want := range map[string]Result{"10.0.20348": Met, "6.2.9200": Met, "6.1.7601": Missing, "5.2": Missing, "": Unknown, "new": Unknown} {
		h := OnHost{System: "kiosk4", Kind: estate.KindWindowsHost, Version: version}
		assert.Equal(t, want, AboutHost(*sound().Account, h)[2].Result, version)
	}
	assert.Equal(t, Doubt, AboutHost(*sound().Account, OnHost{System: "quay1", Kind: estate.KindUnixHost, Version: "12"})[2].Result)
	assert.Equal(t, Unknown, AboutHost(*sound().Account, OnHost{Version: "10.0"})[2].Result, "it is no system here")
	a := *sound().Account
	hidden := a
	hidden.Permitted = nil
	assert.Equal(t, Unknown, AboutHost(hidden, OnHost{Name: "pier1"})[0].Result, "who may is perhaps hidden")
	a.Partly = "it has more members"
	assert.Equal(t, Unknown, AboutHost(a, OnHost{Name: "pier1"})[0].Result, "what was not read is not missing")
}

func TestEncryptionWords(t *testing.T) {
	assert.Equal(t, "RC4-HMAC, AES128, AES256", Encryption(28).Words())
	assert.Equal(t, "not set: the directory decides", Encryption(0).Words())
	assert.Equal(t, Encryption(7), Encryption(31).Old())
	assert.Equal(t, Encryption(24), EncryptionGood)
}
