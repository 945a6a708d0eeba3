package charter

import (
	"fmt"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

// mostExcess is how many lines of excess one account has at most; the last says how many
// more there are.
const mostExcess = 200

// mostGiven is how many rights are told with a group that gives them.
const mostGiven = 5

// beyond is what the account has and the charter does not say.
func (c *Comparison) beyond(p *prepared, out []Line) []Line {
	if !c.there {
		return out
	}
	before := len(out)
	forbidden := map[string]bool{}
	for _, l := range out {
		if l.State == StateForbidden && l.Section == SectionNever && len(l.By) > 0 && l.By[0].Verb == verbMember {
			forbidden[l.By[0].Path[len(l.By[0].Path)-1].ID] = true
		}
	}
	direct := c.bearer.Direct()
	given := make([]int, len(direct)) // by the group that it should not lie in: its line, and one
	for i, g := range direct {
		if p.groups[g.ID] || forbidden[g.ID] || g.Kind == privilege.KindEveryone || g.How != "" {
			continue // one that it has as its own belongs to every account
		}
		path := c.bearer.PathTo(g.ID)
		change, _ := c.leave(p, path)
		out = append(out, Line{State: StateExcess, Section: SectionBeyond, Item: "member of " + g.Name, By: []privilege.Right{{Verb: verbMember, Path: path}}, Change: change})
		given[i] = len(out)
	}
	more := 0
	c.bearer.Each(p.through, func(list, entry, held int) {
		if at := c.bearer.First(held); at >= 0 && given[at] > 0 {
			if line := &out[given[at]-1]; len(line.By) < mostGiven && !c.accepts(p, list, entry) {
				line.By = append(line.By, c.bearer.Right(held))
			}
			return
		}
		if c.accepts(p, list, entry) || c.told[entryKey{c.known.Model.Lists[list].Key, entry}] {
			return
		}
		if len(out)-before >= mostExcess {
			more++
			return
		}
		if r := c.bearer.Right(held); !c.void(r) {
			out = append(out, Line{State: StateExcess, Section: SectionBeyond, Item: words(r), Why: r.Unsure, By: []privilege.Right{r}, Change: c.take(p, r)})
		}
	})
	if more > 0 {
		out = append(out, Line{State: StateExcess, Section: SectionBeyond, Item: fmt.Sprintf("and %d more", more), Why: "'moss right show' lists them"})
	}
	return out
}

func words(r privilege.Right) string {
	out := r.Verb
	if r.What != "" {
		out += " " + r.What
	}
	if r.As != "" {
		out += " as " + r.As
	}
	if on := privilege.On(r.Objects); on != "" && on != "the system" {
		out += " on " + on
	}
	return out
}

// void reports whether another entry has the word.
func (c *Comparison) void(r privilege.Right) bool {
	q, may := sudo.Whether(r, c.known.Kind == string(estate.KindUnixHost))
	if !may {
		return false
	}
	d := c.bearer.Decide(c.known.Model.Ask(q))
	return !d.Allowed && d.Unsure == ""
}
