// Package managing is about accounts whose passwords a directory makes by itself: whether it can
// have them, how one of them stands, and whether hosts that are to use it can.
package managing

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	System(ctx context.Context, idOrName string) (records.System, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	Accounts(ctx context.Context, q records.Query) (records.Page[records.Account], error)
	DependentsOfAccount(ctx context.Context, account records.AccountID) ([]records.Dependent, error)
}

// Targets says how a system is reached.
type Targets interface {
	Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error)
}

// Managing asks directories. Safe for concurrent use.
type Managing struct {
	base      *app.Base
	store     Store
	targets   Targets
	rehearser Rehearser
	places    chan struct{} // directories asked at the same time
}

// New makes one.
func New(base *app.Base, store Store, targets Targets, rehearser Rehearser) *Managing {
	return &Managing{base: base, store: store, targets: targets, rehearser: rehearser, places: make(chan struct{}, 8)}
}

// Bounds of one check.
const (
	MostHosts = 200
	mostTime  = time.Minute
)

// Wish is what is to be checked besides the directory itself.
type Wish struct {
	Container string            // where an account is to stand; "" for the directory's own place for them
	Account   records.AccountID // that is there already; 0 for none
	Hosts     []string          // by their names, in the directory or here; those that are permitted without any
}

// ManagedReport is how things stand.
type ManagedReport struct {
	System  string            `json:"system"`
	Verdict string            `json:"verdict" enum:"passed,failed" doc:"failed where something that is needed is missing"`
	Checks  []connect.Checked `json:"checks" nullable:"false" doc:"What is needed, and how it stands: first what the directory needs, then the account, then each host"`
	managed.Seen
}

// Check asks a directory, and holds what it says against what is known of the hosts.
func (m *Managing) Check(ctx context.Context, by access.Actor, system string, wish Wish) (ManagedReport, error) {
	if err := access.Decide(by, access.CheckManaged, access.Object{Kind: "system", Name: system}); err != nil {
		return ManagedReport{}, err
	}
	if len(wish.Hosts) > MostHosts {
		return ManagedReport{}, fmt.Errorf("%w: at most %d hosts are checked at once", app.ErrInput, MostHosts)
	}
	v, err := m.store.System(ctx, system)
	if err != nil {
		return ManagedReport{}, err
	}
	ask := managed.Ask{Container: strings.TrimSpace(wish.Container)}
	if wish.Account != 0 {
		a, err := m.store.Account(ctx, wish.Account)
		if err != nil {
			return ManagedReport{}, err
		}
		if a.SystemID != v.ID {
			return ManagedReport{}, fmt.Errorf("%w: %s is an account of %s, not of %s", app.ErrInput, a.Name, a.System, v.Name)
		}
		if !a.Managed() {
			return ManagedReport{}, fmt.Errorf("%w: %s is no managed account", app.ErrInput, a.Name)
		}
		ask.Account = a.DN
	} else if len(wish.Hosts) > 0 {
		return ManagedReport{}, fmt.Errorf("%w: hosts are checked for an account: name one", app.ErrInput)
	}
	hosts, err := m.store.AllSystems(ctx)
	if err != nil {
		return ManagedReport{}, err
	}
	seen, err := m.ask(ctx, by, v, ask)
	if err != nil {
		return ManagedReport{}, err
	}
	if ask.Account != "" && seen.Account == nil {
		return ManagedReport{}, fmt.Errorf("%w: %s shows no managed account at %s: run a survey of it", records.ErrNotFound, v.Name, ask.Account)
	}
	used := map[string]int{}
	if wish.Account != 0 {
		if used, err = m.usedOn(ctx, wish.Account); err != nil {
			return ManagedReport{}, err
		}
	}
	return report(v, seen, wish, hosts, used), nil
}

