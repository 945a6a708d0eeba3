package managed

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// Line is one prerequisite, and how it stands.
type Line struct {
	Stage  Stage
	What   string
	Result Result
	Words  string // what was seen
	Next   string // what to do about it; "" when it is met
}

// Stage is a part of the way from a directory to an account that is in use.
type Stage string

// Stages, in their order.
const (
	StageDirectory Stage = "directory" // it can have such accounts
	StageAccount   Stage = "account"   // it is there, and sound
	StagePermitted Stage = "permitted" // hosts may ask for its password
	StageLearned   Stage = "learned"   // they know that they may
	StageAble      Stage = "able"      // and can
)

// staged gives lines their stage.
func staged(stage Stage, lines ...Line) []Line {
	for i := range lines {
		lines[i].Stage = stage
	}
	return lines
}

// Result is how a prerequisite stands.
type Result string

// Results.
const (
	Met     Result = "ok"
	Missing Result = "failed"
	Doubt   Result = "warning"
	Unknown Result = "unchecked"
)

// What two prerequisites are called, which others decide by.
const (
	WhatControllers = "controllers give out passwords"
	WhatRootKey     = "a root key is in effect"
	WhatByGroup     = "hosts are permitted by a group"
)

// LevelManaged is the functional level from which on a controller has managed accounts
// ([MS-ADTS], section 6.1.4.2).
const LevelManaged = 5

// Prerequisites are what a directory needs before a managed account can be created and used there,
// in the order in which they are seen to.
func Prerequisites(s Seen) []Line {
	return staged(StageDirectory, s.schema(), s.controllers(), s.rootKey(), s.right())
}

func (s Seen) schema() Line {
	line := Line{What: "the schema has managed accounts", Result: Met, Words: "it has the class msDS-GroupManagedServiceAccount"}
	switch s.Class {
	case estate.No:
		line.Result, line.Words, line.Next = Missing, "it has no class msDS-GroupManagedServiceAccount", "have the schema of the forest extended to level 5 or above"
	case estate.Unknown:
		line.Result, line.Words, line.Next = Unknown, "the schema cannot be seen", "let the steward read the schema"
	}
	return line
}

func (s Seen) controllers() Line {
	line := Line{What: WhatControllers, Result: Met, Words: fmt.Sprintf("%s is of level %d; the domain is of level %s, the forest of %s", s.server(), s.ControllerLevel, level(s.DomainLevel), level(s.ForestLevel))}
	switch {
	case s.ControllerLevel < 0:
		line.Result, line.Words, line.Next = Unknown, s.server()+" does not tell its functional level", "find out which level the controllers are of: at least 5 is needed"
	case s.ControllerLevel < LevelManaged:
		line.Result, line.Words = Missing, fmt.Sprintf("%s is of level %d, and gives out passwords of managed accounts from level %d on", s.server(), s.ControllerLevel, LevelManaged)
		line.Next = "hosts have to find a controller of level 5 or above: add one to the domain, or name it as the system's address here"
	}
	return line
}

func (s Seen) server() string {
	if s.Controller == "" {
		return "the controller that answered"
	}
	return s.Controller
}

func level(n int) string {
	if n < 0 {
		return "an unknown level"
	}
	return fmt.Sprint(n)
}

// rootKey: one is there, and has been for so long that every controller has it.
func (s Seen) rootKey() Line {
	line := Line{What: WhatRootKey, Result: Met}
	usable, waiting := s.usable()
	switch {
	case s.KeysUnread != "":
		line.Result, line.Words, line.Next = Unknown, "root keys cannot be read: "+s.KeysUnread, "let the steward read CN=Master Root Keys below CN=Group Key Distribution Service, or ask who may"
	case len(usable) > 0:
		k := usable[0]
		line.Words = fmt.Sprintf("%s, created %s", k.ID, at(k.Created))
		if k.Created.IsZero() {
			line.Result, line.Words, line.Next = Doubt, k.ID+" does not tell when it was created", "see that every controller has it"
		}
	case len(waiting) > 0:
		k := waiting[0]
		line.Result, line.Words = Missing, fmt.Sprintf("%s was created %s: it is not used before %s, when every controller has it", k.ID, at(k.Created), at(k.Usable()))
		line.Next = "wait until " + at(k.Usable())
		if k.Backdated() {
			line.Words = fmt.Sprintf("%s was created %s and made to begin at %s, before it was there: it is used at once, also by controllers that derive other passwords because they do not have it yet", k.ID, at(k.Created), at(k.Begins))
			line.Next = "that is for tests only: wait until " + at(k.Usable())
		}
	default:
		line.Result, line.Words, line.Next = Missing, "there is none", fmt.Sprintf("have one created by an administrator of the forest, %d hours before the first account", int(KeyDelay.Hours()))
	}
	return line
}

