package lab_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// Who was there and who changed an account, from the journal that a real host keeps: what
// its own programs write when accounts are made, given a password, put into a group,
// locked, given an end and removed, and what sshd writes of who comes in.
func TestRecordsOfARealHost(t *testing.T) {
	h := lab.NewHost(t, "witness", 19)
	h.Shell(t, "useradd -m -s /bin/bash odile && echo 'odile:"+lab.AccountPassword+"' | chpasswd && echo 'odile ALL=(root) NOPASSWD: ALL' > /etc/sudoers.d/odile")
	h.Boot(t)
	before := time.Now().Add(-time.Minute)
	_, err := unixhost.Connector{}.Verify(t.Context(), h.Target(), connect.AccountRef{Name: "odile"}, secret.New(lab.AccountPassword))
	require.NoError(t, err)
	h.Shell(t, "useradd svc-a; useradd svc-b; useradd svc-c; useradd svc-d; useradd svc-e; groupadd deck; "+
		"echo 'svc-a:"+lab.AccountPassword+"' | chpasswd; usermod -aG deck svc-b; gpasswd -a svc-b deck; usermod -L svc-c; passwd -l svc-c; chage -M 30 svc-d; usermod -e 2030-01-01 svc-d; userdel svc-e; "+
		"su -s /bin/sh -c true svc-a")
	log, err := unixhost.Connector{}.Records(t.Context(), h.Target(), before)
	require.NoError(t, err)
	for name, acts := range map[string][]change.Act{
		"svc-a": {change.Altered, change.SetPassword}, "svc-b": {change.Altered}, "svc-c": {change.Altered}, "svc-d": {change.Altered}, "svc-e": {change.Altered},
	} {
		w := log.Of(before, time.Now(), name)
		require.NotNil(t, w)
		var did []change.Act
		for _, v := range w.List {
			if v.It {
				did = append(did, v.Act)
			}
		}
		assert.ElementsMatch(t, acts, did, "%s: %+v", name, w.List)
	}
	words := log.Of(before, time.Now()).Words()
	assert.Contains(t, words, "odile from ")
	assert.Contains(t, words, "signed in meanwhile: ")

	// Through sudo it is still known who signed in at first.
	as := h.Target()
	as.Steward = connect.Steward{Account: "odile", Password: secret.New(lab.AccountPassword)}
	before = time.Now().Add(-time.Second)
	_, code, err := unixhost.Connector{}.RunCheck(t.Context(), as, "echo 'svc-b:"+lab.AccountPassword+"' | sudo -n chpasswd")
	require.NoError(t, err)
	require.Zero(t, code)
	log, err = unixhost.Connector{}.Records(t.Context(), h.Target(), before)
	require.NoError(t, err)
	w := log.Of(before, time.Now(), "svc-b")
	i := slices.IndexFunc(w.List, func(v change.Witness) bool { return v.Act == change.SetPassword })
	require.NotEqual(t, -1, i, "%+v", w.List)
	assert.Equal(t, "odile", w.List[i].Who)
	assert.True(t, w.List[i].It)

	// A line that somebody writes in the name of sshd accuses nobody.
	_, _, err = unixhost.Connector{}.RunCheck(t.Context(), as, `logger -t sshd "Accepted password for jonas from 192.0.2.9 port 5 ssh2"; logger -t useradd "new user: name=svc-b, UID=1, by jonas"`)
	require.NoError(t, err)
	log, err = unixhost.Connector{}.Records(t.Context(), h.Target(), before)
	require.NoError(t, err)
	assert.NotContains(t, log.Of(before, time.Now(), "svc-b").Words(), "jonas")
	assert.Contains(t, h.Shell(t, "journalctl -q -o cat -t sshd"), "for jonas from 192.0.2.9", "although it stands there")

	// Who is shown nothing says so: nobody is told as nobody.
	h.Shell(t, "rm /etc/sudoers.d/odile")
	_, err = unixhost.Connector{}.Records(t.Context(), as, before)
	require.Error(t, err)
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
	h.Shell(t, "usermod -aG systemd-journal odile")
	log, err = unixhost.Connector{}.Records(t.Context(), as, before)
	require.NoError(t, err)
	assert.NotEmpty(t, log.Records, "a group shows it as well")
}

// OpenLDAP keeps with each entry who changed it last.
func TestRecordsOfOpenLDAP(t *testing.T) {
	d := lab.OpenLDAPWith(t, "127.0.0.67", 636, lab.Policy("free", "pwdMinAge: 0"), lab.Person("svc-told", "free", ""))
	target := d.Target("openldap")
	accounts, _, _ := readDirectory(t, target)
	before := time.Now().Add(-time.Second).Truncate(time.Second)
	ref := connect.AccountRef{StableID: accounts["svc-told"].StableID, Name: "svc-told", DN: accounts["svc-told"].DN}
	require.NoError(t, directory.Connector{}.Accept(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: secret.New(lab.AccountPassword), New: secret.New("Another-Passw0rd-2")}, connect.AcceptNew))
	log, err := directory.Connector{}.Records(t.Context(), target, before)
	require.NoError(t, err)
	w := log.Of(before, time.Now(), "svc-told", ref.DN)
	require.Len(t, w.List, 1, "%+v", log.Records)
	assert.True(t, w.List[0].It)
	assert.Equal(t, change.SetPassword, w.List[0].Act)
	assert.Equal(t, target.Steward.Account, w.List[0].Who)
	assert.Empty(t, log.Of(time.Now().Add(time.Hour), time.Now().Add(2*time.Hour), ref.DN).List, "not in another time")
	log, err = directory.Connector{}.Records(t.Context(), target, time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.Empty(t, log.Records)
}
