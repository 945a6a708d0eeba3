package sudo

import (
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/privilege"
)

// Everyone is the id of the principal that ALL stands for.
const Everyone = "everyone"

// escaped writes a text as a path or an argument of sudoers(5).
var escaped = strings.NewReplacer(`\`, `\\`, ",", `\,`, ":", `\:`, "=", `\=`, "#", `\#`)

// String writes a command as a line of sudoers(5) has it.
func (c Command) String() string {
	var out strings.Builder
	for i, d := range c.Digests {
		if i > 0 {
			out.WriteString(", ")
		}
		out.WriteString(d.Algorithm + ":" + d.Sum)
	}
	if out.Len() > 0 {
		out.WriteByte(' ')
	}
	if c.All {
		return out.String() + "ALL"
	}
	out.WriteString(written(c.Path, false, func(byte) bool { return true }))
	if c.Given {
		out.WriteByte(' ')
		out.WriteString(written(c.Args, true, func(next byte) bool { return strings.IndexByte(`*?[]!^`, next) >= 0 }))
	}
	return out.String()
}

// written escapes what is no regular expression. A pair that begins with a backslash stays
// one: of a path any, of arguments those that a pattern has.
func written(text string, words bool, pairs func(next byte) bool) string {
	if strings.HasPrefix(text, "^") && strings.HasSuffix(text, "$") && len(text) > 1 {
		return strings.ReplaceAll(text, "#", `\#`)
	}
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) && pairs(text[i+1]) {
			out.WriteString(text[i : i+2])
			i++
			continue
		}
		// One blank between words is what parts them; others are escaped.
		if text[i] == '\t' || text[i] == ' ' && (!words || i == 0 || i+1 == len(text) || text[i-1] == ' ' || text[i-1] == '\t') {
			out.WriteByte('\\')
		}
		out.WriteString(escaped.Replace(text[i : i+1]))
	}
	return out.String()
}

// ParseCommand reads a command as String writes it.
func ParseCommand(text string) (Command, error) {
	s := &scanner{text: text}
	c, err := s.command()
	if err == nil && (c.alias != "" || c.not || !s.end()) {
		err = errNoCommand
	}
	return c.is, err
}

// Spoken is a command of an entry as somebody would type it: without what is escaped.
func Spoken(text string) string {
	c, err := ParseCommand(text)
	switch {
	case err != nil:
		return ""
	case c.All:
		return "ALL"
	case c.Given && c.Args != `""`:
		return c.Path + " " + c.Args
	}
	return c.Path
}

