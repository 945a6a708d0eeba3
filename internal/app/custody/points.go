package custody

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Answer is what one point answered to a value.
type Answer struct {
	Point   building.Point
	Verdict connect.Verdict
	Err     error // it could not be asked
}

func (a Answer) name() string {
	if a.Point.Shows {
		return "port " + a.Point.Account + " on " + a.Point.System
	}
	return a.Point.Account + " on " + a.Point.System
}

// Try asks a point whether it accepts a value of a credential.
func (custody *Custody) Try(ctx context.Context, c records.Credential, point building.Point, value secret.Value) (connect.Verdict, error) {
	if point.Path == "" && c.Kind == credential.Password {
		a, err := custody.store.Account(ctx, c.AccountID)
		if err != nil {
			return connect.Verdict{}, err
		}
		connector, target, err := custody.inventory.Authority(ctx, a)
		if err != nil {
			return connect.Verdict{}, err
		}
		return connector.Verify(ctx, target, inventory.RefOf(a), value)
	}
	return custody.TryKey(ctx, point.System, rotation.Door{Account: point.Account, Via: point.Via, Shows: point.Shows}, value)
}

// TryKey signs in to an account with a key.
func (custody *Custody) TryKey(ctx context.Context, system string, door rotation.Door, key secret.Value) (connect.Verdict, error) {
	v, err := custody.store.System(ctx, system)
	if err != nil {
		return connect.Verdict{}, err
	}
	connector, target, err := custody.inventory.Target(ctx, v)
	if err != nil {
		return connect.Verdict{}, err
	}
	if door.Shows {
		return showsKey(ctx, connector, target, door.Account, key)
	}
	if !connector.Describe().Can(connect.ActEntries) {
		return connect.Verdict{}, fmt.Errorf("%w: %s cannot prove a key", app.ErrCannot, system)
	}
	var through *connect.Target
	if door.Via != "" {
		from, err := custody.store.System(ctx, door.Via)
		if err != nil {
			return connect.Verdict{}, err
		}
		_, t, err := custody.inventory.Target(ctx, from)
		if err != nil {
			return connect.Verdict{}, err
		}
		through = &t
	}
	return connector.VerifyKey(ctx, target, connect.AccountRef{Name: door.Account}, key, through)
}

// showsKey asks a port whether what it shows is about a key.
func showsKey(ctx context.Context, connector connect.Connector, target connect.Target, place string, key secret.Value) (connect.Verdict, error) {
	pair, err := keys.PairOf(key)
	if err != nil {
		return connect.Verdict{}, err
	}
	is, err := connector.Shown(ctx, target, place)
	if err != nil {
		return connect.Verdict{}, err
	}
	words := fmt.Sprintf("it shows %s, which ends on %s", is.Subject, app.Day(is.Ends))
	if is.Fingerprint == pair.Fingerprint {
		return connect.Verdict{Accepted: true, Words: words}, nil
	}
	return connect.Verdict{Code: connect.VerdictWrong, Words: words + " and is about another key"}, nil
}

const (
	pointsAtOnce = 16          // asked at the same time
	tryTime      = time.Minute // bounds one answer
)

// TryAll asks every account that the points of a credential prove, a few at the
// same time. Points that do not say whom they let in cannot be asked.
func (custody *Custody) TryAll(ctx context.Context, c records.Credential, points []building.Point, value secret.Value) []Answer {
	var out []Answer
	seen := map[string]bool{}
	for _, p := range points {
		a := Answer{Point: p}
		if p.Account != "" && !seen[a.name()] {
			seen[a.name()] = true
			out = append(out, a)
		}
	}
	var all sync.WaitGroup
	slots := make(chan struct{}, pointsAtOnce)
	for i := range out {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			limited, cancel := context.WithTimeout(ctx, tryTime)
			defer cancel()
			out[i].Verdict, out[i].Err = custody.Try(limited, c, out[i].Point, value)
			out[i].Verdict.Words = custody.base.Redact(ctx, out[i].Verdict.Words)
		}()
	}
	all.Wait()
	return out
}

// judged sums up what points answered: accepted when every one that could be
// asked accepted, and one did. An authority that stands alone speaks for itself.
// The error says that some could not be asked and none refused.
func judged(answers []Answer) (connect.Verdict, error) {
	if len(answers) == 1 && answers[0].Point.Path == "" {
		return answers[0].Verdict, answers[0].Err
	}
	var accepted, refused, silent []string
	for _, a := range answers {
		switch {
		case a.Err != nil:
			silent = append(silent, a.name()+" ("+a.Err.Error()+")")
		case a.Verdict.Accepted:
			accepted = append(accepted, a.name())
		default:
			refused = append(refused, a.name())
		}
	}
	verdict := connect.Verdict{Accepted: len(accepted) > 0 && len(refused) == 0, Words: fmt.Sprintf("%d of %d doors opened", len(accepted), len(answers))}
	refusedBy := "; refused by "
	if len(answers) > 0 && answers[0].Point.Shows {
		verdict.Words, refusedBy = fmt.Sprintf("%d of %d ports show it", len(accepted), len(answers)), "; another one is shown by "
	}
	if len(accepted) > 0 {
		verdict.Words += ": " + strings.Join(accepted, ", ")
	}
	if len(refused) > 0 {
		verdict.Code = connect.VerdictWrong
		verdict.Words += refusedBy + strings.Join(refused, ", ")
	}
	if len(silent) > 0 {
		verdict.Words += "; could not be asked: " + strings.Join(silent, ", ")
	}
	switch {
	case len(answers) == 0:
		verdict.Code, verdict.Words = connect.VerdictWrong, "no entry lets its holder in any more"
	case len(silent) > 0 && len(refused) == 0:
		return verdict, fmt.Errorf("%w: %s", errSilent, verdict.Words)
	}
	return verdict, nil
}
