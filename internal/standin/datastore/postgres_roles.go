package datastore

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// What changes roles: passwords, the right to sign in, memberships and settings, alone or in
// a transaction that takes effect as a whole.

const (
	aRole = `"((?:[^"]|"")+)"`
	aText = `'((?:[^']|'')*)'`
)

var (
	untilOfRole = regexp.MustCompile(`^ALTER ROLE ` + aRole + ` VALID UNTIL ` + aText + `$`)
	dropRole    = regexp.MustCompile(`^DROP ROLE ` + aRole + `$`)
	alterRole   = regexp.MustCompile(`^ALTER ROLE ` + aRole + `( LOGIN| NOLOGIN)?(?: PASSWORD ` + aText + `)?$`)
	grantRole   = regexp.MustCompile(`^(GRANT|REVOKE) ` + aRole + ` (?:TO|FROM) ` + aRole + `$`)
	setForRole  = regexp.MustCompile(`^ALTER ROLE ` + aRole + ` SET ` + aRole + ` TO (?:` + aText + `|(.+))$`)
	resetOfRole = regexp.MustCompile(`^ALTER ROLE ` + aRole + ` RESET ` + aRole + `$`)
)

func unquoted(name string) string { return strings.ReplaceAll(name, `""`, `"`) }

// change makes a statement that changes something. The caller holds the lock.
func (s *pgSession) change(statement string, arguments [][]byte) result {
	switch word := strings.ToUpper(strings.TrimSpace(strings.TrimSuffix(statement, ";"))); {
	case word == "BEGIN":
		s.before, s.broken = map[string]Account{}, false
		for name, a := range s.accounts {
			s.before[name] = *a
		}
		return result{tag: "BEGIN"}
	case word == "COMMIT" && !s.broken:
		s.before = nil
		return result{tag: "COMMIT"}
	case word == "COMMIT" || word == "ROLLBACK":
		for name, a := range s.before {
			*s.accounts[name] = a
		}
		s.before, s.broken = nil, false
		return result{tag: "ROLLBACK"}
	case s.broken:
		return result{code: "25P02", message: "current transaction is aborted, commands ignored until end of transaction block"}
	}
	r := s.one(statement, arguments)
	s.broken = s.before != nil && r.code != ""
	return r
}

func (s *pgSession) one(statement string, arguments [][]byte) result {
	if strings.Contains(statement, "r.rolcanlogin, now()") && len(arguments) == 1 {
		return s.lives(string(arguments[0]))
	}
	if strings.Contains(statement, "pg_db_role_setting") && len(arguments) == 1 {
		return s.twin(string(arguments[0]))
	}
	about := func(name string) (*Account, result) {
		a := s.accounts[unquoted(name)]
		switch {
		case !s.account.Manages && (a == nil || a.Name != s.account.Name):
			return nil, result{code: "42501", message: "permission denied"}
		case a == nil:
			return nil, result{code: "42704", message: fmt.Sprintf("role %q does not exist", name)}
		}
		return a, result{}
	}
	if m := alterRole.FindStringSubmatch(statement); m != nil {
		a, refused := about(m[1])
		if a == nil {
			return refused
		}
		if m[2] != "" {
			a.Rests = m[2] == " NOLOGIN"
		}
		switch {
		case m[3] == "":
		case verifierText.MatchString(m[3]):
			a.verifier = m[3]
		default:
			a.verifier = verifierOf(m[3])
		}
		return result{tag: "ALTER ROLE"}
	}
	if m := untilOfRole.FindStringSubmatch(statement); m != nil {
		a, refused := about(m[1])
		if a == nil {
			return refused
		}
		a.Until = time.Time{}
		if m[2] != "infinity" {
			until, err := time.Parse("2006-01-02 15:04:05.999999-07:00", m[2])
			if err != nil {
				return result{code: "22007", message: "invalid input syntax for type timestamp with time zone: \"" + m[2] + "\""}
			}
			a.Until = until
		}
		return result{tag: "ALTER ROLE"}
	}
	if m := dropRole.FindStringSubmatch(statement); m != nil {
		a, refused := about(m[1])
		switch {
		case a == nil:
			return refused
		case a.Owns > 0:
			return result{code: "2BP01", message: fmt.Sprintf("role %q cannot be dropped because some objects depend on it", a.Name)}
		}
		delete(s.accounts, a.Name)
		return result{tag: "DROP ROLE"}
	}
	if m := grantRole.FindStringSubmatch(statement); m != nil {
		a, refused := about(m[3])
		if a == nil {
			return refused
		}
		role := unquoted(m[2])
		a.MemberOf = slices.DeleteFunc(slices.Clone(a.MemberOf), func(has string) bool { return has == role })
		if m[1] == "GRANT" {
			a.MemberOf = append(a.MemberOf, role)
			slices.Sort(a.MemberOf)
		}
		return result{tag: m[1] + " ROLE"}
	}
	set, value := setForRole.FindStringSubmatch(statement), ""
	if set == nil {
		set = resetOfRole.FindStringSubmatch(statement)
	} else {
		value = strings.ReplaceAll(set[3], "''", "'") + set[4] // a list of names stands as it is written
	}
	if set == nil {
		return result{code: "0A000", message: "the stand-in does not know this statement: " + statement}
	}
	a, refused := about(set[1])
	if a == nil {
		return refused
	}
	a.Settings = slices.DeleteFunc(slices.Clone(a.Settings), func(has string) bool { return strings.HasPrefix(has, unquoted(set[2])+"=") })
	if value != "" {
		a.Settings = append(a.Settings, unquoted(set[2])+"="+value)
		slices.Sort(a.Settings)
	}
	return result{tag: "ALTER ROLE"}
}

// lives is a role as far as its end is about it.
func (s *pgSession) lives(name string) result {
	r := result{columns: []string{"u", "l", "t", "n"}, oids: []uint32{oidTimestamp, oidBool, oidTimestamp, oidInt8}}
	if a := s.accounts[name]; a != nil {
		r.rows = append(r.rows, []string{stamp(a.Until), truth(!a.Rests), stamp(time.Now()), strconv.Itoa(a.Owns)})
	}
	r.tag = fmt.Sprintf("SELECT %d", len(r.rows))
	return r
}

// twin is a role as far as its turns with another one are about it.
func (s *pgSession) twin(name string) result {
	r := result{
		columns: []string{"oid", "s", "r", "b", "i", "d", "c", "l", "n", "u", "o", "m", "x", "p"},
		oids:    []uint32{oidInt8, oidBool, oidBool, oidBool, oidBool, oidBool, oidBool, oidBool, oidInt4, oidTimestamp, oidInt8, oidTextArray, oidTextArray, oidTextArray},
	}
	if a := s.accounts[name]; a != nil {
		boolean := func(b bool) string { return map[bool]string{true: "t", false: "f"}[b] }
		var settings []string
		for _, v := range a.Settings {
			settings = append(settings, "\"\n"+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v)+`"`)
		}
		r.rows = append(r.rows, []string{
			strconv.FormatInt(a.id, 10), "f", "f", "f", "t", "f", boolean(a.Manages), boolean(!a.Rests), "-1", stamp(a.Until), strconv.Itoa(a.Owns),
			"{" + strings.Join(a.MemberOf, ",") + "}", "{" + strings.Join(settings, ",") + "}", "{}",
		})
	}
	r.tag = fmt.Sprintf("SELECT %d", len(r.rows))
	return r
}
