package operate

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// inCustody opens all values that are looked for on hosts, weak ones left out:
// their text stands anywhere.
func (o *Operator) inCustody(ctx context.Context) ([]secret.Value, error) {
	custodies, err := o.Store.Custodies(ctx)
	if err != nil {
		return nil, err
	}
	var out []secret.Value
	for _, c := range custodies {
		if c.KeyID != 0 {
			continue // known by its fingerprint
		}
		all, err := o.Store.Secrets(ctx, c)
		if err != nil {
			return out, err
		}
		retired := 0
		for _, s := range all {
			// Of those that are refused the last ones are looked for still: what holds
			// one was forgotten.
			if s.State == store.SecretRetired {
				if retired++; retired > 2 {
					continue
				}
			}
			v, err := o.sealer.Open(s.Binding(), s.Sealed)
			if err != nil {
				return out, fmt.Errorf("sealed value %d: %w", s.ID, err)
			}
			if secret.Weak(v) == "" {
				out = append(out, v)
			}
		}
	}
	return out, nil
}

// search is a reading of all hosts that is about to begin, because something
// new is looked for. Until its delay is over it takes in what else comes; until
// it has begun, whoever needs the result waits for it.
type search struct {
	begun chan struct{}
	over  bool // the delay is
}

// searchDelay gathers several takings into one search.
const searchDelay = 300 * time.Millisecond

// searchLater reads the files of all hosts again: until now nothing could be
// compared with the value that was just taken into custody.
func (o *Operator) searchLater() {
	o.lock.Lock()
	defer o.lock.Unlock()
	if len(o.searching) > 0 && !o.searching[len(o.searching)-1].over || !o.begin() {
		return
	}
	s := &search{begun: make(chan struct{})}
	o.searching = append(o.searching, s)
	go func() {
		defer o.work.Done()
		defer func() {
			o.lock.Lock()
			o.searching = slices.DeleteFunc(o.searching, func(other *search) bool { return other == s })
			o.lock.Unlock()
			close(s.begun)
		}()
		waited := connect.Wait(o.base, searchDelay)
		o.lock.Lock()
		s.over = true
		o.lock.Unlock()
		if waited != nil {
			return
		}
		all, err := o.Store.AllSystems(o.base)
		if err != nil {
			o.Log.Error("a search could not begin", "error", err)
			return
		}
		var hosts []string
		for _, v := range all {
			// One that was never read is read when it suits.
			if estate.Kind(v.Kind) == estate.KindUnixHost && !v.Visited.IsZero() {
				hosts = append(hosts, v.Name)
			}
		}
		if len(hosts) == 0 {
			return
		}
		if _, err := o.StartSurvey(o.base, byService, hosts); err != nil && o.base.Err() == nil {
			o.Log.Error("a search could not begin", "error", err)
		}
	}()
}

// searched says of a credential whether every host was searched for it since
// it was taken into custody.
func (o *Operator) searched(ctx context.Context, a store.Account) ([]connect.Checked, error) {
	value, err := o.currentSecret(ctx, a.Credential())
	if err != nil || value == nil || value.RotationID != 0 {
		return nil, err // what a rotation made was put where it stands
	}
	read, err := o.Store.FilesRead(ctx)
	if err != nil {
		return nil, err
	}
	all, err := o.Store.AllSystems(ctx)
	if err != nil {
		return nil, err
	}
	var late []string
	for _, v := range all {
		at, was := read[v.ID]
		if estate.Kind(v.Kind) == estate.KindUnixHost && was && v.State == "ok" && at.Before(value.Created) {
			late = append(late, v.Name)
		}
	}
	if len(late) == 0 {
		return nil, nil
	}
	return []connect.Checked{{
		System: a.System, What: "every host was searched for this value", Result: connect.CheckFailed,
		Words: fmt.Sprintf("not since it was taken into custody: %s", strings.Join(late[:min(len(late), 10)], ", ")), Next: "wait for the survey that follows taking custody, or run 'moss survey run'",
	}}, nil
}

// DecideCopy takes a person's decision about a copy that cannot be replaced, or
// may be none. An empty decision takes it back.
func (o *Operator) DecideCopy(ctx context.Context, by string, dependent int64, decision, reason string) error {
	d, err := o.Store.Dependent(ctx, dependent)
	if err != nil {
		return err
	}
	switch {
	case d.Copy == nil || d.Kind != estate.DependentFile:
		return fmt.Errorf("%w: %s on %s is a %s: decisions are about held copies", ErrInput, d.Place, d.System, d.Kind)
	case decision != "" && decision != store.CopyLeave && decision != store.CopyReplace:
		return fmt.Errorf("%w: a decision is %s or %s, not %q", ErrInput, store.CopyLeave, store.CopyReplace, decision)
	case decision == store.CopyReplace && d.Copy.Fixed != "":
		return fmt.Errorf("%w: %s on %s cannot be replaced: %s", ErrRefused, d.Place, d.System, d.Copy.Fixed)
	case decision != "" && reason == "":
		return fmt.Errorf("%w: give a reason: it is recorded, and shown before every rotation", ErrInput)
	}
	word := decision
	if word == "" {
		word = "taken back"
	}
	return o.Store.DecideCopy(ctx, store.CopyDecision{SystemID: d.SystemID, Place: d.Place, Decision: decision, Reason: reason, By: by},
		ledger.Entry{Actor: by, Act: "copy.decide", Phase: ledger.Outcome, Subject: d.Place, System: d.System, Result: "done", Reason: reason, Detail: word})
}

// leftBehind looks, after a rotation, for what still holds the value that it
// replaced.
func (o *Operator) leftBehind(ctx context.Context, r store.Rotation) error {
	old, next, err := o.pair(ctx, r)
	if err != nil || old == nil || next == nil {
		return err
	}
	loser := old
	if next.State != store.SecretCurrent {
		loser = next
	}
	holding, err := o.Store.HoldingFingerprint(ctx, loser.Fingerprint)
	if err != nil {
		return err
	}
	key := fmt.Sprintf("left-behind/%s/", r.Credential())
	var list []store.Finding
	for _, d := range holding {
		list = append(list, store.Finding{
			Key: fmt.Sprintf("%s%d", key, d.ID), Kind: "left-behind", Severity: "high", Subject: d.Place, System: d.System, AccountID: r.AccountID, DependentID: d.ID,
			What: fmt.Sprintf("it still holds the value of %s that rotation %d replaced", r.Account, r.ID), Next: "find out what reads it: it is refused at its next sign-in; then change or remove it",
		})
	}
	return o.Store.SetFindings(ctx, key, list)
}
