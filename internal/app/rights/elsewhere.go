package rights

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
)

// Homes are the groups of systems that accounts belong to, by the system: read once for
// many questions, and let go with them.
type Homes map[records.SystemID]*privilege.Graph

// Elsewhere is a system with the accounts of other ones that it knows by their names, such as
// those of the domain that a host is a member of.
type Elsewhere struct {
	Model  *privilege.Model
	Read   records.RightsRead
	Guests map[records.AccountID]privilege.Principal // who they are there
}

// mostNamed is how many names of a system are looked up: a host may tell any number.
const mostNamed = 5_000

// Elsewhere reads what is known of a system with its guests. What a guest's own directory
// tells of its groups counts on the host as well, and two spellings are one guest.
func (r *Rights) Elsewhere(ctx context.Context, v records.System, homes Homes, also ...privilege.Principal) (Elsewhere, error) {
	out := Elsewhere{Guests: map[records.AccountID]privilege.Principal{}}
	var err error
	if out.Read, err = r.store.RightsRead(ctx, v.ID); err != nil {
		return out, err
	}
	principals, memberships, lists, err := r.store.RightsOf(ctx, v.ID)
	if err != nil {
		return out, fmt.Errorf("rights on %s: %w", v.Name, err)
	}
	known, err := r.store.TieSource(ctx)
	if err != nil {
		return out, err
	}
	domains := map[string]string{} // which system a domain is, by its name in small letters
	of := map[records.AccountID]naming.Known{}
	var groups []privilege.Principal
	asked := 0
	// DOMAIN\name is how a host names an account itself: what else means it comes after.
	slices.SortStableFunc(principals, func(a, b privilege.Principal) int {
		return cmp.Compare(strings.Count(b.Name, `\`), strings.Count(a.Name, `\`))
	})
	for i, p := range principals {
		if !strings.HasPrefix(p.ID, privilege.NamedPrefix) || !strings.ContainsAny(p.Name, `\@`) {
			continue // of a name without a domain it is not known whose it is
		}
		if asked++; asked > mostNamed {
			out.Read.Why = strings.TrimPrefix(out.Read.Why+fmt.Sprintf("; it names more than %d accounts of elsewhere", mostNamed), "; ")
			break
		}
		resolved := naming.Resolution{}
		if p.Kind != privilege.KindGroup {
			if resolved, err = naming.Resolve(p.Name, naming.Context{System: v.ID.String(), Host: true}, known); err != nil {
				return out, fmt.Errorf("who %s is on %s: %w", p.Name, v.Name, err)
			}
		}
		if resolved.State != naming.Resolved {
			groups = append(groups, p)
			continue
		}
		account := resolved.Accounts[0]
		if domain, _, found := strings.Cut(p.Name, `\`); found {
			domains[strings.ToLower(domain)] = account.System
		}
		id := app.Number[records.AccountID](account.ID)
		if first, again := out.Guests[id]; again {
			memberships = append(memberships, privilege.Membership{Member: first.ID, Group: p.ID, How: "the same account"})
			continue
		}
		principals[i].Kind = privilege.KindAccount
		out.Guests[id], of[id] = principals[i], account
	}
	found := map[string]bool{}
	for id, guest := range out.Guests {
		names, err := r.groupsAtHome(ctx, id, of[id].System, groups, domains, homes)
		if err != nil {
			return out, err
		}
		for _, g := range names {
			memberships = append(memberships, privilege.Membership{Member: guest.ID, Group: g, How: "as its directory tells"})
			found[g] = true
		}
	}
	for i := range principals {
		if found[principals[i].ID] {
			principals[i].Kind = privilege.KindGroup // its directory says so
		}
	}
	slices.SortFunc(memberships, func(a, b privilege.Membership) int {
		return strings.Compare(a.Member+"\x00"+a.Group, b.Member+"\x00"+b.Group)
	})
	out.Model = privilege.NewModel(privilege.NewGraph(append(principals, also...), memberships), lists, matchers[estate.Kind(v.Kind)])
	return out, nil
}

// groupsAtHome are those of some principals, known on a host by DOMAIN\name, that an account
// lies in by what its own directory tells.
func (r *Rights) groupsAtHome(ctx context.Context, id records.AccountID, system string, groups []privilege.Principal, domains map[string]string, homes Homes) (in []string, err error) {
	var own map[string]bool
	for _, g := range groups {
		domain, name, found := strings.Cut(g.Name, `\`)
		if !found || domains[strings.ToLower(domain)] != system {
			continue
		}
		if own == nil {
			if own, err = r.effective(ctx, id, homes); err != nil {
				return nil, err
			}
		}
		if own[strings.ToLower(name)] {
			in = append(in, g.ID)
		}
	}
	return in, nil
}

// effective are the names of the groups that an account lies in at home.
func (r *Rights) effective(ctx context.Context, id records.AccountID, homes Homes) (map[string]bool, error) {
	a, err := r.store.Account(ctx, id)
	if err != nil {
		return nil, err
	}
	graph := homes[a.SystemID]
	if graph == nil {
		principals, memberships, _, err := r.store.RightsOf(ctx, a.SystemID)
		if err != nil {
			return nil, fmt.Errorf("groups of %s: %w", a.System, err)
		}
		graph = privilege.NewGraph(principals, memberships)
		homes[a.SystemID] = graph
	}
	out := map[string]bool{}
	for _, chain := range graph.Effective(a.StableID) {
		out[strings.ToLower(chain[len(chain)-1].Name)] = true
	}
	return out, nil
}

// elsewhere tells what an account may do on the hosts that know it by its name.
func (r *Rights) elsewhere(ctx context.Context, a records.Account, homes Homes) ([]records.RightsElsewhere, error) {
	out := []records.RightsElsewhere{}
	systems, err := r.store.SystemsNaming(ctx, a.Name)
	if err != nil {
		return out, err
	}
	for _, id := range systems {
		v, err := r.store.SystemByID(ctx, id)
		if err != nil {
			return out, err
		}
		there, err := r.Elsewhere(ctx, v, homes)
		if err != nil {
			return out, err
		}
		guest, is := there.Guests[a.ID]
		if !is || id == a.SystemID {
			continue
		}
		one := records.RightsElsewhere{System: v.Name, Name: guest.Name, Read: there.Read}
		one.Groups, one.Rights, one.More = told(v, there.Model, guest.ID)
		out = append(out, one)
	}
	return out, nil
}
