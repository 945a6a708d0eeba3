// Package people is about who works with the product: how they sign in, what
// they may be called, which roles they have. What a role may do is a matter of
// package access.
package people

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// People signs persons in, adds and changes them.
type People struct {
	base     *app.Base
	store    Store
	approval *approval.Approvals
	throttle *throttle
	hashing  *hashing
	refusals refusals
	changing sync.Mutex // one change of a person after the other
}

// New makes People. It carries out approvals of persons.
func New(base *app.Base, store Store, approvals *approval.Approvals) *People {
	people := &People{base: base, store: store, approval: approvals, throttle: newThrottle(base.Now), hashing: newHashing()}
	approvals.Carry(approval.KindPerson, approval.Carrier{Action: access.ChangeUser, CarryOut: people.carryPerson})
	return people
}

// Person is one to be added.
type Person struct {
	Name     string
	Password secret.Value
	Roles    []string
}

// Change says what of a person becomes another; nil for what stays.
type Change struct {
	Password *secret.Value
	Roles    []string
	Disabled *bool
}

// Add adds a person, or asks for it. It returns the name as it was taken, and the
// approval that it waits for, or 0.
func (people *People) Add(ctx context.Context, by access.Actor, p Person) (name string, waits records.ApprovalID, err error) {
	if err := access.Decide(by, access.AddUser, access.Object{Kind: "person", Name: p.Name}); err != nil {
		return "", 0, err
	}
	user, err := people.person(ctx, p)
	if err != nil {
		return "", 0, err
	}
	entry := ledger.Entry{Actor: by.Name, Act: "user.add", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Changes: changed(records.User{}, user, false)}
	waits, err = people.put(ctx, by, records.User{}, user, true, false, entry)
	return user.Name, waits, err
}

// person is one who can be added, with the password hashed.
func (people *People) person(ctx context.Context, p Person) (records.User, error) {
	taken, err := people.store.UserNames(ctx)
	if err != nil {
		return records.User{}, err
	}
	if p.Name, err = checkPersonName(p.Name, taken); err != nil {
		return records.User{}, err
	}
	if err := checkNewPassword(p.Name, p.Password); err != nil {
		return records.User{}, err
	}
	if err := checkRoles(p.Roles); err != nil {
		return records.User{}, err
	}
	hash, err := people.hash(ctx, p.Password)
	return records.User{Name: p.Name, Password: hash, Roles: p.Roles}, err
}

func checkRoles(roles []string) error {
	if len(roles) == 0 {
		return fmt.Errorf("%w: at least one role is needed: %s", app.ErrInput, strings.Join(access.Roles(), ", "))
	}
	for _, role := range roles {
		if !slices.Contains(access.Roles(), role) {
			return fmt.Errorf("%w: unknown role %q (known: %s)", app.ErrInput, role, strings.Join(access.Roles(), ", "))
		}
	}
	return nil
}

// Change changes a person, or asks for it. It returns the approval that it waits
// for, or 0.
func (people *People) Change(ctx context.Context, by access.Actor, name string, change Change) (records.ApprovalID, error) {
	if err := access.Decide(by, access.ChangeUser, access.Object{Kind: "person", Name: name}); err != nil {
		return 0, err
	}
	return people.change(ctx, by, name, change, false)
}

// Keep changes a person at once: whoever calls it had it approved, where that is needed
// (Delicate).
func (people *People) Keep(ctx context.Context, by access.Actor, name string, change Change) error {
	if err := access.Decide(by, access.ChangeUser, access.Object{Kind: "person", Name: name}); err != nil {
		return err
	}
	_, err := people.change(ctx, by, name, change, true)
	return err
}

// Delicate: a change from or to some roles takes a second person.
func Delicate(roles ...string) bool { return slices.Contains(roles, access.RoleApprover) }

func (people *People) change(ctx context.Context, by access.Actor, name string, change Change, approved bool) (records.ApprovalID, error) {
	before, err := people.store.User(ctx, name)
	if err != nil {
		return 0, err
	}
	after := before
	if change.Roles != nil {
		if err := checkRoles(change.Roles); err != nil {
			return 0, err
		}
		after.Roles = change.Roles
	}
	if change.Disabled != nil {
		after.Disabled = *change.Disabled
	}
	if by.Is(before.Name) {
		if err := ofOneself(before, after); err != nil {
			return 0, err
		}
	}
	if change.Password != nil {
		if err := checkNewPassword(before.Name, *change.Password); err != nil {
			return 0, err
		}
		if after.Password, err = people.hash(ctx, *change.Password); err != nil {
			return 0, err
		}
	}
	entry := ledger.Entry{Actor: by.Name, Act: "user.change", Phase: ledger.Outcome, Subject: before.Name, Result: "done", Changes: changed(before, after, change.Password != nil)}
	if approved {
		people.changing.Lock()
		defer people.changing.Unlock()
		if err := people.someoneLeft(ctx, after); err != nil {
			return 0, err
		}
		return 0, people.store.ChangeUser(ctx, after, change.Password != nil, entry)
	}
	return people.put(ctx, by, before, after, false, change.Password != nil, entry)
}

