package managing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// HostsWish says which hosts are to have the password of an account, and when they learn of it.
type HostsWish struct {
	Hosts   []string // by their names in the directory or here
	Group   string   // that they become members of; the only one that is permitted when it is empty
	Restart bool     // those that have to learn of it
	// NotBefore and NotAfter are the window of the restarts; zero for at once.
	NotBefore, NotAfter time.Time
}

// RemoveWish says what of an account is to go: hosts from the group, a group from those that are
// permitted, or, where neither is named, the account itself.
type RemoveWish struct {
	Hosts []string
	Group string
	Watch time.Duration // of the account itself: for so long nothing may ask for it, disabled, before it is deleted
}

// check refuses a wish that nobody can mean.
func (wish HostsWish) check(now time.Time) error {
	switch {
	case len(wish.Hosts) == 0 || len(wish.Hosts) > MostHosts:
		return fmt.Errorf("%w: name 1 to %d hosts", app.ErrInput, MostHosts)
	case wish.NotBefore.IsZero() != wish.NotAfter.IsZero():
		return fmt.Errorf("%w: a window has a beginning and an end", app.ErrInput)
	case !wish.NotAfter.IsZero() && !wish.NotAfter.After(wish.NotBefore):
		return fmt.Errorf("%w: the window ends before it begins", app.ErrInput)
	case !wish.NotAfter.IsZero() && wish.NotAfter.Before(now):
		return fmt.Errorf("%w: the window is over", app.ErrInput)
	case !wish.NotBefore.IsZero() && !wish.Restart:
		return fmt.Errorf("%w: a window is that of restarts, and none was asked for", app.ErrInput)
	}
	return nil
}

// RehearseHosts says what it takes that hosts can fetch the password of an account: that they become
// members of a group that may, and are restarted.
func (m *Managing) RehearseHosts(ctx context.Context, by access.Actor, account records.AccountID, wish HostsWish) (records.Amendment, error) {
	if err := access.Decide(by, access.RehearseHosts, access.Object{Kind: "account"}); err != nil {
		return records.Amendment{}, err
	}
	if err := wish.check(m.base.Now()); err != nil {
		return records.Amendment{}, err
	}
	v, a, seen, err := m.managed(ctx, by, account)
	if err != nil {
		return records.Amendment{}, err
	}
	group, err := permittedGroup(*seen.Account, wish.Group)
	if err != nil {
		return records.Amendment{}, err
	}
	systems, err := m.store.AllSystems(ctx)
	if err != nil {
		return records.Amendment{}, err
	}
	out := amend.ManagedWish{}
	var names []string
	for _, h := range hostsOf(*seen.Account, wish.Hosts, systems) {
		c, err := m.computer(ctx, v, h, systems)
		if err != nil {
			return records.Amendment{}, err
		}
		if slices.Contains(names, c.Name) {
			continue // named twice, in two ways
		}
		names = append(names, c.Name)
		out.Changes = append(out.Changes, building.Managed{Member: member(c.Name, c.StableID, c.DN, group, true)})
		if h.Learned() {
			continue
		}
		switch is := slices.IndexFunc(systems, func(s records.System) bool { return s.Name == h.System }); {
		case !wish.Restart:
			out.LeftOut = append(out.LeftOut, c.Name+" has to be restarted afterwards: a host learns its groups when it starts")
		case is < 0 || systems[is].Kind != string(estate.KindWindowsHost):
			return records.Amendment{}, fmt.Errorf("%w: %s cannot be restarted from here: it is no windows host that is known here", app.ErrInput, c.Name)
		default:
			out.Restarts = append(out.Restarts, building.HostRestart{SystemID: systems[is].ID.String(), System: systems[is].Name, NotBefore: wish.NotBefore, NotAfter: wish.NotAfter})
		}
	}
	out.Subject = fmt.Sprintf("%s on %s, for %s", a.Name, v.Name, strings.Join(names[:min(len(names), 5)], ", "))
	return m.rehearser.RehearseManaged(ctx, by, v, out)
}

// member is a membership of a group.
func member(name, id, dn string, group managed.Entitled, give bool) *privilege.RightChange {
	return &privilege.RightChange{Give: give, To: name, ToID: id, ToDN: dn, ToKind: privilege.KindAccount, Group: group.Name, GroupID: group.SID, GroupDN: group.DN}
}

