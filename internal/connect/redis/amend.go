package redis

import (
	"context"
	"fmt"
	"strings"

	"github.com/redis/go-redis/v9"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// ruleOf is the word of an access list that a change is about, without its sign.
func ruleOf(c privilege.RightChange) string {
	return strings.ToLower(strings.ReplaceAll(c.What, " ", "|"))
}

// Standing implements connect.Amender: the last rule about the command decides.
func (c Connector) Standing(ctx context.Context, target connect.Target, change privilege.RightChange) (connect.Standing, error) {
	var out connect.Standing
	if _, unfit := connect.Amendable(c, target, change); unfit != nil {
		return out, unfit
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return out, failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	answer, err := conn.Do(limited, "ACL", "GETUSER", change.To).Result()
	switch {
	case err == redis.Nil: //nolint:errorlint // a value of the client's, never wrapped
		return out, target.Fail(connect.StageRead, connect.CodeGone, "there is no user "+change.To, "run a survey of "+target.Name, nil)
	case err != nil:
		f := failure(target, connect.StageRead, err, false)
		f.Unclear = false
		return out, f
	}
	rules := strings.Fields(fmt.Sprint(fields(answer)["commands"]))
	out.Words = "no rule of its own is about " + ruleOf(change)
	for _, rule := range rules {
		if len(rule) > 1 && rule[1:] == ruleOf(change) {
			out.There, out.Words = rule[0] == '+', "the rule is "+rule
		}
	}
	out.InForce = out.There
	return out, nil
}

// Amend implements connect.Amender. What the server cannot keep it is not asked for.
func (c Connector) Amend(ctx context.Context, target connect.Target, change privilege.RightChange, back bool) error {
	if _, unfit := connect.Amendable(c, target, change); unfit != nil {
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
	if failed := present(limited, target, conn, connect.AccountRef{Name: change.To, StableID: stableID(change.To)}); failed != nil {
		return failed
	}
	if err := save(limited, conn); err != nil {
		return notKept(target, err, false)
	}
	signs := [2]string{"-", "+"}
	if change.Give == back {
		signs = [2]string{"+", "-"}
	}
	if err := conn.Do(limited, "ACL", "SETUSER", change.To, signs[1]+ruleOf(change)).Err(); err != nil {
		return failure(target, connect.StageChange, err, true)
	}
	if err := save(limited, conn); err != nil {
		if refused(err) && conn.Do(limited, "ACL", "SETUSER", change.To, signs[0]+ruleOf(change)).Err() == nil {
			return notKept(target, err, false)
		}
		return notKept(target, err, true)
	}
	return nil
}

// Try implements connect.Trier.
func (Connector) Try(ctx context.Context, target connect.Target, step string) (connect.Tried, error) {
	words := strings.Fields(step)
	if len(words) == 0 {
		return connect.Tried{}, target.Fail(connect.StageProve, connect.CodeFailed, "an empty step is no command", "", nil)
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return connect.Tried{}, failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	args := make([]any, len(words))
	for i, w := range words {
		args[i] = w
	}
	err := conn.Do(limited, args...).Err()
	switch {
	case err == nil || err == redis.Nil: //nolint:errorlint // a value of the client's, never wrapped
		return connect.Tried{OK: true}, nil
	case refused(err):
		return connect.Tried{Words: err.Error()}, nil
	}
	return connect.Tried{}, failure(target, connect.StageProve, err, true)
}
