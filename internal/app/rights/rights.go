// Package rights answers who may do what: from what surveys read of lists, principals and
// memberships it makes a model of a system, and asks that. It also says what a steward
// must be given.
package rights

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	Accounts(ctx context.Context, q records.Query) (records.Page[records.Account], error)
	Dependents(ctx context.Context, account records.AccountID, q records.Query) (records.Page[records.Dependent], error)
	Steward(ctx context.Context, name string) (records.Steward, error)
	AccountsByKey(ctx context.Context, system records.SystemID, keys []string) (map[string]records.AccountID, error)
	RightsOf(ctx context.Context, system records.SystemID) ([]privilege.Principal, []privilege.Membership, []privilege.List, error)
	RightsRead(ctx context.Context, system records.SystemID) (records.RightsRead, error)
	System(ctx context.Context, idOrName string) (records.System, error)
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
	SystemsNaming(ctx context.Context, account string) ([]records.SystemID, error)
	TieSource(ctx context.Context) (ties.Known, error)
}

// Rights answers.
type Rights struct {
	store   Store
	targets Targets
}

// New makes one.
func New(store Store, targets Targets) *Rights { return &Rights{store: store, targets: targets} }

// matchers are those of kinds whose entries have patterns.
var matchers = map[estate.Kind]privilege.Matcher{estate.KindUnixHost: sudo.Matches, estate.KindRedis: privilege.MatchCommands}

// Model reads what is known of a system, for questions about its rights, with others that are
// principals there.
// One who is not among the principals that were read has what everyone has.
func (r *Rights) Model(ctx context.Context, v records.System, also ...privilege.Principal) (*privilege.Model, records.RightsRead, error) {
	read, err := r.store.RightsRead(ctx, v.ID)
	if err != nil {
		return nil, read, err
	}
	principals, memberships, lists, err := r.store.RightsOf(ctx, v.ID)
	if err != nil {
		return nil, read, fmt.Errorf("rights on %s: %w", v.Name, err)
	}
	return privilege.NewModel(privilege.NewGraph(append(principals, also...), memberships), lists, matchers[estate.Kind(v.Kind)]), read, nil
}

// Read says how much of a system's rights was read.
func (r *Rights) Read(ctx context.Context, v records.System) (records.RightsRead, error) {
	return r.store.RightsRead(ctx, v.ID)
}

// Of tells all that an account may do on its system, with the path of each.
func (r *Rights) Of(ctx context.Context, id records.AccountID) (records.AccountRights, error) {
	a, err := r.store.Account(ctx, id)
	if err != nil {
		return records.AccountRights{}, err
	}
	v, err := r.store.System(ctx, a.System)
	if err != nil {
		return records.AccountRights{}, err
	}
	m, read, err := r.Model(ctx, v, privilege.Principal{ID: a.StableID, Kind: privilege.KindAccount, Name: a.Name})
	if err != nil {
		return records.AccountRights{}, err
	}
	out := records.AccountRights{AccountID: a.ID, Account: a.Name, System: a.System, Read: read}
	out.Groups, out.Rights, out.More = told(v, m, a.StableID)
	out.Elsewhere, err = r.elsewhere(ctx, a, Homes{v.ID: m.Graph})
	return out, err
}

// told are the groups and rights of one principal, and how many more there are.
func told(v records.System, m *privilege.Model, id string) (groups []records.InGroup, rights []records.HeldRight, more int) {
	groups, rights = []records.InGroup{}, []records.HeldRight{}
	for _, chain := range m.Graph.Effective(id) {
		last := chain[len(chain)-1]
		if last.Kind == privilege.KindAccount { // another name of it
			continue
		}
		groups = append(groups, records.InGroup{Name: last.Name, Kind: last.Kind, Through: privilege.Right{Path: chain[:len(chain)-1]}.Through(), Path: chain})
	}
	all := slices.DeleteFunc(m.Rights(id), func(r privilege.Right) bool { return r.Deny && r.Default }) // what nobody gave
	if more = max(0, len(all)-mostRights); more > 0 {
		all = all[:mostRights]
	}
	for _, right := range all {
		rights = append(rights, held(v, m, id, right))
	}
	return groups, rights, more
}

// held is a right with what it counts for: where the last or the first entry decides,
// another one may have the word.
func held(v records.System, m *privilege.Model, id string, right privilege.Right) records.HeldRight {
	out := heldOn(v, right)
	if Void(v, m, id, right) {
		out.Void = "another entry forbids it"
	}
	return out
}

