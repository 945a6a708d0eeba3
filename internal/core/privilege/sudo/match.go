package sudo

import (
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/pattern"
)

// Answer is whether something matches.
type Answer int

// Answers.
const (
	No Answer = iota
	Yes
	Unsure // it depends on what nobody here can see
)

// User is somebody of a host.
type User struct {
	Name   string
	UID    string
	Groups []string // names of all, the primary one included
	GIDs   []string
}

// Host is the one whose rules are read.
type Host struct {
	Name      string // in full
	Addresses []netip.Prefix
}

// World tells what stands outside of the rules. Each may be nil: then it is not known.
type World struct {
	Same     func(a, b string) Answer                              // two paths are one file
	Digest   func(algorithm, path string) (sum string, known bool) // of the file now, hexadecimal
	NetGroup func(group, host, user string) Answer
	User     func(name string) (User, bool) // for groups of whom a command runs as
}

// Ask is what somebody wants to run.
type Ask struct {
	User    User
	Command string // its path, or sudoedit
	Args    []string
	RunAs   string // "" for the default
	Group   string // -g; "" for none
	Now     string // for NOTBEFORE and NOTAFTER: yyyymmddHHMMSSZ; "" for not known
}

// Verdict on an Ask.
type Verdict struct {
	Allowed    bool
	Unsure     string // why it may be otherwise
	NoPassword bool   // none is asked for
	Rule       *Rule  // that decided; nil for none
}

// Allows answers for one user of a host (match.c of sudo does the same: rules from the
// last to the first, the first that matches decides).
func (p *Policy) Allows(host Host, ask Ask, world World) Verdict {
	m := matching{host: host, ask: ask, world: world, runAs: p.runAsDefault(host, ask, world)}
	var maybe *Rule
	for i := len(p.Rules) - 1; i >= 0; i-- {
		r := &p.Rules[i]
		answer := least(m.users(r.Users, ask.User), m.hosts(r.Hosts), m.runAsOf(r), m.inTime(r), m.command(r.Command))
		switch answer {
		case No:
			continue
		case Unsure:
			if maybe == nil {
				maybe = r
			}
			continue
		}
		v := Verdict{Allowed: !r.Deny, Rule: r, NoPassword: p.noPassword(r, m)}
		if maybe != nil && maybe.Deny != r.Deny {
			v.Unsure = "a line that comes later may decide otherwise: " + maybe.Place
		}
		return v
	}
	if maybe != nil && !maybe.Deny {
		return Verdict{Unsure: "whether this line applies cannot be seen from here: " + maybe.Place, Rule: maybe}
	}
	return Verdict{}
}

func least(answers ...Answer) Answer {
	out := Yes
	for _, a := range answers {
		switch {
		case a == No:
			return No
		case a == Unsure:
			out = Unsure
		}
	}
	return out
}

// noPassword reports whether a rule lets somebody run its command without a password.
func (p *Policy) noPassword(r *Rule, m matching) bool {
	target := m.target()
	if m.ask.RunAs == "" && r.RunAsGiven && len(r.RunAs) == 1 && r.RunAs[0].Kind == ItemSelf {
		target = m.ask.User.Name
	}
	if m.ask.User.UID == "0" || m.ask.Group == "" && strings.EqualFold(target, m.ask.User.Name) {
		return true // nobody is asked for a password to become himself
	}
	if r.Tags.NoPassword != nil {
		return *r.Tags.NoPassword
	}
	authenticate := true
	for _, d := range p.Defaults {
		if d.Name == "authenticate" && m.applies(d) {
			authenticate = !d.Off
		}
	}
	return !authenticate
}

func (p *Policy) runAsDefault(host Host, ask Ask, world World) string {
	out := "root"
	m := matching{host: host, ask: ask, world: world}
	for _, d := range p.Defaults {
		if d.Name == "runas_default" && d.Value != "" && m.applies(d) {
			out = d.Value
		}
	}
	return out
}

type matching struct {
	host  Host
	ask   Ask
	world World
	runAs string // by default
}

func (m matching) target() string {
	if m.ask.RunAs != "" {
		return m.ask.RunAs
	}
	return m.runAs
}

// applies reports whether a setting is in force for what is asked.
func (m matching) applies(d Default) bool {
	switch d.Scope {
	case "user":
		return m.users(d.Users, m.ask.User) == Yes
	case "host":
		return m.hosts(d.Hosts) == Yes
	case "run as":
		return m.users(d.Users, m.userNamed(m.target())) == Yes
	case "command":
		return slices.ContainsFunc(d.Cmnds, func(c Command) bool { return m.command(c) == Yes })
	}
	return true
}