// ofOneself: nobody gives themselves rights, or takes from the product the last
// way in.
func ofOneself(before, after records.User) error {
	switch {
	case slices.ContainsFunc(after.Roles, func(role string) bool { return !slices.Contains(before.Roles, role) }):
		return fmt.Errorf("%w: you cannot give yourself a role: let another administrator do it", app.ErrRefused)
	case !slices.Contains(after.Roles, access.RoleAdministrator):
		return fmt.Errorf("%w: you cannot take the role administrator from yourself: let another administrator do it", app.ErrRefused)
	case after.Disabled:
		return fmt.Errorf("%w: you cannot disable yourself", app.ErrRefused)
	}
	return nil
}

// someoneLeft refuses a change after which nobody could manage people any more: two
// administrators could otherwise take the role from each other.
func (people *People) someoneLeft(ctx context.Context, after records.User) error {
	if !after.Disabled && slices.Contains(after.Roles, access.RoleAdministrator) {
		return nil
	}
	others, err := people.store.PersonsWithRole(ctx, access.RoleAdministrator, after.Name)
	if err == nil && len(others) == 0 {
		err = fmt.Errorf("%w: nobody would be left who may manage people: give somebody else the role %s first", app.ErrRefused, access.RoleAdministrator)
	}
	return err
}

// ChangeOwnPassword needs the old one: a session that was left open must not be
// enough. All sessions and tokens end.
func (people *People) ChangeOwnPassword(ctx context.Context, by access.Actor, old, next secret.Value) error {
	if err := access.Decide(by, access.ChangeOwnPassword, access.Object{Kind: "person", Name: by.Name, Owner: by.Name}); err != nil {
		return err
	}
	user, err := people.store.User(ctx, by.Name)
	if err != nil {
		return err
	}
	fits, err := people.fits(ctx, old, user.Password, func() bool { return true }, people.throttledName(user.Name))
	switch {
	case err != nil:
		return err
	case !fits:
		return ErrWrongOld
	case old.Equal(next):
		return fmt.Errorf("%w: the new password is the old one", app.ErrInput)
	}
	if err := checkNewPassword(user.Name, next); err != nil {
		return err
	}
	if user.Password, err = people.hash(ctx, next); err != nil {
		return err
	}
	return people.store.ChangeUser(ctx, user, true, ledger.Entry{Actor: user.Name, Act: "user.password", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: "all sessions and tokens ended"})
}

func changed(before, after records.User, password bool) []ledger.Change {
	changes := ledger.Diff(
		[3]string{"roles", strings.Join(before.Roles, " "), strings.Join(after.Roles, " ")},
		[3]string{"disabled", fmt.Sprint(before.Disabled), fmt.Sprint(after.Disabled)},
	)
	if password {
		changes = append(changes, ledger.Change{Field: "password", From: "one", To: "another"})
	}
	return changes
}

// carryPerson adds or changes the person that was approved.
func (people *People) carryPerson(ctx context.Context, by, _ access.Actor, v records.Approval) error {
	var asked approvedPerson
	if err := json.Unmarshal(v.Detail, &asked); err != nil {
		return err
	}
	user := asked.User
	user.Password = asked.Hash
	people.changing.Lock()
	defer people.changing.Unlock()
	if !asked.New {
		if err := people.someoneLeft(ctx, user); err != nil {
			return err
		}
	}
	entry := ledger.Entry{Actor: v.AskedBy, Act: "user.change", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: "approved by " + by.Name, Ref: fmt.Sprintf("approval/%d", v.ID), Changes: v.Changes}
	if asked.New {
		entry.Act = "user.add"
		return people.store.AddUser(ctx, user, false, entry)
	}
	return people.store.ChangeUser(ctx, user, asked.EndSessions, entry)
}

// approvedPerson is a person as they shall be.
type approvedPerson struct {
	User        records.User `json:"user"`
	Hash        string       `json:"hash"` // argon2id
	New         bool         `json:"new"`
	EndSessions bool         `json:"end_sessions"`
}

// put adds or changes a person, or asks for it when it gives, takes or
// takes over the power to approve: that could lift the rule of two. It returns
// the approval that it waits for, or 0.
func (people *People) put(ctx context.Context, by access.Actor, before, after records.User, isNew, endSessions bool, entry ledger.Entry) (records.ApprovalID, error) {
	people.changing.Lock()
	defer people.changing.Unlock()
	if !isNew {
		if err := people.someoneLeft(ctx, after); err != nil {
			return 0, err
		}
	}
	delicate := Delicate(append(append([]string{}, before.Roles...), after.Roles...)...)
	alone, err := people.approval.Alone(ctx, by.Name)
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
		return people.approval.Ask(ctx, records.Approval{Kind: approval.KindPerson, Subject: after.Name, What: what, Changes: entry.Changes, AskedBy: by.Name, Detail: detail}, ledger.Entry{Act: entry.Act})
	}
	if delicate {
		entry.Detail = strings.TrimPrefix(entry.Detail+"; alone: nobody else could approve it", "; ")
	}
	if isNew {
		return 0, people.store.AddUser(ctx, after, false, entry)
	}
	return 0, people.store.ChangeUser(ctx, after, endSessions, entry)
}
