package picture

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// SetLimit keeps what a dependent can carry of a password, which no file tells: the field of
// an old program that is short, or that takes some characters for something else. New
// passwords keep to it. The zero Limit takes it away.
func (picture *Picture) SetLimit(ctx context.Context, by access.Actor, id records.DependentID, limit credential.Limit) error {
	if err := access.Decide(by, access.SetLimit, access.Object{}); err != nil {
		return err
	}
	d, err := picture.store.Dependent(ctx, id)
	if err != nil {
		return err
	}
	limit.Of = ""
	switch {
	case d.Key != nil || d.Kind == estate.DependentProcess:
		return fmt.Errorf("%w: a limit is of what holds or reads a password: %s is of the kind %s", app.ErrInput, d.Place, d.Kind)
	case limit.Longest < 0 || limit.Longest > 256 || len(limit.Without) > 100:
		return fmt.Errorf("%w: at most 1 to 256 characters, without up to 100 of them", app.ErrInput)
	case strings.ContainsFunc(limit.Without, unicode.IsControl):
		return fmt.Errorf("%w: no password has control characters", app.ErrInput)
	}
	before, keep, act := "", &limit, "dependent.set-limit"
	if d.Limit != nil {
		before = d.Limit.String()
	}
	if limit == (credential.Limit{}) {
		keep, act = nil, "dependent.remove-limit"
	}
	return picture.store.SetLimit(ctx, id, keep, ledger.Entry{Actor: by.Name, Act: act, Phase: ledger.Outcome, Subject: d.Name, System: d.System, Result: "done", Changes: ledger.Diff([3]string{"limit", before, limit.String()})})
}
