package findings

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// now is the clock of these tests.
var now = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func ago(hours int) time.Time { return now.Add(-time.Duration(hours) * time.Hour) }

// on makes a snapshot of a host with dependents, numbered from 1.
func on(change func(*SystemSnapshot), dependents ...estate.Dependent) *SystemSnapshot {
	s := &SystemSnapshot{Now: now, System: records.System{ID: 9, Name: "quay1", Kind: "unix-host"}, Ties: map[records.DependentID][]ties.Tie{}, Unplaced: map[records.DependentID][]ties.Unplaced{}, Accounts: map[records.AccountID]records.Account{}, Current: map[records.AccountID]string{}}
	for i, d := range dependents {
		s.Dependents = append(s.Dependents, records.Dependent{ID: records.DependentID(i + 1), Dependent: d, System: "quay1", SystemID: 9})
	}
	if change != nil {
		change(s)
	}
	return s
}

// tied ties dependent n to account 1.
func tied(n records.DependentID, strength estate.Strength) func(*SystemSnapshot) {
	return func(s *SystemSnapshot) {
		evidence := estate.Held
		if strength == estate.StrengthRunsAs {
			evidence = estate.Configured
		}
		s.Ties[n] = append(s.Ties[n], ties.Tie{Account: "1", Evidence: evidence, Strength: strength, Detail: string(strength)})
	}
}

// changed is account 1, whose password was changed some hours ago; current is the
// fingerprint of what is in custody, "" for none.
func changed(hours int, current string) func(*SystemSnapshot) {
	return func(s *SystemSnapshot) {
		s.Accounts[1] = records.Account{ID: 1, Account: estate.Account{Name: "svc-berth", PasswordChanged: ago(hours)}, Custody: current != ""}
		if current != "" {
			s.Current[1] = current
		}
	}
}

func all(changes ...func(*SystemSnapshot)) func(*SystemSnapshot) {
	return func(s *SystemSnapshot) {
		for _, c := range changes {
			c(s)
		}
	}
}

func service(change func(*estate.Dependent)) estate.Dependent {
	d := estate.Dependent{Kind: estate.DependentService, Place: "Berth", RunsAs: `LARKMOOR\svc-berth`, State: "running", StartMode: "automatic", Stores: true, Started: ago(10)}
	if change != nil {
		change(&d)
	}
	return d
}

func unit(state string) estate.Dependent {
	return estate.Dependent{Kind: estate.DependentUnit, Place: "berth.service", State: state, StartMode: "enabled", Uses: []string{"/etc/berth.env"}, Started: ago(10)}
}

func file(path string) estate.Dependent {
	return estate.Dependent{Kind: estate.DependentFile, Place: path + "#P", Path: path, Copy: &estate.Copy{Format: "env", Key: "P", Fingerprint: "f"}}
}

func key(kind estate.DependentKind, k estate.Key) estate.Dependent {
	return estate.Dependent{Kind: kind, Place: "/k", Path: "/k", Key: &k}
}

func process(change func(*estate.Dependent)) estate.Dependent {
	d := estate.Dependent{Kind: estate.DependentProcess, Place: "41", Path: "/opt/berth/run", Description: "started by hand", Copy: &estate.Copy{Format: "environment", Key: "P"}}
	if change != nil {
		change(&d)
	}
	return d
}

// swapped tells of a dependent whose account somebody changed; the latest is told first.
func swapped(n records.DependentID, from, to string) func(*SystemSnapshot) {
	return func(s *SystemSnapshot) {
		s.Swapped = append(s.Swapped, records.SeenChange{ID: 31, DependentID: n, At: ago(3), Fields: []change.Field{{Name: "executable", From: "a", To: "b"}, {Name: change.FieldRunsAs, From: from, To: to}}})
	}
}

