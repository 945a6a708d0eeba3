package labels

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// Put gives an account a label by hand. An exclusion still keeps it away.
func (labels *Labels) Put(ctx context.Context, by access.Actor, id records.AccountID, label, reason string) error {
	a, err := labels.store.Account(ctx, id)
	if err != nil {
		return err
	}
	if err := access.Decide(by, access.PutLabel, access.Object{Kind: "account", Name: a.Name}); err != nil {
		return err
	}
	if err := rules.CheckLabel(label); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	if strings.TrimSpace(reason) == "" {
		return fmt.Errorf("%w: say why", app.ErrInput)
	}
	if !a.Gone.IsZero() {
		return fmt.Errorf("%w: %s on %s is gone", app.ErrInput, a.Name, a.System)
	}
	if err := labels.store.PutLabel(ctx, records.HandLabel{AccountID: id, Label: label, Reason: reason, SetBy: by.Name},
		ledger.Entry{Actor: by.Name, Act: "label.put", Phase: ledger.Outcome, Subject: a.Name + " on " + a.System, Result: "done", Detail: label, Reason: reason}); err != nil {
		return err
	}
	labels.tell()
	return nil
}

// tell tells those who go by labels that one came or went.
func (labels *Labels) tell() {
	if labels.byHand != nil {
		labels.byHand()
	}
}

// Drop takes a label away that was given by hand.
func (labels *Labels) Drop(ctx context.Context, by access.Actor, id records.AccountID, label, reason string) error {
	a, err := labels.store.Account(ctx, id)
	if err != nil {
		return err
	}
	if err := access.Decide(by, access.DropLabel, access.Object{Kind: "account", Name: a.Name}); err != nil {
		return err
	}
	if err := labels.store.DropLabel(ctx, id, label, ledger.Entry{Actor: by.Name, Act: "label.drop", Phase: ledger.Outcome, Subject: a.Name + " on " + a.System, Result: "done", Detail: label, Reason: reason}); err != nil {
		return err
	}
	labels.tell()
	return nil
}
