package lab_test

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A data store without a free connection has not looked at a password: it says
// nothing of any value, right or wrong, and is away like one that starts.
func saysNothing(t *testing.T, c connect.Connector, target connect.Target) {
	t.Helper()
	for _, value := range []string{lab.AccountPassword, "Wrong-Passw0rd.9"} {
		verdict, err := c.Verify(t.Context(), target, connect.AccountRef{Name: "svc_berth1"}, secret.New(value))
		require.Error(t, err, "%+v", verdict)
		assert.Equal(t, connect.Verdict{}, verdict)
		assert.Equal(t, connect.CodeUnreachable, connect.CodeOf(err), err)
		is, err := c.Probe(t.Context(), target, connect.Point{Account: connect.AccountRef{Name: "svc_berth1"}}, connect.Values{Old: secret.New(lab.AccountPassword), New: secret.New("Wrong-Passw0rd.9")})
		require.Error(t, err, "%+v", is)
	}
}

func TestFullPostgreSQLSaysNothing(t *testing.T) {
	d := lab.PostgreSQL(t, "127.0.0.75", 55435)
	d.Run(t, "CREATE ROLE filler SUPERUSER LOGIN PASSWORD 'Filler-Passw0rd.1'")
	config, err := pgconn.ParseConfig(fmt.Sprintf("host=%s port=%d user=filler password=Filler-Passw0rd.1 dbname=postgres sslmode=require", d.Address, d.Port))
	require.NoError(t, err)
	for range 60 {
		var conn *pgconn.PgConn
		if conn, err = pgconn.ConnectConfig(t.Context(), config); err != nil {
			break
		}
		t.Cleanup(func() { _ = conn.Close(context.Background()) })
	}
	var full *pgconn.PgError
	require.ErrorAs(t, err, &full)
	require.Equal(t, "53300", full.Code, "the server is full")
	saysNothing(t, postgres.Connector{}, d.Target("db"))
}

func TestFullMariaDBSaysNothing(t *testing.T) {
	d := lab.MariaDB(t, "127.0.0.76", 53365)
	d.Run(t, "set global max_connections=10; create user filler@'%' identified by 'Filler-Passw0rd.1'; grant all on *.* to filler@'%'")
	config := mysql.NewConfig()
	config.Net, config.Addr, config.User, config.Passwd, config.TLS = "tcp", fmt.Sprintf("%s:%d", d.Address, d.Port), "filler", "Filler-Passw0rd.1", &tls.Config{InsecureSkipVerify: true}
	connector, err := mysql.NewConnector(config)
	require.NoError(t, err)
	db := sql.OpenDB(connector)
	t.Cleanup(func() { _ = db.Close() })
	for range 20 {
		if _, err = db.Conn(t.Context()); err != nil {
			break
		}
	}
	var full *mysql.MySQLError
	require.True(t, errors.As(err, &full), "%v", err)
	require.Equal(t, uint16(1040), full.Number, "the server is full")
	saysNothing(t, mariadb.Connector{}, d.Target("db"))
}
