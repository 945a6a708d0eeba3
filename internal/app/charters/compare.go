package charters

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rights"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
)

// bound is a charter with the accounts of one system that it is for.
type bound struct {
	id       records.CharterID
	version  int64
	document *charter.Document
	accounts []records.Account
	guests   []records.Account // of directories, where the charter names the system
	known    bool              // only those guests that the system knows
}

func bySystem(accounts []records.Account) map[records.SystemID][]records.Account {
	out := map[records.SystemID][]records.Account{}
	for _, a := range accounts {
		out[a.SystemID] = append(out[a.SystemID], a)
	}
	return out
}

// page is how many accounts are read at once.
const page = 1000

// labelled are all accounts with a label that are there.
func (charters *Charters) labelled(ctx context.Context, label string) (out []records.Account, err error) {
	q := records.Query{Filters: []string{"gone="}, Limit: page, Sort: "id"}
	for {
		p, err := charters.store.AccountsLabelled(ctx, label, q)
		if err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
		if p.Next == "" {
			return out, nil
		}
		q.Cursor = p.Next
	}
}

// Compare holds all charters against the accounts that they are for. Systems of which
// nothing is otherwise than the last time are passed over.
func (charters *Charters) Compare(ctx context.Context) (changed int, err error) {
	charters.turn.Lock()
	defer charters.turn.Unlock()
	all, err := charters.store.AllCharters(ctx)
	if err != nil {
		return 0, err
	}
	changed, err = charters.compare(ctx, all, false)
	if err != nil {
		return changed, err
	}
	return changed, charters.judge(ctx)
}

func (charters *Charters) compare(ctx context.Context, all []records.Charter, again bool) (changed int, err error) {
	systems, err := charters.systems(ctx)
	if err != nil {
		return 0, err
	}
	places := map[records.SystemID][]bound{}
	everyone := map[records.CharterID][]records.Account{}
	for _, v := range all {
		d, err := charter.Parse(v.Document)
		if err != nil {
			charters.base.Log.Error("a charter cannot be read", "charter", v.Name, "error", err)
			continue
		}
		if d.Label == "" {
			continue
		}
		accounts, err := charters.labelled(ctx, d.Label)
		if err != nil {
			return 0, fmt.Errorf("accounts of the charter %s: %w", v.Name, err)
		}
		everyone[v.ID] = accounts
		for id, list := range bySystem(accounts) {
			places[id] = append(places[id], bound{id: v.ID, version: v.Version, document: d, accounts: list})
		}
		for _, system := range systems {
			guests, known := guestsOf(d, system, systems, accounts)
			at := slices.IndexFunc(places[system.ID], func(b bound) bool { return b.id == v.ID })
			switch {
			case at >= 0:
				places[system.ID][at].guests, places[system.ID][at].known = guests, known
			case len(guests) > 0, len(accounts) > 0 && slices.Contains(d.OneOn, system.Name): // where an account should be as well
				places[system.ID] = append(places[system.ID], bound{id: v.ID, version: v.Version, document: d, guests: guests, known: known})
			}
		}
	}
	for _, v := range all {
		var on []records.SystemID
		for id, list := range places {
			if slices.ContainsFunc(list, func(b bound) bool { return b.id == v.ID }) {
				on = append(on, id)
			}
		}
		if err := charters.store.EndCharterLines(ctx, v.ID, on); err != nil {
			return changed, err
		}
	}
	for id, list := range places {
		if ctx.Err() != nil {
			return changed, ctx.Err()
		}
		v, there := systems[id]
		if !there {
			continue
		}
		n, err := charters.compareSystem(ctx, v, list, everyone, again)
		changed += n
		if err != nil {
			return changed, fmt.Errorf("charters on %s: %w", v.Name, err)
		}
	}
	return changed, nil
}

