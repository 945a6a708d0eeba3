package sudo

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

func itoa(n int) string { return strconv.Itoa(n) }

// scanner goes along one line.
type scanner struct {
	text string
	at   int
}

func (s *scanner) blanks() {
	for s.at < len(s.text) && (s.text[s.at] == ' ' || s.text[s.at] == '\t') {
		s.at++
	}
}

func (s *scanner) peek() byte {
	if s.at < len(s.text) {
		return s.text[s.at]
	}
	return 0
}

// take takes a character that is next after blanks.
func (s *scanner) take(c byte) bool {
	s.blanks()
	if s.peek() == c && c != 0 {
		s.at++
		return true
	}
	return false
}

// end reports whether nothing but a comment follows.
func (s *scanner) end() bool {
	s.blanks()
	return s.at >= len(s.text) || s.text[s.at] == '#'
}

func (s *scanner) expected(what string) error {
	if s.at >= len(s.text) {
		return fmt.Errorf("%s is expected at the end of the line", what)
	}
	return fmt.Errorf("%s is expected at %q", what, s.text[s.at:min(len(s.text), s.at+20)])
}

var (
	aliasName = regexp.MustCompile(`^[A-Z][A-Z0-9_]*$`)
	idNumber  = regexp.MustCompile(`^-?[0-9]+`)
	address6  = regexp.MustCompile(`^(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f.]{0,15}(?:/[0-9A-Fa-f:.]+)?`)
)

// word reads a name: until a blank or a character that has a meaning, unless quoted or
// escaped.
func (s *scanner) word(stops string) (string, bool) {
	s.blanks()
	if s.peek() == '"' {
		closing := strings.IndexByte(s.text[s.at+1:], '"')
		if closing < 0 {
			return "", false
		}
		w := s.text[s.at+1 : s.at+1+closing]
		s.at += closing + 2
		return w, true
	}
	var out strings.Builder
	start := s.at
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			out.WriteByte(s.text[s.at])
			continue
		}
		if c == ' ' || c == '\t' || strings.IndexByte(stops, c) >= 0 {
			break
		}
		out.WriteByte(c)
	}
	return out.String(), s.at > start
}

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