var literal = strings.NewReplacer(`\`, `\\`, ",", `\,`, ":", `\:`, "=", `\=`, "#", `\#`, " ", `\ `, "*", `\*`, "?", `\?`, "[", `\[`, "]", `\]`)

// Word writes a word of a command as sudoers(5) has it, so that it stands for itself.
func Word(word string) string { return literal.Replace(word) }

// Digested takes a command apart that may begin with the digest that its file must have, as
// sha256:HEX /path: the digest, and the command as it is typed.
func Digested(command string) (d Digest, rest string, has bool) {
	first, rest, found := strings.Cut(strings.TrimSpace(command), " ")
	m := digestWord.FindStringSubmatch(first)
	if !found || m == nil || len(m[0]) != len(first) {
		return d, command, false
	}
	sum, err := sumOf(m[1], m[2])
	if err != nil {
		return d, command, false
	}
	return Digest{m[1], sum}, strings.TrimSpace(rest), true
}

// Written writes a command with its arguments, as a shell would have them, as sudoers(5) has
// it: for that one command and no other.
func Written(command string) string {
	if command == "ALL" {
		return command
	}
	if d, rest, has := Digested(command); has {
		return d.Algorithm + ":" + d.Sum + " " + Written(rest)
	}
	words := strings.Fields(command)
	for i := range words {
		words[i] = Word(words[i])
	}
	return strings.Join(words, " ")
}

// FirstOf is one of those that a command may run as.
func FirstOf(as string) string {
	for name := range strings.SplitSeq(strings.TrimPrefix(as, ":"), ",") {
		name = strings.TrimSpace(name)
		if name != "" && name != "ALL" && !strings.ContainsAny(name, "!%#+ ") {
			return name
		}
	}
	return ""
}

// Whether asks whether a right counts at all: where the first or the last entry decides,
// another one may have the word. Of patterns, and of what is about nothing in particular, it
// is not asked. Of hosts the command is one of sudo.
func Whether(r privilege.Right, host bool) (q privilege.Question, may bool) {
	if r.Deny || r.What == "" || strings.ContainsAny(r.What, `*?[\^`) || len(r.Objects) == 0 {
		return q, false
	}
	q = privilege.Question{Verb: r.Verb, Object: r.Objects[0], What: r.What, As: FirstOf(r.As)}
	if host && r.Verb == privilege.VerbRun {
		q.What = Spoken(r.What)
	}
	return q, q.What != ""
}

// Line writes what a rule gives in the form of sudoers(5), for one user.
func (r Rule) Line(user string) string {
	var out strings.Builder
	out.WriteString(user + " " + list(r.Hosts) + " = ")
	if r.RunAsGiven {
		out.WriteString("(" + r.As() + ") ")
	}
	if r.Tags.NoPassword != nil && *r.Tags.NoPassword {
		out.WriteString("NOPASSWD: ")
	}
	if r.Deny {
		out.WriteByte('!')
	}
	out.WriteString(r.Command.String())
	return out.String()
}

func list(items []Item) string {
	words := make([]string, len(items))
	for i, item := range items {
		words[i] = item.String()
	}
	return strings.Join(words, ", ")
}

// As is whose rights a command of the rule may run with; "" for the default.
func (r Rule) As() string {
	out := list(r.RunAs)
	if len(r.RunGroup) > 0 {
		out += " : " + list(r.RunGroup)
	}
	return strings.TrimSpace(out)
}

// List is what a policy gives on a host. id finds the principal that an item names, "" for
// one that is not there.
func (p *Policy) List(host Host, id func(Item) string) privilege.List {
	out := privilege.List{Key: "sudo", Decides: privilege.DecidesLast, Objects: []privilege.Object{{Kind: privilege.ObjectSystem, Name: host.Name}}}
	m := matching{host: host}
	for i := range p.Rules {
		r := &p.Rules[i]
		here := m.hosts(r.Hosts)
		if here == No {
			continue
		}
		for at, user := range r.Users {
			to := id(user)
			if user.Not || to == "" && user.Kind != ItemNetGroup && user.Kind != ItemForeign {
				continue
			}
			e := privilege.Entry{To: to, Verb: privilege.VerbRun, Deny: r.Deny, As: r.As(), What: r.Command.String(), Text: r.Line(user.String()), Source: r.Place}
			if !r.RunAsGiven {
				e.As = p.runAsDefault(host, Ask{User: User{Name: user.Name}}, World{})
			}
			for _, other := range r.Users[at+1:] {
				if left := id(other); other.Not && left != "" {
					e.Not = append(e.Not, left)
				}
			}
			switch {
			case here == Unsure:
				e.Unsure = "whether the host is in a net group that the line names cannot be seen: " + list(r.Hosts)
			case user.Kind == ItemNetGroup || user.Kind == ItemForeign:
				e.To, e.Unsure = Everyone, "who is in "+user.String()+" cannot be seen"
			}
			if !r.Deny {
				e.Terms, e.Until = p.terms(r, user, host), until(r.Options["NOTAFTER"])
			}
			out.Entries = append(out.Entries, e)
		}
	}
	return out
}

// terms are what else must be so, in words.
func (p *Policy) terms(r *Rule, user Item, host Host) []string {
	var out []string
	who := User{Name: user.Name}
	if user.Kind == ItemGroup {
		who = User{Groups: []string{user.Name}}
	}
	if !p.noPassword(r, matching{host: host, ask: Ask{User: who, RunAs: "root"}, runAs: "root"}) {
		out = append(out, "with a password")
	}
	if len(r.Command.Digests) > 0 {
		out = append(out, "while the file has one of the digests")
	}
	if from := r.Options["NOTBEFORE"]; from != "" {
		out = append(out, "not before "+from)
	}
	if to := r.Options["NOTAFTER"]; to != "" {
		out = append(out, "not after "+to)
	}
	return out
}

// Matches is the privilege.Matcher of entries that List made. A question names a command
// with its arguments as a shell would have them, or ALL for each command there is. Before it
// may stand the digest of its file.
func Matches(e privilege.Entry, q privilege.Question) privilege.Answer {
	if q.What == "" {
		return privilege.AnswerYes
	}
	c, err := ParseCommand(e.What)
	if err != nil {
		return privilege.AnswerUnsure
	}
	if q.What == "ALL" {
		if c.All {
			return fromAnswer(least(answer(len(c.Digests) == 0), asMatches(e.As, q.As)))
		}
		return privilege.AnswerNo
	}
	d, asked, digested := Digested(q.What)
	words := strings.Fields(asked)
	m := matching{ask: Ask{Command: words[0], Args: words[1:]}}
	if digested { // it is asked for the file as it was then
		m.world.Digest = func(algorithm, _ string) (string, bool) { return d.Sum, algorithm == d.Algorithm }
	}
	return fromAnswer(least(m.command(c), asMatches(e.As, q.As)))
}

func fromAnswer(a Answer) privilege.Answer {
	return map[Answer]privilege.Answer{No: privilege.AnswerNo, Yes: privilege.AnswerYes, Unsure: privilege.AnswerUnsure}[a]
}

// asMatches compares whose rights a command may run with; root where nobody is asked for.
func asMatches(has, wanted string) Answer {
	if wanted == "" {
		wanted = "root"
	}
	users, _, _ := strings.Cut(has, " :")
	var items []Item
	if strings.TrimSpace(users) != "" {
		s := &scanner{text: users}
		var err error
		if items, err = s.items(itemUser); err != nil {
			return Unsure
		}
	}
	if slices.ContainsFunc(items, func(i Item) bool { return i.Kind == ItemGroup || i.Kind == ItemGroupID }) {
		return Unsure
	}
	u := User{Name: wanted}
	if wanted == "root" {
		u.UID = "0"
	}
	return matching{}.users(items, u)
}

// until is when a rule ends (sudoers(5), "NOTAFTER"): minutes and seconds may be missing. Where it
// names no zone, it is by the clock of its host, and not known here.
func until(text string) time.Time {
	for _, layout := range []string{"20060102150405Z0700", "200601021504Z0700", "2006010215Z0700"} {
		if at, err := time.Parse(layout, text); err == nil {
			return at.UTC()
		}
	}
	return time.Time{}
}