// Early: a key is there, and no other reason than that it is too young keeps accounts from being
// created.
func (s Seen) Early() (at time.Time, early bool) {
	usable, waiting := s.usable()
	if len(usable) > 0 || len(waiting) == 0 || s.KeysUnread != "" {
		return at, false
	}
	return waiting[0].Usable(), true
}

// right: the steward may create such accounts where they are to stand.
func (s Seen) right() Line {
	line := Line{What: "the steward may create managed accounts", Result: Met, Words: "in " + s.Container}
	switch {
	case s.ContainerUnread != "":
		line.Result, line.Words, line.Next = Missing, s.Container+" cannot be seen: "+s.ContainerUnread, "name a container that is there with --container, or let the steward read it"
	case s.MayCreate == estate.No:
		line.Result, line.Words, line.Next = Missing, "not in "+s.Container, "have the right to create objects of the class msDS-GroupManagedServiceAccount given to the steward there, or name another container with --container"
	case s.MayCreate != estate.Yes:
		line.Result, line.Words, line.Next = Unknown, "the directory does not tell what the steward may create in "+s.Container, "creating one will show"
	}
	return line
}

// AboutAccount are what an account that is there needs before hosts can use it.
func AboutAccount(s Seen) []Line {
	a := s.Account
	if a == nil {
		return nil
	}
	if a.Sort != SortGroup {
		words := "hosts do not share it: it is of the older kind, which belongs to one host"
		if a.Sort == SortOther {
			words = "it is of a kind of which nothing more is known here"
		}
		return staged(StageAccount, Line{What: WhatByGroup, Result: Unknown, Words: words, Next: "what is said here of groups and intervals does not apply to it: replace it by one for the hosts of a group when it is next touched"})
	}
	return staged(StageAccount, a.enabled(), a.types(), a.permitted(), s.changes())
}

// ToUse are what the directory and an account that is there need before hosts can use it. One of
// another kind than for the hosts of a group is not given to hosts by us: nothing tells whose it is.
func ToUse(s Seen) []Line {
	out := append(staged(StageDirectory, s.controllers(), s.rootKey()), AboutAccount(s)...)
	for i, l := range out {
		if l.What == WhatByGroup && s.Account.Sort != SortGroup {
			out[i].Result = Missing
		}
	}
	return out
}

func (a *AccountSeen) enabled() Line {
	line := Line{What: "the account is enabled", Result: Met, Words: "it is"}
	switch a.Enabled {
	case estate.No:
		line.Result, line.Words, line.Next = Missing, "it is disabled: nothing can sign in with it", "enable it, or give its dependents another one"
	case estate.Unknown:
		line.Result, line.Words, line.Next = Unknown, "the directory does not tell", "let the steward read userAccountControl"
	}
	return line
}

func (a *AccountSeen) types() Line {
	line := Line{What: "its encryption types are sound", Result: Met, Words: a.Encryption.Words()}
	switch {
	case a.Encryption == 0:
		line.Result, line.Next = Doubt, "set AES128 and AES256, so that no older type is chosen"
	case a.Encryption&encryptionAES == 0:
		line.Result, line.Next = Missing, "add AES128 and AES256: hosts that refuse older types cannot sign in with it"
	case a.Encryption.Old() != 0:
		line.Result, line.Next = Doubt, "take "+a.Encryption.Old().Words()+" away once no host needs it"
	}
	return line
}

