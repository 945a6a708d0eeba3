package e2e

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/windowshost"
	"mossledger.example/moss/internal/standin/windowshost/domain"
)

// real is an estate of real systems: a Windows-schema domain, an OpenLDAP
// directory and four hosts whose services sign in to them.
type real struct {
	*user
	samba, openldap *lab.Directory
	hosts           map[string]*lab.Host
	terminal        *windowshost.Host // a stand-in, in the real domain
}

func startReal(t *testing.T) *real {
	t.Helper()
	lab.Network(t)
	r := &real{hosts: map[string]*lab.Host{}}
	r.samba = lab.Samba(t, lab.Gateway, "svc-tidefeed")
	r.openldap = lab.OpenLDAP(t, lab.Gateway, 1636, 0, 0, "svc-manifest")
	program := lab.Program(t)

	unit := func(h *lab.Host, name, body string) {
		h.Write(t, "/etc/systemd/system/"+name, "[Unit]\nDescription=Fixture "+name+"\n"+body+"\n[Install]\nWantedBy=multi-user.target\n", 0o644)
		h.Shell(t, "systemctl -q enable "+name)
	}
	common := fmt.Sprintf("Environment=LDAP_CA=/etc/ca.pem LDAP_URL=ldaps://%s\nExecStart=/usr/local/bin/fixture\n", lab.Gateway)
	for i, name := range []string{"quay1", "quay2", "tide1", "bookings1"} {
		h := lab.NewHost(t, name, 20+i)
		r.hosts[name] = h
		h.Write(t, "/usr/local/bin/fixture", program, 0o755)
		h.Write(t, "/etc/ca.pem", r.samba.CA+r.openldap.CA, 0o644)
		h.Shell(t, "useradd -r -s /usr/sbin/nologin berth")
	}
	for _, name := range []string{"quay1", "quay2"} {
		h := r.hosts[name]
		h.Write(t, "/etc/berth/berth.env", "# by hand\r\nLDAP_BIND_DN=\""+r.samba.DN("svc-berth")+"\"\r\nLDAP_BIND_PASSWORD='"+lab.AccountPassword+"'\r\nLISTEN=:8080", 0o640)
		h.Shell(t, "chown root:berth /etc/berth/berth.env && setfacl -m u:backup:r /etc/berth/berth.env && ln -s berth.env /etc/berth/current.env")
		unit(h, "berth.service", "[Service]\nUser=berth\nEnvironmentFile=/etc/berth/current.env\n"+common)
		unit(h, "gangway.service", "After=berth.service\nRequires=berth.service\n[Service]\nUser=berth\nEnvironmentFile=/etc/berth/berth.env\nEnvironment=LISTEN=:8081\nExecStart=/usr/bin/env LISTEN=:8081 /usr/local/bin/fixture\nEnvironment=LDAP_CA=/etc/ca.pem LDAP_URL=ldaps://"+lab.Gateway+"\n")
	}
	tide := r.hosts["tide1"]
	tide.Write(t, "/etc/tide/feed.pw", lab.AccountPassword+"\n", 0o400)
	unit(tide, "tidefeed.service", "[Service]\nUser=berth\nLoadCredential=directory:/etc/tide/feed.pw\nEnvironment=LISTEN=:8080 \"LDAP_BIND_DN="+r.samba.DN("svc-tidefeed")+"\"\n"+common)
	bookings := r.hosts["bookings1"]
	bookings.Write(t, "/etc/manifest.env", fmt.Sprintf("DIRECTORY_URL=ldaps://%s:%s@%s:1636/\nLISTEN=:8080\n", "uid%3Dsvc-manifest%2Cou%3Dservices%2Cdc%3Dlarkmoor%2Cdc%3Dexample", lab.AccountPassword, lab.Gateway), 0o600)
	unit(bookings, "manifest.service", "[Service]\nUser=berth\nEnvironmentFile=/etc/manifest.env\nEnvironment=LDAP_CA=/etc/ca.pem\nExecStart=/usr/local/bin/fixture\n")
	bookings.Shell(t, "useradd -m -s /bin/sh svc-fuelcard && echo 'svc-fuelcard:Diesel-Pump-16' | chpasswd")
	bookings.Write(t, "/etc/fuel.env", "FUEL_USER=svc-fuelcard\nFUEL_PASSWORD=Diesel-Pump-16\n", 0o600)
	unit(bookings, "fuelcard.service", "[Service]\nUser=svc-fuelcard\nEnvironmentFile=/etc/fuel.env\nExecStart=/bin/sleep infinity\n")
	unit(bookings, "broken.service", "[Service]\nUser=berth\nthis is no setting\nExecStart=/bin/sleep infinity\n")
	bookings.Write(t, "/etc/cron.d/fares", "# fares\n*/15 * * * * svc-fuelcard /usr/local/bin/settle --env /etc/fuel.env\n30 2 * * * nobody-here /bin/true\n", 0o644)
	var boot sync.WaitGroup
	for _, h := range r.hosts {
		boot.Add(1)
		go func() { defer boot.Done(); h.Boot(t) }()
	}
	boot.Wait()

	r.user = newService(t)
	r.file("manager.pw", lab.ManagerPassword)
	r.file("account.pw", lab.AccountPassword)
	r.file("fuel.pw", "Diesel-Pump-16")
	r.file("samba.pem", r.samba.CA)
	r.file("openldap.pem", r.openldap.CA)
	r.moss(0, "steward", "add", "samba", "--account", r.samba.Manager, "--password-file", r.File("manager.pw"))
	r.moss(0, "steward", "add", "openldap", "--account", r.openldap.Manager, "--password-file", r.File("manager.pw"))
	r.moss(0, "system", "add", "domain", "--kind", "directory", "--address", lab.Gateway, "--steward", "samba", "--ca-file", r.File("samba.pem"))
	r.moss(0, "system", "add", "openldap", "--kind", "directory", "--address", lab.Gateway, "--port", "1636", "--steward", "openldap", "--ca-file", r.File("openldap.pem"))
	list := "name,address,steward\n"
	for name, h := range r.hosts {
		r.file(name+".key", h.Key.RevealString())
		r.moss(0, "steward", "add", name, "--account", "mossmgr", "--key-file", r.File(name+".key"))
		list += name + "," + h.Address + "," + name + "\n"
	}
	list += "dock9,10.213.78.250,quay1\nquay11,,quay1\n"
	r.moss(0, "system", "import", r.file("hosts.csv", list))
	for name, h := range r.hosts {
		r.moss(0, "system", "check", name, "--approve", h.Fingerprint())
	}
	r.startTerminal()
	return r
}

