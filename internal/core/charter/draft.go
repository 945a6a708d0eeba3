package charter

import (
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
)

// Sample is one account that a charter is drafted from.
type Sample struct {
	Account estate.Account
	System  string
	Kind    string
	Model   *privilege.Model
}

// Draft writes a charter of what accounts have: what all of one kind of system have, they
// must; what some have, they may. A person takes out what they do not need: that they have
// it does not say so.
func Draft(name, label string, samples []Sample) *Document {
	d := &Document{Name: name, Label: label, Description: "Drafted from what " + names(samples) + " had: take out what is not needed."}
	type count struct {
		item Item
		of   int
	}
	perKind := map[string]int{}
	counts := map[string]*count{}
	var order []string
	for _, s := range samples {
		perKind[s.Kind]++
		seen := map[string]bool{}
		for _, item := range itemsOf(s) {
			item.On = []string{"kind:" + s.Kind}
			key := item.Words() + onWords(item.On)
			if seen[key] {
				continue
			}
			seen[key] = true
			if counts[key] == nil {
				counts[key] = &count{item: item}
				order = append(order, key)
			}
			counts[key].of++
		}
	}
	for _, key := range order {
		c := counts[key]
		into := &d.May
		if c.of == perKind[strings.TrimPrefix(c.item.On[0], "kind:")] {
			into = &d.Must
		}
		if len(perKind) == 1 {
			c.item.On = nil
		}
		if len(*into) < 200 {
			*into = append(*into, c.item)
		}
	}
	yes := true
	if !slices.ContainsFunc(samples, func(s Sample) bool { return s.Account.Enabled != estate.Yes }) && len(samples) > 0 {
		d.Account = &Account{Enabled: &yes}
	}
	for _, never := range []Item{{Do: privilege.VerbEverything}, {Run: "ALL"}} {
		if never.Run == "" || perKind[string(estate.KindUnixHost)] > 0 {
			if !slices.ContainsFunc(samples, func(s Sample) bool { return has(s, never) }) {
				d.Never = append(d.Never, never)
			}
		}
	}
	return d
}

// has reports whether an account may have something that no charter would like to allow.
func has(s Sample, never Item) bool {
	c := Compare(Known{Name: s.System, Kind: s.Kind, Model: s.Model}, []*Document{{Never: []Item{never}}})
	c.Turn(s.Account)
	lines := c.Lines(0, nil)
	return len(lines) > 0 && lines[0].Section == SectionNever && lines[0].State != StateMet
}

func names(samples []Sample) string {
	var out []string
	for _, s := range samples {
		out = append(out, s.System+"/"+s.Account.Name)
	}
	if len(out) > 3 {
		return strings.Join(out[:3], ", ") + " and others"
	}
	return strings.Join(out, ", ")
}

// itemsOf are the things that an account has: its own groups, and the rights that come by none
// of them.
func itemsOf(s Sample) (out []Item) {
	b := s.Model.Bearer()
	if !b.Of(s.Account.StableID) {
		return nil
	}
	own := map[string]bool{}
	for _, g := range b.Direct() {
		if g.How == "" && g.Kind != privilege.KindEveryone {
			own[g.ID] = true
			out = append(out, Item{MemberOf: g.Name})
		}
	}
	b.Each(nil, func(_, _, at int) {
		r := b.Right(at)
		if len(r.Path) > 1 && own[r.Path[1].ID] || r.Unsure != "" {
			return
		}
		item := Item{Do: r.Verb, What: r.What}
		if r.Verb == privilege.VerbRun {
			item = Item{Run: r.What}
			if r.As != "" && r.As != "root" {
				item.As = strings.TrimSpace(r.As)
			}
		} else if len(r.Objects) > 0 && r.Objects[0].Kind != privilege.ObjectSystem && !r.Objects[0].Like {
			item.To = r.Objects[0].Kind + ":" + r.Objects[0].Name
			for _, o := range r.Objects[1:min(len(r.Objects), 50)] {
				more := item
				more.To = o.Kind + ":" + o.Name
				out = append(out, more)
			}
		}
		out = append(out, item)
	})
	slices.SortStableFunc(out, func(a, b Item) int {
		if (a.MemberOf != "") != (b.MemberOf != "") {
			if a.MemberOf != "" {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Words(), b.Words())
	})
	return out
}
