// Package diagnosis answers why a dependent is down. It weighs evidence that
// others gathered (state, event records, the account as its directory has it,
// a sign-in with the sealed value) and orders the possible causes, each with
// what speaks for and against it and the next step. What could not be looked
// at is called not known; nothing is ruled out without evidence.
package diagnosis

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// Code names a cause.
type Code string

// Causes, in the order in which they are looked at: what makes the later ones
// pointless comes first.
const (
	Unreachable    Code = "unreachable"     // the system does not answer
	Refused        Code = "refused"         // it does, but not on this port
	Filtered       Code = "filtered"        // nothing comes back from this port
	NoAccount      Code = "no-account"      // the account is gone, or never was
	Disabled       Code = "disabled"        // the account is
	AccountExpired Code = "account-expired" // the account has
	Locked         Code = "locked"          // the account is
	Expired        Code = "expired"         // the password has
	MustChange     Code = "must-change"     // the password must be changed first
	WrongPassword  Code = "wrong-password"  // what is stored is not the password
	MissingRight   Code = "missing-right"   // the account may not log on this way
	Dependency     Code = "dependency"      // something that it needs failed first
	StoppedBy      Code = "stopped"         // a person or program stopped it
	SwitchedOff    Code = "switched-off"    // its start mode is disabled or manual
	Program        Code = "program"         // the program itself failed
)

var order = []Code{Unreachable, Refused, Filtered, NoAccount, Disabled, AccountExpired, Locked, Expired, MustChange, WrongPassword, MissingRight, Dependency, StoppedBy, SwitchedOff, Program}

var titles = map[Code]string{
	Unreachable: "the system cannot be reached", Refused: "the port is refused", Filtered: "the port is filtered", NoAccount: "the account does not exist", Disabled: "the account is disabled",
	AccountExpired: "the account has expired", Locked: "the account is locked", Expired: "the password has expired", MustChange: "the password must be changed", WrongPassword: "the stored password is wrong",
	MissingRight: "the account lacks the right to log on as a service", Dependency: "something it needs failed first", StoppedBy: "somebody stopped it", SwitchedOff: "it does not start by itself", Program: "the program itself failed",
}

// Verdict on a cause.
type Verdict string

// Verdicts, in the order in which causes are told.
const (
	IsCause  Verdict = "the cause"
	Likely   Verdict = "likely"
	Possible Verdict = "possible"
	NotKnown Verdict = "not known"
	RuledOut Verdict = "ruled out"
)

var rank = map[Verdict]int{IsCause: 0, Likely: 1, Possible: 2, NotKnown: 3, RuledOut: 4}

// Record is a line of a system's own log. Hint is the cause that it speaks for.
type Record struct {
	Time  time.Time
	Code  int
	Words string
	Hint  Code
	Of    string // the dependency it is about
	By    string // who caused it
	Start bool   // it says that the dependent was up again: older records do not count
}

// Need is something that the dependent needs.
type Need struct {
	Name   string
	Up     bool
	State  string
	Result string
}

// Account is what is known of the account.
type Account struct {
	Name, System    string
	Gone            bool
	Enabled, Locked estate.Tristate
	MustChange      bool
	AccountExpires  time.Time
	PasswordExpires time.Time
	PasswordChanged time.Time
	Custody         bool
	Verdict         string // of a sign-in now: "", accepted, wrong, expired, locked, disabled, must-change, account-expired, not-known
	Words           string // of that sign-in
}

// Stored says what is known of the password that the dependent has stored.
type Stored string

// Values of Stored.
const (
	StoredCurrent Stored = "current"
	StoredOther   Stored = "other"
	StoredUnknown Stored = ""
)

// Evidence is everything that was gathered.
type Evidence struct {
	Now                              time.Time
	Name                             string
	System                           string
	ReachCode                        Code // Unreachable, Refused or Filtered; "" when it was reached
	ReachWords, ReachNext            string
	State, Result, StartMode, RunsAs string
	Up, ByItself                     bool
	Identity                         estate.Identity
	Reference                        string   // why the account reference could not be placed
	Records                          []Record // newest first
	Needs                            []Need   // in start order
	Account                          *Account
	Stored                           Stored
	Started                          time.Time // of what runs
}

