package lab_test

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"math/rand"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// living is an account of a real system whose end is set.
type living struct {
	connect.Connector
	target connect.Target
	ref    connect.AccountRef
	signs  func(context.Context) (connect.Verdict, error)
}

func byPassword(c connect.Connector, target connect.Target, ref connect.AccountRef) living {
	return living{c, target, ref, func(ctx context.Context) (connect.Verdict, error) {
		return c.Verify(ctx, target, ref, secret.New(lab.AccountPassword))
	}}
}

func (l living) change(act expiry.Act, of expiry.What) expiry.EndChange {
	return expiry.EndChange{Act: act, Of: of, Name: l.ref.Name, ID: l.ref.StableID, DN: l.ref.DN}
}

func (l living) accepted(t *testing.T, yes bool, why string) connect.Verdict {
	t.Helper()
	v, err := l.signs(t.Context())
	require.NoError(t, err, why)
	require.Equal(t, yes, v.Accepted, "%s: %+v", why, v)
	return v
}

// shuts makes a change that takes access away, waits for its moment where it has one, and
// holds what the system says then against what was foretold. Taken back, the account signs in
// as before.
func (l living) shuts(t *testing.T, change expiry.EndChange, way expiry.Way) {
	t.Helper()
	l.accepted(t, true, "before "+change.Words())
	told, err := l.Ending(t.Context(), l.target, change)
	require.NoError(t, err, change.Words())
	require.False(t, told.There)
	require.False(t, told.InForce)
	require.NotEmpty(t, told.Words)
	change.Former = told.Former
	require.NoError(t, l.End(t.Context(), l.target, change, false), change.Words())
	require.NoError(t, l.End(t.Context(), l.target, change, false), "once more is harmless")
	stands, err := l.Ending(t.Context(), l.target, change)
	require.NoError(t, err)
	assert.True(t, stands.There, "%s: %+v", change.Words(), stands)
	if change.End.State == expiry.Ends {
		assert.True(t, stands.Now.Same(told.Will), "%v, %v", stands.Now, told.Will)
		l.accepted(t, true, "its end is to come: "+change.Words())
	}
	require.Eventually(t, func() bool {
		now, err := l.Ending(t.Context(), l.target, change)
		return err == nil && now.InForce
	}, 30*time.Second, 100*time.Millisecond, change.Words())
	v := l.accepted(t, false, "after "+change.Words())
	sight, found := expiry.Seen(told.Sights, way)
	require.True(t, found, "%+v", told.Sights)
	assert.Contains(t, strings.ToLower(v.Words), strings.ToLower(sight.Words), "what was foretold of %q", change.Words())
	require.NoError(t, l.End(t.Context(), l.target, change, true), "taken back")
	require.NoError(t, l.End(t.Context(), l.target, change, true), "once more is harmless")
	l.accepted(t, true, "taken back: "+change.Words())
	if change.Former != "" && change.Of != expiry.Password {
		back, err := l.Ending(t.Context(), l.target, change)
		require.NoError(t, err)
		assert.Equal(t, change.Former, back.Former, "it is what it was")
	}
}

// soon is an end that is passed within the test.
func soon(c expiry.EndChange) expiry.EndChange {
	c.End = expiry.At(time.Now().Add(4 * time.Second).Truncate(time.Second))
	return c
}