// web reads a certificate and keys.
var web = estate.Dependent{Kind: estate.DependentUnit, Place: "web.service", Name: "web.service", State: "active", Uses: []string{"/etc/site.pem", "/etc/site.key", "/etc/other.key"}}

func leafIn(path string, of estate.Key) estate.Dependent {
	return estate.Dependent{Kind: estate.DependentCertificate, Place: path + "#certificate 1", Path: path, Key: &of}
}

func keyIn(path, public string) estate.Dependent {
	return estate.Dependent{Kind: estate.DependentKey, Place: path, Path: path, Key: &estate.Key{Public: public, Mode: "600"}}
}

func port(of estate.Key) estate.Dependent {
	return estate.Dependent{Kind: estate.DependentShown, Place: "0.0.0.0:8443", Key: &of, Requires: []string{"web.service"}}
}

// systemCases are snapshots with the findings that follow: kind, severity, account.
var systemCases = map[string]struct {
	snapshot *SystemSnapshot
	want     []string
}{
	"nothing": {on(nil), nil},
	"a service whose account is nowhere": {on(func(s *SystemSnapshot) {
		s.Unplaced[1] = []ties.Unplaced{{Text: "svc-gone", State: naming.Unknown, Why: "no such"}}
	}, service(nil)), []string{"unplaced-reference high 0"}},
	"a name that several have": {on(func(s *SystemSnapshot) {
		s.Unplaced[1] = []ties.Unplaced{{Text: "svc", State: naming.Ambiguous, Why: "two"}}
	}, service(nil)), []string{"unplaced-reference medium 0"}},
	"a copy that names nobody known": {on(func(s *SystemSnapshot) {
		s.Unplaced[1] = []ties.Unplaced{{Text: "svc", State: naming.Unknown, Why: "no such"}}
	}, file("/etc/x")), []string{"unplaced-reference low 0"}},
	"a copy that is not the current value":  {on(tied(1, estate.StrengthDiffers), file("/etc/x")), []string{"stale-copy medium 1"}},
	"a copy that is the current value":      {on(tied(1, estate.StrengthMatches), file("/etc/x")), nil},
	"stored is not current":                 {on(all(tied(1, estate.StrengthRunsAs), changed(20, "new")), service(func(d *estate.Dependent) { d.Stored = "old" })), []string{"latent-breakage high 1"}},
	"stored is current, started before":     {on(all(tied(1, estate.StrengthRunsAs), changed(5, "new")), service(func(d *estate.Dependent) { d.Stored = "new" })), []string{"runs-on-old medium 1"}},
	"stored is current, started after":      {on(all(tied(1, estate.StrengthRunsAs), changed(20, "new")), service(func(d *estate.Dependent) { d.Stored = "new" })), nil},
	"nobody knows what is stored, before":   {on(all(tied(1, estate.StrengthRunsAs), changed(5, "")), service(nil)), []string{"latent-breakage high 1"}},
	"within the margin of clocks":           {on(all(tied(1, estate.StrengthRunsAs), changed(10, "")), service(func(d *estate.Dependent) { d.Started = ago(10).Add(-2 * time.Second) })), nil},
	"the host's clock is ahead":             {on(all(tied(1, estate.StrengthRunsAs), changed(10, ""), func(s *SystemSnapshot) { s.System.Facts.ClockOff = time.Hour }), service(nil)), []string{"latent-breakage high 1"}},
	"it does not store a password":          {on(all(tied(1, estate.StrengthRunsAs), changed(5, "new")), service(func(d *estate.Dependent) { d.Stores = false })), nil},
	"an account that was removed meanwhile": {on(tied(1, estate.StrengthRunsAs), service(nil)), nil},
	"given from here, and current":          {on(all(tied(1, estate.StrengthRunsAs), changed(20, "new"), func(s *SystemSnapshot) { s.Dependents[0].Given, s.Dependents[0].GivenTo = "new", 1 }), service(nil)), nil},
	"given from here, for another account":  {on(all(tied(1, estate.StrengthRunsAs), changed(5, "new"), func(s *SystemSnapshot) { s.Dependents[0].Given, s.Dependents[0].GivenTo = "new", 2 }), service(nil)), []string{"latent-breakage high 1"}},
	"a unit reads another value":            {on(all(tied(2, estate.StrengthDiffers), changed(20, "new")), unit("active"), file("/etc/berth.env")), []string{"latent-breakage high 1", "stale-copy medium 1"}},
	"a unit that is down reads it":          {on(all(tied(2, estate.StrengthDiffers), changed(20, "new")), unit("inactive"), file("/etc/berth.env")), []string{"stale-copy medium 1"}},
	"it reads the right one beside it": {on(all(tied(2, estate.StrengthDiffers), tied(3, estate.StrengthMatches), changed(20, "new"), func(s *SystemSnapshot) { s.Dependents[0].Uses = append(s.Dependents[0].Uses, "/etc/other") }),
		unit("active"), file("/etc/berth.env"), file("/etc/other")), []string{"stale-copy medium 1"}},
	"its file is right, it runs since before":  {on(all(tied(2, estate.StrengthMatches), changed(5, "new")), unit("active"), file("/etc/berth.env")), []string{"runs-on-old medium 1"}},
	"changed elsewhere, its file is not right": {on(all(tied(2, estate.StrengthMatches), changed(5, "")), unit("active"), file("/etc/berth.env")), []string{"latent-breakage high 1"}},
	"down":                   {on(nil, service(func(d *estate.Dependent) { d.State, d.Result = "stopped", "1069: log-on failure" })), []string{"down high 0"}},
	"down after another":     {on(tied(1, estate.StrengthRunsAs), service(func(d *estate.Dependent) { d.State, d.Result = "stopped", "1068: dependency" })), []string{"down medium 1"}},
	"never started":          {on(nil, service(func(d *estate.Dependent) { d.State, d.Result = "stopped", "1077: never tried" })), nil},
	"started by people only": {on(nil, service(func(d *estate.Dependent) { d.State, d.Result, d.StartMode = "stopped", "1069", "manual" })), nil},
	"a key tab of before": {on(all(tied(1, estate.StrengthMatches), func(s *SystemSnapshot) {
		s.Accounts[1] = records.Account{ID: 1, Account: estate.Account{KeyVersion: 4}}
	}), key(estate.DependentKeytab, estate.Key{Version: 3, Mode: "600"})), []string{"stale-key-tab high 1"}},
	"a key tab of now": {on(all(tied(1, estate.StrengthMatches), func(s *SystemSnapshot) {
		s.Accounts[1] = records.Account{ID: 1, Account: estate.Account{KeyVersion: 3}}
	}), key(estate.DependentKeytab, estate.Key{Version: 3, Mode: "600"})), nil},
	"a key tab others read":   {on(nil, key(estate.DependentKeytab, estate.Key{Mode: "640", Encryption: []string{"rc4-hmac", "aes256-cts-hmac-sha1-96"}})), []string{"exposed-key high 0", "weak-key medium 0"}},
	"a key others read":       {on(nil, key(estate.DependentKey, estate.Key{Type: "ssh-ed25519", Mode: "644"})), []string{"exposed-key high 0"}},
	"with a passphrase":       {on(nil, key(estate.DependentKey, estate.Key{Type: "ssh-ed25519", Mode: "644", Encrypted: true})), nil},
	"a weak key":              {on(nil, key(estate.DependentKey, estate.Key{Type: "ssh-rsa", Bits: 1024, Mode: "600"})), []string{"weak-key medium 0"}},
	"a good key":              {on(nil, key(estate.DependentKey, estate.Key{Type: "ssh-rsa", Bits: 3072, Mode: "600"})), nil},
	"a certificate that ends": {on(nil, key(estate.DependentKey, estate.Key{Public: "p", Mode: "600"}), key(estate.DependentCertificate, estate.Key{Public: "p", Ends: now.Add(72 * time.Hour)})), []string{"certificate-ends medium 0"}},
	"that ended":              {on(nil, key(estate.DependentKey, estate.Key{Public: "p", Mode: "600"}), key(estate.DependentCertificate, estate.Key{Public: "p", Ends: ago(1)})), []string{"certificate-ended high 0"}},
	"of somebody else":        {on(nil, key(estate.DependentCertificate, estate.Key{Public: "p", Ends: ago(1)})), nil},
	"long valid":              {on(nil, key(estate.DependentKey, estate.Key{Public: "p", Mode: "600"}), key(estate.DependentCertificate, estate.Key{Public: "p", Ends: now.Add(90 * 24 * time.Hour)})), nil},
	"behind a port":           {on(nil, key(estate.DependentShown, estate.Key{Public: "p", Ends: now.Add(72 * time.Hour)})), []string{"certificate-ends high 0"}},
	"behind a port, later":    {on(nil, key(estate.DependentShown, estate.Key{Public: "p", Ends: now.Add(20 * 24 * time.Hour)})), []string{"certificate-ends medium 0"}},
	"behind a port and in its file, told once": {on(nil, key(estate.DependentKey, estate.Key{Public: "p", Mode: "600"}), key(estate.DependentCertificate, estate.Key{Public: "p", Ends: ago(1)}), key(estate.DependentShown, estate.Key{Public: "p", Ends: ago(1)})), []string{"certificate-ended high 0"}},
	"not good yet":            {on(nil, key(estate.DependentShown, estate.Key{Public: "p", Begins: now.Add(time.Hour), Ends: now.Add(90 * 24 * time.Hour)})), []string{"certificate-wrong high 0"}},
	"out of order":            {on(nil, leafIn("/etc/site.pem", estate.Key{Public: "p", Ends: now.Add(90 * 24 * time.Hour), Trouble: "the chain is not in its order"})), []string{"certificate-wrong medium 0"}},
	"not read again":          {on(nil, web, key(estate.DependentKey, estate.Key{Public: "p", Mode: "600"}), leafIn("/etc/site.pem", estate.Key{Subject: "CN=site", Public: "p", Begins: ago(1), Ends: now.Add(90 * 24 * time.Hour)}), port(estate.Key{Subject: "CN=site", Public: "o", Begins: ago(24 * 60), Ends: now.Add(40 * 24 * time.Hour)})), []string{"certificate-not-loaded medium 0"}},
	"read again":              {on(nil, web, key(estate.DependentKey, estate.Key{Public: "p", Mode: "600"}), leafIn("/etc/site.pem", estate.Key{Subject: "CN=site", Public: "p", Begins: ago(1), Ends: now.Add(90 * 24 * time.Hour)}), port(estate.Key{Subject: "CN=site", Public: "p", Begins: ago(1), Ends: now.Add(90 * 24 * time.Hour)})), nil},
	"another site's":          {on(nil, web, leafIn("/etc/site.pem", estate.Key{Subject: "CN=other", Public: "p", Begins: ago(1), Ends: now.Add(90 * 24 * time.Hour)}), port(estate.Key{Subject: "CN=site", Public: "o", Begins: ago(24 * 60), Ends: now.Add(40 * 24 * time.Hour)})), nil},
	"a key that does not fit": {on(nil, web, keyIn("/etc/site.key", "other"), leafIn("/etc/site.pem", estate.Key{Public: "p", Ends: now.Add(90 * 24 * time.Hour)})), []string{"certificate-misfit high 0"}},
	"a key that fits":         {on(nil, web, keyIn("/etc/site.key", "p"), leafIn("/etc/site.pem", estate.Key{Public: "p", Ends: now.Add(90 * 24 * time.Hour)})), nil},
	"a key of something else beside one that fits": {on(nil, web, keyIn("/etc/site.key", "p"), keyIn("/etc/other.key", "o"), leafIn("/etc/site.pem", estate.Key{Public: "p", Ends: now.Add(90 * 24 * time.Hour)})), nil},
	"on a command line":                            {on(tied(1, estate.StrengthMatches), process(func(d *estate.Dependent) { d.Copy.Format = "arguments" })), []string{"secret-in-arguments high 1"}},
	"a process on an old one":                      {on(tied(1, estate.StrengthDiffers), process(func(d *estate.Dependent) { d.Requires = []string{"berth.service"} })), []string{"runs-on-old high 1"}},
	"its account was swapped":                      {on(swapped(1, "svc-berth", "odile"), service(func(d *estate.Dependent) { d.RunsAs = "odile" })), []string{"log-on-changed medium 0"}},
	"swapped twice, told once":                     {on(all(swapped(1, "svc-tide", "odile"), swapped(1, "svc-berth", "svc-tide")), service(func(d *estate.Dependent) { d.RunsAs = "odile" })), []string{"log-on-changed medium 0"}},
	"swapped and put back":                         {on(all(swapped(1, "odile", "svc-berth"), swapped(1, "svc-berth", "odile")), service(func(d *estate.Dependent) { d.RunsAs = "svc-berth" })), nil},
	"swapped between the machine's own":            {on(swapped(1, "LocalSystem", "NT AUTHORITY\\LocalService"), service(func(d *estate.Dependent) { d.RunsAs = "NT AUTHORITY\\LocalService" })), nil},
	"swapped, and it is gone":                      {on(swapped(7, "svc-berth", "odile")), nil},
	"a named one in place of nobody":               {on(swapped(1, "", "odile"), service(func(d *estate.Dependent) { d.RunsAs = "odile" })), []string{"log-on-changed medium 0"}},
	"started by hand":                              {on(tied(1, estate.StrengthMatches), process(nil)), []string{"started-by-hand medium 1"}},
	"by hand, with a file":                         {on(tied(2, estate.StrengthMatches), process(func(d *estate.Dependent) { d.Copy, d.Uses = nil, []string{"/etc/x"} }), file("/etc/x")), []string{"started-by-hand medium 1"}},
	"a program of its unit":                        {on(tied(1, estate.StrengthMatches), process(func(d *estate.Dependent) { d.Description, d.Requires = "", []string{"berth.service"} })), nil},
}