func (charters *Charters) compareSystem(ctx context.Context, v records.System, list []bound, everyone map[records.CharterID][]records.Account, again bool) (int, error) {
	made, err := charters.madeOf(ctx, v, list, everyone)
	if err != nil {
		return 0, err
	}
	if !again && charters.done[v.ID] == made {
		return 0, nil
	}
	var lines []records.CharterLine
	ids := make([]records.CharterID, len(list))
	for i, b := range list {
		ids[i] = b.id
		own, err := charters.hold(ctx, v, list[i:i+1], everyone[b.id])
		if err != nil {
			return 0, err
		}
		lines = append(lines, own...)
	}
	changed, err := charters.store.PutCharterLines(ctx, v.ID, ids, lines)
	if err == nil {
		charters.done[v.ID] = made
	}
	return changed, err
}

// madeOf tells whether anything that the lines of a system come of is otherwise.
func (charters *Charters) madeOf(ctx context.Context, v records.System, list []bound, everyone map[records.CharterID][]records.Account) ([32]byte, error) {
	read, err := charters.rights.Read(ctx, v)
	if err != nil {
		return [32]byte{}, err
	}
	homes, err := charters.homes(ctx, list)
	if err != nil {
		return [32]byte{}, err
	}
	documents := make([]*charter.Document, len(list))
	for i, b := range list {
		documents[i] = b.document
	}
	ports, _, err := charters.reached(ctx, v, documents)
	if err != nil {
		return [32]byte{}, err
	}
	type account struct {
		ID      records.AccountID
		Changed time.Time
		Flags   []any
	}
	parts := []any{v.Name, v.Kind, v.Steward, read, homes, ports, charters.base.Now().UTC().Format(time.DateOnly)}
	for _, b := range list {
		parts = append(parts, b.id, b.version)
		for _, a := range slices.Concat(b.accounts, b.guests) {
			parts = append(parts, account{a.ID, a.Changed, []any{a.Name, a.DN, a.Enabled, a.NeverExpire, a.PasswordChanged, a.PasswordExpires, a.AccountExpires, a.Shell}})
		}
		if len(b.document.OneOn) > 0 {
			for _, a := range everyone[b.id] {
				parts = append(parts, a.Name, a.System)
			}
		}
	}
	raw, err := json.Marshal(parts)
	return sha256.Sum256(raw), err
}

// hold holds charters against accounts of one system. everyone are all accounts of the
// charter, on any system.
func (charters *Charters) hold(ctx context.Context, v records.System, list []bound, everyone []records.Account) ([]records.CharterLine, error) {
	var also []privilege.Principal
	documents := make([]*charter.Document, len(list))
	for i, b := range list {
		documents[i] = b.document
		for _, a := range b.accounts {
			also = append(also, privilege.Principal{ID: a.StableID, Kind: privilege.KindAccount, Name: a.Name})
		}
		for _, a := range b.guests {
			also = append(also, stranger(a))
		}
	}
	model, read, err := charters.rights.Model(ctx, v, also...)
	if err != nil {
		return nil, err
	}
	guests := map[records.AccountID]privilege.Principal{}
	if slices.ContainsFunc(list, func(b bound) bool { return len(b.guests) > 0 }) {
		there, err := charters.rights.Elsewhere(ctx, v, rights.Homes{}, also...)
		if err != nil {
			return nil, err
		}
		model, guests = there.Model, there.Guests
	}
	known := charter.Known{Name: v.Name, Kind: v.Kind, Model: model, Now: charters.base.Now()}
	switch {
	case read.Never:
		known.Unread = "no survey has read the rights of " + v.Name + " yet"
	case read.Completed.IsZero() || read.Why != "":
		known.Unread = cmp.Or(read.Why, "its last reading was not complete")
	}
	if known.Reached, _, err = charters.reached(ctx, v, documents); err != nil {
		return nil, err
	}
	comparison := charter.Compare(known, documents)
	propose := charters.proposer(ctx, v)
	var out []records.CharterLine
	for i, b := range list {
		at := records.CharterLine{Charter: b.document.Name, CharterID: b.id, System: v.Name, SystemID: v.ID}
		for _, a := range b.accounts {
			comparison.Turn(a.Account)
			at.Account, at.AccountID = a.Name, a.ID
			for _, l := range comparison.Lines(i, nil) {
				out = append(out, record(at, l, propose))
			}
		}
		for _, a := range b.guests {
			as, is := guests[a.ID]
			if !is && b.known {
				continue
			}
			if !is {
				as = stranger(a)
			}
			comparison.TurnGuest(a.Account, as, is)
			at.Account, at.AccountID = a.Name, a.ID
			for _, l := range comparison.Lines(i, nil) {
				out = append(out, record(at, l, propose))
			}
		}
		at.Account, at.AccountID = "", 0
		if len(b.accounts) > 0 {
			for _, l := range comparison.GroupLines(i) {
				out = append(out, record(at, l, propose))
			}
		}
		out = append(out, oneOn(at, v, b, everyone)...)
	}
	return out, nil
}