// lives goes through what an account with an end that is a moment goes through.
func (l living) lives(t *testing.T, of expiry.What, far ...string) {
	t.Helper()
	l.shuts(t, soon(l.change(expiry.SetEnd, of)), expiry.SignsIn)
	l.shuts(t, l.change(expiry.Expire, of), expiry.SignsIn)
	// Somebody else sets another end meanwhile: that stays.
	set := l.change(expiry.SetEnd, of)
	set.End = expiry.At(time.Date(2031, 3, 1, 12, 30, 0, 0, time.UTC))
	told, err := l.Ending(t.Context(), l.target, set)
	require.NoError(t, err)
	set.Former = told.Former
	require.NoError(t, l.End(t.Context(), l.target, set, false))
	other := l.change(expiry.Extend, of)
	other.End = expiry.At(time.Date(2032, 1, 1, 0, 0, 0, 0, time.UTC))
	require.NoError(t, l.End(t.Context(), l.target, other, false))
	err = l.End(t.Context(), l.target, set, true)
	require.ErrorContains(t, err, "somebody else")
	assert.False(t, connect.IsUnclear(err))
	never := l.change(expiry.SetEnd, of)
	never.End = expiry.End{State: expiry.Never}
	require.NoError(t, l.End(t.Context(), l.target, never, false))
	stands, err := l.Ending(t.Context(), l.target, never)
	require.NoError(t, err)
	assert.Equal(t, expiry.Never, stands.Now.State)
	assert.True(t, stands.There)
	assert.Empty(t, stands.Sights, "nothing stops")
	l.accepted(t, true, "never")
}

// dies is disabled, enabled, and deleted.
func (l living) dies(t *testing.T, of expiry.What) {
	t.Helper()
	l.shuts(t, l.change(expiry.Disable, of), expiry.SignsIn)
	require.NoError(t, l.End(t.Context(), l.target, l.change(expiry.Disable, of), false))
	require.NoError(t, l.End(t.Context(), l.target, l.change(expiry.Enable, of), false))
	l.accepted(t, true, "enabled")
	gone := l.change(expiry.Delete, of)
	told, err := l.Ending(t.Context(), l.target, gone)
	require.NoError(t, err)
	assert.NotEmpty(t, told.Final)
	assert.False(t, told.There)
	f := l.End(t.Context(), l.target, gone, true)
	assert.Equal(t, connect.CodeCannot, connect.CodeOf(f), "what cannot be undone is not")
	require.NoError(t, l.End(t.Context(), l.target, gone, false))
	require.NoError(t, l.End(t.Context(), l.target, gone, false))
	after, err := l.Ending(t.Context(), l.target, gone)
	require.NoError(t, err)
	assert.True(t, after.There, "%+v", after)
	if _, err := l.Ending(t.Context(), l.target, l.change(expiry.Disable, of)); assert.Error(t, err) {
		assert.Equal(t, connect.CodeGone, connect.CodeOf(err), err)
	}
}