func lines(list []records.Finding) []string {
	var out []string
	for _, f := range list {
		out = append(out, f.Kind+" "+f.Severity+" "+string(rune('0'+f.AccountID)))
	}
	slices.Sort(out)
	return out
}

// whole: a finding says what, where, and what to do, under a key of its scope.
func whole(t *testing.T, name, scope string, list []records.Finding, raised map[string]bool) {
	t.Helper()
	keys := map[string]bool{}
	for _, f := range list {
		assert.True(t, strings.HasPrefix(f.Key, scope), "%s: %s", name, f.Key)
		assert.False(t, keys[f.Key], "%s: two findings %s", name, f.Key)
		keys[f.Key] = true
		for what, text := range map[string]string{"kind": f.Kind, "severity": f.Severity, "subject": f.Subject, "what": f.What, "next": f.Next} {
			assert.NotEmpty(t, text, "%s: %s has no %s", name, f.Key, what)
		}
		raised[f.Kind] = true
	}
}

// TestSystemRules holds every rule about a system against snapshots; every kind that
// a rule names is raised by one.
func TestSystemRules(t *testing.T) {
	raised := map[string]bool{}
	for name, c := range systemCases {
		var got []records.Finding
		for i, rule := range systemRules {
			list := rule.Evaluate(c.snapshot)
			for _, f := range list {
				assert.Contains(t, rule.Kinds, f.Kind, "rule %d", i)
			}
			got = append(got, list...)
		}
		assert.Equal(t, c.want, lines(got), name)
		whole(t, name, "place/9/", got, raised)
	}
	for _, rule := range systemRules {
		for _, kind := range rule.Kinds {
			assert.True(t, raised[kind], "no snapshot raises %s", kind)
		}
	}
}