// Cause is one possible cause with its evidence.
type Cause struct {
	Code     Code     `json:"code"`
	Title    string   `json:"title"`
	Verdict  Verdict  `json:"verdict" enum:"the cause,likely,possible,not known,ruled out"`
	Evidence []string `json:"evidence" nullable:"false"`
	Next     string   `json:"next_step,omitempty"`
	First    string   `json:"first,omitempty"` // of dependency: the one that failed first
}

// weigher collects what speaks for and against each cause.
type weigher struct {
	Evidence
	causes map[Code]*Cause
}

func (w *weigher) say(code Code, verdict Verdict, format string, args ...any) {
	c := w.causes[code]
	if c == nil {
		c = &Cause{Code: code, Title: titles[code], Verdict: verdict}
		w.causes[code] = c
	}
	if rank[verdict] < rank[c.Verdict] && c.Verdict != RuledOut || c.Verdict == NotKnown || c.Verdict == RuledOut && verdict == IsCause {
		c.Verdict = verdict
	}
	if format != "" {
		c.Evidence = append(c.Evidence, fmt.Sprintf(format, args...))
	}
}

// Explain orders the possible causes. An empty answer means that the dependent
// is up and nothing speaks against it.
func Explain(e Evidence) []Cause {
	w := &weigher{Evidence: e, causes: map[Code]*Cause{}}
	w.reach()
	if e.ReachCode == "" {
		w.records()
		w.account()
		w.state()
	}
	var out []Cause
	for _, code := range order {
		c := w.causes[code]
		if c == nil {
			c = &Cause{Code: code, Title: titles[code], Verdict: NotKnown}
			if e.ReachCode != "" {
				c.Evidence = []string{"the system could not be looked at"}
			} else {
				c.Evidence = []string{"nothing speaks for or against it"}
			}
		}
		if c.Evidence == nil {
			c.Evidence = []string{}
		}
		if rank[c.Verdict] <= rank[Possible] {
			c.Next = w.next(code)
		}
		out = append(out, *c)
	}
	// With a cause that is certain, what is merely possible is possible still,
	// but told after it.
	sort.SliceStable(out, func(i, j int) bool { return rank[out[i].Verdict] < rank[out[j].Verdict] })
	return out
}

func (w *weigher) reach() {
	for _, code := range []Code{Unreachable, Refused, Filtered} {
		switch {
		case w.ReachCode == code:
			w.say(code, IsCause, "%s", w.ReachWords)
		case w.ReachCode == "":
			w.say(code, RuledOut, "%s answered and was signed in to", w.System)
		}
	}
}

// records reads the system's own log, up to the last time it was up.
func (w *weigher) records() {
	seen := map[string]bool{}
	for _, r := range w.Records {
		if r.Start {
			break
		}
		if r.Hint == "" || seen[string(r.Hint)+r.Of+r.Words] {
			continue
		}
		seen[string(r.Hint)+r.Of+r.Words] = true
		text := fmt.Sprintf("record %d of %s: %s", r.Code, r.Time.UTC().Format("2006-01-02 15:04:05"), r.Words)
		if r.Code == 0 {
			text = "its log says: " + r.Words
		}
		if r.By != "" {
			text += " (" + r.By + ")"
		}
		verdict := IsCause
		switch {
		case w.Up:
			verdict = Possible
		case r.Hint == Program && r.Code == 0:
			verdict = Likely // the program's own words, whatever they mean
		case r.Hint == StoppedBy && r.By == "":
			verdict = Likely
		}
		w.say(r.Hint, verdict, "%s", text)
		if c := w.causes[r.Hint]; r.Hint == Dependency && c.First == "" && !w.Up {
			c.First = r.Of
		}
	}
}

