package mariadb

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-sql-driver/mysql"

	"mossledger.example/moss/internal/connect"
)

// unknownVariable is the server's answer for a plugin that is not loaded.
const unknownVariable = 1193

// PasswordRules implements connect.Ruler: what the server's validation plugin
// demands, where it is loaded.
func (Connector) PasswordRules(ctx context.Context, target connect.Target, _ connect.AccountRef) (connect.PasswordRules, error) {
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return connect.PasswordRules{}, failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	var shortest int
	err := conn.QueryRowContext(limited, "SELECT @@GLOBAL.simple_password_check_minimal_length").Scan(&shortest)
	var refused *mysql.MySQLError
	switch {
	case err == nil:
		return connect.PasswordRules{Shortest: shortest, From: fmt.Sprintf("the server's password check asks for at least %d characters", shortest)}, nil
	case errors.As(err, &refused) && refused.Number == unknownVariable:
		return connect.PasswordRules{From: "the server checks no passwords"}, nil
	}
	return connect.PasswordRules{}, failure(target, connect.StageRead, err, false)
}

var _ connect.Ruler = Connector{}