func estateCases() map[string]struct {
	snapshot EstateSnapshot
	want     []string
} {
	used := func(change func(*records.Account)) EstateSnapshot {
		a := records.Account{ID: 1, System: "dir", Kind: "directory", Dependents: 2, Account: estate.Account{Name: "svc-berth", Enabled: estate.Yes, Locked: estate.No, PasswordChanged: ago(48)}}
		change(&a)
		return EstateSnapshot{Used: []records.Account{a}}
	}
	return map[string]struct {
		snapshot EstateSnapshot
		want     []string
	}{
		"nothing":                  {EstateSnapshot{}, nil},
		"a system is read":         {EstateSnapshot{Systems: []records.System{{ID: 1, Name: "quay1", State: "ok"}}}, nil},
		"it is away":               {EstateSnapshot{Systems: []records.System{{ID: 1, Name: "quay1", State: "failed", StateWords: "refused"}}}, []string{"unread-system medium 0"}},
		"it is read in part":       {EstateSnapshot{Systems: []records.System{{ID: 1, Name: "quay1", State: "incomplete", StateWords: "files"}}}, []string{"unread-system low 0"}},
		"many vanished":            {EstateSnapshot{Held: []records.HeldScope{{SystemID: 1, System: "dir", Scope: "accounts", Why: "80 vanished"}}}, []string{"absence high 0"}},
		"one password for two":     {EstateSnapshot{Reused: []records.Reuse{{Fingerprint: "f", Accounts: []string{"a", "b"}, AccountID: 1, System: "dir", Places: []string{"1", "2", "3", "4", "5", "6"}}}}, []string{"reused-password medium 1"}},
		"a key with doors":         {EstateSnapshot{Keys: []records.KeyUse{{Fingerprint: "k", Name: "backup", System: "quay1", Doors: []string{"a", "b"}}}}, []string{"key-with-doors medium 0"}},
		"nobody holds it":          {EstateSnapshot{Keys: []records.KeyUse{{Fingerprint: "k", Name: "odile", System: "quay1", Doors: []string{"a"}}}}, []string{"unheld-key low 0"}},
		"one door, one holder":     {EstateSnapshot{Keys: []records.KeyUse{{Fingerprint: "k", Doors: []string{"a"}, Holders: []string{"h"}}}}, nil},
		"said until yesterday":     {EstateSnapshot{Declarations: []records.Declaration{{ID: 3, AccountID: 1, Account: "a", Place: "the kiosk", SaidBy: "ines", Until: ago(24)}}}, []string{"declaration-ended medium 1"}},
		"said for good":            {EstateSnapshot{Declarations: []records.Declaration{{ID: 3, AccountID: 1, Account: "a", Place: "the kiosk"}, {ID: 4, Until: now.Add(time.Hour)}}}, nil},
		"nothing uses it":          {EstateSnapshot{Unused: []records.Account{{ID: 1, Account: estate.Account{Name: "svc-old", LastLogOn: ago(5000)}}}, Coverage: picture.Coverage{Systems: 2, Incomplete: []picture.Uncovered{{System: "quay1"}}}}, []string{"unused-account low 1"}},
		"gone":                     {used(func(a *records.Account) { a.Gone = ago(1) }), []string{"account-gone high 1"}},
		"disabled":                 {used(func(a *records.Account) { a.Enabled = estate.No }), []string{"account-disabled high 1"}},
		"used, and it rests":       {used(func(a *records.Account) { a.Enabled, a.Kind, a.Verdict = estate.No, "postgresql", "rests" }), []string{"account-disabled high 1"}},
		"unused, and it rests":     {EstateSnapshot{Unused: []records.Account{{ID: 1, Verdict: "rests"}}}, nil},
		"a host's own, disabled":   {used(func(a *records.Account) { a.Enabled, a.Kind = estate.No, "unix-host" }), nil},
		"locked":                   {used(func(a *records.Account) { a.Locked = estate.Yes }), []string{"account-locked high 1"}},
		"ended":                    {used(func(a *records.Account) { a.AccountExpires = ago(1) }), []string{"account-expired high 1"}},
		"ends tomorrow":            {used(func(a *records.Account) { a.AccountExpires = now.Add(24 * time.Hour) }), nil},
		"password expired":         {used(func(a *records.Account) { a.PasswordExpires = ago(1) }), []string{"password-expired high 1"}},
		"never expires":            {used(func(a *records.Account) { a.NeverExpire, a.PasswordExpires = true, ago(1) }), []string{"never-expires low 1"}},
		"another one of that name": {EstateSnapshot{Replaced: []records.ReplacedAccount{{NewID: 1, OldID: 2, Name: "svc", System: "dir", Gone: ago(9), First: ago(8), Custody: true}}}, []string{"account-replaced high 1"}},
		"it ends in ten days":      {EstateSnapshot{Ends: []records.EndRow{{ID: 2, What: expiry.Account, Name: "svc", System: "dir", AccountID: 1, State: expiry.Ends, At: now.AddDate(0, 0, 10)}}}, []string{"ends-soon medium 1"}},
		"an entry has ended":       {EstateSnapshot{Ends: []records.EndRow{{ID: -3, What: expiry.Key, Name: "backup", System: "quay1", DependentID: 3, State: expiry.Ended}}}, []string{"ended high 0"}},
		"older than it may be":     {EstateSnapshot{Policies: []records.Policy{{Label: "x", PolicySettings: records.PolicySettings{MaxAgeDays: 1}}}, Used: []records.Account{{ID: 1, System: "dir", Labels: []string{"x"}, Account: estate.Account{Name: "svc", PasswordChanged: ago(48)}}}}, []string{"password-too-old medium 1"}},
		"idle for longer":          {EstateSnapshot{Policies: []records.Policy{{Label: "x", PolicySettings: records.PolicySettings{IdleDays: 1}}}, Used: []records.Account{{ID: 1, System: "dir", Labels: []string{"x"}, Account: estate.Account{Name: "svc", LastLogOn: ago(48)}}}}, []string{"idle-account medium 1"}},
		"kept and gone":            {EstateSnapshot{Lost: []records.Account{{ID: 1, Account: estate.Account{Name: "svc"}, System: "dir", Gone: ago(3)}}}, []string{"custody-gone high 1"}},
	}
}

