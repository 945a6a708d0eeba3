package datastore

import (
	"regexp"
	"slices"
	"strings"
)

// What gives and takes rights on objects, and the questions about one of them. Memberships are
// with the statements about roles.

const aName = `("(?:[^"]|"")+"|[a-z_][a-z0-9_]*)`

var (
	grantObject = regexp.MustCompile(`^(GRANT|REVOKE) ([A-Z ]+) ON (TABLE|SEQUENCE|SCHEMA|DATABASE) (` + aName + `(?:\.` + aName + `)?) (?:TO|FROM) ` + aName + `( WITH GRANT OPTION)?$`)
	grantMember = regexp.MustCompile(`^(GRANT|REVOKE) ` + aName + ` (?:TO|FROM) ` + aName + `( WITH ADMIN OPTION)?$`)
)

func bare(name string) string {
	if strings.HasPrefix(name, `"`) {
		return unquoted(strings.Trim(name, `"`))
	}
	return name
}

// roleIs reports whether a role has another one, directly or through others.
func (s *server) roleIs(name, role string, seen ...string) bool {
	if name == role {
		return true
	}
	a := s.accounts[name]
	return a != nil && !slices.Contains(seen, name) && slices.ContainsFunc(a.MemberOf, func(m string) bool { return s.roleIs(m, role, append(seen, name)...) })
}

// has says whether a role has a right on an object by itself, and whether by anything.
func (s *server) has(g Grant, role, verb string) (direct, inForce bool) {
	direct = slices.Contains(g.Given[role], verb)
	inForce = direct || slices.Contains(g.Given["PUBLIC"], verb) || s.roleIs(role, g.Owner)
	for to, verbs := range g.Given {
		inForce = inForce || slices.Contains(verbs, verb) && s.roleIs(role, to)
	}
	return direct, inForce
}

// standing answers the questions about one right or membership.
func (s *pgSession) standing(statement string, arguments [][]byte) (result, bool) {
	r := result{columns: []string{"t", "g", "f"}, oids: []uint32{oidBool, oidBool, oidBool}}
	word := func(i int) string { return string(arguments[i]) }
	there := func(role string) bool { return s.accounts[role] != nil || slices.Contains(s.groupRoles(), role) }
	switch {
	case strings.Contains(statement, "pg_has_role(") && len(arguments) == 2:
		if a := s.accounts[word(0)]; a != nil && there(word(1)) {
			r.rows = [][]string{{truth(slices.Contains(a.MemberOf, word(1))), "f", truth(s.roleIs(word(0), word(1)))}}
		}
	case strings.HasPrefix(statement, "SELECT rol") && len(arguments) == 1:
		if a := s.accounts[word(0)]; a != nil {
			is := truth(strings.Contains(statement, "rolcreaterole") && a.Manages)
			r.rows = [][]string{{is, "f", is}}
		}
	case strings.Contains(statement, "_privilege(r.oid") && len(arguments) == 3:
		r.rows = [][]string{{"f", "f", "\x00"}} // what is not there is nothing
		for _, g := range s.grants {
			if g.Name == word(2) && there(word(0)) && strings.Contains(statement, "has_"+strings.Replace(g.Kind, "view", "table", 1)+"_privilege") {
				direct, inForce := s.has(g, word(0), word(1))
				r.rows = [][]string{{truth(direct), "f", truth(inForce)}}
			}
		}
	default:
		return r, false
	}
	return selected(r), true
}

// amend gives and takes rights, as the owner of what they are on.
func (s *pgSession) amend(statement string) (result, bool) {
	if m := grantMember.FindStringSubmatch(statement); m != nil {
		quote := func(name string) string { return `"` + strings.ReplaceAll(bare(name), `"`, `""`) + `"` }
		return s.one(m[1]+" "+quote(m[2])+map[string]string{"GRANT": " TO ", "REVOKE": " FROM "}[m[1]]+quote(m[3]), nil), true
	}
	m := grantObject.FindStringSubmatch(statement)
	if m == nil {
		return result{}, false
	}
	name := bare(m[5])
	if m[6] != "" {
		name += "." + bare(m[6])
	}
	for i, g := range s.grants {
		kind := strings.ToUpper(strings.Replace(g.Kind, "view", "table", 1))
		if g.Name != name || kind != m[3] {
			continue
		}
		if !s.roleIs(s.account.Name, g.Owner) {
			return result{code: "42501", message: "permission denied for " + strings.ToLower(m[3]) + " " + name}, true
		}
		to, given := bare(m[7]), map[string][]string{}
		for role, verbs := range g.Given {
			given[role] = slices.DeleteFunc(slices.Clone(verbs), func(v string) bool { return role == to && v == m[2] })
		}
		if m[1] == "GRANT" {
			given[to] = append(given[to], m[2])
		}
		s.grants[i].Given = given
		return result{tag: m[1]}, true
	}
	return result{code: "42P01", message: `relation "` + name + `" does not exist`}, true
}
