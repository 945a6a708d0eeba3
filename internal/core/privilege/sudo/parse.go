package sudo

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
)

// line reads one that includes nothing.
func (p *parser) line(text string) error {
	s := &scanner{text: text}
	s.blanks()
	if s.peek() == '#' && !idNumber.MatchString(s.text[s.at+1:]) || s.end() && s.at >= len(s.text) {
		return nil
	}
	for name, into := range map[string]func(*scanner) error{
		"User_Alias": p.alias(p.users, itemUser), "Runas_Alias": p.alias(p.runAs, itemUser), "Host_Alias": p.alias(p.hosts, itemHost),
		"Cmnd_Alias": p.commandAlias, "Cmd_Alias": p.commandAlias,
	} {
		if rest, found := strings.CutPrefix(s.text[s.at:], name); found && rest != "" && (rest[0] == ' ' || rest[0] == '\t') {
			s.at += len(name)
			return into(s)
		}
	}
	if rest, found := strings.CutPrefix(s.text[s.at:], "Defaults"); found && (rest == "" || strings.IndexByte(" \t@:!>", rest[0]) >= 0) {
		s.at += len("Defaults")
		return p.defaults(s)
	}
	return p.spec(s)
}

// alias reads definitions of aliases of users or hosts.
func (p *parser) alias(into aliases, item func(*scanner) (Item, error)) func(*scanner) error {
	return func(s *scanner) error {
		return define(s, into, func() ([]Item, error) { return s.items(item) })
	}
}

func (p *parser) commandAlias(s *scanner) error { return define(s, p.commands, s.commands) }

// define reads NAME = list : NAME = list. What stands before a fault is kept, as sudo does.
func define[T any](s *scanner, into map[string][]T, list func() ([]T, error)) error {
	for {
		name, _ := s.word("=:,!()")
		if !aliasName.MatchString(name) {
			return s.expected("the name of an alias")
		}
		if !s.take('=') {
			return s.expected("=")
		}
		items, err := list()
		if err != nil {
			return err
		}
		if into[name] != nil {
			return fmt.Errorf("the alias %s is already defined", name)
		}
		into[name] = items
		if !s.take(':') {
			break
		}
	}
	if !s.end() {
		return s.expected("the end of the line")
	}
	return nil
}

// items reads a list of users or hosts.
func (s *scanner) items(item func(*scanner) (Item, error)) ([]Item, error) {
	var out []Item
	for {
		not := false
		for s.take('!') {
			not = !not
		}
		i, err := item(s)
		if err != nil {
			return nil, err
		}
		i.Not = not
		out = append(out, i)
		if !s.take(',') {
			return out, nil
		}
	}
}

func itemUser(s *scanner) (Item, error) {
	s.blanks()
	if s.peek() == '#' {
		if number := idNumber.FindString(s.text[s.at+1:]); number != "" {
			s.at += 1 + len(number)
			return Item{Kind: ItemID, Name: number}, nil
		}
		return Item{}, s.expected("a user")
	}
	quoted := s.peek() == '"'
	kind := ItemName
	for _, k := range []struct {
		prefix string
		kind   ItemKind
	}{{"%:", ItemForeign}, {"%#", ItemGroupID}, {"%", ItemGroup}, {"+", ItemNetGroup}} {
		if strings.HasPrefix(s.text[s.at:], k.prefix) {
			s.at += len(k.prefix)
			kind = k.kind
			break
		}
	}
	name, ok := s.word(",=:()!#\n")
	if !ok || name == "" {
		return Item{}, s.expected("a user")
	}
	if kind == ItemName && quoted { // the prefix may stand within the quotes
		inner := &scanner{text: strings.NewReplacer(" ", `\ `, ",", `\,`, "=", `\=`, ":", `\:`, "(", `\(`, ")", `\)`, "!", `\!`).Replace(name)}
		if strings.HasPrefix(name, "%:") {
			return Item{Kind: ItemForeign, Name: name[2:]}, nil
		}
		if strings.IndexByte("%+#", name[0]) >= 0 {
			return itemUser(inner)
		}
		return Item{Kind: ItemName, Name: name}, nil
	}
	if kind == ItemGroupID && !idNumber.MatchString(name) {
		return Item{}, fmt.Errorf("%q is not the number of a group", name)
	}
	if kind == ItemName && name == "ALL" {
		return Item{Kind: ItemAll}, nil
	}
	return Item{Kind: kind, Name: name}, nil
}

func itemHost(s *scanner) (Item, error) {
	s.blanks()
	if a := address6.FindString(s.text[s.at:]); a != "" {
		s.at += len(a)
		return Item{Kind: ItemAddress, Name: a}, nil
	}
	if s.peek() == '+' {
		s.at++
		name, ok := s.word(",=:()!#")
		if !ok {
			return Item{}, s.expected("a net group")
		}
		return Item{Kind: ItemNetGroup, Name: name}, nil
	}
	if s.peek() == '/' {
		return Item{}, s.expected("a host")
	}
	name, ok := s.word(",=:()!#")
	if !ok || name == "" {
		return Item{}, s.expected("a host")
	}
	if name == "ALL" {
		return Item{Kind: ItemAll}, nil
	}
	host, _, _ := strings.Cut(name, "/")
	if _, err := netip.ParseAddr(host); err == nil {
		return Item{Kind: ItemAddress, Name: name}, nil
	}
	return Item{Kind: ItemName, Name: name}, nil
}