// Against holds a charter against one account, whether it is for it or not: what the account
// would have to be given, and what it has beside. Nothing is kept.
func (charters *Charters) Against(ctx context.Context, name string, a records.Account) (records.Charter, []records.CharterLine, error) {
	v, err := charters.store.Charter(ctx, name)
	if err != nil {
		return v, nil, err
	}
	d, err := charter.Parse(v.Document)
	if err != nil {
		return v, nil, fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	systems, err := charters.systems(ctx)
	if err != nil {
		return v, nil, err
	}
	lines, err := charters.hold(ctx, systems[a.SystemID], []bound{{id: v.ID, version: v.Version, document: d, accounts: []records.Account{a}}}, []records.Account{a})
	return v, lines, err
}

// oneOn says for each name of an account of the charter whether it is on a system where the
// charter wants one.
func oneOn(at records.CharterLine, v records.System, b bound, everyone []records.Account) (out []records.CharterLine) {
	if !slices.Contains(b.document.OneOn, v.Name) {
		return nil
	}
	here := map[string]bool{}
	for _, a := range b.accounts {
		here[a.Name] = true
	}
	asked := map[string]bool{}
	for _, a := range everyone {
		if asked[a.Name] {
			continue
		}
		asked[a.Name] = true
		line := at
		line.Section, line.Item, line.State = charter.SectionOneOn, "an account "+a.Name, charter.StateMet
		if !here[a.Name] {
			line.State, line.Why, line.AtNext = charter.StateMissing, "there is none with the label "+b.document.Label, charter.WhenNextSignIn
		}
		out = append(out, line)
	}
	return out
}

// mostRights is how many rights a line tells, and mostObjects how many objects of each.
const mostRights, mostObjects = 5, 5

type proposing func(c privilege.RightChange) (*connect.Proposal, string)

func record(at records.CharterLine, l charter.Line, propose proposing) records.CharterLine {
	out := at
	out.Section, out.Item, out.State, out.Why, out.AtNext, out.Because = l.Section, l.Item, l.State, l.Why, l.When, l.Because
	if l.State != charter.StateMissing {
		out.AtNext = ""
	}
	for _, r := range l.By[:min(len(l.By), mostRights)] {
		r.Objects = r.Objects[:min(len(r.Objects), mostObjects)]
		out.Rights = append(out.Rights, r)
	}
	if len(l.By) > 0 {
		out.Through = l.By[0].Through()
	}
	switch l.State {
	case charter.StateMissing, charter.StateExcess, charter.StateForbidden:
		if l.Change != nil {
			out.Change = l.Change
			out.Proposal, out.NoProposal = propose(*l.Change)
		}
	}
	return out
}

// proposer puts changes into the words of a system. What its steward signs in with has no
// part in that.
func (charters *Charters) proposer(ctx context.Context, v records.System) proposing {
	connector, target, err := charters.targets.Target(ctx, v)
	if err != nil || connector == nil {
		var there bool
		if connector, there = connect.For(estate.Kind(v.Kind)); !there {
			return func(privilege.RightChange) (*connect.Proposal, string) { return nil, "its kind is not known here" }
		}
	}
	target = connect.Target{Name: v.Name, Kind: estate.Kind(v.Kind), Address: v.Address, Options: target.Options}
	return func(c privilege.RightChange) (*connect.Proposal, string) {
		p, why := connector.Propose(target, c)
		if why != "" || p.Text == "" {
			return nil, why
		}
		return &p, ""
	}
}

func sortLines(lines []records.CharterLine) {
	rank := func(s charter.State) int {
		return slices.Index([]charter.State{charter.StateForbidden, charter.StateMissing, charter.StateDiffers, charter.StateUnknown, charter.StateExcess, charter.StateMet}, s)
	}
	slices.SortStableFunc(lines, func(a, b records.CharterLine) int {
		return cmp.Or(cmp.Compare(rank(a.State), rank(b.State)), strings.Compare(a.System, b.System), strings.Compare(a.Account, b.Account))
	})
}

// Check holds one charter against its accounts now, whatever was done before; its ports are
// asked first.
func (charters *Charters) Check(ctx context.Context, by access.Actor, name string) (records.CharterChecked, error) {
	if err := access.Decide(by, access.CheckCharter, access.Object{Kind: "charter", Name: name}); err != nil {
		return records.CharterChecked{}, err
	}
	v, err := charters.store.Charter(ctx, name)
	if err != nil {
		return records.CharterChecked{}, err
	}
	out := records.CharterChecked{Charter: v.Name, Accounts: v.Accounts, States: map[string]int{}}
	if v.Label == "" {
		return out, fmt.Errorf("%w: the charter %s has no label: it is for no account yet", app.ErrInput, v.Name)
	}
	if err := charters.probe(ctx, by, v); err != nil {
		return out, err
	}
	charters.turn.Lock()
	defer charters.turn.Unlock()
	if out.Changed, err = charters.compare(ctx, []records.Charter{v}, true); err != nil {
		return out, err
	}
	clear(charters.done) // its systems have other charters beside
	if err := charters.judge(ctx); err != nil {
		return out, err
	}
	lines, err := charters.store.LinesOfCharter(ctx, v.ID)
	for _, l := range lines {
		out.States[string(l.State)]++
	}
	charters.base.Topics.Wake("all")
	return out, err
}

// Matrix has what a charter comes to with accounts in rows and its things in columns.
func (charters *Charters) Matrix(ctx context.Context, name string, most int) (records.CharterMatrix, error) {
	v, err := charters.store.Charter(ctx, name)
	if err != nil {
		return records.CharterMatrix{}, err
	}
	lines, err := charters.store.LinesOfCharter(ctx, v.ID)
	if err != nil {
		return records.CharterMatrix{}, err
	}
	out := records.CharterMatrix{Charter: v.Name, Items: []records.CharterColumn{}, Rows: []records.CharterMatrixRow{}}
	columns, rows := map[records.CharterColumn]int{}, map[records.AccountID]int{}
	for _, l := range lines {
		if c := (records.CharterColumn{Section: l.Section, Item: l.Item}); l.AccountID != 0 && l.Section != charter.SectionBeyond {
			if _, known := columns[c]; !known {
				columns[c] = len(out.Items)
				out.Items = append(out.Items, c)
			}
		}
	}
	dropped := map[records.AccountID]bool{}
	for _, l := range lines {
		if l.AccountID == 0 {
			continue
		}
		at, known := rows[l.AccountID]
		if !known {
			if len(out.Rows) >= most {
				dropped[l.AccountID] = true
				continue
			}
			at = len(out.Rows)
			rows[l.AccountID] = at
			out.Rows = append(out.Rows, records.CharterMatrixRow{Account: l.Account, AccountID: l.AccountID, System: l.System, Cells: make([]charter.State, len(out.Items))})
		}
		if l.Section == charter.SectionBeyond {
			out.Rows[at].Beyond++
			continue
		}
		out.Rows[at].Cells[columns[records.CharterColumn{Section: l.Section, Item: l.Item}]] = l.State
	}
	out.More = len(dropped)
	return out, nil
}
