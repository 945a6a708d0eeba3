package custody

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
)

// Knock signs in at a door.
func (custody *Custody) Knock(ctx context.Context, system string, door rotation.Door, key secret.Value) (connect.Verdict, error) {
	v, err := custody.store.System(ctx, system)
	if err != nil {
		return connect.Verdict{}, err
	}
	connector, target, err := custody.inventory.Target(ctx, v)
	if err != nil {
		return connect.Verdict{}, err
	}
	admitter, able := connector.(connect.Admitter)
	if !able {
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
	return admitter.VerifyKey(ctx, target, connect.AccountRef{Name: door.Account}, key, through)
}

// knocked is what one door answered.
type knocked struct {
	System  string
	Door    rotation.Door
	Verdict connect.Verdict
	Err     error
}

func (k knocked) name() string { return k.Door.Account + " on " + k.System }

// doorsAtOnce is how many doors of a key pair are tried at the same time.
const doorsAtOnce = 16

// KnockAll signs in at every door of a key that says whom it lets in, a few at
// the same time.
func (custody *Custody) KnockAll(ctx context.Context, doors []rotation.KeyDoor, key secret.Value) []knocked {
	var out []knocked
	seen := map[string]bool{}
	for _, d := range doors {
		k := knocked{System: d.System, Door: rotation.Door{Account: d.Account, Via: d.Via}}
		if d.Account != "" && !seen[k.name()] {
			seen[k.name()] = true
			out = append(out, k)
		}
	}
	var all sync.WaitGroup
	slots := make(chan struct{}, doorsAtOnce)
	for i := range out {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			out[i].Verdict, out[i].Err = custody.Knock(ctx, out[i].System, out[i].Door, key)
		}()
	}
	all.Wait()
	return out
}

// judged sums up what doors answered: accepted when every one that could be
// asked opened, and one did. unclear counts those that could not be asked.
func judged(answers []knocked) (verdict connect.Verdict, unclear int) {
	var opened, refused, silent []string
	for _, k := range answers {
		switch {
		case k.Err != nil:
			silent = append(silent, k.name()+" ("+k.Err.Error()+")")
		case k.Verdict.Accepted:
			opened = append(opened, k.name())
		default:
			refused = append(refused, k.name())
		}
	}
	verdict = connect.Verdict{Accepted: len(opened) > 0 && len(refused) == 0, Words: fmt.Sprintf("%d of %d doors opened", len(opened), len(answers))}
	if len(opened) > 0 {
		verdict.Words += ": " + strings.Join(opened, ", ")
	}
	if len(refused) > 0 {
		verdict.Code = connect.VerdictWrong
		verdict.Words += "; refused by " + strings.Join(refused, ", ")
	}
	if len(silent) > 0 {
		verdict.Words += "; could not be asked: " + strings.Join(silent, ", ")
	}
	return verdict, len(silent)
}
