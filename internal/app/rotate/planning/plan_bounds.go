package planning

import (
	"slices"
	"time"

	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// way holds what the authority can do against what is asked of the way.
func (p *planner) way() {
	switch p.wish.Way {
	case policies.WayReplace:
		if p.credential.Kind != credential.Password {
			p.note(rotation.NoteWay, "a key is always added beside the old one, and never replaced at once as the way \"replace\" asks")
			return
		}
		for i := range p.input.Points {
			p.input.Points[i].Overlap = false
		}
	case policies.WayOverlap:
		if at := slices.IndexFunc(p.input.Points, func(point building.Point) bool { return !point.Overlap }); at >= 0 {
			p.note(rotation.NoteWay, "%s does not accept two values of it at once, and the way \"overlap\" is asked", p.input.Points[at].System)
		}
	}
}

// bound gives a plan its windows and its declared order.
func (p *planner) bound() error {
	p.input.AtWindowEnd, p.input.FirstAlone, p.input.Groups = p.wish.AtWindowEnd, p.wish.FirstAlone, p.bounds.AtOnce()
	for _, stages := range p.bounds.Sequences(p.listed) {
		for n := 1; n < len(stages); n++ {
			for _, i := range stages[n] {
				for _, j := range stages[n-1] {
					u := p.input.Units[j]
					p.input.Units[i].Behind = append(p.input.Units[i].Behind, building.Unit{SystemID: u.SystemID, System: u.System, Kind: u.Kind, Name: u.Name})
				}
			}
		}
	}
	if p.wish.AnyTime {
		p.note(rotation.NoteInfo, "no window counts: it is asked for at any time")
		return nil
	}
	if p.input.Kind != rotation.KindAssign {
		p.input.Window = p.bounds.Window
		p.bounds.Use(p.bounds.Window)
	}
	if p.bounds.Said != "" {
		p.note(rotation.NoteInfo, "%s", p.bounds.Said)
	}
	openings, err := p.bounds.Openings()
	p.input.Windows = openings
	for _, name := range names(openings) {
		o := openings[name]
		if len(o.Slots) == 0 {
			p.note(rotation.NoteWindow, "the window %s (%s) does not open any more", name, o.Words)
			continue
		}
		if now := p.planning.now(); !o.Slots[0].Open(now) {
			p.note(rotation.NoteInfo, "the window %s opens at %s: what belongs into it waits until then", name, o.Slots[0].From.UTC().Format(time.RFC3339))
		}
	}
	return err
}

func names(openings map[string]rotation.Openings) []string {
	out := make([]string, 0, len(openings))
	for name := range openings {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// limited has new passwords keep to what a dependent can carry.
func (p *planner) limited(d records.Dependent) {
	if d.Limit == nil {
		return
	}
	limit := *d.Limit
	limit.Of = d.Place + " on " + d.System
	p.input.Limits = credential.Holders(append(p.input.Limits, limit))
}
