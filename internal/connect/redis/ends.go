package redis

import (
	"context"
	"fmt"
	"slices"

	"github.com/redis/go-redis/v9"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
)

// possible are the acts about ends: the server keeps no moment.
var possible = []expiry.Possible{
	{Act: expiry.Disable, Of: expiry.Account, How: "off: who is signed in already stays so"},
	{Act: expiry.Enable, Of: expiry.Account, How: "on"},
	{Act: expiry.Delete, Of: expiry.Account, How: "ACL DELUSER: who is signed in is cut off"},
}

// ended reads how the user of a change stands, and has something done with that.
func (c Connector) ended(ctx context.Context, target connect.Target, change expiry.EndChange, do func(context.Context, *redis.Conn, connect.Ending) error) error {
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
	if change.ID != stableID(change.Name) {
		return target.Fail(connect.StageRead, connect.CodeGone, change.ID+" is no user of this name", "run a survey of "+target.Name, nil)
	}
	answer, err := conn.Do(limited, "ACL", "GETUSER", change.Name).Result()
	out := connect.Ending{Standing: connect.Standing{Words: "the user is there"}}
	switch {
	case err == redis.Nil: //nolint:errorlint // a value of the client's, never wrapped
		if change.Act != expiry.Delete {
			return target.Fail(connect.StageRead, connect.CodeGone, "there is no user "+change.Name, "run a survey of "+target.Name, nil)
		}
		out.There, out.InForce, out.Words = true, true, "there is no user "+change.Name
	case err != nil:
		f := failure(target, connect.StageRead, err, false)
		f.Unclear = false
		return f
	case change.Act == expiry.Delete:
		out.Final = "the user is gone with its passwords and rules"
		if change.Name == "default" {
			return target.Fail(connect.StageChange, connect.CodeCannot, "the server keeps its user default", "disable it instead", nil)
		}
	default:
		flags, _ := fields(answer)["flags"].([]any)
		on := slices.Contains(flags, any("on"))
		out.There, out.InForce = on == (change.Act == expiry.Enable), !on
		out.Words = "the user is " + map[bool]string{true: "on", false: "off"}[on]
	}
	open := "goes on until it is closed"
	if change.Act == expiry.Delete {
		open = "is cut off at once"
	}
	if change.Act != expiry.Enable {
		out.Sights = []expiry.Sight{
			{Way: expiry.SignsIn, When: "at its next connection", Stops: true, Words: "WRONGPASS invalid username-password pair or user is disabled."},
			{Way: expiry.Open, When: open, Stops: change.Act == expiry.Delete},
		}
	}
	return do(limited, conn, out)
}

// Ending implements connect.Ender.
func (c Connector) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (out connect.Ending, err error) {
	return out, c.ended(ctx, target, change, func(_ context.Context, _ *redis.Conn, is connect.Ending) error {
		out = is
		return nil
	})
}

// End implements connect.Ender. What the server cannot keep over its next start it is not
// asked for.
func (c Connector) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	return c.ended(ctx, target, change, func(ctx context.Context, conn *redis.Conn, is connect.Ending) error {
		if due, err := target.Due(change, is, back); !due {
			return err
		}
		if err := save(ctx, conn); err != nil {
			return notKept(target, err, false)
		}
		command := []any{"ACL", "SETUSER", change.Name, map[bool]string{true: "on", false: "off"}[(change.Act == expiry.Enable) != back]}
		if change.Act == expiry.Delete {
			command = []any{"ACL", "DELUSER", change.Name}
		}
		if err := conn.Do(ctx, command...).Err(); err != nil {
			return failure(target, connect.StageChange, err, true)
		}
		if err := save(ctx, conn); err != nil {
			return notKept(target, fmt.Errorf("%s: %w", command[1], err), true)
		}
		return nil
	})
}