// usedOn counts what logs on as an account, by system.
func (m *Managing) usedOn(ctx context.Context, account records.AccountID) (map[string]int, error) {
	tied, err := m.store.DependentsOfAccount(ctx, account)
	out := map[string]int{}
	for _, d := range tied {
		if runsAs(d, account) {
			out[d.System]++
		}
	}
	return out, err
}

// runsAs: a dependent that is there logs on as the account.
func runsAs(d records.Dependent, account records.AccountID) bool {
	return d.Gone.IsZero() && slices.ContainsFunc(d.Ties, func(t records.Tie) bool {
		return t.AccountID == account && t.Strength == string(estate.StrengthRunsAs)
	})
}

// Usable says whether hosts can use an account: what is missing of what they need, what is in doubt,
// and that the rest is met.
func (m *Managing) Usable(ctx context.Context, by access.Actor, a records.Account, hosts []string) ([]connect.Checked, error) {
	if err := access.Decide(by, access.CheckManaged, access.Object{Kind: "account", Name: a.Name}); err != nil {
		return nil, err
	}
	v, err := m.store.System(ctx, a.SystemID.String())
	if err != nil {
		return nil, err
	}
	systems, err := m.store.AllSystems(ctx)
	if err != nil {
		return nil, err
	}
	seen, err := m.ask(ctx, by, v, managed.Ask{Account: a.DN})
	if err != nil {
		return nil, err
	}
	if seen.Account == nil {
		return nil, fmt.Errorf("%w: %s shows no managed account at %s: run a survey of it", records.ErrNotFound, v.Name, a.DN)
	}
	lines := map[string][]managed.Line{v.Name: managed.ToUse(seen)}
	if seen.Account.Sort == managed.SortGroup {
		for _, h := range hostsOf(*seen.Account, hosts, systems) {
			lines[h.Name] = managed.AboutHost(*seen.Account, h)
		}
	}
	out := []connect.Checked{}
	for _, name := range append([]string{v.Name}, hosts...) {
		met := 0
		for _, l := range lines[name] {
			if l.Result == managed.Met {
				met++
				continue
			}
			out = append(out, connect.Checked{System: name, What: l.What, Result: string(l.Result), Words: l.Words, Next: l.Next})
		}
		if met > 0 && met == len(lines[name]) {
			out = append(out, connect.Checked{System: name, What: "it can use " + a.Name, Result: connect.CheckOK, Words: fmt.Sprintf("%d of %d that it needs", met, met)})
		}
	}
	return out, nil
}

// ask goes to the directory. It is written in the ledger, like every use of a steward that somebody asked for.
func (m *Managing) ask(ctx context.Context, by access.Actor, v records.System, ask managed.Ask) (seen managed.Seen, err error) {
	ctx, stop := context.WithTimeout(ctx, mostTime)
	defer stop()
	select {
	case m.places <- struct{}{}:
		defer func() { <-m.places }()
	case <-ctx.Done():
		return seen, ctx.Err()
	}
	connector, target, err := m.targets.Target(ctx, v)
	if err != nil {
		return seen, err
	}
	if !connector.Describe().Can(connect.ActManaged) {
		return seen, target.Fail(connect.StageRead, connect.CodeCannot, "systems of the kind "+v.Kind+" have no managed accounts", "name a directory of the Windows-domain schema", nil)
	}
	err = m.base.Act(ctx, ledger.Entry{Actor: by.Name, Act: "managed.check", Subject: v.Name, System: v.Name, Detail: ask.Account}, func() error {
		seen, err = connector.Managing(ctx, target, ask)
		return err
	})
	app.RedactAll(m.base.Redactor(context.WithoutCancel(ctx)), &seen)
	return seen, err
}