func (m matching) userNamed(name string) User {
	if m.world.User != nil {
		if u, found := m.world.User(name); found {
			return u
		}
	}
	u := User{Name: name}
	if name == "root" {
		u.UID = "0"
	}
	return u
}

// users answers for a list: the last item that matches decides.
func (m matching) users(list []Item, u User) Answer {
	unsure := false
	for _, i := range slices.Backward(list) {
		switch m.user(i, u) {
		case Yes:
			if unsure {
				return Unsure
			}
			if i.Not {
				return No
			}
			return Yes
		case Unsure:
			unsure = true
		}
	}
	if unsure {
		return Unsure
	}
	return No
}

func answer(b bool) Answer {
	if b {
		return Yes
	}
	return No
}

func (m matching) user(i Item, u User) Answer {
	same := func(name string) bool { return strings.EqualFold(name, i.Name) }
	switch i.Kind {
	case ItemAll:
		return Yes
	case ItemID:
		return answer(u.UID == i.Name)
	case ItemGroup:
		return answer(slices.ContainsFunc(u.Groups, same))
	case ItemGroupID:
		return answer(slices.Contains(u.GIDs, i.Name))
	case ItemNetGroup:
		if m.world.NetGroup == nil {
			return Unsure
		}
		return m.world.NetGroup(i.Name, m.host.Name, u.Name)
	case ItemForeign:
		return Unsure
	case ItemSelf:
		return answer(u.Name == m.ask.User.Name)
	}
	return answer(same(u.Name))
}

func (m matching) hosts(list []Item) Answer {
	unsure := false
	for _, i := range slices.Backward(list) {
		switch m.hostIs(i) {
		case Yes:
			if i.Not {
				return No
			}
			if unsure {
				return Unsure
			}
			return Yes
		case Unsure:
			unsure = true
		}
	}
	if unsure {
		return Unsure
	}
	return No
}

func (m matching) hostIs(i Item) Answer {
	switch i.Kind {
	case ItemAll:
		return Yes
	case ItemNetGroup:
		if m.world.NetGroup == nil {
			return Unsure
		}
		return m.world.NetGroup(i.Name, m.host.Name, "")
	case ItemAddress:
		return answer(m.atAddress(i.Name))
	}
	name := m.host.Name
	if !strings.Contains(i.Name, ".") {
		name, _, _ = strings.Cut(name, ".")
	}
	if strings.ContainsAny(i.Name, `\?*[]`) {
		return shellMatch(i.Name, name, pattern.NoGlobCase)
	}
	return answer(strings.EqualFold(i.Name, name))
}

// atAddress compares with the addresses of the host's own network cards: one address, or
// a network by its prefix or mask. An address alone is also the network of a card.
func (m matching) atAddress(text string) bool {
	host, mask, masked := strings.Cut(text, "/")
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	for _, own := range m.host.Addresses {
		if !masked {
			if own.Addr() == addr || own.Masked().Addr() == addr {
				return true
			}
			continue
		}
		bits := -1
		if prefix, err := netip.ParsePrefix(text); err == nil {
			bits = prefix.Bits()
		} else if m, err := netip.ParseAddr(mask); err == nil {
			bits = ones(m)
		}
		if bits < 0 {
			continue
		}
		if network := netip.PrefixFrom(addr, bits); network.IsValid() && network.Contains(own.Addr()) {
			return true
		}
	}
	return false
}

func ones(mask netip.Addr) int {
	n, ended := 0, false
	for _, b := range mask.AsSlice() {
		for bit := 7; bit >= 0; bit-- {
			set := b>>bit&1 == 1
			if set && ended {
				return -1
			}
			if set {
				n++
			} else {
				ended = true
			}
		}
	}
	return n
}

// runAsOf answers whether a rule lets a command run as who is asked for.
func (m matching) runAsOf(r *Rule) Answer {
	target := m.userNamed(m.target())
	if !r.RunAsGiven {
		if m.ask.Group != "" {
			return No
		}
		return answer(strings.EqualFold(target.Name, m.runAs))
	}
	if m.ask.Group == "" {
		if m.ask.RunAs == "" && len(r.RunAs) == 1 && r.RunAs[0].Kind == ItemSelf {
			target = m.ask.User // (): who asks for nobody runs as himself
		}
		return m.users(r.RunAs, target)
	}
	if m.ask.RunAs == "" {
		target = m.ask.User
	}
	inGroup := m.users(r.RunGroup, User{Name: m.ask.Group})
	if inGroup == No && slices.ContainsFunc(target.Groups, func(g string) bool { return strings.EqualFold(g, m.ask.Group) }) {
		inGroup = Yes // one of the target's own
	}
	if m.ask.RunAs == "" || target.Name == m.ask.User.Name {
		return inGroup
	}
	return least(m.users(r.RunAs, target), inGroup)
}