// alias reads NAME = list : NAME = list. What stands before a fault is kept, as sudo does.
func (p *parser) alias(into aliases, item func(*scanner) (Item, error)) func(*scanner) error {
	return func(s *scanner) error {
		for {
			name, _ := s.word("=:,!()")
			if !aliasName.MatchString(name) {
				return s.expected("the name of an alias")
			}
			if !s.take('=') {
				return s.expected("=")
			}
			items, err := s.items(item)
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
}

func (p *parser) commandAlias(s *scanner) error {
	for {
		name, _ := s.word("=:,!()")
		if !aliasName.MatchString(name) {
			return s.expected("the name of an alias")
		}
		if !s.take('=') {
			return s.expected("=")
		}
		commands, err := s.commands()
		if err != nil {
			return err
		}
		if p.commands[name] != nil {
			return fmt.Errorf("the alias %s is already defined", name)
		}
		p.commands[name] = commands
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

func (s *scanner) commands() ([]command, error) {
	var out []command
	for {
		c, err := s.command()
		if err != nil {
			return nil, err
		}
		out = append(out, c)
		if !s.take(',') {
			return out, nil
		}
	}
}

// commandPaths reads the commands of a setting, which have no arguments.
func (s *scanner) commandPaths() ([]command, error) {
	var out []command
	for {
		not := false
		for s.take('!') {
			not = !not
		}
		name, ok := s.word(",=:#")
		if !ok {
			return nil, s.expected("a command")
		}
		c := command{not: not, is: Command{Path: name}}
		switch {
		case name == "ALL":
			c.is = Command{All: true}
		case aliasName.MatchString(name):
			c.alias = name
		}
		out = append(out, c)
		if !s.take(',') {
			return out, nil
		}
	}
}

var digestWord = regexp.MustCompile(`^(sha224|sha256|sha384|sha512)[ \t]*:[ \t]*([0-9A-Za-z+/=]+)`)

var digestLength = map[string]int{"sha224": 28, "sha256": 32, "sha384": 48, "sha512": 64}

var errNoCommand = errors.New("a command is a path, a folder, ALL, sudoedit, an alias or a regular expression")

// command reads one with its digests and its negation.
func (s *scanner) command() (command, error) {
	var c command
	begin := s.at
	for s.take('!') {
		c.not = !c.not
	}
	for {
		s.blanks()
		m := digestWord.FindStringSubmatch(s.text[s.at:])
		if m == nil {
			break
		}
		sum, err := sumOf(m[1], m[2])
		if err != nil {
			return c, err
		}
		s.at += len(m[0])
		c.is.Digests = append(c.is.Digests, Digest{m[1], sum})
		if !s.take(',') {
			break
		}
	}
	if c.not && len(c.is.Digests) > 0 {
		return c, errors.New("a ! stands after digests, before the command")
	}
	for s.take('!') {
		c.not = !c.not
	}
	s.blanks()
	switch at := s.peek(); {
	case at == '/':
		c.is.Path = s.path()
	case at == '^':
		regular, ok := s.regular()
		if !ok {
			return c, s.expected("the end $ of a regular expression")
		}
		c.is.Path = regular
	default:
		name, ok := s.word(",=:#!()")
		switch {
		case !ok:
			return c, s.expected("a command")
		case name == "ALL":
			c.is.All = true
			c.text = strings.TrimSpace(s.text[begin:s.at])
			return c, nil
		case name == "sudoedit", name == "list":
			c.is.Path = name
		case aliasName.MatchString(name) && len(c.is.Digests) > 0:
			return c, errors.New("a digest is of a path, not of an alias")
		case aliasName.MatchString(name):
			c.alias = name
			c.text = strings.TrimSpace(s.text[begin:s.at])
			return c, nil
		default:
			return c, fmt.Errorf("%w, not %q", errNoCommand, name)
		}
	}
	s.args(&c.is)
	if strings.HasSuffix(c.is.Path, "/") && c.is.Given && c.is.Args != `""` {
		return c, fmt.Errorf("the folder %s has arguments", c.is.Path)
	}
	c.text = strings.TrimSpace(s.text[begin:s.at])
	return c, nil
}

func sumOf(algorithm, text string) (string, error) {
	n := digestLength[algorithm]
	if len(text) == 2*n {
		if _, err := hex.DecodeString(text); err == nil {
			return strings.ToLower(text), nil
		}
	}
	if raw, err := base64.StdEncoding.DecodeString(text); err == nil && len(raw) == n {
		return hex.EncodeToString(raw), nil
	}
	if raw, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(text, "=")); err == nil && len(raw) == n {
		return hex.EncodeToString(raw), nil
	}
	return "", fmt.Errorf("%q is not a %s digest", text, algorithm)
}

// path reads a path of a command: what has a meaning is escaped.
func (s *scanner) path() string {
	var out strings.Builder
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			if strings.IndexByte(",:= \t#", s.text[s.at]) < 0 { // of a pattern
				out.WriteByte('\\')
			}
			out.WriteByte(s.text[s.at])
			continue
		}
		if strings.IndexByte(",:= \t#", c) >= 0 {
			break
		}
		out.WriteByte(c)
	}
	return out.String()
}

// regular reads a regular expression: to the $ that ends a word.
func (s *scanner) regular() (string, bool) {
	var out strings.Builder
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			if s.text[s.at] != '#' {
				out.WriteByte('\\')
			}
			out.WriteByte(s.text[s.at])
			continue
		}
		if c == '#' {
			return "", false
		}
		out.WriteByte(c)
		if c == '$' && (s.at+1 == len(s.text) || strings.IndexByte(" \t,:=", s.text[s.at+1]) >= 0) {
			s.at++
			return out.String(), true
		}
	}
	return "", false
}

// args reads the arguments of a command, put together with single blanks as they are
// compared.
func (s *scanner) args(into *Command) {
	s.blanks()
	if s.peek() == '^' {
		start := s.at
		if regular, ok := s.regular(); ok {
			into.Args, into.Given = regular, true
			return
		}
		s.at = start
	}
	var out strings.Builder
	blank := false
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c == ' ' || c == '\t' {
			blank = out.Len() > 0
			continue
		}
		if strings.IndexByte(",:#", c) >= 0 {
			break
		}
		if blank {
			out.WriteByte(' ')
			blank = false
		}
		if c == '\\' && s.at+1 < len(s.text) {
			s.at++
			if strings.IndexByte(":\\,= \t#", s.text[s.at]) < 0 {
				out.WriteByte('\\')
			}
			out.WriteByte(s.text[s.at])
			continue
		}
		out.WriteByte(c)
	}
	into.Args, into.Given = out.String(), out.Len() > 0
}
