package lab_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A real kernel refuses what the rehearsal said it would, and takes what it let pass.
func TestTheGroundOfRealFiles(t *testing.T) {
	h := lab.NewHost(t, "grounds", 19)
	const content = "BERTH_PASSWORD=Old-Value-1\n"
	for _, name := range []string{"plain", "immutable", "bound", "readonly", "full", "folder"} {
		h.Write(t, "/etc/berth/"+name+"/berth.env", content, 0o600)
	}
	h.Write(t, "/srv/real.env", content, 0o600)
	h.Boot(t)
	h.Shell(t, `mount --bind /srv/real.env /etc/berth/bound/berth.env
mount --bind /etc/berth/readonly /etc/berth/readonly && mount -o remount,bind,ro /etc/berth/readonly
mount -t tmpfs -o size=8k,mode=755 tmpfs /etc/berth/full && echo BERTH_PASSWORD=Old-Value-1 > /etc/berth/full/berth.env && head -c 4096 /dev/zero > /etc/berth/full/rest`)
	_, immutable := h.TryShell(t.Context(), "chattr +i /etc/berth/immutable/berth.env && chattr +a /etc/berth/folder")
	t.Cleanup(func() {
		h.Shell(t, "chattr -i /etc/berth/immutable/berth.env; chattr -a /etc/berth/folder; umount /etc/berth/bound/berth.env /etc/berth/readonly /etc/berth/full")
	})
	c, target := unixhost.Connector{}, h.Target()
	places := []held.Locator{{Layout: layout.Env, Key: "BERTH_PASSWORD", Part: held.PartValue}}
	old, next := secret.New("Old-Value-1"), secret.New("New-Value-2")
	for name, words := range map[string]string{"plain": "", "bound": "bind mount of", "readonly": "mounted read-only", "full": "bytes left", "immutable": "forbids changes", "folder": "forbids changes"} {
		if (name == "immutable" || name == "folder") && immutable != nil {
			t.Logf("this kernel keeps no attributes on the hosts' file systems: %v", immutable)
			continue
		}
		p := "/etc/berth/" + name + "/berth.env"
		passed := true
		for _, line := range c.Rehearse(t.Context(), target, []connect.Intention{{Replace: p, Places: places, Current: old}}) {
			passed = passed && line.Result == connect.CheckOK
			if strings.HasPrefix(line.What, "ground under") {
				assert.Contains(t, line.Words, words, name)
			}
		}
		assert.Equal(t, words == "", passed, name)
		err := c.ReplaceCopies(t.Context(), target, p, places, old, next)
		assert.Equal(t, words == "", err == nil, "%s: the kernel: %v", name, err)
		if words != "" {
			assert.Equal(t, content, h.Shell(t, "cat "+p), name)
		}
	}
}

// What other distributions say, said by programs of a real host that were put in the place
// of its own: crontabs in the spool itself, closed to others; passwd without -a, with other
// words; chage without ISO dates; an init that tells no invocations.
func TestAHostOfAnotherFamily(t *testing.T) {
	h := lab.NewHost(t, "otherwise", 42)
	h.Shell(t, `useradd -m svc-tide && echo 'svc-tide:Tide-Passw0rd-1' | chpasswd && chage -E 2027-01-09 -M 90 svc-tide
useradd -m svc-shut
mkdir -p /usr/lib/own && mv /usr/bin/passwd /usr/bin/chage /usr/bin/systemctl /usr/bin/crontab /usr/lib/own/
rm -rf /var/spool/cron/crontabs && chmod 700 /var/spool/cron && chmod 700 /etc/cron.d && echo '5 2 * * * /bin/true --password-file /etc/tide.pw' > /var/spool/cron/svc-tide
echo '*/7 * * * * svc-tide /bin/true hidden' > /etc/cron.d/closed`)
	for name, script := range map[string]string{
		"passwd":    "[ \"$2\" = -a ] && { echo 'passwd: bad argument -a: unknown option' >&2; exit 2; }\n/usr/lib/own/passwd \"$@\" | sed -E 's/^(\\S+) P /\\1 PS /; s/^(\\S+) L /\\1 LK /; s/$/ (Password set, SHA512 crypt.)/'",
		"chage":     "for a; do [ \"$a\" = -i ] && { echo \"chage: invalid option -- 'i'\" >&2; exit 2; }; done\nexec /usr/lib/own/chage \"$@\"",
		"systemctl": "/usr/lib/own/systemctl \"$@\" | sed '/^InvocationID=/d'\nexit ${PIPESTATUS[0]}",
		"crontab":   "cat \"/var/spool/cron/$3\"",
	} {
		h.Write(t, "/usr/bin/"+name, "#!/bin/bash\n"+script+"\n", 0o755)
	}
	h.Write(t, "/etc/systemd/system/tide.service", "[Service]\nUser=svc-tide\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "/usr/lib/own/systemctl -q enable tide.service")
	h.Boot(t)
	c, target := unixhost.Connector{}, h.Target()
	accounts, entries := map[string]estate.Account{}, map[string]estate.Dependent{}
	coverage, err := c.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			accounts[a.Name] = a
		}
		for _, d := range b.Dependents {
			entries[d.Place] = d
		}
		return nil
	})
	require.NoError(t, err)
	assert.True(t, coverage.Complete[connect.ScopeCron], coverage.Why[connect.ScopeCron])
	assert.Equal(t, "svc-tide", entries["/var/spool/cron/svc-tide:1"].RunsAs)
	assert.Equal(t, "/bin/true hidden", entries["/etc/cron.d/closed:1"].Executable, "a folder closed to others is read with rights")
	assert.Equal(t, estate.Yes, accounts["svc-tide"].Enabled)
	assert.Equal(t, "2027-01-09", accounts["svc-tide"].AccountExpires.Format("2006-01-02"))
	assert.Equal(t, estate.Yes, accounts["svc-shut"].Locked)
	before, err := c.UnitState(t.Context(), target, unit("tide.service"))
	require.NoError(t, err)
	require.NotEmpty(t, before.Invocation)
	again, err := c.UnitState(t.Context(), target, unit("tide.service"))
	require.NoError(t, err)
	assert.Equal(t, before.Invocation, again.Invocation, "nothing happened")
	_, err = c.Restart(t.Context(), target, unit("tide.service"))
	require.NoError(t, err)
	after, err := c.UnitState(t.Context(), target, unit("tide.service"))
	require.NoError(t, err)
	assert.NotEqual(t, before.Invocation, after.Invocation, "a restart is told")
}
