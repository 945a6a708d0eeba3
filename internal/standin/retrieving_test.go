package standin_test

import (
	"encoding/base64"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/windowshost"
	"mossledger.example/moss/internal/standin/windowshost/domain"
)

// locks is a domain with a managed account, a group that may have its password, and a clock.
type locks struct {
	t       *testing.T
	d       *standindir.Server
	address string
	trusted string
	passed  atomic.Int64
}

const (
	locksBase = "DC=larkmoor,DC=example"
	lockHosts = "CN=Lock Hosts," + locksBase
	lockName  = `LARKMOOR\gmsa-locks$`
)

func (l *locks) now() time.Time       { return time.Now().Add(time.Duration(l.passed.Load())) }
func (l *locks) pass(d time.Duration) { l.passed.Add(int64(d)) }

func startLocks(t *testing.T) *locks {
	l := &locks{t: t}
	l.d, l.address, l.trusted = served(t, standindir.Config{Now: l.now}, "reader")
	l.d.Add(standindir.Entry{DN: lockHosts, Attributes: map[string][]string{"objectClass": {"group"}, "sAMAccountName": {"Lock Hosts"}}})
	for _, name := range []string{"LOCK1", "LOCK2"} {
		l.d.Add(standindir.Entry{DN: "CN=" + name + "," + locksBase, Password: "Of-The-Machine-" + name, Attributes: map[string][]string{"objectClass": {"user", "computer"}, "sAMAccountName": {name + "$"}, "dNSHostName": {strings.ToLower(name) + ".larkmoor.example"}}})
	}
	l.d.Add(standindir.Entry{DN: "CN=gmsa-locks," + locksBase, Attributes: map[string][]string{"objectClass": {"user", "computer", standindir.ManagedClass}, "sAMAccountName": {"gmsa-locks$"}, "msDS-ManagedPasswordInterval": {"30"}}})
	l.d.Permit("CN=gmsa-locks,"+locksBase, lockHosts)
	return l
}

func (l *locks) host(name string) *windowshost.Host {
	h := windowshost.New(windowshost.Config{
		Name: name, Domain: "larkmoor.example", NetBIOS: "LARKMOOR", Now: l.now,
		Authority: &domain.Domain{Address: l.address, CA: l.trusted, Base: locksBase, Name: "larkmoor.example", Account: "CN=mossmgr," + locksBase, Secret: "Manager-Passw0rd", Retrieve: l.d.Retrieve},
	})
	h.AddService(windowshost.Service{Name: "Locks", Account: lockName, Idle: true})
	h.AddPool(windowshost.Pool{Name: "LockSite", Identity: 3, User: lockName})
	return h
}

