package charter

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

// accepts reports whether some thing of a charter says all that an entry gives. It is worked
// out once for each entry and charter.
func (c *Comparison) accepts(p *prepared, list, entry int) bool {
	l := &c.known.Model.Lists[list]
	said := p.entries[list]
	if said == nil {
		said = make([]int8, len(l.Entries))
		p.entries[list] = said
	}
	if said[entry] == 0 {
		said[entry] = 1
		for i := range p.accepted {
			if c.accept(&p.accepted[i], l, &l.Entries[entry]) {
				said[entry] = 2
				break
			}
		}
	}
	return said[entry] == 2
}

func (c *Comparison) accept(i *Item, l *privilege.List, e *privilege.Entry) bool {
	switch {
	case i.Run != "":
		return e.Verb == privilege.VerbRun && c.runs(i, e)
	case i.Do == "":
		return false
	case i.Do != privilege.VerbEverything && i.Do != e.Verb:
		return false
	case i.What != "" && !strings.EqualFold(i.What, e.What):
		return false
	case i.To == "":
		return true
	}
	want := c.object(i.To)
	for _, o := range l.Objects {
		fit := (want.Kind == "" || want.Kind == o.Kind) && (want.Name == "" || fits(strings.ToLower(want.Name), strings.ToLower(o.Name)))
		within := want.Name != "" && len(l.Objects) > 1 && strings.HasPrefix(strings.ToLower(o.Name), strings.ToLower(want.Name)+".")
		if !fit && !within { // what lies in what it says, is said
			return false
		}
	}
	return len(l.Objects) > 0
}

// runs reports whether an item says a command that an entry gives: the same text, or one
// command that is among those that the item says.
func (c *Comparison) runs(i *Item, e *privilege.Entry) bool {
	if e.As != "" && !strings.EqualFold(strings.TrimSpace(e.As), cmp.Or(i.As, "root")) && i.As != "ALL" {
		return false
	}
	if i.Run == e.What || c.known.Kind == string(estate.KindUnixHost) && sudo.Written(i.Run) == e.What {
		return true
	}
	if c.known.Model.Matches == nil || strings.ContainsAny(e.What, `*?[\^!`) {
		return false
	}
	what := e.What
	if c.known.Kind == string(estate.KindUnixHost) {
		what = sudo.Spoken(what)
	}
	as := cmp.Or(i.As, "root")
	if e.As == "" {
		as = ""
	}
	return what != "" && c.known.Model.Matches(privilege.Entry{Verb: e.Verb, What: i.Run, As: as}, privilege.Question{Verb: e.Verb, What: what, As: as}) == privilege.AnswerYes
}

// flags are about the account itself.
func (c *Comparison) flags(d *Document, out []Line) []Line {
	want := d.Account
	if want == nil {
		return out
	}
	a := c.account
	add := func(wanted *bool, item, not string, is estate.Tristate, why string) {
		if wanted == nil {
			return
		}
		line := Line{Section: SectionAccount, Item: item, State: StateMet}
		if !*wanted {
			line.Item = not
		}
		switch {
		case is == estate.Unknown || is == "":
			line.State, line.Why = StateUnknown, "its system does not tell"
		case (is == estate.Yes) != *wanted:
			line.State, line.Why = StateDiffers, why
		}
		out = append(out, line)
	}
	add(want.Enabled, "it is enabled", "it is not enabled", a.Enabled, "it is "+map[estate.Tristate]string{estate.Yes: "enabled", estate.No: "disabled"}[a.Enabled])
	expires, why := estate.Unknown, ""
	switch {
	case a.NeverExpire:
		expires, why = estate.No, "its password never expires"
	case !a.PasswordExpires.IsZero():
		expires, why = estate.Yes, "its password expires on "+day(a.PasswordExpires)
	}
	add(want.PasswordExpires, "its password expires", "its password never expires", expires, why)
	ends, why := estate.No, "it has no end"
	if !a.AccountExpires.IsZero() {
		ends, why = estate.Yes, "it ends on "+day(a.AccountExpires)
	}
	add(want.AccountEnds, "the account ends some day", "the account has no end", ends, why)
	if days := want.PasswordChangedWithin; days > 0 {
		line := Line{Section: SectionAccount, Item: fmt.Sprintf("its password was changed within %d days", days), State: StateMet}
		switch {
		case a.PasswordChanged.IsZero():
			line.State, line.Why = StateUnknown, "its system does not tell"
		case c.known.Now.Sub(a.PasswordChanged) > time.Duration(days)*24*time.Hour:
			line.State, line.Why = StateDiffers, "it was changed on "+day(a.PasswordChanged)
		}
		out = append(out, line)
	}
	if c.known.Kind == string(estate.KindUnixHost) {
		add(want.Shell, "it has a shell", "it has no shell to sign in with", shell(a.Shell), "its shell is "+a.Shell)
	}
	return out
}

func shell(path string) estate.Tristate {
	switch path[strings.LastIndexByte(path, '/')+1:] {
	case "":
		return estate.Unknown
	case "nologin", "false", "sync", "git-shell":
		return estate.No
	}
	return estate.Yes
}

func day(t time.Time) string { return t.UTC().Format("2 January 2006") }

// GroupLines say whether groups are there that must exist at all.
func (c *Comparison) GroupLines(charter int) (out []Line) {
	for _, g := range c.charters[charter].Groups {
		if !isOn(g.On, c.known.Name, c.known.Kind) {
			continue
		}
		line := Line{Section: SectionGroups, Item: "group " + g.Name, Because: g.Because, State: StateMet}
		if len(c.known.Model.Graph.Named(func(p privilege.Principal) bool {
			return strings.EqualFold(p.Name, g.Name) || strings.EqualFold(p.ID, g.Name)
		}, privilege.KindGroup, privilege.KindRole)) == 0 {
			c.unread(&line, StateMissing)
			line.When = WhenNextStart
		}
		out = append(out, line)
	}
	return out
}
