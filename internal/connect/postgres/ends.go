package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
)

// possible are the acts about ends.
var possible = []expiry.Possible{
	{Act: expiry.SetEnd, Of: expiry.Role, How: "VALID UNTIL: of its password; other ways of proof go on"},
	{Act: expiry.Extend, Of: expiry.Role, How: "VALID UNTIL"},
	{Act: expiry.Expire, Of: expiry.Role, How: "VALID UNTIL this moment"},
	{Act: expiry.Disable, Of: expiry.Role, How: "NOLOGIN: whatever it signs in with"},
	{Act: expiry.Enable, Of: expiry.Role, How: "LOGIN"},
	{Act: expiry.Delete, Of: expiry.Role, How: "DROP ROLE: refused while it owns something or was granted something"},
}

// standing of a role: how its end is kept.
type standing struct {
	until string // as the server writes it; "" for none
	end   expiry.End
	login bool
	now   time.Time
	owns  int
	gone  bool
}

const untilForm = "2006-01-02 15:04:05.999999-07:00"

func readStanding(ctx context.Context, target connect.Target, conn *pgx.Conn, change expiry.EndChange) (standing, *connect.Failure) {
	var s standing
	if _, failed := find(ctx, target, conn, connect.AccountRef{Name: change.Name, StableID: change.ID}); failed != nil {
		failed.Unclear = false
		s.gone = failed.Code == connect.CodeGone
		return s, failed
	}
	var until pgtype.Timestamptz
	err := conn.QueryRow(ctx, `SELECT r.rolvaliduntil, r.rolcanlogin, now(), (SELECT count(*) FROM pg_shdepend d WHERE d.refclassid = 'pg_authid'::regclass AND d.refobjid = r.oid) FROM pg_roles r WHERE r.rolname = $1`, change.Name).Scan(&until, &s.login, &s.now, &s.owns)
	if err != nil {
		f := failure(target, connect.StageRead, err, false)
		f.Unclear = false
		return s, f
	}
	s.end = expiry.End{State: expiry.Never}
	if until.Valid && until.InfinityModifier == pgtype.Finite {
		s.until, s.end = until.Time.UTC().Format(untilForm), expiry.At(until.Time)
	}
	return s, nil
}

// ending says how it stands, and what the change would do.
func (s standing) ending(change expiry.EndChange) (out connect.Ending, refused string) {
	refusal := "password authentication failed for user \"" + change.Name + "\""
	former, err := json.Marshal(s.until)
	if err != nil {
		return out, err.Error() // it is a text
	}
	switch change.Act {
	case expiry.Disable, expiry.Enable:
		out.There, out.InForce = s.login == (change.Act == expiry.Enable), !s.login
		out.Words = "the role has " + map[bool]string{true: "LOGIN", false: "NOLOGIN"}[s.login]
		refusal = "role \"" + change.Name + "\" is not permitted to log in"
		if change.Act == expiry.Enable {
			return out, ""
		}
	case expiry.Delete:
		out.Words = "the role is there"
		out.Final = "the role is gone with its number and what it was granted: one that is made anew under its name is another role"
		if s.owns > 0 {
			refused = fmt.Sprintf("it owns %d things or was granted rights on them, in this database or another one: the server refuses to drop it", s.owns)
		}
	default:
		out.Now, out.Will, out.Former = s.end, change.End, string(former)
		if change.Act == expiry.Expire {
			out.Will = expiry.At(s.now.Truncate(time.Second))
		}
		out.There = s.end.Same(out.Will) || change.Act == expiry.Expire && s.end.Past(s.now)
		out.InForce = s.end.Past(s.now)
		out.Words = "the role has no VALID UNTIL"
		if s.until != "" {
			out.Words = "VALID UNTIL is " + s.until
		}
		out.Also = []string{"it ends the password only: where pg_hba.conf asks for a certificate, a ticket or nothing, the role signs in as before"}
		if out.Will.State == expiry.Never {
			return out, ""
		}
	}
	out.Sights = []expiry.Sight{
		{Way: expiry.SignsIn, When: "at its next connection", Stops: true, Words: refusal},
		{Way: expiry.Open, When: "goes on until it is closed"},
	}
	return out, refused
}

// Ending implements connect.Ender.
func (c Connector) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (connect.Ending, error) {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return connect.Ending{}, unfit
	}
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return connect.Ending{}, failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	s, failed := readStanding(limited, target, conn, change)
	switch {
	case failed != nil && change.Act == expiry.Delete && s.gone:
		return connect.Ending{Standing: connect.Standing{There: true, InForce: true, Words: failed.Words}}, nil
	case failed != nil:
		return connect.Ending{}, failed
	}
	out, refused := s.ending(change)
	if refused != "" {
		return out, target.Fail(connect.StageChange, connect.CodeCannot, refused, "give what it owns to another role (REASSIGN OWNED) and take its grants back (DROP OWNED) in every database first; or disable it", nil)
	}
	return out, nil
}

// statement is what is sent for a change, or for taking it back.
func statement(change expiry.EndChange, will expiry.End, back bool) (string, error) {
	alter := "ALTER ROLE " + pgx.Identifier{change.Name}.Sanitize() + " "
	switch {
	case change.Act == expiry.Delete && !back:
		return "DROP ROLE " + pgx.Identifier{change.Name}.Sanitize(), nil
	case change.Act == expiry.Disable || change.Act == expiry.Enable:
		if (change.Act == expiry.Enable) != back {
			return alter + "LOGIN", nil
		}
		return alter + "NOLOGIN", nil
	}
	until := "infinity"
	if will.State == expiry.Ends {
		until = will.At.UTC().Format(untilForm)
	}
	if back {
		until = ""
		if err := json.Unmarshal([]byte(change.Former), &until); err != nil {
			return "", fmt.Errorf("how it stood before is not readable: %w", err)
		}
		if until == "" {
			until = "infinity"
		}
	}
	return alter + "VALID UNTIL '" + strings.ReplaceAll(until, "'", "''") + "'", nil
}

// End implements connect.Ender.
func (c Connector) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return unfit
	}
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	s, failed := readStanding(limited, target, conn, change)
	switch {
	case failed != nil && change.Act == expiry.Delete && s.gone && !back:
		return nil
	case failed != nil:
		return failed
	}
	now, _ := s.ending(change)
	if due, err := target.Due(change, now, back); !due {
		return err
	}
	text, err := statement(change, now.Will, back)
	if err != nil {
		return target.Fail(connect.StageChange, connect.CodeFailed, err.Error(), "look at the role, and decide by hand", err)
	}
	if _, err := conn.Exec(limited, text); err != nil {
		f := failure(target, connect.StageChange, err, true)
		if f.Code == connect.CodeNotPermitted {
			f.Next = "let " + target.Steward.Account + " alter it: 'moss system prepare " + target.Name + " --for end' says how"
		}
		return f
	}
	return nil
}