// A host has the password of a managed account when it is in the group that may, has started since
// it is, and a root key is in effect; its service logs on with that very password. After the interval
// it is another one, which hosts follow by themselves.
func TestHostsFetchTheirPasswords(t *testing.T) {
	l := startLocks(t)
	h := l.host("LOCK1")
	restart := func() string { h.Reboot(); return h.State("Locks") }
	assert.Equal(t, windowshost.Stopped, restart(), "it is in no group, and there is no key")
	_, _ = l.d.Join(lockHosts, "CN=LOCK1,"+locksBase, l.now().Add(-time.Hour))
	assert.Equal(t, windowshost.Stopped, restart(), "there is no key")
	_, err := l.d.Retrieve(`LARKMOOR\LOCK1$`, lockName, l.now())
	require.ErrorIs(t, err, standindir.ErrNoRootKey)
	l.d.AddRootKey("6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11", l.now().Add(-11*time.Hour), l.now().Add(-time.Hour))
	require.Equal(t, windowshost.Running, restart())
	events := h.Events()
	refused := 0
	for _, e := range events {
		if e.Code == 7038 && strings.Contains(e.Message, lockName) {
			refused++
		}
	}
	assert.Equal(t, 2, refused)
	_, first := h.Uses("Locks")
	assert.True(t, l.d.Accepts(lockName, first), "it signs in with it")
	assert.Len(t, []rune(first), 128)
	assert.True(t, h.PoolServes("LockSite"))

	// One that joins while it runs is not let in before it starts again, and what others may is not
	// what it may.
	second := l.host("LOCK2")
	second.Reboot()
	l.pass(time.Minute)
	_, words := l.d.Join(lockHosts, "CN=LOCK2,"+locksBase, l.now())
	require.Empty(t, words)
	_, err = l.d.Retrieve(`LARKMOOR\LOCK2$`, lockName, l.now().Add(-time.Second))
	require.ErrorIs(t, err, standindir.ErrNotPermitted)
	assert.Equal(t, windowshost.Stopped, second.State("Locks"))
	l.pass(time.Minute)
	second.Reboot()
	require.Equal(t, windowshost.Running, second.State("Locks"))
	_, same := second.Uses("Locks")
	assert.Equal(t, first, same, "all hosts are given the same")
	_, err = l.d.Retrieve(`LARKMOOR\reader`, lockName, l.now())
	require.ErrorIs(t, err, standindir.ErrNotPermitted)
	_, err = l.d.Retrieve(`LARKMOOR\LOCK1$`, `LARKMOOR\reader`, l.now())
	require.ErrorIs(t, err, standindir.ErrNotManaged)

	// The interval passes: another password, the one before it for an hour beside it.
	blob := func() managed.Passwords {
		raw, err := l.d.Retrieve(`LARKMOOR\LOCK1$`, lockName, l.now())
		require.NoError(t, err)
		p, err := managed.Decode(raw)
		require.NoError(t, err)
		return p
	}
	p := blob()
	assert.True(t, p.Previous.Empty())
	assert.Equal(t, first, managed.Text(p.Current))
	assert.Less(t, p.Unchanged, p.Ask)
	assert.InDelta(t, 30*24, p.Ask.Hours(), 1)
	l.pass(p.Ask + time.Second)
	require.Equal(t, windowshost.Running, restart())
	_, next := h.Uses("Locks")
	assert.NotEqual(t, first, next)
	assert.True(t, l.d.Accepts(lockName, next) && l.d.Accepts(lockName, first))
	p = blob()
	assert.Equal(t, []string{next, first}, []string{managed.Text(p.Current), managed.Text(p.Previous)})
	l.pass(61 * time.Minute)
	assert.True(t, l.d.Accepts(lockName, next))
	assert.False(t, l.d.Accepts(lockName, first), "what was not asked for again is too old by now")
	l.d.Update("CN=gmsa-locks,"+locksBase, func(e *standindir.Entry) { e.Disabled = true })
	assert.Equal(t, windowshost.Stopped, restart(), "a disabled account signs nobody in")
	// One that may not any more: its service runs on, and does not start again.
	l.d.Update("CN=gmsa-locks,"+locksBase, func(e *standindir.Entry) { e.Disabled = false })
	require.Equal(t, windowshost.Running, restart())
	l.d.Permit("CN=gmsa-locks," + locksBase)
	assert.Equal(t, windowshost.Running, h.State("Locks"))
	assert.Equal(t, windowshost.Stopped, restart())
}

// A client that others wrote is shown the structure when it signs in as a host that may have it and
// names it, and at no other time; administrators are not.
func TestOthersAreShownManagedPasswords(t *testing.T) {
	lab.Require(t)
	l := startLocks(t)
	l.d.AddRootKey("6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11", l.now().Add(-11*time.Hour), l.now().Add(-time.Hour))
	_, _ = l.d.Join(lockHosts, "CN=LOCK1,"+locksBase, l.now().Add(-time.Hour))
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "ca.pem"), []byte(l.trusted), 0o600))
	search := func(who, password string, wanted ...string) string {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "pw"), []byte(password), 0o600))
		cmd := exec.CommandContext(t.Context(), "ldapsearch", append([]string{"-x", "-H", "ldaps://" + l.address, "-D", "CN=" + who + "," + locksBase, "-y", filepath.Join(folder, "pw"), "-LLL", "-o", "ldif-wrap=no", "-b", "CN=gmsa-locks," + locksBase, "-s", "base"}, append([]string{"(objectClass=*)"}, wanted...)...)...)
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+filepath.Join(folder, "ca.pem"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	value := regexp.MustCompile(`msDS-ManagedPassword:: (\S+)`)
	shown := value.FindStringSubmatch(search("LOCK1", "Of-The-Machine-LOCK1", "msDS-ManagedPassword"))
	require.Len(t, shown, 2)
	raw, err := base64.StdEncoding.DecodeString(shown[1])
	require.NoError(t, err)
	p, err := managed.Decode(secret.FromBytes(raw))
	require.NoError(t, err)
	assert.True(t, l.d.Accepts(lockName, managed.Text(p.Current)))
	assert.NotRegexp(t, value, search("LOCK1", "Of-The-Machine-LOCK1"), "not by itself")
	assert.NotRegexp(t, value, search("LOCK1", "Of-The-Machine-LOCK1", "*", "+"))
	for who, password := range map[string]string{"LOCK2": "Of-The-Machine-LOCK2", "mossmgr": "Manager-Passw0rd", "reader": "Manager-Passw0rd"} {
		assert.NotRegexp(t, value, search(who, password, "msDS-ManagedPassword"), who)
	}
}
