package planning

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Where an authority accepts one value, two accounts that take turns change it without a
// gap: what uses the one is moved to the other, which was given a new value before. That
// needs a dependent to be moved as a whole: its copy must have the account's name beside
// the value, its log-on must be kept by its system. What cannot be moved costs the way, and
// is named.

// resting refuses the credential of an account that rests.
func (planning *Planning) resting(ctx context.Context, c records.Credential) error {
	pair, err := planning.store.TandemOf(ctx, c.ID)
	switch {
	case errors.Is(err, app.ErrNotFound):
		return nil
	case err != nil:
		return err
	case pair.Resting.CredentialID == c.ID:
		return fmt.Errorf("%w: %s rests while %s has its turn: it gets a new value when they change places, which rotating %s does", app.ErrRefused, pair.Resting.Account, pair.Working.Account, pair.Working.Account)
	}
	return nil
}

// turn has two accounts take turns, where they are meant to and nothing is in the way.
func (p *planner) turn(ctx context.Context) error {
	asked := p.wish.Way == policies.WayAlternate
	if !asked && p.wish.Way != "" && p.wish.Way != policies.WayAny || !asked && p.input.Points[0].Overlap {
		return nil
	}
	pair, err := p.planning.store.TandemOf(ctx, p.credential.ID)
	switch {
	case errors.Is(err, app.ErrNotFound):
		if asked {
			p.note(rotation.NoteWay, "%s takes turns with no other account, and the way \"alternate\" is asked: 'moss tandem add' says with which", p.account.Name)
		}
		return nil
	case err != nil:
		return err
	}
	next, err := p.planning.store.Account(ctx, pair.Resting.AccountID)
	if err != nil {
		return err
	}
	cost, err := p.inTheWay(ctx, next, pair.State == records.TandemRests)
	if err != nil {
		return err
	}
	was, will, err := p.spellings(ctx, next)
	if err != nil {
		return err
	}
	cost = append(cost, p.unmovable(was)...)
	slices.Sort(cost)
	for _, words := range cost {
		kind := rotation.NoteInfo
		if asked {
			kind = rotation.NoteWay
		}
		p.note(kind, "%s cannot take the place of %s: %s", next.Name, p.account.Name, words)
	}
	if len(cost) > 0 {
		return nil
	}
	p.move(pair, next, was, will)
	return nil
}

// move turns what is gathered into a plan in which everything is moved.
func (p *planner) move(pair records.Tandem, next records.Account, was, will []string) {
	p.input.Turn = &rotation.Successor{AccountID: next.ID.String(), CredentialID: fmt.Sprint(int64(pair.Resting.CredentialID)), Account: next.Name, Credential: next.Name}
	p.input.Points[0].Overlap, p.input.Points[0].Next = true, next.Name
	names, nexts := strings.Join(was, "\n"), strings.Join(will, "\n")
	for _, f := range p.files {
		for i := range f.Places {
			f.Places[i].Account, f.Places[i].Next = names, nexts
		}
	}
	for i := range p.input.LogOns {
		l := &p.input.LogOns[i]
		l.WasID, l.Moved = p.account.ID.String(), true
		// In full where a bare name, or a SID, stands there: both ways.
		if !strings.EqualFold(l.Account, l.Was) {
			l.Back = l.Account
		}
		l.Account = respell(l.Account, was, will)
	}
	if p.input.StopFirst {
		p.input.StopFirst = false
		p.note(rotation.NoteInfo, "nothing is stopped first: both accounts may sign in until everything is moved")
	}
}

// respell writes the next account as the former one was written; as its systems are told it
// where that was done otherwise.
func respell(written string, was, will []string) string {
	for i := range was {
		if strings.EqualFold(written, was[i]) {
			return will[i]
		}
	}
	return will[0]
}

