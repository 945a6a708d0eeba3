package lab_test

import (
	"context"
	"path"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

func preparation(t *testing.T, all []connect.Preparation, purpose string) connect.Preparation {
	t.Helper()
	for _, p := range all {
		if p.For == purpose {
			return p
		}
	}
	t.Fatalf("nothing is told for %s", purpose)
	return connect.Preparation{}
}

// TestPreparedHost does on a real host just what is printed for its owner, and reads,
// rehearses and rotates with it; without a part, what that part is for is said to be
// missing.
func TestPreparedHost(t *testing.T) {
	const odd = "/etc/berth/odd [name],*x.env"
	h := lab.NewHost(t, "prepared", 32)
	h.Write(t, "/etc/berth/berth.env", "BERTH_PASSWORD=Old-Value-1\n", 0o600)
	h.Write(t, odd, "BERTH_PASSWORD=Old-Value-1\n", 0o600)
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nEnvironmentFile=/etc/berth/berth.env\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "systemctl -q enable berth.service; rm /etc/sudoers.d/mossmgr")
	target := h.Target()
	target.Steward.Account = "moss-two"
	pair, err := keys.PairOf(target.Steward.PrivateKey)
	require.NoError(t, err)
	c := unixhost.Connector{}
	all := c.Prepare(target, connect.Known{PublicKey: pair.Line, Files: []string{"/etc/berth/berth.env", odd, "/etc/x\nroot ALL=(ALL) NOPASSWD: ALL #"}, Units: []string{"berth.service", "x\ny"}, Reload: []string{"berth.service"}})
	h.Shell(t, preparation(t, all, connect.ForSignIn).Text)
	put := func(purpose string) {
		file := "/etc/sudoers.d/moss-two-" + purpose
		h.Write(t, file, preparation(t, all, purpose).Text, 0o440)
		h.Shell(t, "visudo -cqf "+file)
	}
	h.Boot(t)
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	places := []held.Locator{{Layout: layout.Env, Key: "BERTH_PASSWORD", Part: held.PartValue}}
	old, next := secret.New("Old-Value-1"), secret.New("New-Value-2")
	intentions := []connect.Intention{{Replace: "/etc/berth/berth.env", Places: places, Current: old}, {Restart: unit("berth.service")}, {Restart: unit("berth.service"), Reload: true}}
	visit := func() connect.Coverage {
		coverage, err := c.Visit(ctx, target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(connect.Batch) error { return nil })
		require.NoError(t, err)
		return coverage
	}
	rightsRead := func() connect.RightsCoverage {
		coverage, err := c.Rights(ctx, target, connect.RightsRequest{Whole: true}, func(connect.Batch) error { return nil })
		require.NoError(t, err)
		return coverage
	}
	assert.NotEmpty(t, visit().Why, "signing in alone is not enough")
	assert.False(t, rightsRead().Complete)
	put(connect.ForRead)
	put(connect.ForFind)
	assert.Empty(t, visit().Why)
	assert.False(t, rightsRead().Complete)
	put(connect.ForRights)
	assert.Empty(t, rightsRead().Why)
	failed := 0
	for _, line := range c.Rehearse(ctx, target, intentions) {
		if line.Result == connect.CheckFailed {
			failed++
		}
	}
	assert.Equal(t, 3, failed, "neither the file nor the unit may be touched yet")
	put(connect.ForRotate)
	for _, line := range c.Rehearse(ctx, target, intentions) {
		assert.Equal(t, connect.CheckOK, line.Result, "%+v", line)
	}
	for _, file := range []string{"/etc/berth/berth.env", odd} {
		require.NoError(t, c.ReplaceCopies(ctx, target, file, places, old, next), file)
		assert.Equal(t, "BERTH_PASSWORD=New-Value-2\n", h.Shell(t, "cat '"+file+"'"))
	}
	_, err = c.Restart(ctx, target, unit("berth.service"))
	require.NoError(t, err)
	// Rights are changed with the last one, and not before.
	h.Shell(t, "groupadd crew; useradd -m berth2")
	group := privilege.RightChange{Give: true, To: "berth2", Group: "crew", GroupID: "x"}
	command := privilege.RightChange{Give: true, To: "berth2", Verb: privilege.VerbRun, What: "/usr/bin/systemctl restart berth:1.service", As: "root"}
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(c.Amend(ctx, target, group, false)))
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(c.Amend(ctx, target, command, false)))
	put(connect.ForAmend)
	for _, change := range []privilege.RightChange{group, command} {
		for _, back := range []bool{false, true} {
			require.NoError(t, c.Amend(ctx, target, change, back), change.Words())
			standing, err := c.Standing(ctx, target, change)
			require.NoError(t, err)
			assert.Equal(t, !back, standing.There, standing.Words)
			assert.Equal(t, !back, standing.InForce, standing.Words)
		}
	}
	assert.Equal(t, "", h.Shell(t, "ls -A /etc/sudoers.d | grep charter || true"))
	// What somebody else wrote there is not written over, and neither is it taken away.
	require.NoError(t, c.Amend(ctx, target, command, false))
	own := strings.TrimSpace(h.Shell(t, "ls -A /etc/sudoers.d | grep charter"))
	h.Shell(t, "echo 'berth2 ALL=(root) NOPASSWD: /usr/bin/true' > /etc/sudoers.d/"+own)
	err = c.Amend(ctx, target, command, true)
	require.ErrorContains(t, err, "says something else")
	assert.False(t, connect.IsUnclear(err))
	h.Shell(t, "rm /etc/sudoers.d/"+own)
	// A rule that sudo would not take never gets where it reads.
	h.Shell(t, "printf '#!/bin/sh\\nexit 1\\n' > /root/no && chmod 755 /root/no && mount --bind /root/no /usr/sbin/visudo")
	require.Error(t, c.Amend(ctx, target, command, false))
	h.Shell(t, "umount /usr/sbin/visudo")
	assert.Equal(t, "", h.Shell(t, "ls -A /etc/sudoers.d | grep charter || true"))
	// Nothing else is allowed by it.
	for _, command := range []string{"/usr/bin/cat -- /etc/shadow", "/usr/bin/cat -- /etc/sudoers.d/x /etc/shadow", "/usr/bin/cat -- /etc/sudoers.d/../shadow", "/usr/bin/systemctl restart ssh.service", "/usr/bin/chage -l -i -E 0 root", "/usr/bin/journalctl --no-pager -q -o cat -n 3 -u x --vacuum-size=1", "/usr/bin/mv -fT -- /etc/berth/.berth.env.moss-new /etc/passwd", "/usr/bin/cp -a -- '/etc/berth/odd [name],anyx.env' x", "/usr/bin/rm -f -- /etc/sudoers.d/moss-two-read", "/usr/bin/rm -f -- /etc/sudoers.d/charter-x /etc/passwd", "/usr/bin/dd of=/etc/passwd conv=fsync status=none", "/usr/sbin/usermod -aG crew -p x berth2", "/usr/bin/sudo /bin/true", "/bin/sh"} {
		_, err := h.TryShell(ctx, "runuser -u moss-two -- sudo -n -l "+command)
		assert.Error(t, err, command)
	}
	assert.NotContains(t, preparation(t, all, connect.ForRotate).Text, "root ALL")
	assert.Equal(t, path.Clean("/etc/berth"), path.Dir(odd))
}

