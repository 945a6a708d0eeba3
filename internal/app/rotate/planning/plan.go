package planning

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// planner gathers what a plan is built from.
type planner struct {
	planning   *Planning
	credential records.Credential
	account    records.Account
	wish       Request
	input      building.Input
	notes      []rotation.Note
	files      map[string]*building.File // by system and path
	logOns     map[string]bool           // by system, kind and place
	systems    map[records.SystemID]bool

	decisions map[records.SystemID]map[string]records.CopyDecision

	bounds *policies.Bounds
	listed []records.Dependent // of each unit of the input, in its order
	tiedTo []records.Dependent // everything that is tied to the account

	runsWith  map[string]string // where a unit's processes have the value, by system and unit
	restarted map[string]bool   // units that are, because of a file
}

// Plan builds the plan of a rotation or an assignment from the picture.
func (planning *Planning) Plan(ctx context.Context, c records.Credential, wish Request) (rotation.Plan, error) {
	if err := wish.Check(planning.now()); err != nil {
		return rotation.Plan{}, err
	}
	spec, err := credential.Of(c.Kind)
	if err == nil {
		err = spec.CheckType(wish.Type)
	}
	if err != nil {
		return rotation.Plan{}, fmt.Errorf("%w: %s: %w", app.ErrInput, c.Name, err)
	}
	if (wish.Length != 0 || wish.Without != "") && (c.Kind != credential.Password || len(wish.Assign) > 0) {
		return rotation.Plan{}, fmt.Errorf("%w: %s: a length and characters are those of a new password", app.ErrInput, c.Name)
	}
	if wish.Given != "" && c.Kind != credential.Password {
		return rotation.Plan{}, fmt.Errorf("%w: %s: a value is given for a password, and no other credential", app.ErrInput, c.Name)
	}
	if wish.Lasts != 0 && c.Kind != credential.CloudKey {
		return rotation.Plan{}, fmt.Errorf("%w: %s: how long a new one lasts is said of keys that an issuer accepts", app.ErrInput, c.Name)
	}
	if err := wish.ofCertificate(c); err != nil {
		return rotation.Plan{}, err
	}
	if wish.StopFirst && c.Kind.Pair() {
		return rotation.Plan{}, fmt.Errorf("%w: %s: the old key is good until everything has the new one: nothing has to be stopped first", app.ErrInput, c.Name)
	}
	planning.settled(ctx)
	p := &planner{
		planning: planning, credential: c, wish: wish, files: map[string]*building.File{}, logOns: map[string]bool{}, systems: map[records.SystemID]bool{}, runsWith: map[string]string{}, restarted: map[string]bool{},
		input: building.Input{
			CredentialID: strconv.FormatInt(int64(c.ID), 10), Credential: c.Name, Of: c.Kind, Type: wish.Type, Length: wish.Length, Without: wish.Without, Given: wish.Given, GivenBy: wish.GivenBy, OnFailure: wish.OnFailure,
			When: wish.When, NotBefore: wish.NotBefore, NotAfter: wish.NotAfter, Patience: wish.Patience, StopFirst: wish.StopFirst,
		},
	}
	if err := p.begin(ctx); err != nil {
		return rotation.Plan{}, err
	}
	if p.bounds, err = planning.policies.BoundsOf(ctx, c.AccountID, wish.Window); err != nil {
		return rotation.Plan{}, err
	}
	holders, err := p.points(ctx)
	if err != nil {
		return rotation.Plan{}, err
	}
	switch {
	case len(wish.Assign) > 0:
		p.input.Kind = rotation.KindAssign
		err = p.chosen(ctx)
	case c.Kind == credential.Password:
		p.overlap(ctx)
		if err = p.ownLogOns(ctx); err == nil {
			err = p.tied(ctx)
		}
	case c.Kind != credential.Certificate:
		p.holders(holders)
	}
	if err != nil {
		return rotation.Plan{}, err
	}
	p.way()
	if err := p.takesTurns(ctx); err != nil {
		return rotation.Plan{}, err
	}
	return p.build(ctx)
}

