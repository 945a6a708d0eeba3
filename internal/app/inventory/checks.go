package inventory

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Check goes through the stages of reaching a system. With approve, the
// host key with that fingerprint is approved first, if it is the one offered.
func (inventory *Inventory) Check(ctx context.Context, by access.Actor, idOrName, approve string) (records.System, connect.CheckReport, error) {
	action := access.CheckSystem
	if approve != "" {
		action = access.ApproveHostKey
	}
	if err := access.Decide(by, action, access.Object{Kind: "system", Name: idOrName}); err != nil {
		return records.System{}, connect.CheckReport{}, err
	}
	v, err := inventory.store.System(ctx, idOrName)
	if err != nil {
		return v, connect.CheckReport{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if approve != "" {
		if err := inventory.approveHostKey(ctx, by.Name, v, approve); err != nil {
			return v, connect.CheckReport{}, err
		}
		if v, err = inventory.store.System(ctx, v.Name); err != nil {
			return v, connect.CheckReport{}, err
		}
	}
	connector, target, err := inventory.Target(ctx, v)
	var unapproved *Unapproved
	if errors.As(err, &unapproved) {
		// How far it is reached can be seen without anything secret.
		connector, target, err = inventory.targetWithoutSecrets(ctx, v)
	}
	if err != nil {
		return v, connect.CheckReport{}, err
	}
	var report connect.CheckReport
	err = inventory.base.Act(ctx, ledger.Entry{Actor: by.Name, Act: "system.check", Subject: v.Name, System: v.Name}, func() error {
		report = connector.Check(ctx, target)
		if unapproved != nil {
			report.Stages = untilSignIn(report.Stages, unapproved)
		}
		app.RedactAll(inventory.base.Redactor(ctx), &report)
		if f := inventory.Claim(ctx, v, report.Facts); f != nil {
			report.Facts.Identity = "" // it is the other's
			report.Stages = append(report.Stages, connect.StageResult{Stage: f.Stage, Detail: f.Words, Next: f.Next, Code: f.Code})
		}
		return nil
	})
	if err != nil {
		return v, report, err
	}
	if err := inventory.store.SaveCheck(context.WithoutCancel(ctx), v.ID, report); err != nil {
		return v, report, err
	}
	v, err = inventory.store.System(context.WithoutCancel(ctx), fmt.Sprint(v.Name))
	return v, report, err
}

// untilSignIn is a check that had nothing to sign in with.
func untilSignIn(stages []connect.StageResult, why *Unapproved) []connect.StageResult {
	var out []connect.StageResult
	for _, stage := range stages {
		if stage.Stage == connect.StageSignIn {
			break
		}
		out = append(out, stage)
		if !stage.OK {
			return out
		}
	}
	return append(out, connect.StageResult{Stage: connect.StageSignIn, Detail: why.Error(), Next: "nothing secret was sent", Code: connect.CodeNotPermitted})
}
