package custody

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// SettleLater has prepared values settled whose fate is not known.
func (custody *Custody) SettleLater() {
	custody.lock.Lock()
	defer custody.lock.Unlock()
	if custody.settling || !custody.base.Begin() {
		return
	}
	custody.settling = true
	go func() {
		defer custody.base.Work.Done()
		for pause := time.Second; ; pause = min(2*pause, 5*time.Minute) {
			left, err := custody.settleCandidates(custody.base.Context)
			if err != nil && custody.base.Context.Err() == nil {
				custody.base.Log.Warn("values whose fate is not known yet", "error", err)
			}
			if left == 0 && err == nil || connect.Wait(custody.base.Context, pause) != nil {
				break
			}
		}
		custody.lock.Lock()
		custody.settling = false
		custody.lock.Unlock()
	}()
}

// settleCandidates asks authorities about values that a reset sealed and sent,
// and that nobody knows the fate of: the service was killed in the act, or the
// answer was lost. Law 2: each is kept until it is known.
func (custody *Custody) settleCandidates(ctx context.Context) (left int, err error) {
	open, err := custody.store.OpenCandidates(ctx)
	if err != nil {
		return len(open), err
	}
	var list []records.Finding
	var errs []error
	for _, s := range open {
		c, err := custody.store.Credential(ctx, s.CredentialID)
		if err == nil {
			err = custody.settleCandidate(ctx, c, s)
		}
		if err == nil {
			continue
		}
		left++
		errs = append(errs, err)
		list = append(list, records.Finding{
			Key: fmt.Sprintf("unsettled/%d", s.ID), Kind: "unsettled", Severity: "high", Subject: c.Name, System: c.System, AccountID: c.AccountID, CredentialID: c.ID,
			What: fmt.Sprintf("a reset of %s was interrupted, and which password is in force is not known yet: %v", c.Name, err), Next: "nothing: the sealed value is kept, and " + c.System + " is asked until it answers",
		})
	}
	return left, errors.Join(append(errs, custody.store.SetFindings(context.WithoutCancel(ctx), "unsettled/", list))...)
}

func (custody *Custody) settleCandidate(ctx context.Context, c records.Credential, s records.Secret) error {
	free, err := custody.turns.Take(ctx, c.ID.Ref())
	if err != nil {
		return err
	}
	defer free()
	// Whose act was under way when it was found may have settled it.
	all, err := custody.store.Secrets(ctx, c.ID)
	if err != nil || !slices.ContainsFunc(all, func(one records.Secret) bool { return one.ID == s.ID && one.State == records.SecretCandidate }) {
		return err
	}
	value, err := custody.base.Sealer.Open(s.Binding(), s.Sealed)
	if err != nil {
		return err
	}
	points, _, err := custody.picture.Points(ctx, c)
	if err != nil {
		return err
	}
	entry := ledger.Entry{Actor: app.ByService, Act: "custody.settle", Subject: c.Name, System: c.System, Ref: c.ID.Ref()}
	return custody.base.Act(ctx, entry, func() error {
		verdict, err := judged(custody.TryAll(ctx, c, points, value))
		keep := context.WithoutCancel(ctx)
		switch {
		case err != nil:
			return err
		case verdict.Accepted:
			if err := custody.store.TakeCustody(keep, s, app.ByService, "found in force after an interruption: "+verdict.Words); err != nil {
				return err
			}
			return custody.afterCustody(keep, c)
		case verdict.Code == connect.VerdictWrong:
			return custody.store.DropCandidate(keep, c.ID, s.Fingerprint)
		}
		return fmt.Errorf("%s does not tell: %s", c.System, verdict.Words)
	})
}
