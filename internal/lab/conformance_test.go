package lab_test

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/directory/uses"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

func TestSambaConforms(t *testing.T) {
	d := lab.Samba(t, "127.0.0.61", "svc-berth2")
	d.Alter(t, "dn: "+d.DN("svc-berth2")+"\nchangetype: modify\nreplace: userWorkstations\nuserWorkstations: QUAY9\n\ndn: "+d.Group()+"\nchangetype: modify\ndelete: member\nmember: "+d.DN("svc-berth2")+"\n")
	d.PermitTurns(t)
	conformance.Run(t, conformance.Fixture{
		Connector: directory.Connector{}, Target: d.Target("samba"), Account: "svc-berth", Twin: "svc-berth2", Password: secret.New(lab.AccountPassword),
		Weak: secret.New("short"), DeadAddress: "127.0.0.250",
	})
	// What the real directory wrote of all that is understood.
	seen, bad, err := uses.Parse(strings.NewReader(d.UsesLog(t)))
	require.NoError(t, err)
	assert.Zero(t, bad)
	var accepted, refused bool
	for _, u := range seen {
		own := strings.HasPrefix(u.Account, "S-1-5-21-") && u.Client != "" && strings.Contains(u.How, "LDAP")
		accepted = accepted || own && !u.Failed
		refused = refused || u.Failed && strings.EqualFold(u.Account, "svc-berth")
	}
	assert.True(t, accepted, "accepted log-ons by SID: %+v", seen)
	assert.True(t, refused, "refused ones by name: %+v", seen)
}

func TestOpenLDAPConforms(t *testing.T) {
	d := lab.OpenLDAP(t, "127.0.0.62", 636, 0, 0, "svc-berth2")
	conformance.Run(t, conformance.Fixture{
		Connector: directory.Connector{}, Target: d.Target("openldap"), Account: "svc-berth", Twin: "svc-berth2", Password: secret.New(lab.AccountPassword),
		Weak: secret.New("short"), DeadAddress: "127.0.0.250",
	})
}

func TestUnixHostConforms(t *testing.T) {
	h := lab.NewHost(t, "conform", 10)
	h.Shell(t, "useradd -r -m -d /var/lib/berth -s /bin/sh svc-berth && echo 'svc-berth:"+lab.AccountPassword+"' | chpasswd")
	h.Write(t, "/etc/berth/berth.env", "# berth\r\nBERTH_USER=svc-berth\r\nBERTH_PASSWORD='"+lab.AccountPassword+"'\r\nLAST=no newline", 0o640)
	h.Shell(t, "chown svc-berth:daemon /etc/berth/berth.env && setfacl -m u:backup:r /etc/berth/berth.env && setfattr -n user.note -v kept /etc/berth/berth.env")
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nUser=svc-berth\nEnvironmentFile=/etc/berth/berth.env\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Write(t, "/etc/systemd/system/tides.service", "[Service]\nExecStart=/bin/sh -c 'trap : HUP; while :; do sleep 1; done'\nExecReload=/bin/kill -HUP $MAINPID\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "systemctl -q enable berth.service tides.service")
	h.Shell(t, "mkdir -m 700 /var/lib/berth/.ssh && ssh-keygen -q -t rsa -b 2048 -m PEM -N '' -C 'berth of old' -f /var/lib/berth/.ssh/id_rsa && (echo '# doors'; printf 'restrict,command=\"/bin/false\" '; cat /var/lib/berth/.ssh/id_rsa.pub) > /var/lib/berth/.ssh/authorized_keys && chown -R svc-berth /var/lib/berth/.ssh && setfacl -m u:backup:r /var/lib/berth/.ssh/id_rsa.pub")
	h.Boot(t)
	key, err := os.ReadFile(h.Root + "/var/lib/berth/.ssh/id_rsa")
	require.NoError(t, err)
	conformance.Run(t, conformance.Fixture{
		Key: secret.FromBytes(key), KeyAccount: "svc-berth", EntriesPath: "/var/lib/berth/.ssh/authorized_keys", KeyPath: "/var/lib/berth/.ssh/id_rsa",
		Connector: unixhost.Connector{}, Target: h.Target(), Account: "svc-berth", Password: secret.New(lab.AccountPassword), Weak: secret.New("two\nlines"),
		CopyPath: "/etc/berth/berth.env", CopyKey: "BERTH_PASSWORD", Unit: estate.Place{Kind: estate.DependentUnit, Place: "berth.service"}, Reloads: estate.Place{Kind: estate.DependentUnit, Place: "tides.service"}, DeadAddress: "10.213.78.250",
		ReadFile: func(t *testing.T, path string) ([]byte, string) {
			content, err := os.ReadFile(h.Root + path)
			require.NoError(t, err)
			info, err := os.Stat(h.Root + path)
			require.NoError(t, err)
			stat := info.Sys().(*syscall.Stat_t)
			acl := h.Shell(t, "getfacl -cp "+path+"; getfattr --absolute-names -d "+path)
			return content, fmt.Sprintf("%o %d %d %s", stat.Mode, stat.Uid, stat.Gid, strings.TrimSpace(acl))
		},
	})
	out := h.Shell(t, "find / -xdev -name '*.moss-new' 2>/dev/null || true")
	require.Empty(t, strings.TrimSpace(out), "nothing is left on the host")
}

// TestOpenLDAPPolicy: a reset silently removes an administrator's lock, which
// is put back; a policy that remembers passwords makes the rehearsal warn.
func TestOpenLDAPPolicy(t *testing.T) {
	d := lab.OpenLDAP(t, "127.0.0.64", 636, 5, 0)
	target := d.Target("openldap")
	ctx := t.Context()
	account := func() estate.Account {
		var out estate.Account
		_, err := directory.Connector{}.Visit(ctx, target, connect.VisitRequest{}, func(b connect.Batch) error {
			for _, a := range b.Accounts {
				if a.Name == "svc-berth" {
					out = a
				}
			}
			return nil
		})
		require.NoError(t, err)
		return out
	}
	a := account()
	ref := connect.AccountRef{StableID: a.StableID, Name: a.Name}
	warned := false
	for _, line := range (directory.Connector{}).Rehearse(ctx, target, []connect.Intention{{Change: &ref}}) {
		warned = warned || line.Result == connect.CheckWarning && strings.Contains(line.Words, "remembers 5 passwords")
	}
	assert.True(t, warned)
	lab.Modify(t, d, "dn: "+d.DN("svc-berth")+"\nchangetype: modify\nreplace: pwdAccountLockedTime\npwdAccountLockedTime: 000001010000Z\n")
	require.EqualValues(t, "yes", account().Locked)
	require.NoError(t, connect.SetPassword(ctx, directory.Connector{}, target, ref, secret.New("Locked-But-Changed-1")))
	assert.EqualValues(t, "yes", account().Locked, "the lock is back")
}