// inTheWay is what of the authority and of the next account is. Who was seen signed in as one
// that is proven to rest was so before: nobody can be now.
func (p *planner) inTheWay(ctx context.Context, next records.Account, rests bool) (out []string, err error) {
	if p.wish.Given != "" {
		out = append(out, "a value was given for "+p.account.Name)
	}
	if len(p.input.Stewards) > 0 {
		out = append(out, "we sign in with "+p.account.Name+" ourselves")
	}
	uses, err := p.planning.store.DependentsOfAccount(ctx, next.ID)
	if err != nil {
		return nil, err
	}
	for _, d := range uses {
		before := rests && estate.Strength(picture.StrengthFor(d, next.ID)) == estate.StrengthSignsIn
		if words := picture.Uses(d, next.ID); words != "" && !before {
			out = append(out, fmt.Sprintf("%s on %s %s %s, which rests", d.Place, d.System, words, next.Name))
		}
	}
	v, err := p.planning.store.SystemByID(ctx, p.account.SystemID)
	if err != nil {
		return nil, err
	}
	connector, target, err := p.planning.inventory.Target(ctx, v)
	switch {
	case err != nil:
		return nil, err
	case !connector.Describe().Can(connect.ActTurns):
		return append(out, "accounts of "+v.Name+" do not take turns"), nil
	}
	can, why, err := connector.Alternates(ctx, target, connect.Point{Account: inventory.RefOf(p.account), Next: inventory.RefOf(next)})
	switch {
	case err != nil:
		out = append(out, fmt.Sprintf("%s could not be asked: %v", v.Name, err))
	case !can:
		out = append(out, why)
	}
	return out, nil
}

// unmovable are the dependents that cannot be moved, each with why.
func (p *planner) unmovable(was []string) (out []string) {
	for _, d := range p.tiedTo {
		name := func(written string) bool {
			return slices.ContainsFunc(was, func(s string) bool { return strings.EqualFold(s, written) })
		}
		strength := estate.Strength(picture.StrengthFor(d, p.account.ID))
		file := p.files[d.System+"\x00"+d.Path]
		taken := file != nil && d.Copy != nil && slices.ContainsFunc(file.Places, func(l held.Locator) bool { return l == picture.LocatorOf(d) })
		switch {
		case d.Kind == estate.DependentKeytab:
			out = append(out, fmt.Sprintf("%s on %s holds keys made of its password", d.Place, d.System))
		case taken && (layout.Layout(d.Copy.Format) == layout.UserList || d.Copy.Part == held.PartVerifier):
			out = append(out, fmt.Sprintf("%s on %s lists it by name for others, which would have to change the name as well", d.Place, d.System))
		case taken && !slices.ContainsFunc(d.Copy.Names, name):
			out = append(out, fmt.Sprintf("%s on %s does not name it beside the value", d.Place, d.System))
		case d.Copy != nil:
		case d.Kind.LogsOn() && strength == estate.StrengthRunsAs && !d.Stores,
			(d.Kind == estate.DependentUnit || d.Kind == estate.DependentCron) && strength == estate.StrengthRunsAs:
			out = append(out, fmt.Sprintf("%s on %s runs as it without its password", d.Place, d.System))
		}
	}
	return out
}

// spellings are how the account and the next one may be written, in the same order; the
// first is how hosts are told it.
func (p *planner) spellings(ctx context.Context, next records.Account) (was, will []string, err error) {
	add := func(a, b string) {
		if a != "" && b != "" && !slices.Contains(was, a) {
			was, will = append(was, a), append(will, b)
		}
	}
	if p.account.Kind != string(estate.KindDirectory) {
		add(p.account.Name, next.Name)
		return was, will, nil
	}
	domains, err := p.planning.store.DomainsOf(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, short := range []bool{true, false} {
		for _, d := range domains[p.account.SystemID] {
			if strings.Contains(d, ".") == short {
				continue
			}
			add(d+`\`+p.account.Name, d+`\`+next.Name)
			if !short {
				add(p.account.Name+"@"+d, next.Name+"@"+d)
			}
		}
	}
	add(p.account.UPN, next.UPN)
	add(p.account.DN, next.DN)
	add(p.account.SID, next.SID)
	add(p.account.Name, next.Name)
	return was, will, nil
}

// takesTurns: nothing but a password's own change is meant.
func (p *planner) takesTurns(ctx context.Context) error {
	if p.credential.Kind != credential.Password || p.input.Kind == rotation.KindAssign {
		return nil
	}
	return p.turn(ctx)
}
