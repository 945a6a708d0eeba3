package planning

import (
	"context"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// process tells of a running program that holds the value: nothing can be
// replaced in it, and only what its unit reads anew helps it.
func (p *planner) process(d records.Dependent, strength string) {
	switch {
	case d.Copy == nil || strength != string(estate.StrengthMatches) && strength != string(estate.StrengthAmbiguous):
	case len(d.Requires) > 0:
		p.runsWith[d.System+"\x00"+d.Requires[0]] = d.Copy.Format + " " + d.Copy.Key
	default:
		p.note(rotation.NoteByHand, "%s on %s, %s, has the value in its %s: it keeps the old one until somebody starts it anew", d.Path, d.System, d.Description, d.Copy.Format)
	}
}

// unexplained tells of units that run with the value although nothing that was
// read there says where they get it.
func (p *planner) unexplained() {
	for key, where := range p.runsWith {
		system, unit, _ := strings.Cut(key, "\x00")
		if !p.restarted[key] {
			p.note(rotation.NoteUnexplained, "%s on %s runs with the value (%s), and no file that it is known to read holds it: it starts with whatever it gets from there", unit, system, where)
		}
	}
}

// concerned are the dependents of a system that use what this plan changes, and
// what needs them: only those are brought up. What is down for another reason
// is somebody else's.
func (p *planner) concerned(all []records.Dependent) map[string]bool {
	out := map[string]bool{}
	for _, d := range all {
		for _, path := range d.Uses {
			out[d.Place] = out[d.Place] || p.files[d.System+"\x00"+path] != nil
		}
		if p.logOns[logOnKey(d)] || picture.StrengthFor(d, p.account.ID) == string(estate.StrengthRunsAs) {
			out[d.Place] = true
		}
	}
	for again := true; again; {
		again = false
		for _, d := range all {
			if !out[d.Place] && slices.ContainsFunc(d.Requires, func(name string) bool { return out[name] }) {
				out[d.Place], again = true, true
			}
		}
	}
	return out
}

// units finds what runs on a system and uses any of what is replaced, or
// stands and falls with something that does.
func (p *planner) units(ctx context.Context, system records.SystemID) error {
	all, err := p.planning.store.DependentsOfSystem(ctx, system)
	if err != nil {
		return err
	}
	named := map[string]bool{}
	for _, d := range all {
		for _, path := range d.Uses {
			named[path] = true
		}
	}
	concerned := p.concerned(all)
	expected, err := p.bounds.Expected(ctx, system)
	if err != nil {
		return err
	}
	for _, d := range all {
		reads := p.reads(d, named)
		p.restarted[d.System+"\x00"+d.Place] = d.Kind == estate.DependentUnit && len(reads) > 0
		if d.Kind == estate.DependentProcess {
			if len(reads) > 0 {
				p.note(rotation.NoteByHand, "%s on %s, %s, reads a copy there: it keeps the old value until somebody starts it anew", d.Path, d.System, d.Description)
			}
			continue
		}
		p.unit(d, reads, concerned[d.Place], expected[d.Place])
	}
	return nil
}

// reads are the copies that a dependent reads. A unit that was seen signed in, or
// runs with the value, reads a copy that nothing names.
func (p *planner) reads(d records.Dependent, named map[string]bool) []string {
	var reads []string
	for _, path := range d.Uses {
		if p.files[d.System+"\x00"+path] != nil {
			reads = append(reads, path)
		}
	}
	runsWith := p.runsWith[d.System+"\x00"+d.Place] != ""
	seen := func(t records.Tie) bool {
		return t.AccountID == p.account.ID && t.Evidence == string(estate.Observed)
	}
	if len(reads) > 0 || d.Kind != estate.DependentUnit || !d.Up() || !runsWith && !slices.ContainsFunc(d.Ties, seen) {
		return reads
	}
	for key := range p.files {
		if path, found := strings.CutPrefix(key, d.System+"\x00"); found && !named[path] {
			reads = append(reads, path)
		}
	}
	slices.Sort(reads)
	switch {
	case len(reads) == 0:
	case runsWith:
		p.note(rotation.NoteInfo, "%s on %s runs with the value, and nothing names the copies there: it is restarted after them", d.Place, d.System)
	default:
		p.note(rotation.NoteInfo, "%s on %s was seen signed in as the account, and nothing names the copies there: it is restarted after them", d.Place, d.System)
	}
	return reads
}

// unit takes a dependent that runs into the plan, when it has to be restarted or
// may be taken down by a restart.
func (p *planner) unit(d records.Dependent, reads []string, concerned bool, expected time.Duration) {
	u := building.Unit{
		SystemID: d.SystemID.String(), System: d.System, Kind: d.Kind, Name: d.Place, Reads: reads, Reloads: d.Reloads && d.Up(), After: d.After, Requires: d.Requires, Check: d.Check,
		Running: d.Up() || d.Kind == estate.DependentUnit && d.State == "failed", Start: p.wish.Start && !d.Up() && d.ByItself() && concerned,
		Groups: p.bounds.Groups(d), Expected: expected,
	}
	changed := len(reads) > 0 || p.logOns[logOnKey(d)]
	if changed {
		p.limited(d)
	}
	switch {
	case d.Kind.Runs() && (changed || (u.Running || u.Start) && len(d.Requires) > 0):
		if changed && !p.wish.AnyTime {
			u.Window = p.bounds.Of(d)
		}
		p.input.Units, p.listed = append(p.input.Units, u), append(p.listed, d)
	case d.Kind == estate.DependentTask && changed:
		p.note(rotation.NoteInfo, "the task %s on %s uses what is stored at each run: nothing to restart", d.Place, d.System)
	case len(reads) > 0:
		p.note(rotation.NoteInfo, "%s on %s reads the copy at each run: nothing to restart", d.Place, d.System)
	}
}
