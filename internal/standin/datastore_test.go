package standin_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/datastore"
)

func TestDataStoreStandInsConform(t *testing.T) {
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	pg, kv := datastore.NewPostgres(config), datastore.NewRedis(config)
	for _, s := range []interface {
		Add(datastore.Account)
		SetSessions(func() []estate.Session)
	}{pg, kv} {
		s.Add(datastore.Account{Name: "mossmgr", Password: "Manager-Passw0rd", Manages: true})
		s.Add(datastore.Account{Name: "svc_berth1", Password: "Berth-Passw0rd-1", MemberOf: []string{"berth_owner"}, Settings: []string{`role=berth_owner`, `search_path="$user", bookings`}})
		s.Add(datastore.Account{Name: "svc_berth2", Password: "Berth-Passw0rd-2", MemberOf: []string{"berth_reader"}, Settings: []string{"statement_timeout=5s"}})
		s.SetSessions(func() []estate.Session {
			return []estate.Session{{Account: "svc_berth1", Client: "192.0.2.7", Port: 40001, Application: "berth"}}
		})
	}
	for kind, s := range map[estate.Kind]struct {
		connector connect.Connector
		serve     func(string) (string, error)
		close     func() error
	}{estate.KindPostgreSQL: {postgres.Connector{}, pg.Serve, pg.Close}, estate.KindRedis: {redis.Connector{}, kv.Serve, kv.Close}} {
		t.Run(string(kind), func(t *testing.T) {
			address, err := s.serve("127.0.0.1:0")
			require.NoError(t, err)
			t.Cleanup(func() { require.NoError(t, s.close()) })
			host, port := split(t, address)
			target := connect.Target{
				SystemID: "db", Name: "db", Kind: kind, Address: host, Port: port, TrustedCA: authority.PEM,
				Steward: connect.Steward{Account: "mossmgr", Password: secret.New("Manager-Passw0rd")},
			}
			conformance.Run(t, conformance.Fixture{Connector: s.connector, Target: target, Account: "svc_berth1", Twin: "svc_berth2", Password: secret.New("Berth-Passw0rd-1"), DeadAddress: "127.0.0.250"})
			var sessions []estate.Session
			_, err = s.connector.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error {
				sessions = append(sessions, b.Sessions...)
				return nil
			})
			require.NoError(t, err)
			require.Len(t, sessions, 1)
			assert.Equal(t, "192.0.2.7", sessions[0].Client)
			assert.Equal(t, 40001, sessions[0].Port)
		})
	}
}
