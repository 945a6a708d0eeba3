package picture

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Declared is what a person says of an account's use.
type Declared struct {
	Place       string
	System      string // name; that of the account when empty
	DependentID records.DependentID
	Reason      string
	Until       time.Time
}

// Declare records that an account is used somewhere, because a person says so.
func (picture *Picture) Declare(ctx context.Context, by access.Actor, a records.Account, d Declared) (records.DeclarationID, error) {
	if err := access.Decide(by, access.DeclareUse, access.Object{Kind: "account", Name: a.Name}); err != nil {
		return 0, err
	}
	switch {
	case strings.TrimSpace(d.Reason) == "":
		return 0, fmt.Errorf("%w: say why: a declaration needs a reason", app.ErrInput)
	case d.DependentID == 0 && strings.TrimSpace(d.Place) == "":
		return 0, fmt.Errorf("%w: say where: name a dependent, or describe the place", app.ErrInput)
	case !d.Until.IsZero() && !d.Until.After(picture.base.Now()):
		return 0, fmt.Errorf("%w: its end lies in the past", app.ErrInput)
	}
	system, subject := a.SystemID, d.Place
	if d.System != "" {
		v, err := picture.store.System(ctx, d.System)
		if err != nil {
			return 0, err
		}
		system = v.ID
	}
	if d.DependentID != 0 {
		dependent, err := picture.store.Dependent(ctx, d.DependentID)
		if err != nil {
			return 0, err
		}
		subject = dependent.Place
	}
	entry := ledger.Entry{Actor: by.Name, Act: "use.declare", Subject: a.Name + ": " + subject, Reason: d.Reason, Phase: ledger.Outcome, Result: "done"}
	return picture.store.Declare(ctx, records.Declaration{AccountID: a.ID, DependentID: d.DependentID, Place: strings.TrimSpace(d.Place), Reason: d.Reason, Until: d.Until, SaidBy: by.Name}, system, entry)
}

// Withdraw ends a declaration.
func (picture *Picture) Withdraw(ctx context.Context, by access.Actor, id records.DeclarationID) error {
	if err := access.Decide(by, access.WithdrawUse, access.Object{}); err != nil {
		return err
	}
	return picture.store.Withdraw(ctx, id, by.Name, ledger.Entry{Actor: by.Name, Act: "use.withdraw", Subject: fmt.Sprintf("declaration %d", id), Phase: ledger.Outcome, Result: "done"})
}
