package lab_test

import (
	"context"
	"crypto/rand"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
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
	places := []held.Locator{{Layout: layout.Env, Key: "BERTH_PASSWORD", Part: held.PartValue}}
	old, next := secret.New("Old-Value-1"), secret.New("New-Value-2")
	intentions := []connect.Intention{{Replace: "/etc/berth/berth.env", Places: places, Current: old}, {Restart: unit("berth.service")}}

	narrow := append(reading.SearchRights(nil), narrow...)
	grant(narrow)
	coverage, err := c.Visit(ctx, target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(connect.Batch) error { return nil })
	require.NoError(t, err)
	assert.Empty(t, coverage.Why, "everything is read with the documented rights")
	log, err := c.Records(ctx, target, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	assert.NotEmpty(t, log.Records, "the steward's own signing in at least")
	for _, line := range c.Rehearse(ctx, target, intentions) {
		assert.Equal(t, connect.CheckOK, line.Result, "%+v", line)
	}
	require.NoError(t, c.ReplaceCopies(ctx, target, "/etc/berth/berth.env", places, old, next))
	require.NoError(t, c.ReplaceCopies(ctx, target, "/etc/berth/berth.env", places, next, old))
	_, err = c.Restart(ctx, target, unit("berth.service"))
	require.NoError(t, err)
	_, err = c.Restart(ctx, target, unit("ssh.service"))
	assert.Error(t, err, "and nothing else is allowed")

	for i := slices.Index(narrow, `/usr/bin/cat -- /etc/berth/berth.env`); i < len(narrow); i++ { // from reading the file on, each is needed
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

// TestNarrowRightsForKeys proves the same of a key pair in folders that only
// their owners may look into.
func TestNarrowRightsForKeys(t *testing.T) {
	const private, entries = "/home/tide/.ssh/id_ed25519", "/home/door/.ssh/authorized_keys"
	h := lab.NewHost(t, "narrowkeys", 12)
	h.Shell(t, "useradd -m tide && useradd -m door && chmod 700 /home/tide /home/door && mkdir -m 700 /home/tide/.ssh /home/door/.ssh && "+
		"ssh-keygen -q -t ed25519 -N '' -C tides -f "+private+" && cp "+private+".pub "+entries+" && chown -R tide /home/tide/.ssh && chown -R door /home/door/.ssh && chmod 600 "+entries)
	h.Boot(t)
	grant := func(rights []string) {
		h.Write(t, "/etc/sudoers.d/mossmgr", "Defaults:mossmgr !lecture, !requiretty\nmossmgr ALL=(root) NOPASSWD: "+strings.Join(rights, ", ")+"\n", 0o440)
		h.Shell(t, "visudo -cqf /etc/sudoers.d/mossmgr")
	}
	var rights []string
	for _, p := range []string{entries, private, private + ".pub"} {
		folder, name := path.Split(p)
		left := folder + "." + name + ".moss-new"
		rights = append(rights, `/usr/bin/stat -c %h|%f -- `+p, `/usr/bin/cat -- `+p, `/usr/bin/rm -f -- `+left, `/usr/bin/cp -a -- `+p+` `+left,
			`/usr/bin/dd of\=`+left+` conv\=fsync status\=none`, `/usr/bin/mv -fT -- `+left+` `+p)
	}
	rights = append(rights, `/usr/bin/sync -- /home/door/.ssh`, `/usr/bin/sync -- /home/tide/.ssh`, `/usr/bin/rm -f -- `+private+`.pub`, `/usr/bin/cat -- /home/tide/.ssh/.id_ed25519.pub.moss-new`)
	grant(rights)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	c, target := unixhost.Connector{}, h.Target()
	old := secret.New(h.Shell(t, "cat "+private))
	fresh, err := keys.Generate(old, "", rand.Reader)
	require.NoError(t, err)
	is, err := keys.PairOf(old)
	require.NoError(t, err)
	will, err := keys.PairOf(fresh)
	require.NoError(t, err)
	places := []held.Locator{{Layout: layout.PEM, Part: held.PartValue}}
	intentions := []connect.Intention{{Entries: &connect.EntryChange{Path: entries, Stays: is.Line}}, {Replace: private, Places: places, Current: old}}
	for _, line := range c.Rehearse(ctx, target, intentions) {
		assert.Equal(t, connect.CheckOK, line.Result, "%+v", line)
	}
	accept := func(want connect.Accepted) error {
		return c.Accept(ctx, target, connect.Point{Path: entries}, connect.Values{Old: secret.New(is.Line), New: secret.New(will.Line)}, want)
	}
	require.NoError(t, accept(connect.AcceptBoth))
	require.NoError(t, c.ReplaceCopies(ctx, target, private, places, old, fresh))
	require.NoError(t, accept(connect.AcceptNew))
	assert.Equal(t, will.Line+" tides\n", h.Shell(t, "cat "+entries))
	assert.Equal(t, will.Line+" tides\n", h.Shell(t, "cat "+private+".pub"))
	// A public half of another key beside it is left alone.
	h.Write(t, private+".pub", "ssh-ed25519 "+strings.Repeat("A", 68)+" of somebody else\n", 0o644)
	require.NoError(t, c.ReplaceCopies(ctx, target, private, places, fresh, old))
	assert.Contains(t, h.Shell(t, "cat "+private+".pub"), "of somebody else")
	h.Write(t, private+".pub", is.Line+" tides\n", 0o644)
	// What a cut connection may leave is found in a closed folder too.
	h.Shell(t, "cp -a "+private+" /home/tide/.ssh/.id_ed25519.moss-new && mv "+private+".pub /home/tide/.ssh/.id_ed25519.pub.moss-new")
	_, err = c.ReadCopies(ctx, target, private, places)
	require.NoError(t, err)
	assert.Equal(t, "id_ed25519\nid_ed25519.pub\n", h.Shell(t, "ls -A /home/tide/.ssh"))
	assert.Equal(t, is.Line+" tides\n", h.Shell(t, "cat "+private+".pub"))
	require.NoError(t, accept(connect.AcceptBoth))

	for i := range rights { // each is needed
		grant(append(append([]string(nil), rights[:i]...), rights[i+1:]...))
		failed := false
		for _, line := range c.Rehearse(ctx, target, intentions) {
			failed = failed || line.Result == connect.CheckFailed
		}
		assert.True(t, failed, "without %s the rehearsal says so", rights[i])
	}
}
