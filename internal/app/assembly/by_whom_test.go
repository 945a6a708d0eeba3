package assembly_test

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/standin/windowshost"
)

// What somebody did behind our back is told with who it was, as far as the host's own
// journal has that: for an account itself, and for everything else who was there.
func TestByWhom(t *testing.T) {
	f := start(t)
	f.survey("bookings1")
	h := f.estate.Hosts["bookings1"]
	seen := func(filters ...string) []records.SeenChange {
		page, err := f.Store.Changes(t.Context(), time.Time{}, time.Time{}, records.Query{Filters: append(filters, "system=bookings1", "made_by=others"), Sort: "id"})
		require.NoError(t, err)
		return page.Items
	}
	journals := func() (n int) {
		for _, line := range h.Log() {
			if strings.Contains(line, "sshd-session") {
				n++
			}
		}
		return n
	}
	before := journals()
	f.survey("bookings1")
	assert.Empty(t, seen())
	each := journals() - before // of a visit itself, which reads who signed in

	h.UserAdd("odile", "192.0.2.40", unixhost.User{Name: "harbour", UID: 1200, Home: "/home/harbour", Shell: "/bin/bash"})
	h.AddUnit(unixhost.Unit{Name: "fuelcard.service", Description: "Fuel card reader", User: "manifest", Environment: []string{"/etc/fuelcard/fuel.env"}, Exec: "/opt/fuelcard/bin/reader", Enabled: true})
	f.survey("bookings1")
	made := seen("name=harbour")
	require.Len(t, made, 1)
	require.NotNil(t, made[0].Witnesses)
	require.Len(t, made[0].Witnesses.List, 2)
	first := made[0].Witnesses.List[0]
	assert.Equal(t, "odile", first.Who)
	assert.True(t, first.It)
	assert.Equal(t, change.Altered, first.Act)
	assert.Contains(t, made[0].ByWhom, "odile changed it at ")
	swapped := seen("name=fuelcard.service")
	require.Len(t, swapped, 1)
	assert.Equal(t, "signed in meanwhile: odile from 192.0.2.40", swapped[0].ByWhom, "who was there, and no more is known")
	told := f.findings("log-on-changed")
	require.Len(t, told, 1)
	assert.Contains(t, told[0].What, "; signed in meanwhile: odile from 192.0.2.40")
	assert.Equal(t, before+2*each+1, journals(), "asked once for all of it, and not when nothing changed")
	assert.Len(t, seen("by_whom~odile"), 2, "they are found by name")

	// What was told stays as it was told.
	f.survey("bookings1")
	assert.Len(t, seen(), 2)
	assert.Equal(t, before+3*each+1, journals())

	// A journal that is not shown is told, and nobody is told as nobody.
	h.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		text := strings.Join(argv, " ")
		return 1, "sudo: a password is required", strings.Contains(text, "sshd-session") && strings.Contains(text, "sudo")
	}})
	h.AddUser(unixhost.User{Name: "quiet", UID: 1201, Home: "/home/quiet", Shell: "/bin/bash"})
	f.survey("bookings1")
	quiet := seen("name=quiet")
	require.Len(t, quiet, 1)
	assert.Nil(t, quiet[0].Witnesses)
	assert.Empty(t, quiet[0].ByWhom)
	visits, err := f.Store.Visits(t.Context(), quiet[0].SurveyID, records.Query{})
	require.NoError(t, err)
	require.Len(t, visits.Items, 1)
	assert.Equal(t, "done", visits.Items[0].State, "the reading is whole all the same")
	var words []string
	for _, p := range visits.Items[0].Problems {
		words = append(words, p.What+": "+p.Next)
	}
	assert.Contains(t, strings.Join(words, "\n"), "who made the changes that were seen is not known: the journal is not shown to the steward")
	assert.Contains(t, strings.Join(words, "\n"), "journalctl")
}