func refOf(t *testing.T, c connect.Connector, target connect.Target, name string) connect.AccountRef {
	t.Helper()
	var ref connect.AccountRef
	_, err := c.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			if a.Name == name {
				ref = connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.NotEmpty(t, ref.StableID, name)
	return ref
}

func TestEndsOnPostgreSQL(t *testing.T) {
	d := lab.PostgreSQL(t, "127.0.0.163", 55563)
	d.Run(t, `CREATE ROLE "svc;odd'name" LOGIN PASSWORD '`+lab.AccountPassword+`'; CREATE ROLE owner1 LOGIN; CREATE DATABASE owned OWNER owner1; CREATE ROLE far1 LOGIN VALID UNTIL '9999-12-31'; CREATE ROLE far2 LOGIN VALID UNTIL 'infinity'; CREATE ROLE far3 LOGIN VALID UNTIL '10000-01-01';`)
	c, target := postgres.Connector{}, d.Target("bookings")
	for _, name := range []string{"svc_berth1", "svc;odd'name"} {
		l := byPassword(c, target, refOf(t, c, target, name))
		if name == "svc_berth1" {
			l.lives(t, expiry.Role)
		}
		if name != "svc_berth1" {
			l.dies(t, expiry.Role)
		}
	}
	l := byPassword(c, target, refOf(t, c, target, "owner1"))
	_, err := l.Ending(t.Context(), target, l.change(expiry.Delete, expiry.Role))
	require.ErrorContains(t, err, "it owns 1 things")
	assert.Equal(t, "1", strings.TrimSpace(d.Run(t, "SELECT count(*) FROM pg_roles WHERE rolname = 'svc_berth1' AND rolvaliduntil = 'infinity'")), "in the server's own words")
	for _, name := range []string{"far1", "far2", "far3"} {
		l := byPassword(c, target, refOf(t, c, target, name))
		told, err := l.Ending(t.Context(), target, l.change(expiry.Expire, expiry.Role))
		require.NoError(t, err)
		assert.Equal(t, expiry.Never, told.Now.State, name)
	}
}

func TestEndsOnMariaDB(t *testing.T) {
	d := lab.MariaDB(t, "127.0.0.164", 55564)
	c, target := mariadb.Connector{}, d.Target("tides")
	d.Run(t, "CREATE USER svc_tide@'%' IDENTIFIED BY '"+lab.AccountPassword+"' REQUIRE SSL WITH MAX_QUERIES_PER_HOUR 1000;"+preparation(t, c.Prepare(target, connect.Known{}), connect.ForEnd).Text)
	l := byPassword(c, target, refOf(t, c, target, "svc_tide"))
	before := d.Run(t, "SHOW CREATE USER svc_tide@'%'")
	l.shuts(t, l.change(expiry.Expire, expiry.Password), expiry.SignsIn)
	assert.Equal(t, before, d.Run(t, "SHOW CREATE USER svc_tide@'%'"), "how it signs in and what it is limited to stays")
	// Days are what it keeps: a moment is not reached earlier than is asked for.
	set := l.change(expiry.SetEnd, expiry.Password)
	set.End = expiry.At(time.Now().Add(36 * time.Hour))
	told, err := l.Ending(t.Context(), target, set)
	require.NoError(t, err)
	assert.False(t, told.Will.At.Before(set.End.At))
	assert.Less(t, told.Will.At.Sub(set.End.At), 24*time.Hour)
	set.Former = told.Former
	require.NoError(t, l.End(t.Context(), target, set, false))
	assert.Contains(t, d.Run(t, "SHOW CREATE USER svc_tide@'%'"), "PASSWORD EXPIRE INTERVAL 2 DAY")
	// Two days later, by the server's own record of when it was set.
	age := func(by string) {
		d.Run(t, `UPDATE mysql.global_priv SET Priv = JSON_SET(Priv, '$.password_last_changed', JSON_VALUE(Priv, '$.password_last_changed') `+by+` (2*86400 + 5)) WHERE User = 'svc_tide'; FLUSH PRIVILEGES;`)
	}
	age("-")
	v := l.accepted(t, false, "two days later")
	assert.Contains(t, v.Words, told.Sights[0].Words)
	require.ErrorContains(t, l.End(t.Context(), target, set, true), "somebody else", "it counts as set at another time")
	age("+")
	require.NoError(t, l.End(t.Context(), target, set, true))
	l.accepted(t, true, "taken back")
	never := l.change(expiry.SetEnd, expiry.Password)
	never.End = expiry.End{State: expiry.Never}
	require.NoError(t, l.End(t.Context(), target, never, false))
	assert.Contains(t, d.Run(t, "SHOW CREATE USER svc_tide@'%'"), "PASSWORD EXPIRE NEVER")
	l.dies(t, expiry.Account)
	assert.NotContains(t, d.Log(t), lab.AccountPassword)
}

func TestEndsOnRedis(t *testing.T) {
	d := lab.Redis(t, "127.0.0.165", 55565)
	c, target := redis.Connector{}, d.Target("cache")
	l := byPassword(c, target, refOf(t, c, target, "svc_berth1"))
	l.dies(t, expiry.Account)
	_, err := l.Ending(t.Context(), target, expiry.EndChange{Act: expiry.SetEnd, Of: expiry.Account, Name: "svc_berth1", ID: "user:svc_berth1"})
	require.ErrorContains(t, err, "'set-end' is not offered there: what is, is disable, enable, delete")
}

func TestEndsOnHosts(t *testing.T) {
	h := lab.NewHost(t, "ends", 40)
	h.Shell(t, "useradd -m -s /bin/bash tide && echo 'tide:"+lab.AccountPassword+"' | chpasswd; useradd -m -s /bin/bash doomed && echo 'doomed:"+lab.AccountPassword+"' | chpasswd; useradd -m -s /bin/bash bykey; rm /etc/sudoers.d/mossmgr")
	h.Write(t, "/etc/systemd/system/tide.service", "[Service]\nUser=tide\nExecStart=/bin/sleep infinity\n", 0o644)
	c, target := unixhost.Connector{}, h.Target()
	all := c.Prepare(target, connect.Known{Files: []string{"/home/bykey/.ssh/authorized_keys"}})
	for _, purpose := range []string{connect.ForRead, connect.ForFind, connect.ForRotate} {
		h.Write(t, "/etc/sudoers.d/mossmgr-"+purpose, preparation(t, all, purpose).Text, 0o440)
	}
	_, private, err := ed25519.GenerateKey(rand.New(rand.NewSource(1)))
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	key := secret.FromBytes(pem.EncodeToMemory(block))
	pair, err := keys.PairOf(key)
	require.NoError(t, err)
	lines := "# entries\n  from=\"10.213.78.0/24\",command=\"echo \\\"hello, there\\\" \",no-pty " + pair.Line + " of the tide\nssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA other\n"
	h.Shell(t, "install -d -m700 -o bykey -g bykey /home/bykey/.ssh")
	h.Write(t, "/home/bykey/.ssh/authorized_keys", lines, 0o600)
	h.Shell(t, "chown bykey: /home/bykey/.ssh/authorized_keys")
	h.Boot(t)
	for _, name := range []string{"tide", "doomed"} {
		l := byPassword(c, target, refOf(t, c, target, name))
		if name == "tide" {
			_, err := l.Ending(t.Context(), target, l.change(expiry.Disable, expiry.Account))
			require.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
			h.Write(t, "/etc/sudoers.d/mossmgr-end", preparation(t, all, connect.ForEnd).Text, 0o440)
			h.Shell(t, "visudo -cqf /etc/sudoers.d/mossmgr-end")
			l.shuts(t, l.change(expiry.Expire, expiry.Account), expiry.SignsIn)
			l.shuts(t, l.change(expiry.Expire, expiry.Password), expiry.SignsIn)
			// A host keeps days, and on the day that is written the account is refused.
			set := l.change(expiry.SetEnd, expiry.Account)
			set.End = expiry.At(time.Now().Add(time.Hour))
			told, err := l.Ending(t.Context(), target, set)
			require.NoError(t, err)
			assert.False(t, told.Will.At.Before(set.End.At))
			set.Former = told.Former
			require.NoError(t, l.End(t.Context(), target, set, false))
			l.accepted(t, true, "it ends tomorrow")
			require.NoError(t, l.End(t.Context(), target, set, true))
			// A unit that runs as it starts all the same.
			require.NoError(t, l.End(t.Context(), target, l.change(expiry.Disable, expiry.Account), false))
			h.Shell(t, "systemctl start tide.service && systemctl is-active tide.service && systemctl stop tide.service")
			require.NoError(t, l.End(t.Context(), target, l.change(expiry.Enable, expiry.Account), false))
			l.accepted(t, true, "enabled")
			continue
		}
		l.dies(t, expiry.Account)
	}
	opens := living{c, target, refOf(t, c, target, "bykey"), nil}
	opens.signs = func(ctx context.Context) (connect.Verdict, error) {
		return c.VerifyKey(ctx, target, opens.ref, key, nil)
	}
	entry := func(act expiry.Act) expiry.EndChange {
		change := opens.change(act, expiry.Key)
		change.Path, change.Fingerprint = "/home/bykey/.ssh/authorized_keys", pair.Fingerprint
		return change
	}
	opens.shuts(t, soon(entry(expiry.SetEnd)), expiry.OpensKey)
	opens.shuts(t, entry(expiry.Expire), expiry.OpensKey)
	assert.Contains(t, h.Shell(t, "journalctl -q --no-pager -u ssh"), "expired", "the journal says why")
	assert.Equal(t, lines, h.Shell(t, "cat /home/bykey/.ssh/authorized_keys"), "every other byte stays")
	told, err := opens.Ending(t.Context(), target, entry(expiry.Delete))
	require.NoError(t, err)
	assert.Contains(t, told.Final, "a command", "what may hold a secret is not kept")
	assert.Empty(t, told.Also)
	// An end by the host's own clock, in a zone with half hours, is read as the server reads it.
	h.Shell(t, "ln -sf /usr/share/zoneinfo/Asia/Kolkata /etc/localtime; sed -i 's/^  from=/expiry-time=\"203012241530\",from=/' /home/bykey/.ssh/authorized_keys")
	told, err = opens.Ending(t.Context(), target, entry(expiry.Expire))
	require.NoError(t, err)
	assert.Equal(t, "2030-12-24T10:00:00Z", told.Now.String())
	h.Shell(t, "sed -i 's/203012241530/someday/' /home/bykey/.ssh/authorized_keys")
	opens.accepted(t, false, "sshd takes no entry with an end that it cannot read")
	told, err = opens.Ending(t.Context(), target, entry(expiry.Expire))
	require.NoError(t, err)
	assert.Equal(t, expiry.Ended, told.Now.State)
}

func TestEndsOnOpenLDAP(t *testing.T) {
	c := directory.Connector{}
	manager := "uid=mossmgr,ou=people,dc=larkmoor,dc=example"
	own := preparation(t, c.Prepare(connect.Target{Kind: "directory", Steward: connect.Steward{Account: manager}}, connect.Known{Flavor: "rfc-schema"}), connect.ForEnd).Text
	rotate := preparation(t, c.Prepare(connect.Target{Kind: "directory", Steward: connect.Steward{Account: manager}}, connect.Known{Flavor: "rfc-schema"}), connect.ForRotate).Text
	rules := strings.ReplaceAll(own+strings.ReplaceAll(rotate[:strings.Index(rotate, "olcLimits")], ",pwdAccountLockedTime,pwdReset", "")+"olcAccess: to attrs=userPassword by self write by anonymous auth by * none\nolcAccess: to * by users read by * none\n", "\n  by", " by")
	n := -1
	rules = strings.Join(func() (out []string) {
		for line := range strings.Lines(rules) {
			n++
			out = append(out, strings.Replace(line, "olcAccess: ", "olcAccess: {"+string(rune('0'+n))+"}", 1))
		}
		return out
	}(), "")
	d := lab.RuledOpenLDAP(t, "127.0.0.69", 636, rules, lab.Policy("ending", "pwdLockout: TRUE\npwdMustChange: TRUE")+lab.Person("svc-tide", "ending", "")+lab.Person("svc-doomed", "ending", "")+
		lab.Policy("ages", "pwdMaxAge: 3600\npwdMustChange: TRUE")+lab.Policy("ageless", "pwdMustChange: FALSE")+lab.Person("svc-aged", "ages", "pwdChangedTime: "+time.Now().UTC().Add(8*time.Second-time.Hour).Format("20060102150405Z"))+lab.Person("svc-unseen", "ages", "")+lab.Person("svc-ageless", "ageless", ""))
	target := d.Target("openldap")
	growsOld(t, target)
	lax := byPassword(c, target, refOf(t, c, target, "svc-ageless")) // its policy neither locks nor makes anybody change
	for act, of := range map[expiry.Act]expiry.What{expiry.Disable: expiry.Account, expiry.Expire: expiry.Password} {
		_, err := lax.Ending(t.Context(), target, lax.change(act, of))
		require.ErrorContains(t, err, "it would go on being accepted")
		err = lax.End(t.Context(), target, lax.change(act, of), false)
		require.Equal(t, connect.CodeCannot, connect.CodeOf(err), err)
	}
	lax.shuts(t, lax.change(expiry.Expire, expiry.Account), expiry.SignsIn)
	l := byPassword(c, target, refOf(t, c, target, "svc-tide"))
	l.lives(t, expiry.Account)
	d2 := byPassword(c, target, refOf(t, c, target, "svc-doomed"))
	d2.dies(t, expiry.Account)
}

// growsOld: a password ends by its policy's age, when the directory says so.
func growsOld(t *testing.T, target connect.Target) {
	t.Helper()
	all, _, _ := readDirectory(t, target)
	aged := all["svc-aged"]
	assert.WithinDuration(t, time.Now().Add(8*time.Second), aged.PasswordExpires, 8*time.Second)
	assert.True(t, all["svc-ageless"].NeverExpire)
	assert.Zero(t, all["svc-unseen"].PasswordExpires)
	assert.False(t, all["svc-unseen"].NeverExpire)
	assert.Zero(t, all["svc-berth"].PasswordExpires, "which policy is the default is not shown, and they differ")
	l := byPassword(directory.Connector{}, target, connect.AccountRef{StableID: aged.StableID, Name: aged.Name, DN: aged.DN})
	told, err := l.Ending(t.Context(), target, l.change(expiry.Expire, expiry.Password))
	require.NoError(t, err)
	assert.Equal(t, expiry.End{State: expiry.Ends, At: aged.PasswordExpires}, told.Now)
	l.accepted(t, true, "before its end")
	require.Eventually(t, func() bool { return time.Now().After(aged.PasswordExpires) }, 30*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		v, err := l.signs(t.Context())
		return err == nil && !v.Accepted && v.Code == connect.VerdictExpired && v.Words == "Password expired"
	}, 5*time.Second, 100*time.Millisecond, "it ended when it was told to")
}

