package standin_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	standindir "mossledger.example/moss/internal/standin/directory"
	standinhost "mossledger.example/moss/internal/standin/unixhost"
)

func visitAll(t *testing.T, visitor connect.Visitor, target connect.Target) (connect.Coverage, connect.Batch, error) {
	ctx, cancel := context.WithTimeout(t.Context(), 45*time.Second)
	defer cancel()
	var all connect.Batch
	coverage, err := visitor.Visit(ctx, target, connect.VisitRequest{FingerprintKey: secret.New("0123456789abcdef")}, func(b connect.Batch) error {
		all.Accounts, all.Dependents, all.Problems = append(all.Accounts, b.Accounts...), append(all.Dependents, b.Dependents...), append(all.Problems, b.Problems...)
		return nil
	})
	return coverage, all, err
}

// TestDirectoryThatMisbehaves: each misbehaviour gives a clear failure, keeps
// what was read, and marks nothing as complete that is not.
func TestDirectoryThatMisbehaves(t *testing.T) {
	server, target := startDirectory(t, true)
	for i := range 2500 {
		name := fmt.Sprintf("person%04d", i)
		server.Add(standindir.Entry{DN: "CN=" + name + ",DC=larkmoor,DC=example", Attributes: map[string][]string{"objectClass": {"user"}, "sAMAccountName": {name}}})
	}
	coverage, all, err := visitAll(t, directory.Connector{}, target)
	require.NoError(t, err)
	assert.Equal(t, 2503, len(all.Accounts), "three pages")
	assert.True(t, coverage.Complete[connect.ScopeAccounts])

	server.SetFault(standindir.Fault{CutAfterEntries: 1500})
	coverage, all, err = visitAll(t, directory.Connector{}, target)
	var f *connect.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, 1500, len(all.Accounts), "everything that arrived before the cut is kept")
	assert.False(t, coverage.Complete[connect.ScopeAccounts])
	assert.Contains(t, f.Words, "page 2", "it says where it was cut")

	server.SetFault(standindir.Fault{Garbage: true})
	report := directory.Connector{}.Check(t.Context(), target)
	assert.False(t, report.OK(), "garbage is no directory")

	server.SetFault(standindir.Fault{Referral: "ldaps://127.0.0.1:1/DC=larkmoor,DC=example"})
	coverage, _, err = visitAll(t, directory.Connector{}, target)
	require.NoError(t, err, "a referral that leads back is not followed")
	assert.Contains(t, coverage.Stages[len(coverage.Stages)-1].Detail, "not followed")
	server.SetFault(standindir.Fault{})

	wrong := target
	wrong.TrustedCA = "not PEM"
	report = directory.Connector{}.Check(t.Context(), wrong)
	assert.Equal(t, connect.CodeUntrusted, report.Stages[len(report.Stages)-1].Code)
	_, other := startDirectory(t, true)
	wrong.TrustedCA = other.TrustedCA
	report = directory.Connector{}.Check(t.Context(), wrong)
	last := report.Stages[len(report.Stages)-1]
	assert.Equal(t, connect.StageSecure, last.Stage, "a certificate of another CA is refused")
	assert.Contains(t, last.Next, "--ca-file")

	// An answer that is lost leaves the outcome unclear, and it is said so.
	_, all, err = visitAll(t, directory.Connector{}, target)
	require.NoError(t, err)
	var account estate.Account
	for _, a := range all.Accounts {
		if a.Name == "svc-berth" {
			account = a
		}
	}
	ref := connect.AccountRef{StableID: account.StableID, Name: account.Name}
	server.SetFault(standindir.Fault{LoseAnswer: true})
	err = connect.SetPassword(t.Context(), directory.Connector{}, target, ref, secret.New("Lost-Answer-Passw0rd"))
	require.Error(t, err)
	assert.True(t, connect.IsUnclear(err), "%v", err)
	server.SetFault(standindir.Fault{RefuseChange: true})
	err = connect.SetPassword(t.Context(), directory.Connector{}, target, ref, secret.New("Refused-Passw0rd-1"))
	require.Error(t, err)
	assert.False(t, connect.IsUnclear(err), "a refusal is certain")
	server.SetFault(standindir.Fault{})
	for _, c := range []struct {
		change func(*standindir.Entry)
		code   string
	}{
		{func(e *standindir.Entry) { e.Locked = true }, connect.VerdictLocked},
		{func(e *standindir.Entry) { e.Disabled = true }, connect.VerdictDisabled},
		{func(e *standindir.Entry) { e.Expired = true }, connect.VerdictEnded},
		{func(e *standindir.Entry) { e.Changed = time.Now().AddDate(0, 0, -91) }, connect.VerdictExpired},
		{func(e *standindir.Entry) { e.MustChange = true }, connect.VerdictMustChange},
	} {
		dn := "CN=svc-berth,DC=larkmoor,DC=example"
		server.Update(dn, c.change)
		verdict, err := directory.Connector{}.Verify(t.Context(), target, ref, secret.New("Lost-Answer-Passw0rd"))
		require.NoError(t, err)
		assert.False(t, verdict.Accepted)
		assert.Equal(t, c.code, verdict.Code)
		server.Update(dn, func(e *standindir.Entry) {
			e.Locked, e.Disabled, e.Expired, e.MustChange, e.Changed = false, false, false, false, time.Now()
		})
	}
}

