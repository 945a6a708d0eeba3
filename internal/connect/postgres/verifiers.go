package postgres

import (
	"context"
	"crypto/md5" //nolint:gosec // what servers of old keep; never chosen here
	"encoding/hex"
	"errors"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

// A server keeps a verifier of each password. Those of old are md5; a client that knows
// no SCRAM (psql and libpq before 10, drivers of that time) signs in with nothing else.
// Only superusers may read which one a role has; the server shows it to who signs in as
// the role, by how it asks for the password.

// hasMD5 finds out whether a role's verifier is md5. current is its password, for where
// the steward may not read it.
func hasMD5(ctx context.Context, target connect.Target, conn *pgx.Conn, account connect.AccountRef, current secret.Value) (old, known bool) {
	var start string
	err := conn.QueryRow(ctx, "SELECT COALESCE(left(rolpassword, 3), '') FROM pg_authid WHERE rolname = $1", account.Name).Scan(&start)
	if err == nil {
		return start == "md5", true
	}
	if current.Empty() {
		return false, false
	}
	as, failed := openBy(ctx, target, account.Name, current, "md5", connect.NewStopwatch())
	if failed == nil {
		closing(as)
		return true, true
	}
	var refused *pgconn.PgError
	if errors.As(failed, &refused) {
		return false, false // a wrong password, or one that may not sign in: it says nothing
	}
	// It was asked for in another way, and nothing was given.
	return false, strings.Contains(failed.Words, "authentication method requirement")
}

// md5Verifier is what servers before version 10 keep (pg_authid, rolpassword).
func md5Verifier(role string, value secret.Value) string {
	sum := md5.Sum([]byte(value.RevealString() + role)) //nolint:gosec // see above
	return "md5" + hex.EncodeToString(sum[:])
}

// rehearseVerifier tells that a role's clients must know SCRAM afterwards.
func rehearseVerifier(ctx context.Context, target connect.Target, conn *pgx.Conn, account connect.AccountRef, current secret.Value) []connect.Checked {
	line := connect.Checked{System: target.Name, What: "clients of " + account.Name + " go on signing in", Result: connect.CheckOK}
	old, known := hasMD5(ctx, target, conn, account, current)
	keep := target.Options[OptionVerifier] == "keep"
	switch {
	case !known && keep:
		line.Result, line.Words, line.Next = connect.CheckFailed, "whether it has an md5 verifier, which shall be kept, could not be found out", "set the option verifier=scram, or let pg_hba.conf accept the role from this machine with md5"
	case !known:
		line.Result, line.Words = connect.CheckUnchecked, "whether it has an md5 verifier could not be found out; the new one is SCRAM, which clients of before version 10 do not know"
	case old && keep:
		line.Words = "its verifier is md5 and stays so; md5 is weak: replace its clients, then set the option verifier=scram"
	case old:
		line.About = connect.AboutVerifier
		line.Result, line.Words, line.Next = connect.CheckWarning, "its verifier is md5, and the new one is SCRAM: clients of before version 10 (libpq 9, drivers of that time) cannot sign in any more", "see what its clients are, or set the option verifier=keep of this system"
	default:
		return nil
	}
	return []connect.Checked{line}
}