func TestEndsOnSamba(t *testing.T) {
	d := lab.Samba(t, "127.0.0.70", "svc-tide", "svc-doomed", "svc-far")
	c, target := directory.Connector{}, d.Target("dir")
	d.Permit(t, "OU=Service Accounts,"+d.Base, strings.ReplaceAll(preparation(t, c.Prepare(target, connect.Known{SID: d.ManagerSID(t), Flavor: "windows-schema"}), connect.ForEnd).Text, "\n", ""))
	l := byPassword(c, target, refOf(t, c, target, "svc-tide"))
	l.lives(t, expiry.Account)
	_, err := l.Ending(t.Context(), target, l.change(expiry.Expire, expiry.Password))
	require.ErrorContains(t, err, "its password never expires")
	lab.Modify(t, d, "dn: "+l.ref.DN+"\nchangetype: modify\nreplace: userAccountControl\nuserAccountControl: 512\n")
	l.shuts(t, l.change(expiry.Expire, expiry.Password), expiry.SignsIn)
	doomed := byPassword(c, target, refOf(t, c, target, "svc-doomed"))
	doomed.dies(t, expiry.Account)
	for name, words := range map[string]string{"krbtgt": "every ticket of the domain", "Administrator": ""} {
		own := byPassword(c, target, refOf(t, c, target, name))
		told, err := own.Ending(t.Context(), target, own.change(expiry.Delete, expiry.Account))
		if words != "" {
			require.ErrorContains(t, err, words)
			require.ErrorContains(t, own.End(t.Context(), target, own.change(expiry.Delete, expiry.Account), false), words)
			continue
		}
		require.NoError(t, err)
		assert.Contains(t, strings.Join(told.Also, " "), "the last way in")
	}
	far := byPassword(c, target, refOf(t, c, target, "svc-far"))
	for _, value := range []string{"9223372036854775807", "0", "2650467743990000000", "2650468608000000000"} { // the largest number, none, the last second of 9999, 10000-01-01
		lab.Modify(t, d, "dn: "+far.ref.DN+"\nchangetype: modify\nreplace: accountExpires\naccountExpires: "+value+"\n")
		told, err := far.Ending(t.Context(), target, far.change(expiry.Expire, expiry.Account))
		require.NoError(t, err, value)
		assert.Equal(t, expiry.Never, told.Now.State, value)
	}
}