func startHost(t *testing.T) (*standinhost.Host, connect.Target) {
	host := standinhost.New("quay1")
	host.AddUser(standinhost.User{Name: "mossmgr", UID: 990, Password: "Manager-Passw0rd", Sudo: func(argv []string) bool {
		return (argv[0] != "/usr/bin/cat" || argv[len(argv)-1] != "/etc/closed.env") && !slices.Contains(argv, "/usr/bin/tar")
	}})
	address, err := host.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, host.Close()) })
	name, port := split(t, address)
	return host, connect.Target{
		SystemID: "h", Name: "quay1", Kind: estate.KindUnixHost, Address: name, Port: port, HostKeys: []string{host.Fingerprint()},
		Steward: connect.Steward{Account: "mossmgr", Password: secret.New("Manager-Passw0rd")},
	}
}

// TestHostThatMisbehaves likewise.
func TestHostThatMisbehaves(t *testing.T) {
	host, target := startHost(t)
	host.Write("/etc/dir.env", standinhost.File{Dir: true, Mode: 0o755, Owner: "root", Group: "root"})
	host.Write("/etc/closed.env", standinhost.File{Mode: 0o600, Content: []byte("PASSWORD=x\n")})
	host.Write("/etc/odd.env", standinhost.File{Content: []byte("A_USER=svc\r\nA_PASSWORD='q'\r\nbroken line\r\nA_PASSWORD=twice")})
	host.Write("/etc/link.env", standinhost.File{Symlink: "odd.env", Mode: 0o777})
	host.Write("/etc/binary.env", standinhost.File{Content: []byte("A=\x00\x01")})
	host.AddUnit(standinhost.Unit{Name: "odd.service", User: "svc", Exec: "/bin/x", Text: "this line is no setting\n", Environment: []string{"/etc/dir.env", "/etc/closed.env", "/etc/odd.env", "/etc/link.env", "/etc/binary.env", "/etc/missing.env", "-/etc/optional.env"}})
	host.Write("/etc/cron.d/broken", standinhost.File{Content: []byte("* * * * * root /bin/true\nnot a cron entry\n")})
	coverage, all, err := visitAll(t, unixhost.Connector{}, target)
	require.NoError(t, err)
	problems := map[string]string{}
	for _, p := range all.Problems {
		problems[p.Place] = p.What
	}
	for place, what := range map[string]string{
		"/etc/dir.env": "a directory stands where a file is expected", "/etc/closed.env": "sudo: a password is required", "/etc/odd.env line 3": "not a key=value line",
		"/etc/odd.env line 4": "more than once", "/etc/binary.env": "NUL byte", "/etc/missing.env": "not there", "/etc/cron.d/broken line 2": "not a cron entry",
		"/etc/systemd/system/odd.service line 14": "not a setting",
	} {
		found := ""
		for at, said := range problems {
			if at == place {
				found = said
			}
		}
		assert.Contains(t, found, what, "%s in %v", place, problems)
	}
	assert.NotContains(t, problems, "/etc/optional.env")
	assert.True(t, coverage.Complete[connect.ScopeUnits])
	assert.False(t, coverage.Complete[connect.ScopeFiles], "a closed file leaves files incomplete: nothing there is marked as gone")
	copies := 0
	for _, d := range all.Dependents {
		if d.Copy != nil && d.Path == "/etc/odd.env" {
			copies++
		}
	}
	assert.Equal(t, 2, copies, "both lines with the key; the symlink is the same file")

	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	host.SetFault(standinhost.Fault{Flood: true})
	report := unixhost.Connector{}.Check(ctx, target)
	last := report.Stages[len(report.Stages)-1]
	assert.Equal(t, connect.CodeProtocol, last.Code, "%+v", report.Stages)
	assert.Contains(t, last.Next, "floods")
	host.SetFault(standinhost.Fault{Hang: true})
	began := time.Now()
	report = unixhost.Connector{}.Check(ctx, target)
	last = report.Stages[len(report.Stages)-1]
	assert.Equal(t, connect.CodeTimeout, last.Code)
	assert.Contains(t, last.Detail, "connected, but no answer")
	assert.Less(t, time.Since(began), 20*time.Second)
	host.SetFault(standinhost.Fault{})

	unknown := target
	unknown.HostKeys = nil
	report = unixhost.Connector{}.Check(ctx, unknown)
	assert.Equal(t, connect.CodeNewHostKey, report.Stages[len(report.Stages)-1].Code)
	assert.Equal(t, host.Fingerprint(), report.Facts.Fingerprint)
	host.NewHostKey()
	report = unixhost.Connector{}.Check(ctx, target)
	last = report.Stages[len(report.Stages)-1]
	assert.Equal(t, connect.CodeUntrusted, last.Code, "a changed host key is refused")
	assert.Contains(t, last.Detail, host.Fingerprint())
}

