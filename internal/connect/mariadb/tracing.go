package mariadb

import (
	"context"
	"database/sql/driver"
	"errors"
	"time"

	"github.com/go-sql-driver/mysql"

	"mossledger.example/moss/internal/connect"
)

// traced tells statements to whoever wants to see them. What is given to them beside is no
// part of that.
type traced struct {
	driver.Connector
	to connect.Trace
}

// Connect implements driver.Connector.
func (t traced) Connect(ctx context.Context) (driver.Conn, error) {
	conn, err := t.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	full, is := conn.(whole)
	if !is {
		return conn, nil
	}
	return &tracedConn{full, t.to}, nil
}

// whole is what a connection of the driver can.
type whole interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.Pinger
	driver.SessionResetter
	driver.Validator
	driver.NamedValueChecker
}

type tracedConn struct {
	whole
	to connect.Trace
}

func (c *tracedConn) told(text string, begun time.Time, err error) {
	if errors.Is(err, driver.ErrSkip) {
		return // it is sent in another way
	}
	c.to.Tell(connect.Ended("sql", text, begun, err, func(err error) bool {
		var said *mysql.MySQLError
		return errors.As(err, &said) && (said.Number == 1044 || said.Number == 1142 || said.Number == 1143 || said.Number == 1227 || said.Number == 1370)
	}))
}

// ExecContext implements driver.ExecerContext.
func (c *tracedConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	begun := time.Now()
	res, err := c.whole.ExecContext(ctx, query, args)
	c.told(query, begun, err)
	return res, err
}

// QueryContext implements driver.QueryerContext.
func (c *tracedConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	begun := time.Now()
	rows, err := c.whole.QueryContext(ctx, query, args)
	c.told(query, begun, err)
	return rows, err
}
