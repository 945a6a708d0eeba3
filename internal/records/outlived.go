package records

import (
	"fmt"
	"regexp"
	"time"

	"mossledger.example/moss/internal/core/expiry"
)

// Outlived is something that proves an account and has outlived its purpose, or may have.
type Outlived struct {
	ID          int64         `json:"id" doc:"Of the account, or of the place of a key below zero"`
	What        expiry.What   `json:"what" enum:"account,key"`
	Name        string        `json:"name"`
	System      string        `json:"system"`
	SystemID    SystemID      `json:"system_id"`
	Kind        string        `json:"system_kind"`
	AccountID   AccountID     `json:"account_id,omitempty"`
	DependentID DependentID   `json:"dependent_id,omitempty" doc:"Of a key: where it is accepted"`
	KeyID       string        `json:"key_id,omitempty" doc:"Of a key: its number, or the fingerprint of its public half"`
	Points      int           `json:"points" doc:"0 to 100: how much it has"`
	Reasons     []string      `json:"reasons" nullable:"false"`
	Remedy      expiry.Remedy `json:"remedy" enum:"delete,disable,rotate,look" doc:"How it is ended safely: disabled, watched and deleted; disabled; rotated; or looked at first, for something depends on it"`
	Dependents  int           `json:"dependents" doc:"That use it, as far as is known"`
	Since       time.Time     `json:"since" doc:"For so long it has these points"`
	Command     string        `json:"command" doc:"That rehearses it"`
}

// plain is what may stand in a command line that somebody copies: numbers of keys are what a
// system said.
var plain = regexp.MustCompile(`^[A-Za-z0-9_.:/+=-]{1,200}$`)

// command rehearses the remedy. Accounts are named by their numbers: their names are anybody's.
func (v Outlived) command() string {
	if v.What == expiry.Key && (!plain.MatchString(v.KeyID) || v.KeyID[0] == '-' || !plain.MatchString(v.System)) {
		return fmt.Sprintf("moss dependent show %d", v.DependentID)
	}
	of := fmt.Sprintf("id:%d", v.AccountID)
	switch {
	case v.What == expiry.Key && v.Kind == "unix-host":
		of = fmt.Sprintf("%s --on %s", v.KeyID, v.System)
	case v.What == expiry.Key:
		of += " --key " + v.KeyID
	}
	switch v.Remedy {
	case expiry.RemedyDelete:
		return "moss credential delete " + of + " --watch 30d"
	case expiry.RemedyDisable:
		return "moss credential disable " + of
	case expiry.RemedyRotate:
		return "moss rotate rehearse " + v.rotated()
	}
	if v.AccountID == 0 {
		return fmt.Sprintf("moss dependent show %d", v.DependentID)
	}
	return fmt.Sprintf("moss account show id:%d", v.AccountID)
}

func (v Outlived) rotated() string {
	if v.What == expiry.Key && v.Kind == "unix-host" {
		return v.KeyID
	}
	return fmt.Sprintf("id:%d", v.AccountID)
}

// Told is one with its command.
func (v Outlived) Told() Outlived {
	v.Command = v.command()
	return v
}

// EndMade is a change of an end that was made from here and stands.
type EndMade struct {
	AmendmentID AmendmentID `json:"amendment_id"`
	At          time.Time   `json:"at"`
	Act         expiry.Act  `json:"act" enum:"set-end,extend,expire,disable,enable,delete,issue"`
	Of          expiry.What `json:"of" enum:"password,account,role,token,key,certificate,membership,right"`
	KeyID       string      `json:"key_id,omitempty" doc:"Of a key: its number, or the fingerprint of its public half"`
	End         expiry.End  `json:"-"`
	Until       string      `json:"until,omitempty" doc:"The end that was given, in words"`
	By          string      `json:"by"`
	Reason      string      `json:"reason"`
}

// LifeToJudge is what is known of one, before it is judged.
type LifeToJudge struct {
	Outlived
	Life    expiry.Life
	Owner   string // who answers for it, and is gone or disabled
	Labels  []string
	Custody bool
}
