package datastore

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Grant is what the server's access lists have of one object.
type Grant struct {
	Kind  string // database, schema, table, view, sequence, function
	Name  string // with its schema
	Owner string
	Given map[string][]string // rights by role; PUBLIC for everyone
}

// Grant adds access lists of the database.
func (p *Postgres) Grant(list ...Grant) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.grants = append(p.grants, list...)
}

// roleNumber is the one of a role: of those that nobody signs in as, behind the others.
func (s *server) roleNumber(name string) int64 {
	if a := s.accounts[name]; a != nil {
		return a.id
	}
	return 20001 + int64(slices.Index(s.groupRoles(), name))
}

// groupRoles are roles that nobody signs in as.
func (s *server) groupRoles() []string {
	var out []string
	note := func(name string) {
		if name != "" && name != "PUBLIC" && s.accounts[name] == nil && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, name := range s.names() {
		for _, role := range s.accounts[name].MemberOf {
			note(role)
		}
	}
	for _, g := range s.grants {
		note(g.Owner)
	}
	slices.Sort(out)
	return out
}

// rights answers the statements that read who may do what.
func (s *pgSession) rights(statement string) (result, bool) {
	switch {
	case strings.Contains(statement, "rolbypassrls FROM pg_roles"):
		r := result{columns: []string{"o", "n", "l", "s", "r", "d", "p", "b"}, oids: []uint32{oidInt8, oidText, oidBool, oidBool, oidBool, oidBool, oidBool, oidBool}}
		for _, name := range s.names() {
			a := s.accounts[name]
			r.rows = append(r.rows, []string{strconv.FormatInt(a.id, 10), name, truth(!a.Rests), "f", truth(a.Manages), "f", "f", "f"})
		}
		for _, name := range s.groupRoles() {
			r.rows = append(r.rows, []string{strconv.FormatInt(s.roleNumber(name), 10), name, "f", "f", "f", "f", "f", "f"})
		}
		return selected(r), true
	case strings.Contains(statement, "admin_option, inherit_option, set_option FROM pg_auth_members"): // came with version 16
		return result{code: "42703", message: `column "inherit_option" does not exist`}, true
	case strings.Contains(statement, "FROM pg_auth_members m JOIN pg_roles r"):
		r := result{columns: []string{"m", "r", "a", "i", "s"}, oids: []uint32{oidInt8, oidInt8, oidBool, oidBool, oidBool}}
		for _, name := range s.names() {
			for _, role := range s.accounts[name].MemberOf {
				r.rows = append(r.rows, []string{strconv.FormatInt(s.accounts[name].id, 10), strconv.FormatInt(s.roleNumber(role), 10), "f", "t", "t"})
			}
		}
		return selected(r), true
	case strings.Contains(statement, "FROM pg_database d"):
		r := result{columns: []string{"n", "o", "c", "t", "a"}, oids: []uint32{oidText, oidInt8, oidBool, oidBool, oidTextArray}}
		for _, g := range s.grants {
			if g.Kind == "database" {
				r.rows = append(r.rows, []string{g.Name, strconv.FormatInt(s.roleNumber(g.Owner), 10), "t", "f", s.given(g)})
			}
		}
		return selected(r), true
	}
	for from, kinds := range map[string][]string{"FROM pg_namespace n WHERE": {"schema"}, "FROM pg_class c JOIN pg_namespace": {"table", "view", "sequence"}, "FROM pg_proc p": {"function"}, "FROM pg_attribute t": nil, "FROM pg_default_acl d": nil} {
		if !strings.Contains(statement, from) {
			continue
		}
		r := result{columns: []string{"k", "n", "o", "m", "a"}, oids: []uint32{oidText, oidText, oidInt8, oidText, oidTextArray}}
		for _, g := range s.grants {
			if slices.Contains(kinds, g.Kind) {
				r.rows = append(r.rows, []string{g.Kind, g.Name, strconv.FormatInt(s.roleNumber(g.Owner), 10), "", s.given(g)})
			}
		}
		return selected(r), true
	}
	return result{}, false
}

func truth(b bool) string {
	if b {
		return "t"
	}
	return "f"
}

func selected(r result) result {
	r.tag = fmt.Sprintf("SELECT %d", len(r.rows))
	return r
}

// given is an access list as aclexplode tells it, in an array.
func (s *server) given(g Grant) string {
	var lines []string
	for to, verbs := range g.Given {
		number := int64(0)
		if to != "PUBLIC" {
			number = s.roleNumber(to)
		}
		for _, verb := range verbs {
			lines = append(lines, fmt.Sprintf(`"%d %s false"`, number, verb))
		}
	}
	slices.Sort(lines)
	return "{" + strings.Join(lines, ",") + "}"
}