// startTerminal starts a windows host that is a member of the real domain: its
// services log on with what the domain accepts, and Moss Ledger signs in to it
// with the domain's tickets.
func (r *real) startTerminal() {
	authority, err := standin.NewAuthority()
	require.NoError(r.t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(r.t, err)
	h := windowshost.New(windowshost.Config{
		Name: "TERMINAL1", Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Keytab: lab.Keytab(r.t), Service: lab.HTTPService, Admins: []string{`LARKMOOR\mossmgr`},
		Authority: &domain.Domain{Address: lab.Gateway + ":636", CA: r.samba.CA, Base: r.samba.Base, Name: "larkmoor.example", Account: r.samba.Manager, Secret: lab.ManagerPassword, Center: lab.Gateway + ":88"},
	})
	h.AddService(windowshost.Service{Name: "TideBoard", Account: `LARKMOOR\svc-tidefeed`, Password: lab.AccountPassword})
	h.AddService(windowshost.Service{Name: "TideGate", Account: "LocalSystem", Needs: []string{"TideBoard"}})
	address, err := h.Serve("127.0.0.1:0")
	require.NoError(r.t, err)
	r.t.Cleanup(func() { require.NoError(r.t, h.Close()) })
	r.terminal = h
	_, port, _ := strings.Cut(address, ":")
	r.moss(0, "steward", "add", "terminal", "--account", "mossmgr@"+lab.Realm, "--password-file", r.File("manager.pw"))
	r.moss(0, "system", "add", "terminal1", "--kind", "windows-host", "--address", "127.0.0.1", "--port", port, "--steward", "terminal", "--ca-file", r.file("terminal.pem", authority.PEM), "--option", "kdc="+lab.Gateway+":88", "--option", "service="+lab.HTTPService)
	r.moss(0, "system", "check", "terminal1")
}

func (r *real) read(host, path string) string {
	raw, err := os.ReadFile(r.hosts[host].Root + path)
	require.NoError(r.t, err)
	return string(raw)
}

func (r *real) invocation(host, unit string) string {
	out := r.hosts[host].Shell(r.t, "systemctl show -p ActiveState,InvocationID "+unit)
	require.Contains(r.t, out, "ActiveState=active", "%s on %s", unit, host)
	return out
}

// accepts asks the domain itself. Anything but a clear answer fails the test.
func (r *real) accepts(name, password string) bool {
	r.t.Helper()
	target := r.samba.Target("domain")
	target.Steward = connect.Steward{Account: r.samba.DN(name), Password: secret.New(password)}
	report := directory.Connector{}.Check(context.Background(), target)
	last := report.Stages[len(report.Stages)-1]
	require.True(r.t, report.OK() || last.Code == connect.CodeStewardRefused, "the domain gives no clear answer: %+v", last)
	return report.OK()
}

func TestRealSystems(t *testing.T) {
	r := startReal(t)
	run := func(name string, f func(*testing.T)) {
		t.Run(name, func(t *testing.T) {
			r.user.t = t
			f(t)
		})
	}
	run("survey", r.survey)
	run("rotate a domain account on two hosts", r.rotateBerth)
	run("rotate in OpenLDAP, in a URL", r.rotateManifest)
	run("rotate a local account", r.rotateLocal)
	run("a host fails in the middle: undo", r.undo)
	run("a host is cut off: stop and resume", r.stopAndResume)
	run("killed at every journal step", r.killed)
	run("killed at random instants", r.killedAnywhere)
	run("the ledger holds", func(*testing.T) { r.moss(0, "ledger", "verify") })
}

func (r *real) survey(t *testing.T) {
	out := r.moss(0, "system", "import", "--directory", "domain", "--base", "OU=Hosts,DC=larkmoor,DC=example", "--steward", "quay1")
	assert.Contains(t, out, "1 already there", "the domain knows tide1 too")
	assert.Contains(t, r.moss(1, "system", "import", "--directory", "domain", "--base", "OU=Nowhere,DC=larkmoor,DC=example"), "there is no OU=Nowhere")
	started := time.Now()
	out = r.moss(3, "survey", "run")
	assert.Contains(t, out, "9 systems")
	assert.Regexp(t, regexp.MustCompile(`dock9 +failed +connect`), out)
	assert.Regexp(t, regexp.MustCompile(`quay11 +failed +resolve`), out)
	t.Logf("survey of 8 real systems and a stand-in, one dead and one misspelt: %v", time.Since(started).Round(time.Millisecond))
	out = r.moss(0, "survey", "show", "1", "--problems")
	assert.Contains(t, out, "/etc/systemd/system/broken.service line 5", "a unit file with a mistake is named with its line")
	for _, spelling := range []string{`LARKMOOR\svc-berth`, "svc-berth@larkmoor.example", "CN=svc-berth,OU=Service Accounts,DC=larkmoor,DC=example", "cn=SVC-BERTH, ou=service accounts,dc=larkmoor,dc=example", "domain/svc-berth"} {
		out := r.moss(0, "account", "resolve", spelling)
		assert.Contains(t, out, "domain/svc-berth", spelling)
	}
	assert.Contains(t, r.moss(3, "account", "resolve", "svc-berth"), "ambiguous", "two directories know the name")
	assert.Contains(t, r.moss(0, "account", "resolve", "bookings1/svc-fuelcard"), "resolved")
	accounts := r.rows("account", "list", "--filter", "name=svc-berth", "--filter", "system=domain")
	require.Len(t, accounts, 1)
	assert.Equal(t, true, accounts[0]["never_expires"])
	assert.Contains(t, fmt.Sprint(accounts[0]["groups"]), "Operations Staff", "nested membership, through a group that contains itself")
	assert.Contains(t, r.moss(0, "account", "show", "domain/svc-tidefeed"), "/etc/tide/feed.pw#content", "a file of one value belongs to the account that its unit names")
	assert.Contains(t, r.moss(0, "dependent", "list", "--account", "bookings1/svc-fuelcard"), "/etc/cron.d/fares:2")
	assert.Contains(t, r.moss(0, "finding", "list"), "nobody-here")
}

func (r *real) rotateBerth(t *testing.T) {
	r.moss(0, "custody", "take", "domain/svc-berth", "--password-file", r.File("account.pw"))
	r.moss(0, "custody", "take", "domain/svc-tidefeed", "--password-file", r.File("account.pw"))
	for _, row := range r.rows("dependent", "list", "--filter", "name=berth.service") {
		host := fmt.Sprint(row["system"])
		r.moss(0, "dependent", "expect", fmt.Sprint(row["id"]), "--http", "http://"+r.hosts[host].Address+":8080/", "--contains", "ready")
	}
	before := r.read("quay1", "/etc/berth/berth.env")
	invocation := r.invocation("quay1", "berth.service")
	r.moss(0, "rotate", "rehearse", "domain/svc-berth")
	out := r.moss(0, "rotate", "run", "domain/svc-berth", "--reason", "test")
	assert.Contains(t, out, "answers as expected")
	after := r.read("quay1", "/etc/berth/berth.env")
	value := regexp.MustCompile(`LDAP_BIND_PASSWORD='([^']+)'`).FindStringSubmatch(after)
	require.Len(t, value, 2, after)
	assert.Equal(t, strings.Replace(before, lab.AccountPassword, value[1], 1), after, "every other byte is kept")
	assert.Equal(t, after, r.read("quay2", "/etc/berth/berth.env"))
	assert.Contains(t, r.hosts["quay1"].Shell(t, "getfacl -cp /etc/berth/berth.env; stat -c '%U:%G %a' /etc/berth/berth.env; readlink /etc/berth/current.env"), "user:backup:r--")
	assert.NotEqual(t, invocation, r.invocation("quay1", "berth.service"))
	r.invocation("quay2", "gangway.service")
	assert.True(t, r.accepts("svc-berth", value[1]))
	// A real domain lets the former one bind for an hour, which is no failure and no proof.
	assert.True(t, r.accepts("svc-berth", lab.AccountPassword))
	assert.Regexp(t, `later +prove that the old value of svc-berth is refused`, out)
	id := fmt.Sprint(r.rows("rotate", "list", "--limit", "1")[0]["id"])
	assert.Contains(t, r.moss(0, "rotate", "look", id), "it was still accepted at the end; it is asked again at", "it is not asked before its hour")
	assert.Contains(t, r.moss(0, "rotate", "show", id), "again at", "an hour has not passed")
	// The proof that nothing breaks at the next restart either.
	r.hosts["quay1"].Shell(t, "systemctl restart berth.service gangway.service")
	r.hosts["quay1"].Port(t, "8081")
}

func (r *real) rotateManifest(t *testing.T) {
	r.moss(0, "custody", "take", "openldap/svc-manifest", "--password-file", r.File("account.pw"))
	invocation := r.invocation("bookings1", "manifest.service")
	r.moss(0, "rotate", "rehearse", "openldap/svc-manifest")
	r.moss(0, "rotate", "run", "openldap/svc-manifest", "--reason", "test")
	assert.NotEqual(t, invocation, r.invocation("bookings1", "manifest.service"))
	assert.NotContains(t, r.read("bookings1", "/etc/manifest.env"), lab.AccountPassword)
	r.hosts["bookings1"].Port(t, "8080")
}

func (r *real) rotateLocal(t *testing.T) {
	r.moss(0, "custody", "take", "bookings1/svc-fuelcard", "--password-file", r.File("fuel.pw"))
	r.moss(0, "rotate", "rehearse", "bookings1/svc-fuelcard")
	r.moss(0, "rotate", "run", "bookings1/svc-fuelcard", "--reason", "test")
	r.moss(0, "custody", "verify", "bookings1/svc-fuelcard")
	assert.NotContains(t, r.read("bookings1", "/etc/fuel.env"), "Diesel-Pump-16")
	r.hosts["bookings1"].Shell(t, "echo 'svc-fuelcard:changed-behind-our-back' | chpasswd")
	assert.Contains(t, r.moss(3, "custody", "verify", "bookings1/svc-fuelcard"), "refused")
	assert.Contains(t, r.moss(0, "finding", "list"), "drift")
}

// undo: quay2's berth cannot come up with anything but the old value, because
// its directory address is taken away between rehearsal and restart.
func (r *real) undo(t *testing.T) {
	before := r.read("quay1", "/etc/berth/berth.env")
	r.moss(0, "rotate", "rehearse", "domain/svc-berth")
	// The second host's program accepts only the value of this moment.
	guard := "/etc/systemd/system/berth.service.d/guard.conf"
	r.hosts["quay2"].Shell(t, "mkdir -p /etc/systemd/system/berth.service.d && cp /etc/berth/berth.env /run/known.env && printf '[Service]\\nExecStartPre=+/usr/bin/cmp -s /etc/berth/berth.env /run/known.env\\n' > "+guard+" && systemctl daemon-reload")
	out := r.moss(3, "rotate", "run", "domain/svc-berth", "--reason", "test", "--on-failure", "undo") // it worked, and the answer is no
	assert.Contains(t, out, "decided  undo (policy)")
	assert.Contains(t, out, "finished undone")
	assert.Equal(t, before, r.read("quay1", "/etc/berth/berth.env"))
	assert.Equal(t, before, r.read("quay2", "/etc/berth/berth.env"))
	for _, host := range []string{"quay1", "quay2"} {
		r.invocation(host, "berth.service")
		r.invocation(host, "gangway.service")
	}
	r.moss(0, "custody", "verify", "domain/svc-berth")
	r.hosts["quay2"].Shell(t, "rm -r /etc/systemd/system/berth.service.d && systemctl daemon-reload")
}

// stopAndResume: quay2 is cut off from the network after the rehearsal.
func (r *real) stopAndResume(t *testing.T) {
	r.moss(0, "rotate", "rehearse", "domain/svc-berth", "--on-failure", "stop", "--patience", "8s")
	r.hosts["quay2"].Link(t, false)
	out := r.moss(3, "rotate", "run", "domain/svc-berth", "--reason", "test", "--on-failure", "stop", "--patience", "8s")
	assert.Contains(t, out, "decided  stop (policy)")
	assert.Contains(t, out, "quay2: connect:", "the failure names system and stage")
	r.hosts["quay2"].Link(t, true)
	r.hosts["quay2"].Port(t, "22") // the network takes a moment to know it again
	id := fmt.Sprint(r.rows("rotate", "list", "--limit", "1")[0]["id"])
	out = r.moss(0, "rotate", "resume", id, "--reason", "the cable is back")
	assert.Contains(t, out, "finished done")
	for _, host := range []string{"quay1", "quay2"} {
		r.invocation(host, "gangway.service")
	}
}

// killed: the service is killed with SIGKILL after every journal record of a
// rotation, started again, and must finish by itself.
func (r *real) killed(t *testing.T) {
	ctx := context.Background()
	for at := 1; ; at++ {
		require.Less(t, at, 40)
		require.NoError(t, r.StopService(syscall.SIGTERM))
		require.NoError(t, r.StartService(ctx, at))
		r.moss(0, "rotate", "rehearse", "domain/svc-tidefeed")
		out, code, err := r.Moss(ctx, "rotate", "run", "domain/svc-tidefeed", "--reason", fmt.Sprintf("kill after record %d", at), "--detach")
		require.NoError(t, err, out)
		limited, cancel := context.WithTimeout(ctx, 10*time.Second)
		died := r.WaitServiceEnd(limited) == nil
		cancel()
		if died {
			require.NoError(t, r.StartService(ctx, 0))
		} else {
			require.Equal(t, 0, code)
		}
		id := fmt.Sprint(r.rows("rotate", "list", "--limit", "1")[0]["id"])
		require.Equal(t, "done", r.waitFinished(id), "killed after record %d\n%s", at, r.moss(0, "rotate", "show", id, "--journal"))
		r.moss(0, "custody", "verify", "domain/svc-tidefeed")
		r.invocation("tide1", "tidefeed.service")
		password := strings.TrimSpace(r.read("tide1", "/etc/tide/feed.pw"))
		require.True(t, r.accepts("svc-tidefeed", password), "killed after record %d: the copy on the host is what the domain accepts\n%s\n%s", at,
			r.moss(0, "rotate", "show", id, "--journal"), r.moss(0, "account", "show", "domain/svc-tidefeed"))
		account, used := r.terminal.Uses("TideBoard")
		require.Equal(t, `LARKMOOR\svc-tidefeed`, account)
		require.Equal(t, password, used, "killed after record %d: the service runs on what the domain accepts\n%s", at, r.moss(0, "rotate", "show", id, "--journal"))
		_, stored := r.terminal.Stores("TideBoard")
		require.Equal(t, password, stored, "killed after record %d", at)
		require.Equal(t, windowshost.Running, r.terminal.State("TideGate"), "killed after record %d: what needs it is back", at)
		if !died {
			require.Greater(t, at, 24, "a rotation with one copy, one unit and one service has 24 records")
			break
		}
	}
	leftovers := r.hosts["tide1"].Shell(t, "find / -xdev -name '*.moss-new' 2>/dev/null || true")
	assert.Empty(t, strings.TrimSpace(leftovers))
}
