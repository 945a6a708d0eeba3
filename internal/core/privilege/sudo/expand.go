package sudo

import "slices"

// expand puts what aliases stand for in their places. A list is read from its end and
// the first item that matches decides, also in an alias: so an alias may be replaced by
// its items, turned round where it is negated.
func (p *parser) expand() {
	for _, s := range p.settings {
		p.at = s.Place
		s.Users = p.items(s.Users, p.users, nil)
		s.Hosts = p.items(s.Hosts, p.hosts, nil)
		for _, c := range p.commandList(s.commands, nil) {
			if !c.not {
				s.Cmnds = append(s.Cmnds, c.is)
			}
		}
		p.policy.Defaults = append(p.policy.Defaults, s.Default)
	}
	for _, s := range p.specs {
		p.at = s.place
		users := p.items(s.users, p.users, nil)
		for _, part := range s.parts {
			hosts := p.items(part.hosts, p.hosts, nil)
			for _, g := range part.commands {
				runAs, runGroup := p.items(g.runAs, p.runAs, nil), p.items(g.runGroup, p.runAs, nil)
				for _, c := range p.commandList([]command{g.command}, nil) {
					if !p.unfold(len(users)) { // each is an entry of its own
						break
					}
					p.policy.Rules = append(p.policy.Rules, Rule{
						Users: users, Hosts: hosts, RunAs: runAs, RunGroup: runGroup, RunAsGiven: g.runAsGiven,
						Command: c.is, Deny: c.not, Tags: g.tags, Options: g.options, Place: s.place, Text: g.text,
					})
				}
			}
		}
	}
}

// items replaces names that are aliases. A name in capitals that is none stays a name.
func (p *parser) items(list []Item, of aliases, within []string) []Item {
	var out []Item
	for _, i := range list {
		if !p.unfold(1) {
			return out
		}
		members, is := of[i.Name]
		if i.Kind != ItemName || !is {
			out = append(out, i)
			continue
		}
		if slices.Contains(within, i.Name) {
			p.problem("the alias " + i.Name + " stands for itself")
			continue
		}
		for _, m := range p.items(members, of, append(slices.Clone(within), i.Name)) {
			m.Not = m.Not != i.Not
			out = append(out, m)
		}
	}
	return out
}

func (p *parser) commandList(list []command, within []string) []command {
	var out []command
	for _, c := range list {
		if !p.unfold(1) {
			return out
		}
		if c.alias == "" {
			out = append(out, c)
			continue
		}
		members, is := p.commands[c.alias]
		switch {
		case !is:
			p.problem("the alias " + c.alias + " is not defined")
		case slices.Contains(within, c.alias):
			p.problem("the alias " + c.alias + " stands for itself")
		}
		if !is || slices.Contains(within, c.alias) {
			continue
		}
		for _, m := range p.commandList(members, append(slices.Clone(within), c.alias)) {
			m.not = m.not != c.not
			out = append(out, m)
		}
	}
	return out
}