// begin reads whose the credential is, and brings what is known of it up to date.
func (p *planner) begin(ctx context.Context) (err error) {
	if p.credential.Kind != credential.Password {
		if len(p.wish.Assign) > 0 || p.wish.Start {
			return fmt.Errorf("%w: a key pair has no log-ons to assign", app.ErrInput)
		}
		return p.planning.custody.NotOurs(ctx, p.credential)
	}
	if p.account, err = p.planning.store.Account(ctx, p.credential.AccountID); err != nil {
		return err
	}
	if p.account.Managed() && len(p.wish.Assign) == 0 {
		return fmt.Errorf("%w: the directory changes the password of %s by itself: there is nothing to rotate", app.ErrRefused, p.account.Name)
	}
	p.input.Managed = p.account.Managed()
	if err := p.planning.resting(ctx, p.credential); err != nil {
		return err
	}
	return p.planning.placeAround(ctx, p.account, p.wish.Assign)
}

// points finds where the credential is accepted, and the files that hold it when
// it is a key.
func (p *planner) points(ctx context.Context) ([]records.Dependent, error) {
	points, holders, err := p.planning.picture.Points(ctx, p.credential)
	if err != nil {
		return nil, err
	}
	if p.credential.Kind == credential.Certificate {
		return nil, p.certified(ctx, points, holders)
	}
	if len(points) == 0 && p.credential.Kind == credential.CloudKey {
		return nil, fmt.Errorf("%w: no issuer that accepts %s is known: survey the project whose key it is", app.ErrRefused, p.credential.Fingerprint)
	}
	if len(points) == 0 {
		return nil, fmt.Errorf("%w: no entry that lets the holder of %s in is known: survey the systems that it opens", app.ErrRefused, p.credential.Fingerprint)
	}
	var names []string
	for _, point := range points {
		if !slices.Contains(names, point.System) {
			names = append(names, point.System)
		}
	}
	p.input.Points, p.input.Authority = points, strings.Join(names, ", ")
	return holders, p.lasts(ctx)
}

// holders gathers the files that hold a key.
func (p *planner) holders(list []records.Dependent) {
	for _, d := range list {
		if d.Key.Encrypted {
			p.note(rotation.NoteOutOfReach, "%s on %s: %v", d.Path, d.System, keys.ErrPassphrase)
			continue
		}
		if mode, err := strconv.ParseUint(d.Key.Mode, 8, 32); err == nil && mode&0o077 != 0 {
			p.note(rotation.NoteExposed, "others than its owner may read %s on %s (mode %s), and the new key in it", d.Path, d.System, d.Key.Mode)
		}
		p.place(d, picture.PrivateAt(d), "")
	}
	if len(p.files) == 0 {
		p.note(rotation.NoteOutOfReach, "no file that was read holds the private half of %s", p.credential.Fingerprint)
	}
}

// build makes the plan of what was gathered.
func (p *planner) build(ctx context.Context) (rotation.Plan, error) {
	for _, f := range p.files {
		p.input.Files = append(p.input.Files, *f)
	}
	for id := range p.systems {
		if err := p.units(ctx, id); err != nil {
			return rotation.Plan{}, err
		}
	}
	p.unexplained()
	if err := p.bound(); err != nil {
		return rotation.Plan{}, err
	}
	if p.input.Kind != rotation.KindAssign {
		days, err := p.planning.store.UndoDays(ctx, p.credential.ID)
		if err != nil {
			return rotation.Plan{}, err
		}
		if p.input.Turn != nil {
			p.note(rotation.NoteInfo, "it can be undone until they change places the next time: so long %s keeps the value that is in force now", p.account.Name)
		} else {
			p.note(rotation.NoteInfo, "it can be undone for %d days after its end: so long the value that is in force now is kept sealed", days)
		}
	}
	plan := building.Build(p.input)
	slices.SortFunc(p.notes, func(a, b rotation.Note) int { return strings.Compare(a.String(), b.String()) })
	plan.Notes = append(plan.Notes, p.notes...)
	return plan, nil
}

// overlap finds out whether the authority accepts two values at once. If it
// cannot be asked, one value replaces the other, as everywhere else.
func (p *planner) overlap(ctx context.Context) {
	v, err := p.planning.store.SystemByID(ctx, p.account.SystemID)
	if err != nil {
		return
	}
	connector, target, err := p.planning.inventory.Target(ctx, v)
	if err != nil || !connector.Describe().Can(connect.ActOverlap) {
		return
	}
	can, why, err := connector.Overlaps(ctx, target, connect.Point{Account: inventory.RefOf(p.account)})
	switch {
	case err != nil:
		p.note(rotation.NoteInfo, "whether %s accepts two values at once could not be asked: %v", v.Name, err)
	case !can:
		p.note(rotation.NoteInfo, "%s does not accept two values of it at once: %s", v.Name, why)
	}
	p.input.Points[0].Overlap = can && err == nil
}

