package operate

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// settleLater has prepared values settled whose fate is not known.
func (o *Operator) settleLater() {
	o.lock.Lock()
	defer o.lock.Unlock()
	if o.settling || !o.begin() {
		return
	}
	o.settling = true
	go func() {
		defer o.work.Done()
		for pause := time.Second; ; pause = min(2*pause, 5*time.Minute) {
			left, err := o.settleCandidates(o.base)
			if err != nil && o.base.Err() == nil {
				o.Log.Warn("values whose fate is not known yet", "error", err)
			}
			if left == 0 && err == nil || connect.Wait(o.base, pause) != nil {
				break
			}
		}
		o.lock.Lock()
		o.settling = false
		o.lock.Unlock()
	}()
}

// settleCandidates asks authorities about values that a reset sealed and sent,
// and that nobody knows the fate of: the service was killed in the act, or the
// answer was lost. Law 2: each is kept until it is known.
func (o *Operator) settleCandidates(ctx context.Context) (left int, err error) {
	open, err := o.Store.OpenCandidates(ctx)
	if err != nil {
		return len(open), err
	}
	var list []store.Finding
	var errs []error
	for _, s := range open {
		a, err := o.Store.Account(ctx, s.AccountID)
		if err == nil {
			err = o.settleCandidate(ctx, a, s)
		}
		if err == nil {
			continue
		}
		left++
		errs = append(errs, err)
		list = append(list, store.Finding{
			Key: fmt.Sprintf("unsettled/%d", s.ID), Kind: "unsettled", Severity: "high", Subject: a.Name, System: a.System, AccountID: a.ID,
			What: fmt.Sprintf("a reset of %s was interrupted, and which password is in force is not known yet: %v", a.Name, err), Next: "nothing: the sealed value is kept, and " + a.System + " is asked until it answers",
		})
	}
	return left, errors.Join(append(errs, o.Store.SetFindings(context.WithoutCancel(ctx), "unsettled/", list))...)
}

func (o *Operator) settleCandidate(ctx context.Context, a store.Account, s store.Secret) error {
	value, err := o.sealer.Open(s.Binding(), s.Sealed)
	if err != nil {
		return err
	}
	_, target, verifier, err := o.authority(ctx, a)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	entry := ledger.Entry{Actor: byService, Act: "custody.settle", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	return o.act(ctx, entry, func() error {
		verdict, err := verifier.Verify(limited, target, refOf(a), value)
		keep := context.WithoutCancel(ctx)
		switch {
		case err != nil:
			return err
		case verdict.Accepted:
			if err := o.Store.TakeCustody(keep, s, byService, "found in force after an interruption: "+verdict.Words); err != nil {
				return err
			}
			return o.afterCustody(keep, a)
		case verdict.Code == connect.VerdictWrong:
			return o.Store.DropCandidate(keep, a.Credential(), s.Fingerprint)
		}
		return fmt.Errorf("%s does not tell: %s", target.Name, verdict.Words)
	})
}