// TestRenamedAccountIsNotChanged: identity is not a name.
func TestRenamedAccountIsNotChanged(t *testing.T) {
	host, target := startHost(t)
	host.AddUser(standinhost.User{Name: "svc-berth", UID: 1007, Password: "Other-Persons-1"})
	err := connect.SetPassword(t.Context(), unixhost.Connector{}, target, connect.AccountRef{StableID: host.MachineID + ":1001", Name: "svc-berth"}, secret.New("New-Passw0rd-22"))
	assert.Equal(t, connect.CodeGone, connect.CodeOf(err))
	assert.Equal(t, "Other-Persons-1", host.PasswordOf("svc-berth"))
	err = connect.SetPassword(t.Context(), unixhost.Connector{}, target, connect.AccountRef{StableID: host.MachineID + ":0", Name: "root"}, secret.New("New-Passw0rd-22"))
	assert.Error(t, err, "user id 0 is never changed")
}

// TestOddNames: names with commas, quotes, line ends, other scripts and 300
// characters are read, kept apart and found again.
func TestOddNames(t *testing.T) {
	server, target := startDirectory(t, false)
	odd := map[string]string{
		`uid=comma\, and "quote",DC=larkmoor,DC=example`: `comma, and "quote"`, `uid=line\0aend,DC=larkmoor,DC=example`: "line\nend",
		"uid=søren-ø,DC=larkmoor,DC=example": "søren-ø", "uid=" + strings.Repeat("x", 300) + ",DC=larkmoor,DC=example": strings.Repeat("x", 300), `uid=plus\+semi\;,DC=larkmoor,DC=example`: "plus+semi;",
	}
	for dn, name := range odd {
		server.Add(standindir.Entry{DN: dn, Password: "Start-Passw0rd-1", Attributes: map[string][]string{"objectClass": {"inetOrgPerson"}, "uid": {name}}})
	}
	_, all, err := visitAll(t, directory.Connector{}, target)
	require.NoError(t, err)
	found := map[string]estate.Account{}
	for _, a := range all.Accounts {
		found[a.Name] = a
	}
	for _, name := range odd {
		require.Contains(t, found, name)
		a := found[name]
		verdict, err := directory.Connector{}.Verify(t.Context(), target, connect.AccountRef{StableID: a.StableID, Name: a.Name}, secret.New("Start-Passw0rd-1"))
		require.NoError(t, err)
		assert.True(t, verdict.Accepted, "%q", name)
	}
}

// TestVisitCutAtEachCommand: wherever the connection is cut, a scope that
// claims to be complete did show what is there (law 4).
func TestVisitCutAtEachCommand(t *testing.T) {
	host, target := startHost(t)
	host.Write("/etc/berth.env", standinhost.File{Content: []byte("BERTH_PASSWORD=x1\n")})
	host.AddUnit(standinhost.Unit{Name: "berth.service", Environment: []string{"/etc/berth.env"}, Exec: "/bin/x", Enabled: true})
	host.SetCrontab("mossmgr", "* * * * * /bin/true\n")
	_, all, err := visitAll(t, unixhost.Connector{}, target)
	require.NoError(t, err)
	want := map[string]int{}
	for _, d := range all.Dependents {
		want[string(d.Kind)]++
	}
	commands := len(host.Log())
	for at := 1; at <= commands; at++ {
		n := 0
		host.SetFault(standinhost.Fault{Cut: func([]string) bool { n++; return n == at }})
		coverage, all, _ := visitAll(t, unixhost.Connector{}, target)
		got := map[string]int{}
		for _, d := range all.Dependents {
			got[string(d.Kind)]++
		}
		for scope, kind := range map[string]string{connect.ScopeUnits: "unit", connect.ScopeCron: "cron", connect.ScopeFiles: "file"} {
			if coverage.Complete[scope] {
				assert.Equal(t, want[kind], got[kind], "cut after command %d: %s are said to be complete", at, scope)
			}
		}
		assert.True(t, !coverage.Complete[connect.ScopeAccounts] || len(all.Accounts) > 0, "cut after command %d", at)
	}
	require.Greater(t, commands, 10)
}