func (p *planner) note(kind rotation.NoteKind, format string, args ...any) {
	p.notes = append(p.notes, rotation.Note{Kind: kind, Text: fmt.Sprintf(format, args...)})
}

// tied gathers everything that is tied to the account.
func (p *planner) tied(ctx context.Context) (err error) {
	tied, err := p.planning.store.DependentsOfAccount(ctx, p.account.ID)
	if err != nil {
		return err
	}
	if p.decisions, err = p.planning.store.CopyDecisions(ctx); err != nil {
		return err
	}
	p.tiedTo = tied
	var runsAs []records.Dependent
	mentions := 0
	for _, d := range tied {
		p.limited(d)
		strength := estate.Strength(picture.StrengthFor(d, p.account.ID))
		switch {
		case d.Kind == estate.DependentProcess && (d.Copy == nil || strength != estate.StrengthDoubtful):
			p.process(d, string(strength))
		case d.Copy != nil && strength == estate.StrengthMentions:
			mentions++
		case d.Copy != nil && p.copy(d, strength):
		case strength == estate.StrengthSignsIn:
			// What nothing explains is told by the rehearsal.
		case p.leftAlone(d, strength):
		case d.Kind.LogsOn() && strength == estate.StrengthRunsAs:
			if err := p.keptLogOn(ctx, d); err != nil {
				return err
			}
		case d.Kind == estate.DependentUnit && strength == estate.StrengthRunsAs:
			runsAs = append(runsAs, d)
			for _, t := range d.Ties {
				if t.AccountID == p.account.ID && t.Strength == string(estate.StrengthUnreadable) {
					p.note(rotation.NoteInfo, "%s on %s: %s", d.Name, d.System, t.Detail)
				}
			}
		case d.Kind == estate.DependentCron:
			runsAs = append(runsAs, d)
		}
	}
	p.acceptors(tied)
	if mentions > 0 {
		p.note(rotation.NoteInfo, "%d files only mention the account: they are left alone", mentions)
	}
	for _, d := range runsAs {
		if !slices.ContainsFunc(d.Uses, func(path string) bool { return p.files[d.System+"\x00"+path] != nil }) {
			p.note(rotation.NoteInfo, "%s on %s runs as the account without its password: nothing to change there", d.Place, d.System)
		}
	}
	return nil
}

// copy takes a copy into the plan, or says why not. A person's decision goes
// before. It reports whether all is said.
func (p *planner) copy(d records.Dependent, strength estate.Strength) bool {
	decision := p.decisions[d.SystemID][d.Place]
	left := decision.Decision == records.CopyLeave
	switch strength {
	case estate.StrengthBeside:
		switch {
		case d.Copy.Fixed == "":
			return false
		case left:
			p.note(rotation.NoteLeft, "%s on %s stays as it is: %s decided so (%s)", d.Place, d.System, decision.By, decision.Reason)
		default:
			p.note(rotation.NoteIrreplaceable, "%s line %d on %s stands beside the account and could not be compared: %s", d.Path, d.Copy.Line, d.System, d.Copy.Fixed)
		}
	case estate.StrengthMatches:
		switch {
		case left:
			p.note(rotation.NoteLeft, "%s on %s holds the value and stays as it is: %s decided so (%s)", d.Place, d.System, decision.By, decision.Reason)
		case d.Copy.Fixed != "":
			p.note(rotation.NoteIrreplaceable, "%s line %d on %s: %s", d.Path, d.Copy.Line, d.System, d.Copy.Fixed)
		default:
			p.file(d, "")
		}
	case estate.StrengthDoubtful:
		switch {
		case left:
			p.note(rotation.NoteInfo, "%s on %s is no copy: %s decided so (%s)", d.Place, d.System, decision.By, decision.Reason)
		case decision.Decision == records.CopyReplace:
			p.file(d, "")
		default:
			p.note(rotation.NoteDoubtful, "%s on %s: %s", d.Place, d.System, picture.DetailFor(d, p.account.ID))
		}
	case estate.StrengthAmbiguous:
		p.note(rotation.NoteAmbiguous, "%s on %s holds the current value, but does not say whose it is", d.Place, d.System)
	case estate.StrengthReused:
		p.note(rotation.NoteInfo, "%s on %s holds the same value beside another account: it is left alone", d.Place, d.System)
	default:
		return false
	}
	return true
}