func (a *AccountSeen) permitted() Line {
	line := Line{What: WhatByGroup, Result: Met}
	var names, others []string
	anybody := false
	for _, p := range a.Permitted {
		name := p.SID
		if p.Name != "" {
			name = p.Name
		}
		if p.Kind == "group" {
			names = append(names, name)
		} else {
			others = append(others, name+" ("+p.Kind+")")
		}
		anybody = anybody || wide[p.SID] || strings.HasPrefix(p.SID, "S-1-5-21-") && (strings.HasSuffix(p.SID, "-513") || strings.HasSuffix(p.SID, "-515"))
	}
	switch {
	case len(a.Permitted) == 0:
		line.Result, line.Words, line.Next = Doubt, "nobody is shown who may ask for its password: nobody may, or the steward may not see who", "permit a group of hosts, if there is none"
	case anybody:
		line.Result, line.Words, line.Next = Missing, "all accounts of the domain, or all its computers, may ask for its password: "+strings.Join(append(names, others...), ", "), "permit a group that has those hosts only which run something with it"
	case len(others) > 0:
		line.Result, line.Words, line.Next = Doubt, "not only groups: "+strings.Join(append(names, others...), ", "), "permit one group, so that hosts are added and removed in one place"
	default:
		line.Words = strings.Join(names, ", ")
	}
	return line
}

// wide are principals who are as good as everybody ([MS-DTYP], section 2.4.2.4).
var wide = map[string]bool{"S-1-1-0": true, "S-1-5-11": true, "S-1-5-7": true, "S-1-5-32-545": true, "S-1-5-32-554": true}

// changes: the password changes at its interval.
func (s Seen) changes() Line {
	a := s.Account
	line := Line{What: "its password changes at its interval", Result: Met}
	switch {
	case a.Interval == 0:
		line.Result, line.Words, line.Next = Unknown, "the directory does not tell the interval", "let the steward read msDS-ManagedPasswordInterval"
	case a.Changed.IsZero():
		line.Result, line.Words, line.Next = Doubt, fmt.Sprintf("every %d days; it has not changed yet", a.Interval), "no host has asked for it yet: test it on one"
	default:
		line.Words = fmt.Sprintf("every %d days, last at %s", a.Interval, at(a.Changed))
		// It is derived when a host asks for it: one that nobody asks for is not replaced.
		if late := s.Now.Sub(a.Changed.AddDate(0, 0, a.Interval)); late > 24*time.Hour {
			line.Result, line.Next = Doubt, fmt.Sprintf("it is %d days late: no host asks for it any more, or none can", int(late.Hours()/24))
		}
	}
	return line
}

// OnHost is what is known of a host that is to use an account.
type OnHost struct {
	Host    *HostSeen // as the directory has it among those permitted; nil when it is not
	Name    string
	System  string      // by which it is known here; "" when it is not
	Booted  time.Time   // zero when that is not known
	Kind    estate.Kind // of that system
	Version string      // of its operating system, as it says itself
	Used    int         // how much there logs on as the account
}

// AboutHost are what a host needs before it can use the account.
func AboutHost(a AccountSeen, h OnHost) []Line {
	return slices.Concat(staged(StagePermitted, h.member(a)), staged(StageLearned, h.sees()), staged(StageAble, h.offers(), h.shares(a)))
}

// offers: its operating system has what fetches such passwords, from version 6.2 on.
func (h OnHost) offers() Line {
	line := Line{What: h.Name + " can fetch passwords", Result: Met, Words: "its operating system is of version " + h.Version}
	var major, minor int
	_, err := fmt.Sscanf(h.Version, "%d.%d", &major, &minor)
	switch {
	case h.System == "":
		line.Result, line.Words, line.Next = Unknown, "it is no system here: of which version it is, is not known", "add it as a system"
	case h.Kind != estate.KindWindowsHost:
		line.Result, line.Words, line.Next = Doubt, "it is a "+string(h.Kind)+", which does not fetch passwords of managed accounts by itself", "see that a program there does, or let what runs there keep an account of its own"
	case err != nil:
		line.Result, line.Words, line.Next = Unknown, "its version is not known", "run a survey of "+h.System
	case major < 6 || major == 6 && minor < 2:
		line.Result, line.Next = Missing, "upgrade it: 6.2 is the first version that fetches them"
	}
	return line
}