// A windows host's log of security tells who was there when a service got another log-on.
func TestByWhomOnWindows(t *testing.T) {
	f := terminals(t)
	h := f.estate.Windows["north1"]
	f.survey("north1")
	h.SignedIn(`LARKMOOR\odile.kern`, "192.0.2.40")
	h.UpdateService("QuayLineBoarding", func(s *windowshost.Service) { s.Account = `LARKMOOR\odile.kern` })
	f.survey("north1")
	page, err := f.Store.Changes(t.Context(), time.Time{}, time.Time{}, records.Query{Filters: []string{"system=north1", "made_by=others", "subject=dependent"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1, "%+v", page.Items)
	assert.Contains(t, page.Items[0].ByWhom, `LARKMOOR\odile.kern from 192.0.2.40`)
	told := f.findings("log-on-changed")
	require.Len(t, told, 1)
	assert.Contains(t, told[0].What, `signed in meanwhile: `)
	assert.Contains(t, told[0].What, `LARKMOOR\odile.kern from 192.0.2.40`)
}

// A real OpenLDAP directory tells who changed an entry last; what we change ourselves is ours.
func TestByWhomInOpenLDAP(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	lab.Require(t)
	d := lab.OpenLDAP(t, "127.0.0.98", 636, 0, 0, "svc-gauge", "svc-drift")
	f := empty(t)
	f.realDirectory(d, nil)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(d.CA)))
	conn, err := ldap.DialURL("ldaps://"+net.JoinHostPort(d.Address, strconv.Itoa(d.Port)), ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, ServerName: d.Address, MinVersion: tls.VersionTLS12}))
	require.NoError(t, err)
	defer conn.Close()
	// One that is in custody and one that is not: what a survey sees of a password within two
	// minutes of its being sealed here counts as ours until the value is refused.
	_, err = f.Custody.Take(t.Context(), ines, cred(f, f.account("dir/svc-drift")), secret.New(lab.AccountPassword))
	require.NoError(t, err)
	for _, name := range []string{"svc-gauge", "svc-drift"} {
		require.NoError(t, conn.Bind(d.DN(name), lab.AccountPassword))
		_, err = conn.PasswordModify(ldap.NewPasswordModifyRequest("", lab.AccountPassword, "Of-Its-Own-Accord-7"))
		require.NoError(t, err)
	}
	_, err = f.Custody.Take(t.Context(), ines, cred(f, f.account("dir/svc-berth")), secret.New(lab.AccountPassword))
	require.NoError(t, err)
	require.Equal(t, "done", f.rotate(f.account("dir/svc-berth"), rotation.UndoOnFailure).Result)
	for range 2 { // it is still told when it is refused again
		verdict, err := f.Custody.Verify(t.Context(), ines, cred(f, f.account("dir/svc-drift")))
		require.NoError(t, err)
		require.False(t, verdict.Accepted)
		drift := f.findings("drift")
		require.Len(t, drift, 1)
		assert.Regexp(t, `the present password was set at 20\d\d-.*; by the system's own log since it was last accepted: `+d.DN("svc-drift")+" set its password at 20", drift[0].What)
		assert.Equal(t, 1, strings.Count(drift[0].What, "set its password"))
	}
	f.survey("dir")
	page, err := f.Store.Changes(t.Context(), time.Time{}, time.Time{}, records.Query{Filters: []string{"system=dir", "subject=account", "what=changed"}})
	require.NoError(t, err)
	told := map[string]records.SeenChange{}
	for _, v := range page.Items {
		told[v.Name] = v
	}
	require.Contains(t, told, "svc-gauge")
	assert.Equal(t, records.ByOthers, told["svc-gauge"].MadeBy)
	assert.Contains(t, told["svc-gauge"].ByWhom, d.DN("svc-gauge")+" set its password at ")
	for _, v := range page.Items {
		if v.Name == "svc-berth" {
			assert.Equal(t, records.ByMossLedger, v.MadeBy)
			assert.Empty(t, v.ByWhom, "what we did is ours")
		}
	}
}