// Void reports whether a right counts for nothing, because another entry has the word.
func Void(v records.System, m *privilege.Model, id string, right privilege.Right) bool {
	q, may := sudo.Whether(right, estate.Kind(v.Kind) == estate.KindUnixHost)
	if !may {
		return false
	}
	d := m.Decide(id, q)
	return !d.Allowed && d.Unsure == ""
}

// mostRights is how many rights of one account are told.
const mostRights = 5000

// mostObjects is how many objects of a list are told with each right by it.
const mostObjects = 20

func heldOn(v records.System, right privilege.Right) records.HeldRight {
	all := right.Objects
	right.Objects = all[:min(len(all), mostObjects)]
	return records.HeldRight{OfObjects: len(all), System: v.Name, SystemID: v.ID, Right: right, May: privilege.May(right.Verb, right.Deny, right.Unsure), On: privilege.On(all), Through: right.Through()}
}

// Question is what is asked for.
type Question struct {
	System     string
	Verb       string
	Object     string // KIND:NAME, NAME, or "" for anything
	What       string
	As         string
	Principals bool // groups and roles are told as well
}

// Who tells who may do something on a system.
func (r *Rights) Who(ctx context.Context, q Question) (records.RightHolders, error) {
	v, err := r.store.System(ctx, q.System)
	if err != nil {
		return records.RightHolders{}, err
	}
	there, err := r.Elsewhere(ctx, v, Homes{})
	if err != nil {
		return records.RightHolders{}, err
	}
	m, read := there.Model, there.Read
	out := records.RightHolders{System: v.Name, Holders: []records.RightHolder{}, Read: read}
	if len(m.Lists) == 0 {
		return out, nil
	}
	if !slices.ContainsFunc(m.Lists, func(l privilege.List) bool {
		return slices.ContainsFunc(l.Entries, func(e privilege.Entry) bool { return e.Verb == q.Verb })
	}) && !slices.Contains(ofKind(v), q.Verb) {
		return out, fmt.Errorf("%w: nothing on %s has the verb %q; there is: %s", app.ErrInput, v.Name, q.Verb, strings.Join(verbs(m, ofKind(v)), ", "))
	}
	asked := privilege.Question{Verb: q.Verb, What: strings.TrimSpace(q.What), As: q.As}
	if kind, name, found := strings.Cut(q.Object, ":"); found && isKind(m, kind) {
		asked.Object = privilege.Object{Kind: kind, Name: name}
	} else {
		asked.Object.Name = q.Object
	}
	kinds := []privilege.Kind{privilege.KindAccount, privilege.KindEveryone} // not all that are no more than everyone are listed
	if q.Principals {
		kinds = append(kinds, privilege.KindGroup, privilege.KindRole)
	}
	holders := m.Who(asked, kinds...)
	keys := make([]string, len(holders))
	for i, h := range holders {
		keys[i] = h.Principal.ID
	}
	accounts, err := r.store.AccountsByKey(ctx, v.ID, keys)
	if err != nil {
		return out, err
	}
	for id, p := range there.Guests {
		accounts[p.ID] = id
	}
	for _, h := range holders {
		one := records.RightHolder{Name: h.Principal.Name, Kind: h.Principal.Kind, AccountID: accounts[h.Principal.ID], Allowed: h.Allowed, Unsure: h.Unsure, Rights: []records.HeldRight{}}
		for _, right := range h.By {
			one.Rights = append(one.Rights, heldOn(v, right))
		}
		out.Holders = append(out.Holders, one)
	}
	return out, nil
}

func isKind(m *privilege.Model, kind string) bool {
	return slices.ContainsFunc(m.Lists, func(l privilege.List) bool {
		return slices.ContainsFunc(l.Objects, func(o privilege.Object) bool { return o.Kind == kind })
	})
}

// ofKind are the verbs that systems of a kind know, whether anybody has them or not.
func ofKind(v records.System) []string {
	c, there := connect.For(estate.Kind(v.Kind))
	if !there {
		return nil
	}
	return c.Describe().Verbs
}

// verbs are those that entries of a model have, and those that its kind knows.
func verbs(m *privilege.Model, known []string) []string {
	out := slices.Clone(known)
	for _, l := range m.Lists {
		for _, e := range l.Entries {
			if !slices.Contains(out, e.Verb) {
				out = append(out, e.Verb)
			}
		}
	}
	slices.Sort(out)
	return out
}
