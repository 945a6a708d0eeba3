package standin_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	standindir "mossledger.example/moss/internal/standin/directory"
	standinhost "mossledger.example/moss/internal/standin/unixhost"
)

func split(t *testing.T, address string) (string, int) {
	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	return host, n
}

func startDirectory(t *testing.T, windows bool) (*standindir.Server, connect.Target) {
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	server := standindir.New(standindir.Config{Base: "DC=larkmoor,DC=example", NetBIOS: "LARKMOOR", Windows: windows, TLS: config})
	classes := []string{"top", "person", "organizationalPerson", "user"}
	if !windows {
		classes = []string{"inetOrgPerson"}
	}
	for name, password := range map[string]string{"mossmgr": "Manager-Passw0rd", "svc-berth": "Berth-Passw0rd-1", "svc-berth2": "Berth-Passw0rd-2"} {
		server.Add(standindir.Entry{
			DN: "CN=" + name + ",DC=larkmoor,DC=example", Password: password, Admin: name == "mossmgr",
			Attributes: map[string][]string{"objectClass": classes, "sAMAccountName": {name}, "uid": {name}, "cn": {name}},
		})
	}
	if windows {
		group, member := "CN=Quay,DC=larkmoor,DC=example", "CN=svc-berth,DC=larkmoor,DC=example"
		server.Add(standindir.Entry{DN: group, Attributes: map[string][]string{"objectClass": {"top", "group"}, "cn": {"Quay"}, "sAMAccountName": {"Quay"}, "member": {member}}})
		server.Update(member, func(e *standindir.Entry) { e.Attributes["memberOf"] = []string{group} })
	}
	address, err := server.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Close()) })
	host, port := split(t, address)
	return server, connect.Target{
		SystemID: "d", Name: "larkmoor-directory", Kind: estate.KindDirectory, Address: host, Port: port, TrustedCA: authority.PEM,
		Steward: connect.Steward{Account: "CN=mossmgr,DC=larkmoor,DC=example", Password: secret.New("Manager-Passw0rd")},
	}
}

func TestDirectoryStandInConforms(t *testing.T) {
	for _, windows := range []bool{true, false} {
		t.Run(fmt.Sprintf("windows=%v", windows), func(t *testing.T) {
			_, target := startDirectory(t, windows)
			twin := ""
			if windows {
				twin = "svc-berth2"
			}
			conformance.Run(t, conformance.Fixture{
				Connector: directory.Connector{}, Target: target, Account: "svc-berth", Twin: twin, Password: secret.New("Berth-Passw0rd-1"),
				Weak: secret.New("short"), DeadAddress: "127.0.0.250",
			})
		})
	}
}

func TestHostStandInConforms(t *testing.T) {
	for _, family := range []standinhost.Family{"", standinhost.FamilyRHEL, standinhost.FamilySUSE} {
		t.Run("family "+string(family), func(t *testing.T) { hostConforms(t, family) })
	}
}

func hostConforms(t *testing.T, family standinhost.Family) {
	host := standinhost.New("quay1")
	host.Family = family
	host.AddUser(standinhost.User{Name: "mossmgr", UID: 990, Shell: "/bin/bash", Password: "Manager-Passw0rd", Sudo: func([]string) bool { return true }})
	host.AddUser(standinhost.User{Name: "svc-berth", UID: 1001, Home: "/var/lib/berth", Password: "Berth-Passw0rd-1"})
	host.Write("/etc/berth/berth.env", standinhost.File{
		Content: []byte("# berth\r\nBERTH_USER=svc-berth\r\nBERTH_PASSWORD='Berth-Passw0rd-1'\r\nLAST=no newline"), Mode: 0o600, Owner: "svc-berth", Group: "root", ACL: "user:backup:r--",
	})
	host.AddUnit(standinhost.Unit{Name: "berth.service", User: "svc-berth", Environment: []string{"/etc/berth/berth.env"}, Exec: "/opt/berth/bin/berth", Enabled: true})
	host.AddUnit(standinhost.Unit{Name: "tides.service", Exec: "/opt/tides/bin/tides", Enabled: true, Reload: func(*standinhost.Host) error { return nil }})
	key, line := sshKey(t)
	host.Write("/var/lib/berth/.ssh/authorized_keys", standinhost.File{Mode: 0o600, Owner: "svc-berth", Content: []byte("# doors\nrestrict,command=\"/bin/false\" " + line + " berth\n")})
	host.Write("/var/lib/berth/.ssh/id_berth", standinhost.File{Mode: 0o600, Owner: "svc-berth", Content: key.Reveal()})
	host.Write("/var/lib/berth/.ssh/id_berth.pub", standinhost.File{Mode: 0o644, Owner: "svc-berth", Content: []byte(line + " berth\n")})
	address, err := host.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, host.Close()) })
	name, port := split(t, address)
	conformance.Run(t, conformance.Fixture{
		Key: key, KeyAccount: "svc-berth", EntriesPath: "/var/lib/berth/.ssh/authorized_keys", KeyPath: "/var/lib/berth/.ssh/id_berth",
		Connector: unixhost.Connector{},
		Target: connect.Target{
			SystemID: "h", Name: "quay1", Kind: estate.KindUnixHost, Address: name, Port: port, HostKeys: []string{host.Fingerprint()},
			Steward: connect.Steward{Account: "mossmgr", Password: secret.New("Manager-Passw0rd")},
		},
		Account: "svc-berth", Password: secret.New("Berth-Passw0rd-1"), Weak: secret.New("two\nlines"),
		CopyPath: "/etc/berth/berth.env", CopyKey: "BERTH_PASSWORD", Unit: estate.Place{Kind: estate.DependentUnit, Place: "berth.service"}, Reloads: estate.Place{Kind: estate.DependentUnit, Place: "tides.service"}, DeadAddress: "127.0.0.250",
		ReadFile: func(t *testing.T, path string) ([]byte, string) {
			f, ok := host.Read(path)
			require.True(t, ok)
			return f.Content, fmt.Sprintf("%o %s %s %s", f.Mode, f.Owner, f.Group, f.ACL)
		},
	})
}

func sshKey(t *testing.T) (secret.Value, string) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	key := secret.FromBytes(pem.EncodeToMemory(block))
	pair, err := keys.PairOf(key)
	require.NoError(t, err)
	return key, pair.Line
}