func (h OnHost) member(a AccountSeen) Line {
	line := Line{What: h.Name + " is permitted", Result: Met}
	switch {
	case h.Host == nil && len(a.Permitted) == 0:
		line.Result, line.Words, line.Next = Unknown, "nobody is shown who may ask for the password", "permit a group of hosts, if there is none, and add it"
	case h.Host == nil && a.Partly != "":
		line.Result, line.Words, line.Next = Unknown, "not among those that were seen: "+a.Partly, "look at the group that is permitted"
	case h.Host == nil:
		line.Result, line.Words, line.Next = Missing, "it is in none of the groups that may ask for the password", "add it to the permitted group, and restart it"
		if h.Used > 0 {
			line.Words += fmt.Sprintf("; %d that log on as the account there do not start again", h.Used)
		}
	case h.Host.Enabled == estate.No:
		line.Result, line.Words, line.Next = Missing, "its account is disabled in the directory", "enable it, or take it out of the group"
	case h.Host.Through == "":
		line.Words = "by itself, not by a group"
	default:
		line.Words = "as a member of " + h.Host.Through
	}
	return line
}

// sees: a host knows of a membership only once it has signed in to the domain anew, which it does
// when it starts.
func (h OnHost) sees() Line {
	line := Line{What: h.Name + " knows that it is permitted", Result: Met}
	restart := "restart it: a host learns its groups when it starts"
	switch {
	case h.Host == nil:
		line.Result, line.Words = Unknown, "it is not permitted"
	case h.Host.Through == "":
		line.Words = "it is permitted by itself: no group has to be learned"
	case h.Booted.IsZero() && h.System == "":
		line.Result, line.Words, line.Next = Unknown, "it is no system here: when it started is not known", "add it as a system, or see that it was restarted since "+since(h.Host)
	case h.Booted.IsZero():
		line.Result, line.Words, line.Next = Unknown, "when it started is not known", "run a survey of "+h.System
	case h.Host.Joined.IsZero() && h.Host.Latest.IsZero():
		line.Result, line.Words, line.Next = Unknown, "the directory does not tell when it joined "+h.Host.Through, "see that it was restarted since"
	case !h.Host.Joined.IsZero() && h.Booted.Before(h.Host.Joined):
		line.Result, line.Words, line.Next = Missing, fmt.Sprintf("it joined %s at %s, and started before, at %s", h.Host.Through, at(h.Host.Joined), at(h.Booted)), restart
	case h.Host.Joined.IsZero() && h.Booted.Before(h.Host.Latest):
		line.Result, line.Words, line.Next = Doubt, fmt.Sprintf("%s was changed at %s, and it started before, at %s: whether it joined then is not told", h.Host.Through, at(h.Host.Latest), at(h.Booted)), restart+", if it has joined since"
	default:
		line.Words = fmt.Sprintf("it started at %s, after it joined %s", at(h.Booted), h.Host.Through)
	}
	return line
}

// Learned: it is permitted, and has started since.
func (h OnHost) Learned() bool { return h.Host != nil && h.sees().Result == Met }

func since(h *HostSeen) string {
	for _, t := range []time.Time{h.Joined, h.Latest} {
		if !t.IsZero() {
			return at(t)
		}
	}
	return "it joined " + h.Through
}

// shares: host and account have an encryption type in common.
func (h OnHost) shares(a AccountSeen) Line {
	line := Line{What: h.Name + " has an encryption type in common with the account", Result: Met}
	switch {
	case h.Host == nil:
		line.Result, line.Words = Unknown, "it is not permitted"
	case a.Encryption == 0 || h.Host.Encryption == 0:
		line.Result, line.Words, line.Next = Doubt, "account: "+a.Encryption.Words()+"; host: "+h.Host.Encryption.Words(), "set both to AES128 and AES256"
	case a.Encryption&h.Host.Encryption == 0:
		line.Result, line.Words, line.Next = Missing, "account: "+a.Encryption.Words()+"; host: "+h.Host.Encryption.Words(), "add one to both"
	default:
		line.Words = (a.Encryption & h.Host.Encryption).Words()
	}
	return line
}

func at(t time.Time) string {
	if t.IsZero() {
		return "at an unknown time"
	}
	return t.UTC().Format("2006-01-02 15:04:05 MST")
}
