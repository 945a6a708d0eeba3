package standin_test

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/nameserver"
)

// The NetBIOS name of a child domain stands in the forest's configuration, which is not
// below the domain; without it no DOMAIN\name of it resolves.
func TestNamesOfAChildDomain(t *testing.T) {
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	server := standindir.New(standindir.Config{Base: "DC=ports,DC=larkmoor,DC=example", Forest: "DC=larkmoor,DC=example", NetBIOS: "HARBOURS", Windows: true, TLS: config})
	server.Add(standindir.Entry{DN: "CN=mossmgr,DC=ports,DC=larkmoor,DC=example", Password: "Manager-Passw0rd", Admin: true, Attributes: map[string][]string{"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {"mossmgr"}, "cn": {"mossmgr"}}})
	address, err := server.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Close()) })
	host, port := split(t, address)
	report := directory.Connector{}.Check(t.Context(), connect.Target{
		SystemID: "d", Name: "ports", Kind: estate.KindDirectory, Address: host, Port: port, TrustedCA: authority.PEM,
		Steward: connect.Steward{Account: "CN=mossmgr,DC=ports,DC=larkmoor,DC=example", Password: secret.New("Manager-Passw0rd")},
	})
	require.True(t, report.OK(), "%+v", report.Stages)
	assert.Equal(t, []string{"HARBOURS", "ports.larkmoor.example"}, report.Facts.Domains)
	for _, stage := range report.Stages {
		assert.NotContains(t, stage.Detail, "by DNS")
	}

	// DNS knows of more servers than were named: they are told, and nothing is sent there.
	names, err := nameserver.Start([4]byte{127, 0, 0, 1})
	require.NoError(t, err)
	before := net.DefaultResolver
	net.DefaultResolver = names.Resolver()
	t.Cleanup(func() {
		net.DefaultResolver = before
		require.NoError(t, names.Close())
	})
	names.Servers("dc9.ports.larkmoor.example", "dc2.ports.larkmoor.example", "localhost")
	target := connect.Target{
		SystemID: "d", Name: "ports", Kind: estate.KindDirectory, Address: "127.0.0.1", Port: port, TrustedCA: authority.PEM, Options: map[string]string{directory.OptionServers: "DC9.ports.larkmoor.example"},
		Steward: connect.Steward{Account: "CN=mossmgr,DC=ports,DC=larkmoor,DC=example", Password: secret.New("Manager-Passw0rd")},
	}
	report = directory.Connector{}.Check(t.Context(), target)
	last := report.Stages[len(report.Stages)-1]
	assert.Contains(t, last.Detail, "by DNS its domain also has dc2.ports.larkmoor.example, localhost: name them", "%+v", report.Stages)
}