// report puts together what is needed. used is how much logs on as the account, by system.
func report(v records.System, seen managed.Seen, wish Wish, systems []records.System, used map[string]int) ManagedReport {
	out := ManagedReport{System: v.Name, Verdict: "passed", Checks: []connect.Checked{}, Seen: seen}
	add := func(system string, lines []managed.Line) {
		for _, l := range lines {
			if l.Result == managed.Missing {
				out.Verdict = "failed"
			}
			out.Checks = append(out.Checks, connect.Checked{System: system, What: l.What, Result: string(l.Result), Words: l.Words, Next: l.Next, About: string(l.Stage)})
		}
	}
	add(v.Name, managed.Prerequisites(seen))
	if seen.Account == nil {
		return out
	}
	add(v.Name, managed.AboutAccount(seen))
	if seen.Account.Sort != managed.SortGroup {
		return out
	}
	hosts := hostsOf(*seen.Account, wish.Hosts, systems)
	if len(wish.Hosts) == 0 { // also those that use it and are not permitted: what they run does not start again
		for _, name := range slices.Sorted(maps.Keys(used)) {
			if !slices.ContainsFunc(hosts, func(h managed.OnHost) bool { return h.System == name }) && len(hosts) < MostHosts {
				hosts = append(hosts, known(managed.OnHost{Name: name}, systems))
			}
		}
	}
	for _, h := range hosts {
		h.Used = used[h.System]
		system := h.System
		if system == "" {
			system = v.Name
		}
		add(system, managed.AboutHost(*seen.Account, h))
	}
	return out
}

// hostsOf are those that were named, or all that are permitted, each with what is known of it here.
func hostsOf(a managed.AccountSeen, named []string, systems []records.System) (out []managed.OnHost) {
	for i := range a.Hosts {
		if len(named) == 0 && i < MostHosts {
			out = append(out, known(managed.OnHost{Host: &a.Hosts[i], Name: a.Hosts[i].Name}, systems))
		}
	}
	for _, name := range named {
		h := managed.OnHost{Name: name}
		for _, v := range systems {
			if hostKind(v) && strings.EqualFold(v.Name, name) {
				h = known(h, []records.System{v})
			}
		}
		for i := range a.Hosts {
			if at := &a.Hosts[i]; h.Host == nil && (sameHost(at, name) || h.System != "" && isHost(at, systems, h.System)) {
				h.Host = at
			}
		}
		if h.System == "" {
			h = known(h, systems)
		}
		out = append(out, h)
	}
	return out
}

// sameHost: a name is that of a computer, short or whole, with the sign that its account has or without.
func sameHost(h *managed.HostSeen, name string) bool {
	name = strings.TrimSuffix(name, "$")
	return name != "" && (strings.EqualFold(h.Name, name) || strings.EqualFold(h.DNSName, strings.TrimSuffix(name, ".")) || strings.EqualFold(h.DN, name))
}

// isHost: a system of that name is this computer.
func isHost(h *managed.HostSeen, systems []records.System, name string) bool {
	for _, v := range systems {
		if v.Name == name && is(h, v) {
			return true
		}
	}
	return false
}

func hostKind(v records.System) bool {
	return estate.Kind(v.Kind).Class() == estate.ClassHost
}

// is: the name or the address of a system is that of a computer. An address in numbers says nothing.
func is(h *managed.HostSeen, v records.System) bool {
	return hostKind(v) && (sameHost(h, v.Name) || sameHost(h, v.Address))
}

// known adds what is known here of a host. Two systems that may be it are as good as none: which
// one it is is not guessed.
func known(h managed.OnHost, systems []records.System) managed.OnHost {
	var found []records.System
	for _, v := range systems {
		if h.Host != nil && is(h.Host, v) || h.Host == nil && is(&managed.HostSeen{Name: strings.TrimSuffix(h.Name, "$"), DNSName: h.Name}, v) {
			found = append(found, v)
		}
	}
	if len(found) == 1 {
		h.System, h.Kind, h.Booted, h.Version = found[0].Name, estate.Kind(found[0].Kind), found[0].Facts.Booted, found[0].Facts.Version
	}
	return h
}
