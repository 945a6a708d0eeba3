package planning

import (
	"context"
	"slices"
	"time"

	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// lasts says how long the new key of an identity is good: as long as the one before it,
// unless somebody asks otherwise.
func (p *planner) lasts(ctx context.Context) error {
	if p.credential.Kind != credential.CloudKey {
		return nil
	}
	list, err := p.planning.store.DependentsOfKey(ctx, p.credential.Fingerprint)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(d records.Dependent) bool { return d.Kind == estate.DependentIssued })
	p.input.Lasts = max(p.wish.Lasts, 0)
	if p.wish.Lasts != 0 || at < 0 {
		p.tellLasts()
		return nil
	}
	if was := list[at].Key; !was.Ends.IsZero() && !was.Begins.IsZero() {
		p.input.Lasts = max(was.Ends.Sub(was.Begins).Round(time.Hour), time.Hour)
	}
	p.tellLasts()
	return nil
}

func (p *planner) tellLasts() {
	if p.input.Lasts == 0 {
		p.note(rotation.NoteInfo, "the new key never ends, as the one before it: whoever gets hold of it can use it until somebody takes it away")
		return
	}
	p.note(rotation.NoteInfo, "the new key is good for %s", calendar.Spell(p.input.Lasts))
}
