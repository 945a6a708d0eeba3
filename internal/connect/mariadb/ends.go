package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
)

// possible are the acts about ends. The server keeps how many days a password lasts from when
// it was set, and no moment.
var possible = []expiry.Possible{
	{Act: expiry.SetEnd, Of: expiry.Password, How: "PASSWORD EXPIRE INTERVAL: whole days from when it was set"},
	{Act: expiry.Extend, Of: expiry.Password, How: "PASSWORD EXPIRE INTERVAL"},
	{Act: expiry.Expire, Of: expiry.Password, How: "PASSWORD EXPIRE: it must be changed"},
	{Act: expiry.Disable, Of: expiry.Account, How: "ACCOUNT LOCK"},
	{Act: expiry.Enable, Of: expiry.Account, How: "ACCOUNT UNLOCK"},
	{Act: expiry.Delete, Of: expiry.Account, How: "DROP USER"},
}

// mostDays is the longest life of a password that the server takes.
const mostDays = 65535

// end of the password of an account.
func (r row) end() expiry.End {
	switch {
	case r.expired:
		return expiry.End{State: expiry.Ended, Why: "it must be changed"}
	case r.lifetime < 0:
		return expiry.End{State: expiry.Unknown, Why: "the server's default_password_lifetime decides"}
	case r.lifetime == 0:
		return expiry.End{State: expiry.Never}
	case r.changed.IsZero():
		return expiry.End{State: expiry.Unknown, Why: "when it was set is not kept"}
	}
	return expiry.At(r.changed.AddDate(0, 0, r.lifetime))
}

// lasts is how many days from when it was set reach a moment: not fewer than are asked for.
func (r row) lasts(until time.Time) int {
	return int((until.Sub(r.changed) + expiry.Day - 1) / expiry.Day)
}

// ending says how it stands, and what the change would do; refused, why it cannot.
func (r row) ending(change expiry.EndChange, now time.Time, expired string) (out connect.Ending, refused string) {
	name := "'" + r.user + "'@'" + r.host + "'"
	words := "Access denied, this account is locked"
	switch change.Act {
	case expiry.Disable, expiry.Enable:
		out.There, out.InForce = r.locked == (change.Act == expiry.Disable), r.locked
		out.Words = name + " has " + map[bool]string{true: "ACCOUNT LOCK", false: "ACCOUNT UNLOCK"}[r.locked]
		if change.Act == expiry.Enable {
			return out, ""
		}
	case expiry.Delete:
		out.Words, out.Final = name+" is there", "the account is gone with its grants: one that is made anew has none"
		words = "Access denied for user '" + r.user + "'"
	case expiry.Expire:
		out.Now, out.Will = r.end(), expiry.End{State: expiry.Ended}
		out.There, out.InForce, out.Words = r.expired, r.expired, name+" has a password that was set "+r.changed.Format(time.RFC3339)
		if r.expired {
			out.Words = name + " has a password that must be changed"
		}
		out.Also = []string{"undoing has the password count as set at that moment: when it was set before cannot be written"}
		words = expired
	default:
		lifetime, _ := json.Marshal(r.lifetime)
		out.Now, out.Former = r.end(), string(lifetime)
		out.Words = name + " has a password that " + lifeWords(r.lifetime)
		out.Will = change.End
		if change.End.State == expiry.Never {
			out.There = r.lifetime == 0 && !r.expired
			return out, ""
		}
		switch days := r.lasts(change.End.At); {
		case r.expired || r.changed.IsZero():
			return out, "its password must be changed: from when it lasts is not known before that"
		case days > mostDays:
			return out, fmt.Sprintf("it would last %d days from when it was set, and the server takes %d at most", days, mostDays)
		default:
			out.Will = expiry.At(r.changed.AddDate(0, 0, days))
			out.There = r.lifetime == days
		}
		out.InForce = out.Now.Past(now)
		words = expired
	}
	out.Sights = []expiry.Sight{
		{Way: expiry.SignsIn, When: "at its next connection", Stops: true, Words: words},
		{Way: expiry.Open, When: "goes on until it is closed"},
	}
	return out, refused
}

func lifeWords(days int) string {
	switch {
	case days < 0:
		return "lasts as the server's default says"
	case days == 0:
		return "never expires"
	}
	return fmt.Sprintf("lasts %d days", days)
}

// Ending implements connect.Ender.
func (c Connector) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (connect.Ending, error) {
	var out connect.Ending
	err := c.ended(ctx, target, change, func(_ context.Context, _ *sql.Conn, _ row, is connect.Ending, refused string) error {
		out = is
		if refused != "" {
			return target.Fail(connect.StageChange, connect.CodeCannot, refused, "rotate it, and set the end then", nil)
		}
		return nil
	})
	if connect.CodeOf(err) == connect.CodeGone && change.Act == expiry.Delete {
		return connect.Ending{Standing: connect.Standing{There: true, InForce: true, Words: err.Error()}}, nil
	}
	return out, err
}

