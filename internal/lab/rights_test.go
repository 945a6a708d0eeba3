package lab_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// narrow are the rights that docs/onboarding.md asks for.
var narrow = []string{
	`/usr/bin/passwd -S -a`, `/usr/bin/chage -l -i *`, `/usr/bin/crontab -l -u *`, `/usr/bin/ls -1 -- /var/spool/cron/crontabs`, `/usr/bin/cat -- /etc/berth/berth.env`,
	`/usr/bin/rm -f -- /etc/berth/.berth.env.moss-new`, `/usr/bin/cp -a -- /etc/berth/berth.env /etc/berth/.berth.env.moss-new`,
	`/usr/bin/dd of\=/etc/berth/.berth.env.moss-new conv\=fsync status\=none`, `/usr/bin/mv -fT -- /etc/berth/.berth.env.moss-new /etc/berth/berth.env`,
	`/usr/bin/sync -- /etc/berth`, `/usr/bin/systemctl restart berth.service`,
}

// TestNarrowRights proves that a visit and a replacement work with exactly the
// documented rights on a real host, and that each missing one is named before
// anything is changed.
func TestNarrowRights(t *testing.T) {
	h := lab.NewHost(t, "narrow", 11)
	h.Write(t, "/etc/berth/berth.env", "BERTH_PASSWORD=Old-Value-1\n", 0o600)
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nEnvironmentFile=/etc/berth/berth.env\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "systemctl -q enable berth.service")
	h.Boot(t)
	grant := func(rights []string) {
		h.Write(t, "/etc/sudoers.d/mossmgr", "Defaults:mossmgr !lecture, !requiretty\nmossmgr ALL=(root) NOPASSWD: "+strings.Join(rights, ", ")+"\n", 0o440)
		h.Shell(t, "visudo -cqf /etc/sudoers.d/mossmgr")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	c, target := unixhost.Connector{}, h.Target()
	places := []held.Locator{{Layout: held.LayoutEnv, Key: "BERTH_PASSWORD", Part: held.PartValue}}
	old, next := secret.New("Old-Value-1"), secret.New("New-Value-2")
	intentions := []connect.Intention{{Replace: "/etc/berth/berth.env", Places: places, Current: old}, {Restart: unit("berth.service")}}

	narrow := append(unixhost.SearchRights(nil), narrow...)
	grant(narrow)
	coverage, err := c.Visit(ctx, target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(connect.Batch) error { return nil })
	require.NoError(t, err)
	assert.Empty(t, coverage.Why, "everything is read with the documented rights")
	for _, line := range c.Rehearse(ctx, target, intentions) {
		assert.Equal(t, connect.CheckOK, line.Result, "%+v", line)
	}
	require.NoError(t, c.ReplaceCopies(ctx, target, "/etc/berth/berth.env", places, old, next))
	require.NoError(t, c.ReplaceCopies(ctx, target, "/etc/berth/berth.env", places, next, old))
	_, err = c.Restart(ctx, target, unit("berth.service"))
	require.NoError(t, err)
	_, err = c.Restart(ctx, target, unit("ssh.service"))
	assert.Error(t, err, "and nothing else is allowed")

	for i := 9; i < len(narrow); i++ { // from reading the file on, each is needed
		grant(append(append([]string(nil), narrow[:i]...), narrow[i+1:]...))
		failed := false
		for _, line := range c.Rehearse(ctx, target, intentions) {
			failed = failed || line.Result == connect.CheckFailed && (line.Next != "" || line.Words != "")
		}
		assert.True(t, failed, "without %s the rehearsal says so", narrow[i])
		assert.Equal(t, "BERTH_PASSWORD=Old-Value-1\n", h.Shell(t, "cat /etc/berth/berth.env"))
	}
}

func unit(name string) estate.Place {
	return estate.Place{Kind: estate.DependentUnit, Place: name}
}
