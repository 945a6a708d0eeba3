package managing

import (
	"context"
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// Rehearser makes amendments of changes.
type Rehearser interface {
	RehearseManaged(ctx context.Context, by access.Actor, system records.System, wish amend.ManagedWish) (records.Amendment, error)
	RehearseEnds(ctx context.Context, by access.Actor, wishes []amend.EndWish, onFailure rotation.OnFailure) (records.Amendment, error)
}

// NewAccount is an account that is to be created.
type NewAccount struct {
	Name      string // with the $ at its end, or without
	Container string // "" for the directory's own place for them
	DNSName   string
	Interval  int  // days; 0 for 30
	OldTypes  bool // RC4 besides AES, for hosts that have nothing better
	Services  []string
	Group     string // whose hosts may ask for the password; "" for nobody yet
	Early     string // why it is created although no root key is in effect yet
	// MemberOf are groups that it becomes a member of itself: those that have the rights that it
	// needs on hosts, such as to log on as a service.
	MemberOf []string
}

// RehearseNew says what creating an account would do, and whether it can be. What is rehearsed is
// started as an amendment.
func (m *Managing) RehearseNew(ctx context.Context, by access.Actor, directory string, wish NewAccount) (records.Amendment, error) {
	if err := access.Decide(by, access.RehearseManaged, access.Object{Kind: "system", Name: directory}); err != nil {
		return records.Amendment{}, err
	}
	v, seen, err := m.look(ctx, by, directory, managed.Ask{Container: strings.TrimSpace(wish.Container), Group: strings.TrimSpace(wish.Group)})
	if err != nil {
		return records.Amendment{}, err
	}
	name := strings.TrimSuffix(strings.TrimSpace(wish.Name), "$")
	c := managed.AccountChange{
		Act: managed.Create, Name: name + "$", Container: seen.Container, DN: "CN=" + ldap.EscapeDN(name) + "," + seen.Container,
		DNSName: strings.TrimSpace(wish.DNSName), Interval: wish.Interval, Encryption: managed.EncryptionGood, Services: wish.Services, Early: strings.TrimSpace(wish.Early),
	}
	if c.Interval == 0 {
		c.Interval = managed.IntervalDefault
	}
	if wish.OldTypes {
		c.Encryption = managed.EncryptionOld
	}
	if seen.Group != nil {
		c.Group = seen.Group.DN
	}
	out := amend.ManagedWish{Changes: []building.Managed{{Account: &c}}}
	for _, name := range wish.MemberOf {
		_, of, err := m.look(ctx, by, directory, managed.Ask{Group: strings.TrimSpace(name)})
		if err != nil {
			return records.Amendment{}, err
		}
		if of.Group != nil {
			out.Changes = append(out.Changes, building.Managed{Member: member(c.Name, "", c.DN, *of.Group, true)})
		}
	}
	return m.rehearser.RehearseManaged(ctx, by, v, out)
}

// RehearsePermit says what letting the hosts of a group ask for the password of an account would
// do.
func (m *Managing) RehearsePermit(ctx context.Context, by access.Actor, account records.AccountID, group string) (records.Amendment, error) {
	if err := access.Decide(by, access.RehearseManaged, access.Object{Kind: "account"}); err != nil {
		return records.Amendment{}, err
	}
	a, err := m.store.Account(ctx, account)
	if err != nil {
		return records.Amendment{}, err
	}
	if !a.Managed() {
		return records.Amendment{}, fmt.Errorf("%w: %s is no managed account", app.ErrInput, a.Name)
	}
	v, seen, err := m.look(ctx, by, a.System, managed.Ask{Account: a.DN, Group: strings.TrimSpace(group)})
	if err != nil {
		return records.Amendment{}, err
	}
	c := managed.AccountChange{Act: managed.Permit, Name: a.Name, DN: a.DN}
	_, c.Container, _ = strings.Cut(a.DN, ",")
	if seen.Group != nil {
		c.Group = seen.Group.DN
	}
	return m.rehearser.RehearseManaged(ctx, by, v, amend.ManagedWish{Changes: []building.Managed{{Account: &c}}})
}

// look asks a directory for what names mean there. A group that is named and is not there is an
// error: nobody is permitted by mistake, and nobody forgotten.
func (m *Managing) look(ctx context.Context, by access.Actor, directory string, ask managed.Ask) (records.System, managed.Seen, error) {
	v, err := m.store.System(ctx, directory)
	if err != nil {
		return v, managed.Seen{}, err
	}
	seen, err := m.ask(ctx, by, v, ask)
	if err == nil && ask.Group != "" && seen.Group == nil {
		err = fmt.Errorf("%w: %s shows no group, or more than one, that is called %s", app.ErrInput, v.Name, ask.Group)
	}
	return v, seen, err
}