func (w *weigher) account() {
	a := w.Account
	switch {
	case w.Identity == estate.IdentityBuiltIn || w.Identity == estate.IdentityVirtual:
		for _, code := range []Code{NoAccount, Disabled, AccountExpired, Locked, Expired, MustChange, WrongPassword} {
			w.say(code, RuledOut, "%s is an identity of the machine itself and has no password", w.RunsAs)
		}
		return
	case a == nil && w.Reference != "":
		verdict := Likely
		if w.Up {
			verdict = Possible
		}
		w.say(NoAccount, verdict, "%s", w.Reference)
		return
	case a == nil:
		return
	}
	if a.Gone {
		w.say(NoAccount, w.certain(), "%s is no longer in %s", a.Name, a.System)
		return
	}
	w.say(NoAccount, RuledOut, "%s is in %s", a.Name, a.System)
	w.is(Disabled, a.Enabled == estate.No || a.Verdict == "disabled", a.Enabled == estate.Yes, "%s has it as %s", a.System, map[bool]string{true: "disabled", false: "enabled"}[a.Enabled == estate.No || a.Verdict == "disabled"])
	w.is(Locked, a.Locked == estate.Yes || a.Verdict == "locked", a.Locked == estate.No, "%s has it as %s", a.System, map[bool]string{true: "locked", false: "not locked"}[a.Locked == estate.Yes || a.Verdict == "locked"])
	if a.Verdict == "account-expired" {
		w.say(AccountExpired, w.certain(), "a sign-in says: %s", a.Words)
	} else if !a.AccountExpires.IsZero() {
		w.is(AccountExpired, a.AccountExpires.Before(w.Now), a.AccountExpires.After(w.Now), "the account ends on %s", a.AccountExpires.UTC().Format("2006-01-02 15:04"))
	} else {
		w.say(AccountExpired, RuledOut, "the account has no end date")
	}
	w.is(MustChange, a.MustChange || a.Verdict == "must-change", !a.MustChange && a.Verdict == "accepted", "%s", map[bool]string{true: "the directory asks for a change first", false: "a sign-in needed no change"}[a.MustChange || a.Verdict == "must-change"])
	switch {
	case a.Verdict == "expired":
		w.say(Expired, w.certain(), "a sign-in with the sealed value says: %s", a.Words)
	case !a.PasswordExpires.IsZero() && a.PasswordExpires.Before(w.Now) && a.Verdict != "accepted":
		w.say(Expired, w.certain(), "the password ended on %s", a.PasswordExpires.UTC().Format("2006-01-02 15:04"))
	case a.Verdict == "accepted":
		w.say(Expired, RuledOut, "%s accepts the sealed value now", a.System)
	case !a.PasswordExpires.IsZero():
		w.say(Expired, RuledOut, "the password is good until %s", a.PasswordExpires.UTC().Format("2006-01-02 15:04"))
	}
	w.password(a)
}

// certain: a state of the account stops whatever is down; what is up it may
// stop at its next start.
func (w *weigher) certain() Verdict {
	if w.Up {
		return Possible
	}
	return IsCause
}

func (w *weigher) is(code Code, yes, no bool, format string, args ...any) {
	switch {
	case yes:
		w.say(code, w.certain(), format, args...)
	case no:
		w.say(code, RuledOut, format, args...)
	}
}

func (w *weigher) password(a *Account) {
	switch {
	case w.Stored == StoredCurrent && a.Verdict == "wrong":
		w.say(WrongPassword, w.certain(), "it has the value in custody stored, and %s refuses that: somebody changed the password elsewhere", a.System)
	case w.Stored == StoredOther:
		verdict := Likely
		if w.Up {
			verdict = Possible
		}
		w.say(WrongPassword, verdict, "what is stored is not the current password of %s", a.Name)
	case w.Stored == StoredCurrent:
		w.say(WrongPassword, RuledOut, "what is stored is the current password of %s", a.Name)
	case a.Verdict == "wrong":
		w.say(WrongPassword, Possible, "%s refuses the sealed value: somebody changed the password elsewhere", a.System)
	}
	if w.Up && w.Stored != StoredCurrent && !w.Started.IsZero() && w.Started.Before(a.PasswordChanged) {
		w.say(WrongPassword, Possible, "it runs since %s on the password from before the change on %s: it may fail at its next start", w.Started.UTC().Format("2006-01-02 15:04"), a.PasswordChanged.UTC().Format("2006-01-02 15:04"))
	}
}

