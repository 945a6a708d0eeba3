// Package people is about who works with the product, and what they may do.
package people

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// People adds and changes persons.
type People struct {
	base     *app.Base
	store    Store
	approval *approval.Approvals
}

// New makes People. It carries out approvals of persons.
func New(base *app.Base, store Store, approvals *approval.Approvals) *People {
	people := &People{base, store, approvals}
	approvals.Carry(approval.KindPerson, approval.Carrier{CarryOut: people.carryPerson})
	return people
}

// carryPerson adds or changes the person that was approved.
func (people *People) carryPerson(ctx context.Context, by string, v store.Approval) error {
	var asked approvedPerson
	if err := json.Unmarshal(v.Detail, &asked); err != nil {
		return err
	}
	user := asked.User
	user.Password = asked.Hash
	entry := ledger.Entry{Actor: v.AskedBy, Act: "user.change", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: "approved by " + by, Ref: fmt.Sprintf("approval/%d", v.ID), Changes: v.Changes}
	if asked.New {
		entry.Act = "user.add"
		return people.store.AddUser(ctx, user, false, entry)
	}
	return people.store.ChangeUser(ctx, user, asked.EndSessions, entry)
}

// approvedPerson is a person as they shall be.
type approvedPerson struct {
	User        store.User `json:"user"`
	Hash        string     `json:"hash"` // argon2id
	New         bool       `json:"new"`
	EndSessions bool       `json:"end_sessions"`
}

// Change adds or changes a person, or asks for it when it gives, takes or
// takes over the power to approve: that could lift the rule of two. It returns
// the approval that it waits for, or 0.
func (people *People) Change(ctx context.Context, by string, before, after store.User, isNew, endSessions bool, entry ledger.Entry) (int64, error) {
	delicate := false
	for _, role := range append(append([]string{}, before.Roles...), after.Roles...) {
		delicate = delicate || role == approval.RoleApprover
	}
	alone, err := people.approval.Alone(ctx, by)
	if err != nil {
		return 0, err
	}
	if delicate && !alone {
		detail, err := json.Marshal(approvedPerson{after, after.Password, isNew, endSessions})
		if err != nil {
			return 0, err
		}
		what := "change the person " + after.Name
		if isNew {
			what = "add the person " + after.Name + " (" + strings.Join(after.Roles, ", ") + ")"
		}
		defer people.base.Topics.Wake("all")
		return people.approval.Ask(ctx, store.Approval{Kind: approval.KindPerson, Subject: after.Name, What: what, Changes: entry.Changes, AskedBy: by, Detail: detail}, ledger.Entry{Act: entry.Act})
	}
	if delicate {
		entry.Detail = strings.TrimPrefix(entry.Detail+"; alone: nobody else could approve it", "; ")
	}
	if isNew {
		return 0, people.store.AddUser(ctx, after, false, entry)
	}
	return 0, people.store.ChangeUser(ctx, after, endSessions, entry)
}