// leftAlone notes what a rotation of a password does not touch.
func (p *planner) leftAlone(d records.Dependent, strength estate.Strength) bool {
	switch {
	case d.Kind == estate.DependentKeytab:
		p.keyTab(d)
	case d.Key != nil:
		p.note(rotation.NoteInfo, "%s on %s is a key, which a new password does not change: %s", d.Place, d.System, picture.DetailFor(d, p.account.ID))
	case strength == estate.StrengthSaid:
		p.note(rotation.NoteInfo, "%s on %s: %s; see to it yourself", d.Place, d.System, picture.DetailFor(d, p.account.ID))
	case d.Copy != nil:
		p.note(rotation.NoteAlone, "%s on %s is left alone: %s", d.Place, d.System, picture.DetailFor(d, p.account.ID))
	default:
		return false
	}
	return true
}

// keptLogOn takes a log-on that its system keeps into the plan.
func (p *planner) keptLogOn(ctx context.Context, d records.Dependent) error {
	if !d.Stores {
		p.note(rotation.NoteInfo, "the %s %s on %s runs as the account without a stored password: nothing to change there", d.Kind, d.Place, d.System)
		return nil
	}
	spelled, err := p.respelled(ctx, d)
	if err == nil {
		p.logOn(d, spelled, "", false)
	}
	return err
}

func (p *planner) file(d records.Dependent, holds string) { p.place(d, picture.LocatorOf(d), holds) }

func (p *planner) place(d records.Dependent, place held.Locator, holds string) {
	key := d.System + "\x00" + d.Path
	if p.files[key] == nil {
		p.files[key] = &building.File{SystemID: d.SystemID.String(), System: d.System, Path: d.Path, Holds: holds}
	}
	p.files[key].Places = append(p.files[key].Places, place)
	p.systems[d.SystemID] = true
}

func (p *planner) logOn(d records.Dependent, account, wasID string, moved bool) {
	p.input.LogOns = append(p.input.LogOns, building.LogOn{SystemID: d.SystemID.String(), System: d.System, Place: d.At(), Account: account, Was: d.RunsAs, WasID: wasID, Moved: moved})
	p.logOns[logOnKey(d)] = true
	p.systems[d.SystemID] = true
}

func logOnKey(d records.Dependent) string {
	return d.System + "\x00" + string(d.Kind) + "\x00" + d.Place
}

// placeAround derives the ties of an account's systems again: a rotation may
// have replaced copies since they were last derived.
func (planning *Planning) placeAround(ctx context.Context, a records.Account, more []records.DependentID) error {
	tied, err := planning.store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return err
	}
	for _, id := range more {
		d, err := planning.store.Dependent(ctx, id)
		if err != nil {
			return err
		}
		tied = append(tied, d)
	}
	seen := map[string]bool{}
	var systems []records.System
	for _, d := range tied {
		if seen[d.System] {
			continue
		}
		seen[d.System] = true
		v, err := planning.store.System(ctx, d.System)
		if err != nil {
			return err
		}
		systems = append(systems, v)
	}
	return planning.picture.Place(ctx, systems)
}

// ownLogOns has a plan prove that we still get in where the account is ours.
func (p *planner) ownLogOns(ctx context.Context) error {
	own, err := p.planning.sealed.Values(ctx, p.credential.ID)
	if err != nil || own.Current.Empty() {
		return err
	}
	systems, err := p.planning.custody.LinkStewards(ctx, access.Service(), p.account, &own.Current)
	for _, v := range systems {
		p.input.Stewards = append(p.input.Stewards, building.Steward{SystemID: v.ID.String(), System: v.Name, Name: v.Steward})
		p.note(rotation.NoteInfo, "%s is reached with this account (steward %s): we sign in there with the value in force, and prove it", v.Name, v.Steward)
	}
	return err
}