// permittedGroup is the one that hosts are to be members of.
func permittedGroup(a managed.AccountSeen, name string) (managed.Entitled, error) {
	var groups []managed.Entitled
	var names []string
	for _, p := range a.Permitted {
		if p.Kind == "group" && p.DN != "" && (name == "" || strings.EqualFold(p.Name, name) || strings.EqualFold(p.DN, name)) {
			groups, names = append(groups, p), append(names, p.Name)
		}
	}
	switch {
	case len(groups) == 1:
		return groups[0], nil
	case len(groups) > 1:
		return managed.Entitled{}, fmt.Errorf("%w: more than one group may ask for the password of %s (%s): name one", app.ErrInput, a.Name, strings.Join(names, ", "))
	case name != "":
		return managed.Entitled{}, fmt.Errorf("%w: %s is none of the groups that may ask for the password of %s: permit it first ('moss managed permit')", app.ErrRefused, name, a.Name)
	}
	return managed.Entitled{}, fmt.Errorf("%w: no group may ask for the password of %s: permit one first ('moss managed permit')", app.ErrRefused, a.Name)
}

// computer is the account of a host in the directory, as surveys saw it.
func (m *Managing) computer(ctx context.Context, directory records.System, h managed.OnHost, systems []records.System) (records.Account, error) {
	candidates := []string{h.Name}
	if h.Host != nil {
		candidates = []string{h.Host.Name}
	}
	for _, s := range systems {
		if h.Host == nil && s.Name == h.System {
			candidates = append(candidates, s.Address)
		}
	}
	var found []records.Account
	for _, c := range candidates {
		name, _, _ := strings.Cut(strings.TrimSuffix(c, "$"), ".")
		if name == "" || strings.Trim(name, "0123456789") == "" {
			continue // an address says nothing
		}
		page, err := m.store.Accounts(ctx, records.Query{Filters: []string{"system=" + directory.Name, "type=computer", "gone=", "name=" + name + "$"}, Limit: 2})
		if err != nil {
			return records.Account{}, err
		}
		for _, a := range page.Items {
			if !slices.ContainsFunc(found, func(o records.Account) bool { return o.ID == a.ID }) {
				found = append(found, a)
			}
		}
	}
	if len(found) != 1 {
		return records.Account{}, fmt.Errorf("%w: the survey of %s has seen no computer, or more than one, that is %s", app.ErrInput, directory.Name, h.Name)
	}
	return found[0], nil
}

// managed looks up an account and how it stands in its directory.
func (m *Managing) managed(ctx context.Context, by access.Actor, id records.AccountID) (v records.System, a records.Account, seen managed.Seen, err error) {
	if a, err = m.store.Account(ctx, id); err != nil {
		return v, a, seen, err
	}
	if !a.Managed() {
		return v, a, seen, fmt.Errorf("%w: %s is no managed account", app.ErrInput, a.Name)
	}
	if v, seen, err = m.look(ctx, by, a.System, managed.Ask{Account: a.DN}); err != nil {
		return v, a, seen, err
	}
	switch {
	case seen.Account == nil:
		err = fmt.Errorf("%w: %s shows no managed account at %s: run a survey of it", records.ErrNotFound, v.Name, a.DN)
	case seen.Account.Sort != managed.SortGroup:
		err = fmt.Errorf("%w: %s is not for the hosts of a group: what is done here with groups does not apply to it", app.ErrRefused, a.Name)
	}
	return v, a, seen, err
}