// TestEstateRules does the same for rules about the picture as a whole.
func TestEstateRules(t *testing.T) {
	raised := map[string]bool{kindLimit: true}
	for name, c := range estateCases() {
		c.snapshot.Now = now
		var got []records.Finding
		for _, rule := range estateRules {
			list := rule.Evaluate(&c.snapshot)
			for _, f := range list {
				assert.Contains(t, rule.Kinds, f.Kind, rule.Scope)
			}
			whole(t, name, rule.Scope, list, raised)
			got = append(got, list...)
		}
		assert.Equal(t, c.want, lines(got), name)
	}
	scopes := map[string]bool{}
	for _, rule := range estateRules {
		assert.False(t, scopes[rule.Scope], "two rules in the scope %s", rule.Scope)
		scopes[rule.Scope] = true
		for _, kind := range rule.Kinds {
			assert.True(t, raised[kind], "no snapshot raises %s", kind)
		}
	}
}

// Lists that end before their end say so, and what a rule says of a time depends on
// its clock only.
func TestLimitsAndWords(t *testing.T) {
	many := EstateSnapshot{Now: now, Keys: make([]records.KeyUse, store.MostKeyUses), Unused: make([]records.Account, store.MostUnused)}
	for i := range many.Keys {
		many.Keys[i] = records.KeyUse{Doors: []string{"a"}, Holders: []string{"h"}}
	}
	for i := range many.Unused {
		many.Unused[i] = records.Account{ID: records.AccountID(i)}
	}
	assert.Equal(t, kindLimit, keysOfDoors(&many)[0].Kind)
	list := unusedAccounts(&many)
	assert.Equal(t, kindLimit, list[len(list)-1].Kind)

	uses := unexplainedUses([]picture.Unexplained{{Use: records.SeenUse{AccountID: 1, Account: "svc", Client: "192.0.2.7", System: "db"}, What: "w", Next: "n"}, {Use: records.SeenUse{AccountID: 1, Account: "svc", Client: "192.0.2.7", System: "db"}, Host: "quay1", What: "w", Next: "n"}}, true)
	require.Len(t, uses, 2, "once for each client")
	assert.Equal(t, "quay1", uses[0].System)
	assert.Equal(t, kindLimit, uses[1].Kind)

	for days, want := range map[int]string{0: "today", 1: "yesterday", 40: "40 days ago"} {
		assert.Equal(t, want, age(records.Account{Account: estate.Account{PasswordChanged: now.Add(-time.Duration(days) * 24 * time.Hour)}}, now))
	}
	assert.Equal(t, "at an unknown time", age(records.Account{}, now))
}

