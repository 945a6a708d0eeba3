// Package access decides who may do what. There is one question, Decide, and one
// table that answers it. The service asks it with the operation alone, before it
// reads a request; the activities ask it again where something is done, with what
// it is done to in hand: that another person asked for it, whose it is, and later
// its labels, can be known only there.
//
// An act of the product itself has no person behind it; its Actor is Service.
package access

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
)

// Roles of people. A person may have several; separation of duties is made by
// giving them to different people.
const (
	RoleViewer        = "viewer"        // reads the picture
	RoleOperator      = "operator"      // surveys, custody, rotations
	RoleApprover      = "approver"      // approves what somebody else asks for, and host keys
	RoleAuditor       = "auditor"       // reads and verifies the ledger
	RoleAdministrator = "administrator" // people, stewards, systems
)

// Roles lists all roles.
func Roles() []string {
	return []string{RoleViewer, RoleOperator, RoleApprover, RoleAuditor, RoleAdministrator}
}

// Actor is who does something.
type Actor struct {
	Name  string // as the ledger has it
	Roles []string
	own   bool // the product itself
}

// Service is the product itself: regular duties, and what follows from an act
// that a person was allowed.
func Service() Actor { return Actor{Name: app.ByService, own: true} }

// Following is the actor of what follows from an act that was allowed: the same
// name in the ledger, and no further question.
func Following(from Actor) Actor { return Actor{Name: from.Name, own: true} }

// IsService reports whether it is the product itself.
func (a Actor) IsService() bool { return a.own && a.Name == app.ByService }

// Is reports whether the actor is a person; names are compared as sign-in does.
func (a Actor) Is(name string) bool { return name != "" && strings.EqualFold(a.Name, name) }

// Has reports whether the actor has a role.
func (a Actor) Has(role string) bool { return slices.Contains(a.Roles, role) }

// Object is what something is done to, as far as the act knows. The zero Object
// asks for the role alone.
type Object struct {
	Kind    string // account, credential, system, rotation, person, approval, token, ...
	Name    string
	AskedBy string // who asked for what is decided now
	Owner   string // whose it is
}

// ErrDenied is wrapped by refusals for want of a role.
var ErrDenied = errors.New("denied")

// Decide returns nil when the actor may. Who lacks a role gets ErrDenied; whom the
// separation of duties forbids it, app.ErrRefused.
func Decide(actor Actor, action Action, object Object) error {
	if actor.own {
		return nil
	}
	rule, known := rules[action]
	if !known {
		return fmt.Errorf("%w: nobody may do what is not in the table of rights (%s)", ErrDenied, action)
	}
	if !rule.allows(actor) {
		return fmt.Errorf("%w: %s has the roles %s; this needs one of: %s", ErrDenied, actor.Name, strings.Join(actor.Roles, ", "), strings.Join(rule.roles, ", "))
	}
	if rule.duties != nil && object != (Object{}) {
		return rule.duties(actor, object)
	}
	return nil
}

// Known reports whether the table has an action.
func Known(action Action) bool { _, known := rules[action]; return known }

// Public reports whether an action needs no sign-in.
func Public(action Action) bool { return slices.Contains(rules[action].roles, public) }

// Needs are the roles of which one is needed, for documents.
func Needs(action Action) []string { return slices.Clone(rules[action].roles) }

// Actions lists all, in order.
func Actions() []Action {
	out := make([]Action, 0, len(rules))
	for action := range rules {
		out = append(out, action)
	}
	slices.Sort(out)
	return out
}

func (r rule) allows(actor Actor) bool {
	return slices.ContainsFunc(r.roles, func(need string) bool { return need == public || need == anyone || actor.Has(need) })
}