// defaults reads a line of settings.
func (p *parser) defaults(s *scanner) error {
	base := setting{Default: Default{Place: p.at}}
	var err error
	switch s.peek() {
	case ':':
		s.at++
		base.Scope = "user"
		base.Users, err = s.items(itemUser)
	case '>':
		s.at++
		base.Scope = "run as"
		base.Users, err = s.items(itemUser)
	case '@':
		s.at++
		base.Scope = "host"
		base.Hosts, err = s.items(itemHost)
	case '!':
		s.at++
		base.Scope = "command"
		base.commands, err = s.commandPaths()
	}
	if err != nil {
		return err
	}
	var found []setting
	for {
		one := base
		for s.take('!') {
			one.Off = !one.Off
		}
		name, _ := s.word(",=+-!#")
		if name == "" {
			return s.expected("a setting")
		}
		one.Name = name
		s.blanks()
		if strings.HasPrefix(s.text[s.at:], "+=") || strings.HasPrefix(s.text[s.at:], "-=") {
			s.at++
		}
		if s.take('=') {
			if one.Off {
				return fmt.Errorf("%s is off and has a value", name)
			}
			value, ok := s.word(",#")
			if !ok {
				return s.expected("a value of " + name)
			}
			one.Value = value
		}
		found = append(found, one)
		if !s.take(',') {
			break
		}
	}
	if !s.end() {
		return s.expected("the end of the line")
	}
	p.settings = append(p.settings, found...)
	return nil
}

// spec reads users hosts = commands : hosts = commands.
func (p *parser) spec(s *scanner) error {
	users, err := s.items(itemUser)
	if err != nil {
		return err
	}
	out := spec{users: users, place: p.at}
	var fault error
	for {
		next, err := s.part()
		switch {
		case err == nil:
			out.parts = append(out.parts, next)
		case len(out.parts) == 0:
			return err
		default: // sudo goes on at the next colon, if that is what it did not understand
			fault = err
		}
		if !s.take(':') {
			break
		}
	}
	if !s.end() {
		return cmp.Or(fault, s.expected("the end of the line"))
	}
	p.specs = append(p.specs, out)
	return fault
}

func (s *scanner) part() (part, error) {
	hosts, err := s.items(itemHost)
	if err != nil {
		return part{}, err
	}
	if !s.take('=') {
		return part{}, s.expected("=")
	}
	commands, err := s.granted()
	return part{hosts, commands}, err
}

var (
	optionWord = regexp.MustCompile(`^(ROLE|TYPE|APPARMOR_PROFILE|PRIVS|LIMITPRIVS|NOTBEFORE|NOTAFTER|TIMEOUT|CWD|CHROOT)[ \t]*=[ \t]*`)
	tagWord    = regexp.MustCompile(`^(NOEXEC|EXEC|NOFOLLOW|FOLLOW|NOINTERCEPT|INTERCEPT|NOLOG_INPUT|LOG_INPUT|NOLOG_OUTPUT|LOG_OUTPUT|NOMAIL|MAIL|NOPASSWD|PASSWD|NOSETENV|SETENV)[ \t]*:`)
)

// granted reads a list of commands with what stands before each: whose rights, options
// and tags, which hold for those after it too.
func (s *scanner) granted() ([]granted, error) {
	var out []granted
	last := granted{options: map[string]string{}}
	for {
		next := granted{runAs: last.runAs, runGroup: last.runGroup, runAsGiven: last.runAsGiven, tags: last.tags, options: last.options}
		begin := s.at
		if s.take('(') {
			if err := s.runAs(&next); err != nil {
				return nil, err
			}
		}
		for {
			s.blanks()
			if m := optionWord.FindStringSubmatch(s.text[s.at:]); m != nil {
				s.at += len(m[0])
				value, ok := s.word(",#")
				if !ok {
					return nil, s.expected("a value of " + m[1])
				}
				options := map[string]string{m[1]: value}
				for name, v := range next.options {
					if name != m[1] {
						options[name] = v
					}
				}
				next.options = options
				continue
			}
			if m := tagWord.FindStringSubmatch(s.text[s.at:]); m != nil {
				s.at += len(m[0])
				next.tags = next.tags.with(m[1])
				continue
			}
			break
		}
		c, err := s.command()
		if err != nil {
			return nil, err
		}
		next.command = c
		next.text = strings.TrimSpace(s.text[begin:s.at])
		out = append(out, next)
		last = next
		if !s.take(',') {
			return out, nil
		}
	}
}

func (t Tags) with(tag string) Tags {
	yes, no := true, false
	switch tag {
	case "NOPASSWD":
		t.NoPassword = &yes
	case "PASSWD":
		t.NoPassword = &no
	case "NOEXEC":
		t.NoExec = &yes
	case "EXEC":
		t.NoExec = &no
	case "SETENV":
		t.SetEnv = &yes
	case "NOSETENV":
		t.SetEnv = &no
	default:
		t.Other = append(append([]string(nil), t.Other...), tag)
	}
	return t
}

// runAs reads what stands in parentheses: users, and groups after a colon.
func (s *scanner) runAs(into *granted) error {
	into.runAsGiven, into.runAs, into.runGroup = true, nil, nil
	var err error
	if !s.take(')') {
		if s.blanks(); s.peek() != ':' {
			if into.runAs, err = s.items(itemUser); err != nil {
				return err
			}
		}
		if s.take(':') {
			if s.blanks(); s.peek() != ')' {
				if into.runGroup, err = s.items(itemUser); err != nil {
					return err
				}
			}
		}
		if !s.take(')') {
			return s.expected(")")
		}
	}
	if len(into.runAs) == 0 && len(into.runGroup) == 0 { // with groups only: nobody without -g
		into.runAs = []Item{{Kind: ItemSelf}}
	}
	return nil
}