// inTime answers whether now is within the times of a rule.
func (m matching) inTime(r *Rule) Answer {
	from, to := r.Options["NOTBEFORE"], r.Options["NOTAFTER"]
	if from == "" && to == "" {
		return Yes
	}
	if m.ask.Now == "" || from != "" && !plainTime(from) || to != "" && !plainTime(to) {
		return Unsure
	}
	return answer((from == "" || m.ask.Now >= full(from)) && (to == "" || m.ask.Now <= full(to)))
}

var plain = regexp.MustCompile(`^\d{10}(\d\d){0,2}Z$`)

// plainTime is yyyymmddHHMMSSZ, or shorter.
func plainTime(t string) bool { return plain.MatchString(t) }

func full(t string) string {
	t = strings.TrimSuffix(t, "Z")
	return t + strings.Repeat("0", 14-len(t)) + "Z"
}

func (m matching) command(c Command) Answer {
	path := Yes
	if !c.All {
		if path = m.path(c.Path); path == No {
			return No
		}
		if args := argsMatch(c, m.ask.Args); args == No {
			return No
		} else if args == Unsure {
			path = Unsure
		}
	}
	if len(c.Digests) == 0 {
		return path
	}
	return least(path, m.digest(c.Digests))
}

func (m matching) digest(digests []Digest) Answer {
	for _, d := range digests {
		if m.world.Digest == nil {
			return Unsure
		}
		sum, known := m.world.Digest(d.Algorithm, m.ask.Command)
		if !known {
			return Unsure
		}
		if sum == d.Sum {
			return Yes
		}
	}
	return No
}

func (m matching) path(rule string) Answer {
	command := m.ask.Command
	switch {
	case strings.HasPrefix(rule, "^"):
		return regularMatch(rule, command)
	case !strings.HasPrefix(rule, "/"): // sudoedit, list
		return answer(rule == command)
	case strings.ContainsAny(rule, `\?*[]`):
		if strings.HasSuffix(rule, "/") {
			return shellMatch(strings.TrimSuffix(rule, "/"), path.Dir(command), pattern.Filenames|pattern.NoGlobStar)
		}
		return shellMatch(rule, command, pattern.Filenames|pattern.NoGlobStar)
	case strings.HasSuffix(rule, "/"):
		return m.same(strings.TrimSuffix(rule, "/"), path.Dir(command))
	case path.Base(rule) != path.Base(command):
		return No
	}
	return m.same(rule, command)
}

// same answers whether two paths are one file. A host whose /bin is /usr/bin is what all
// are since years; where the World knows better it is asked.
func (m matching) same(a, b string) Answer {
	if a == b {
		return Yes
	}
	if m.world.Same != nil {
		return m.world.Same(a, b)
	}
	return answer(merged(a) == merged(b))
}

func merged(p string) string {
	for _, dir := range []string{"/bin", "/sbin", "/lib"} {
		if p == dir || strings.HasPrefix(p, dir+"/") {
			return "/usr" + p
		}
	}
	return p
}

// argsMatch compares arguments, put together with blanks.
func argsMatch(c Command, args []string) Answer {
	joined := strings.Join(args, " ")
	switch {
	case !c.Given, c.Args == `""` && len(args) == 0:
		return Yes
	case c.Args == `""`:
		return No
	case len(c.Args) > 1 && c.Args[0] == '^' && strings.HasSuffix(c.Args, "$"):
		return regularMatch(c.Args, joined)
	case c.Path == "sudoedit":
		return shellMatch(c.Args, joined, pattern.Filenames|pattern.NoGlobStar)
	}
	return shellMatch(c.Args, joined, 0)
}

// regularMatch matches a POSIX extended regular expression; (?i) at its beginning takes
// capitals for small letters.
func regularMatch(expression, text string) Answer {
	re, err := regexp.CompilePOSIX(expression)
	if rest, fold := strings.CutPrefix(expression, "^(?i)"); fold {
		re, err = regexp.Compile("(?i)^" + rest)
	}
	if err != nil {
		return Unsure
	}
	return answer(re.MatchString(text))
}

// shellMatch matches a pattern of a shell, as fnmatch(3) does.
func shellMatch(glob, text string, mode pattern.Mode) Answer {
	expression, err := pattern.Regexp(glob, mode|pattern.EntireString)
	if err != nil {
		return Unsure
	}
	re, err := regexp.Compile(expression)
	if err != nil {
		return Unsure
	}
	return answer(re.MatchString(text))
}