// RehearseRemoval says what taking an account from hosts, from the hosts of a group, or away
// altogether would do. It is refused while anything is known to use it there.
func (m *Managing) RehearseRemoval(ctx context.Context, by access.Actor, account records.AccountID, wish RemoveWish) (records.Amendment, error) {
	if err := access.Decide(by, access.RehearseRemoval, access.Object{Kind: "account"}); err != nil {
		return records.Amendment{}, err
	}
	if len(wish.Hosts) > MostHosts || len(wish.Hosts) > 0 && wish.Group != "" {
		return records.Amendment{}, fmt.Errorf("%w: name hosts (at most %d), or a group, or neither", app.ErrInput, MostHosts)
	}
	v, a, seen, err := m.managed(ctx, by, account)
	if err != nil {
		return records.Amendment{}, err
	}
	systems, err := m.store.AllSystems(ctx)
	if err != nil {
		return records.Amendment{}, err
	}
	var group managed.Entitled
	whole := len(wish.Hosts) == 0 && wish.Group == "" // the account itself
	if !whole {
		if group, err = permittedGroup(*seen.Account, wish.Group); err != nil {
			return records.Amendment{}, err
		}
	}
	hosts := losing(*seen.Account, wish, group, systems)
	// Where not all hosts of a group are shown, any use may be on one that is not.
	if err := m.unused(ctx, a, hosts, whole || wish.Group != "" && seen.Account.Partly != "", systems); err != nil {
		return records.Amendment{}, err
	}
	if whole {
		return m.rehearser.RehearseEnds(ctx, by, []amend.EndWish{{Account: a.ID, Act: expiry.Delete, Watch: wish.Watch}}, "")
	}
	if wish.Group != "" {
		c := managed.AccountChange{Act: managed.Forbid, Name: a.Name, DN: a.DN, Group: group.DN}
		_, c.Container, _ = strings.Cut(a.DN, ",")
		return m.rehearser.RehearseManaged(ctx, by, v, amend.ManagedWish{Changes: []building.Managed{{Account: &c}}})
	}
	out := amend.ManagedWish{}
	var names []string
	for _, h := range hosts {
		c, err := m.computer(ctx, v, h, systems)
		if err != nil {
			return records.Amendment{}, err
		}
		switch {
		case h.Host != nil && h.Host.Through == "":
			return records.Amendment{}, fmt.Errorf("%w: %s is permitted by itself, and not as a member of %s", app.ErrRefused, c.Name, group.Name)
		case h.Host != nil && !strings.EqualFold(h.Host.Within, group.DN):
			return records.Amendment{}, fmt.Errorf("%w: %s is permitted as a member of %s, and not of %s itself: take it out there", app.ErrRefused, c.Name, h.Host.Within, group.Name)
		}
		if slices.Contains(names, c.Name) {
			continue
		}
		names = append(names, c.Name)
		out.Changes = append(out.Changes, building.Managed{Member: member(c.Name, c.StableID, c.DN, group, false)})
		out.LeftOut = append(out.LeftOut, c.Name+" may fetch the password until it is restarted: a host learns its groups when it starts")
	}
	out.Subject = fmt.Sprintf("%s on %s, without %s", a.Name, v.Name, strings.Join(names[:min(len(names), 5)], ", "))
	return m.rehearser.RehearseManaged(ctx, by, v, out)
}

// losing are the hosts that lose the password.
func losing(a managed.AccountSeen, wish RemoveWish, group managed.Entitled, systems []records.System) (out []managed.OnHost) {
	if len(wish.Hosts) > 0 {
		return hostsOf(a, wish.Hosts, systems)
	}
	for i := range a.Hosts {
		if wish.Group == "" || strings.EqualFold(a.Hosts[i].Through, group.Name) {
			out = append(out, known(managed.OnHost{Host: &a.Hosts[i], Name: a.Hosts[i].Name}, systems))
		}
	}
	return out
}

// unused refuses while something on hosts uses the account, or could: what runs on a host that no
// survey reads is not known. all is for whatever uses it, wherever.
func (m *Managing) unused(ctx context.Context, a records.Account, hosts []managed.OnHost, all bool, systems []records.System) error {
	tied, err := m.store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return err
	}
	on := map[string]bool{}
	for _, h := range hosts {
		if h.System == "" {
			return fmt.Errorf("%w: what runs on %s is not known, for it is no system here: add it, and run a survey of it", app.ErrRefused, h.Name)
		}
		on[h.System] = true
	}
	var users []string
	for _, d := range tied {
		if (all || on[d.System]) && runsAs(d, a.ID) {
			users = append(users, d.Place+" on "+d.System)
		}
	}
	slices.Sort(users)
	if users = slices.Compact(users); len(users) > 0 {
		more := ""
		if len(users) > 5 {
			more = fmt.Sprintf(" and %d more", len(users)-5)
		}
		return fmt.Errorf("%w: %s is used by %s%s: give them another log-on first ('moss rotate assign')", app.ErrRefused, a.Name, strings.Join(users[:min(len(users), 5)], ", "), more)
	}
	for _, s := range systems {
		if on[s.Name] && s.State != "ok" {
			return fmt.Errorf("%w: whether anything on %s uses %s is not known, for the last survey did not read all of it (%s): run one", app.ErrRefused, s.Name, a.Name, s.State)
		}
	}
	return nil
}