// TestPreparedDataStores does the same in data stores.
func TestPreparedDataStores(t *testing.T) {
	const password = "Another-Steward-5"
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	for _, c := range []struct {
		name      string
		connector connect.Connector
		store     *lab.DataStore
		matches   string
		words     *strings.Replacer
	}{
		{"postgresql", postgres.Connector{}, lab.PostgreSQL(t, "127.0.0.155", 55555), "oid:", strings.NewReplacer("\\password moss_two", "ALTER ROLE moss_two PASSWORD '"+password+"';")},
		{"mariadb", mariadb.Connector{}, lab.MariaDB(t, "127.0.0.156", 55556), "account:", strings.NewReplacer("PUT ITS PASSWORD HERE", password)},
		{"redis", redis.Connector{}, lab.Redis(t, "127.0.0.157", 55557), "user:", strings.NewReplacer("PUT-ITS-PASSWORD-HERE", password)},
	} {
		t.Run(c.name, func(t *testing.T) {
			target := c.store.Target("store")
			target.Steward = connect.Steward{Account: "moss_two", Password: secret.New(password)}
			all := c.connector.Prepare(target, connect.Known{})
			for _, purpose := range connect.Purposes() {
				for _, p := range all {
					if p.For == purpose {
						c.store.Run(t, c.words.Replace(p.Text))
					}
				}
			}
			assert.True(t, c.connector.Check(ctx, target).OK())
			var accounts []connect.AccountRef
			coverage, err := c.connector.Visit(ctx, target, connect.VisitRequest{}, func(b connect.Batch) error {
				for _, a := range b.Accounts {
					if a.Name == "svc_berth1" {
						accounts = append(accounts, connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN})
					}
				}
				return nil
			})
			require.NoError(t, err)
			assert.Empty(t, coverage.Why)
			read, err := c.connector.Rights(ctx, target, connect.RightsRequest{Whole: true}, func(connect.Batch) error { return nil })
			require.NoError(t, err)
			assert.Empty(t, read.Why)
			require.Len(t, accounts, 1)
			values := connect.Values{Old: secret.New(lab.AccountPassword), New: secret.New("Fresh-Berth-Value-77")}
			require.NoError(t, c.connector.Accept(ctx, target, connect.Point{Account: accounts[0]}, values, connect.AcceptNew))
			verdict, err := c.connector.Verify(ctx, target, accounts[0], values.New)
			require.NoError(t, err)
			assert.True(t, verdict.Accepted, "%+v", verdict)
		})
	}
}