// What ends is told as long before as the policy of its label says, by the one that decides;
// what is too old or idle is told by it alone.
func TestWhatEnds(t *testing.T) {
	in := func(days int) time.Time { return now.AddDate(0, 0, days) }
	row := func(id int64, name string, what expiry.What, at time.Time, labels ...string) records.EndRow {
		v := records.EndRow{ID: records.EndID(id), What: what, Name: name, System: "dir", AccountID: records.AccountID(id), State: expiry.Ends, At: at, Labels: labels, Dependents: 2}
		v.Left = expiry.End{State: v.State, At: at}.Left(now)
		return v
	}
	entry := row(9, "of the tide", expiry.Key, in(-2))
	entry.AccountID, entry.DependentID = 0, 9
	s := &EstateSnapshot{
		Now:      now,
		Policies: []records.Policy{{Name: "boats", Label: "boats", PolicySettings: records.PolicySettings{LeadDays: 60, MaxAgeDays: 100, IdleDays: 10}}, {Name: "all"}, {Name: "short", Label: "short", PolicySettings: records.PolicySettings{LeadDays: 3}}},
		Ends: []records.EndRow{
			row(1, "svc-near", expiry.Password, in(5)), row(2, "svc-month", expiry.Account, in(20)), row(3, "svc-later", expiry.Account, in(40)), row(4, "svc-boat", expiry.Account, in(40), "boats", "short"),
			row(5, "svc-short", expiry.Account, in(5), "short"), row(6, "svc-over", expiry.Account, in(-1)), row(7, "tls", expiry.Certificate, in(5)), entry,
		},
		Used: []records.Account{
			{ID: 4, Labels: []string{"boats"}, Account: estate.Account{Name: "svc-boat", PasswordChanged: in(-101), LastLogOn: in(-11)}, System: "dir"},
			{ID: 1, Labels: []string{}, Account: estate.Account{Name: "svc-near", PasswordChanged: in(-1000), LastLogOn: in(-1000)}, System: "dir"},
		},
	}
	got := map[string]string{}
	for _, f := range whatEnds(s) {
		got[f.Subject+" "+f.Kind] = f.Severity
		assert.NotEmpty(t, f.Next)
	}
	assert.Equal(t, map[string]string{
		"svc-near ends-soon": "high", "svc-month ends-soon": "medium", "svc-boat ends-soon": "medium", "of the tide ended": "high",
		"svc-boat password-too-old": "medium", "svc-boat idle-account": "medium",
	}, got)
}