// ended reads how the account of a change stands, and has something done with that.
func (c Connector) ended(ctx context.Context, target connect.Target, change expiry.EndChange, do func(context.Context, *sql.Conn, row, connect.Ending, string) error) error {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return unfit
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	r, failed := find(limited, target, conn, connect.AccountRef{Name: change.Name, StableID: change.ID, DN: change.DN})
	if failed != nil {
		failed.Unclear = false
		return failed
	}
	var unix int64
	var cuts bool
	if err := conn.QueryRowContext(limited, "SELECT UNIX_TIMESTAMP(), @@disconnect_on_expired_password").Scan(&unix, &cuts); err != nil {
		f := failure(target, connect.StageRead, err, false)
		f.Unclear = false
		return f
	}
	expired := "You must SET PASSWORD before executing this statement"
	if cuts {
		expired = "Your password has expired. To log in you must change it"
	}
	is, refused := r.ending(change, time.Unix(unix, 0), expired)
	return do(limited, conn, r, is, refused)
}

// statement is what is sent for a change, or for taking it back.
func (r row) statement(ctx context.Context, conn *sql.Conn, change expiry.EndChange, back bool) (string, error) {
	name := quote(r.user) + "@" + quote(r.host)
	switch change.Act {
	case expiry.Delete:
		return "DROP USER " + name, nil
	case expiry.Disable, expiry.Enable:
		if (change.Act == expiry.Disable) != back {
			return "ALTER USER " + name + " ACCOUNT LOCK", nil
		}
		return "ALTER USER " + name + " ACCOUNT UNLOCK", nil
	case expiry.Expire:
		if back {
			return r.sameAgain(ctx, conn)
		}
		return "ALTER USER " + name + " PASSWORD EXPIRE", nil
	}
	days := 0
	if change.End.State == expiry.Ends {
		days = r.lasts(change.End.At)
	}
	if back {
		if err := json.Unmarshal([]byte(change.Former), &days); err != nil {
			return "", fmt.Errorf("how it stood before is not readable: %w", err)
		}
	}
	switch {
	case days < 0:
		return "ALTER USER " + name + " PASSWORD EXPIRE DEFAULT", nil
	case days == 0:
		return "ALTER USER " + name + " PASSWORD EXPIRE NEVER", nil
	}
	return fmt.Sprintf("ALTER USER %s PASSWORD EXPIRE INTERVAL %d DAY", name, days), nil
}

// sameAgain sets the password that is there once more, by what the server keeps of it: that
// alone has it count as changed. What it keeps leaves this function in no other way. Limits
// and what is required of a connection stay as they are.
func (r row) sameAgain(ctx context.Context, conn *sql.Conn) (string, error) {
	var raw string
	if err := conn.QueryRowContext(ctx, "SELECT Priv FROM mysql.global_priv WHERE User = ? AND Host = ?", r.user, r.host).Scan(&raw); err != nil {
		return "", err
	}
	type way struct {
		Plugin string `json:"plugin"`
		Kept   string `json:"authentication_string"`
	}
	var priv struct {
		way
		Or []way `json:"auth_or"`
	}
	if err := json.Unmarshal([]byte(raw), &priv); err != nil {
		return "", fmt.Errorf("how %s signs in is not readable: %w", r.user, err)
	}
	if len(priv.Or) == 0 {
		priv.Or = []way{priv.way}
	}
	var ways []string
	for _, w := range priv.Or {
		if w.Plugin == "" { // an empty entry stands for the plugin itself
			w = priv.way
		}
		text := quoteName(w.Plugin)
		if w.Kept != "" {
			text += " USING " + quote(w.Kept)
		}
		ways = append(ways, text)
	}
	return "ALTER USER " + quote(r.user) + "@" + quote(r.host) + " IDENTIFIED VIA " + strings.Join(ways, " OR "), nil
}

// End implements connect.Ender.
func (c Connector) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	err := c.ended(ctx, target, change, func(ctx context.Context, conn *sql.Conn, r row, is connect.Ending, refused string) error {
		if due, err := target.Due(change, is, back); !due {
			return err
		}
		if refused != "" {
			return target.Fail(connect.StageChange, connect.CodeCannot, refused, "", nil)
		}
		text, err := r.statement(ctx, conn, change, back)
		if err != nil {
			f := failure(target, connect.StageChange, err, false)
			f.Unclear = false // nothing was sent
			return f
		}
		if _, err := conn.ExecContext(ctx, text); err != nil {
			f := failure(target, connect.StageChange, err, true)
			if f.Code == connect.CodeNotPermitted {
				f.Next = "let " + target.Steward.Account + " alter it: 'moss system prepare " + target.Name + " --for end' says how"
			}
			return f
		}
		return nil
	})
	if connect.CodeOf(err) == connect.CodeGone && change.Act == expiry.Delete && !back {
		return nil
	}
	return err
}