func (w *weigher) state() {
	first := ""
	var down []string
	for _, n := range w.Needs {
		if n.Up {
			continue
		}
		if first == "" {
			first = n.Name
		}
		text := n.Name + " is " + n.State
		if n.Result != "" {
			text += " (" + n.Result + ")"
		}
		down = append(down, text)
	}
	switch {
	case first != "" && !w.Up:
		w.say(Dependency, IsCause, "of what it needs, %s; the first to fail was %s", strings.Join(down, ", "), first)
		w.causes[Dependency].First = first
	case len(w.Needs) > 0 && first == "":
		w.say(Dependency, RuledOut, "all that it needs runs: %d of them", len(w.Needs))
		w.causes[Dependency].Verdict = RuledOut
	case len(w.Needs) == 0 && w.causes[Dependency] == nil: // what its log says is more than what could be read
		w.say(Dependency, RuledOut, "it needs nothing else to start")
	}
	switch {
	case w.StartMode == "disabled" && w.State == "failed":
		// Something started it all the same.
		w.say(SwitchedOff, Possible, "its start mode is disabled, but it was started and failed")
	case w.StartMode == "disabled":
		w.say(SwitchedOff, w.certain(), "its start mode is disabled")
	case w.ByItself:
		w.say(SwitchedOff, RuledOut, "its start mode is %s", w.StartMode)
	case w.StartMode != "" && !w.Up:
		w.say(SwitchedOff, Possible, "its start mode is %s: nothing starts it by itself", w.StartMode)
	}
	if w.Result == "" || w.Up {
		return
	}
	switch {
	case strings.HasPrefix(w.Result, "1069"), strings.HasPrefix(w.Result, "1068"), strings.HasPrefix(w.Result, "1058"), strings.HasPrefix(w.Result, "1077"):
		if w.causes[Program] == nil {
			w.say(Program, RuledOut, "its last result is %s: the program did not even begin", w.Result)
		}
	default:
		w.say(Program, Likely, "its last result is %s", w.Result)
	}
}

func (w *weigher) next(code Code) string {
	name := w.RunsAs
	if w.Account != nil {
		name = w.Account.Name
	}
	if name == "" {
		name = "its account"
	}
	switch code {
	case Unreachable, Refused, Filtered:
		return w.ReachNext
	case NoAccount:
		return "give it another account: 'moss rotate assign'"
	case Disabled:
		return "find out who disabled " + name + " and why, then enable it in the directory or give the dependent another account"
	case AccountExpired:
		return "extend " + name + " in the directory, or give the dependent another account"
	case Locked:
		return "unlock " + name + " in the directory, and find what locks it: usually a stale copy of the password"
	case Expired, MustChange:
		return "rotate " + name + ": a new password is set, given to all that use it, and they are started in order"
	case WrongPassword:
		if w.Account != nil && w.Account.Verdict == "wrong" {
			return "take " + name + " into custody with its new password ('moss custody take'), then 'moss rotate repair " + name + "'"
		}
		return "give it the current password: 'moss rotate repair " + name + "'"
	case MissingRight:
		return "grant " + name + " the right to log on as a service on " + w.System + " (group policy, or the local security policy), then start it"
	case Dependency:
		first := w.causes[Dependency].First
		if first == "" {
			return "find out what it needs, and start that first"
		}
		return "repair " + first + " first: what needs it follows"
	case StoppedBy:
		return "ask who stopped it; start it when nothing speaks against it"
	case SwitchedOff:
		return "switch it to start by itself, if it should"
	}
	return "read the program's own log on " + w.System
}
