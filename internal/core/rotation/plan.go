// Package rotation changes one credential at its authority and everywhere it
// is held, and never loses track of it.
//
// It is an explicit state machine whose only memory is a journal. Build makes
// a Plan: steps with the order between them. Fold reads a journal into a
// State. Next looks at a State and says what may be done now: do a step,
// probe one whose outcome is unknown, undo one, wait, or finish. A Runner
// loops over Next, writes an intent before every act and its outcome after,
// and lets Hands do the acts. After a crash at any point, folding the journal
// again gives a State in which an act with an intent and no outcome is
// unknown, and the next act on it is a probe, never a repeat.
//
// The package knows no network, database or clock: Hands and Journal are
// given to it, which is also how it is tested, on a simulated estate in which
// every call can fail before, after or in the middle of its effect.
package rotation

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege"
)

// StepKind says what a step does.
type StepKind string

// Kinds of step, in the order in which a plan has them.
const (
	StepSeal    StepKind = "seal"    // generate and seal the new value
	StepStop    StepKind = "stop"    // stop a dependent before the change, so that it never gives the old value after it
	StepChange  StepKind = "change"  // change it at the authority
	StepSteward StepKind = "steward" // prove that we still reach a system with the account
	StepSignIn  StepKind = "sign-in" // prove that the authority accepts the new value
	StepReplace StepKind = "replace" // replace the held copies in one file
	StepLogOn   StepKind = "log-on"  // replace the log-on that a system keeps for a dependent
	StepRestart StepKind = "restart" // restart one unit
	StepRevive  StepKind = "revive"  // bring back a unit that a restart took down with it
	StepProve   StepKind = "prove"   // prove that the unit runs anew, and its own check
	StepShow    StepKind = "show"    // prove that a port shows the new certificate to clients
	StepRetire  StepKind = "retire"  // end the time in which both values are accepted
	StepRefuse  StepKind = "refuse"  // prove that the authority refuses the old value
	StepAll     StepKind = "all"     // nothing to do: what needs it needs everything that it needs

	StepGive    StepKind = "give"    // give an account a right or a membership
	StepTake    StepKind = "take"    // take one away
	StepEnd     StepKind = "end"     // change when something ends, disable, enable or delete it
	StepManage  StepKind = "manage"  // create a managed account, or let hosts ask for its password
	StepWatch   StepKind = "watch"   // see for a time whether anything asks for what is refused now
	StepConfirm StepKind = "confirm" // prove that the system says so, of what was given, taken or ended
)

// Step is one act of a plan.
type Step struct {
	Index     int                  `json:"index"`
	Kind      StepKind             `json:"kind"`
	SystemID  string               `json:"system_id,omitempty"`
	System    string               `json:"system,omitempty"`    // name
	Subject   string               `json:"subject"`             // account, file path or place of a dependent
	Dependent estate.DependentKind `json:"dependent,omitempty"` // kind of that dependent; unit when empty
	LogOn     *StepLogOnAs         `json:"logon,omitempty"`     // for log-on
	Along     []Place              `json:"along,omitempty"`     // for restart: what goes down and comes back with it
	Reload    bool                 `json:"reload,omitempty"`    // for restart: it stays up, and is told to read its files again
	NotBefore time.Time            `json:"not_before,omitzero"` // for restart: of its window
	NotAfter  time.Time            `json:"not_after,omitzero"`
	Window    string               `json:"window,omitempty"`   // for stop, change and restart: they are begun only while it is open
	Expected  time.Duration        `json:"expected,omitempty"` // for restart: how long it was down in earlier rotations, until it was proven
	Groups    []string             `json:"groups,omitempty"`   // for restart: of which only some are restarted at the same time
	Overlap   bool                 `json:"overlap,omitempty"`  // for change: the old value stays accepted beside the new one
	Places    []held.Locator       `json:"places,omitempty"`   // for replace
	Holds     string               `json:"holds,omitempty"`    // for replace: fingerprint of an earlier value that stands there
	Check     *AppCheck            `json:"check,omitempty"`    // for prove
	Door      *Door                `json:"door,omitempty"`     // of a key pair: the account that it opens; Subject of change and retire is the file of entries then
	Next      string               `json:"next,omitempty"`     // where two accounts take turns: the one whose turn begins
	Needs     []int                `json:"needs,omitempty"`    // must have succeeded
	After     []int                `json:"after,omitempty"`    // must have ended, well or not

	Right *privilege.RightChange `json:"right,omitempty"` // for give, take and confirm
	End   *expiry.EndChange      `json:"end,omitempty"`   // for end, watch and confirm

	Managed *managed.AccountChange `json:"managed,omitempty"` // for manage and confirm
	Watch   time.Duration          `json:"watch,omitempty"`   // for watch: counted from when what it watches was proven

	GivenBy string `json:"given_by,omitempty"` // for seal: who gave the new value, and knows it

	PutBack bool `json:"-"` // told to hands while undoing: the authority has its old value again
}

// StepLogOnAs is the log-on that a step gives, and the one that undoing gives
// back.
type StepLogOnAs struct {
	Account string `json:"account"`          // in the spelling to write
	Was     string `json:"was"`              // as it was written before
	WasID   string `json:"was_id,omitempty"` // that account, when it was another one
	Back    string `json:"back,omitempty"`   // how it is written when it is given back, where that is otherwise than before
	Moved   bool   `json:"moved,omitempty"`  // it was another identity, not the same in another spelling
}

// Former is the account in the spelling in which undoing gives it back.
func (l StepLogOnAs) Former() string { return cmp.Or(l.Back, l.Was) }

// Door is an account that the holder of a key can sign in to.
type Door struct {
	Account string `json:"account"`          // user name on the step's system
	Via     string `json:"via,omitempty"`    // system from which signing in is proven, where entries admit only some addresses
	Issuer  bool   `json:"issuer,omitempty"` // the system keeps the keys of the account itself, and is given a new one as a certificate
	// Certifies: the system issues a certificate about the new key, for the names of the one
	// before it; Account is that one's name then.
	Certifies bool   `json:"certifies,omitempty"`
	Names     string `json:"names,omitempty"` // that it is good for, where it certifies
	Shows     bool   `json:"shows,omitempty"` // Account is a port, which shows the certificate to clients
}

// Place names a dependent on a system.
type Place = estate.Place

// At is the place of the dependent that a step is about.
func (s Step) At() Place {
	if s.Dependent == "" {
		return Place{Kind: estate.DependentUnit, Place: s.Subject}
	}
	return Place{Kind: s.Dependent, Place: s.Subject}
}

// Title is the step in a few words.
func (s Step) Title() string {
	if s.ofKey() {
		return s.keyTitle(false)
	}
	if s.Next != "" {
		return s.turnTitle(false)
	}
	if title := s.changeTitle(false); title != "" {
		return title
	}
	//exhaustive:enforce
	switch s.Kind {
	case StepSeal:
		if s.GivenBy != "" {
			return "seal the value that " + s.GivenBy + " gave for " + s.Subject
		}
		return "seal a new value for " + s.Subject
	case StepChange:
		if s.Overlap {
			return "have " + s.System + " accept a new value of " + s.Subject + " beside the old one" + s.inWindow()
		}
		return "change " + s.Subject + " on " + s.System + s.inWindow()
	case StepRetire:
		return "retire the old value of " + s.Subject + " on " + s.System
	case StepSignIn:
		if len(s.Needs) == 0 { // of an assignment
			return "sign in as " + s.Subject + " with its current value"
		}
		return "sign in as " + s.Subject + " with the new value"
	case StepReplace:
		if s.Adds() {
			return "add the new key to " + s.Subject + " on " + s.System
		}
		return "replace the copy in " + s.Subject + " on " + s.System
	case StepLogOn:
		return fmt.Sprintf("give the %s %s on %s the log-on %s", s.Dependent, s.Subject, s.System, s.LogOn.Account)
	case StepStop:
		return "stop " + s.Subject + " on " + s.System + " until it has the new value" + s.inWindow()
	case StepRestart:
		title := "restart " + s.Subject + " on " + s.System
		if s.Reload {
			title = "have " + s.Subject + " on " + s.System + " read its files again"
		}
		if !s.NotBefore.IsZero() {
			title += ", " + window(s.NotBefore, s.NotAfter)
		}
		return title + s.inWindow()
	case StepProve:
		return "prove " + s.Subject + " on " + s.System
	case StepRevive:
		return "make sure that " + s.Subject + " on " + s.System + " runs again"
	case StepAll:
		return "all of that has succeeded"
	case StepSteward:
		return "sign in to " + s.System + " ourselves (steward " + s.Subject + ") with the new value"
	case StepRefuse:
		return "prove that the old value of " + s.Subject + " is refused"
	case StepGive, StepTake, StepEnd, StepManage, StepWatch, StepConfirm, StepShow: // they have a right, an end or a door, and with it a title
	}
	return s.unknown()
}

func (s Step) inWindow() string {
	if s.Window == "" {
		return ""
	}
	return ", in the window " + s.Window
}

// Adds: what is derived of the value is put beside what was derived of others.
func (s Step) Adds() bool { return len(s.Places) > 0 && s.Places[0].Layout == layout.KeyTab }

// unknown is what is said of a step of a kind that this version does not know:
// what it does is not guessed.
func (s Step) unknown() string {
	return fmt.Sprintf("%s (not known to this version) %s on %s", s.Kind, s.Subject, s.System)
}

// UndoTitle is the undoing of the step in a few words.
func (s Step) UndoTitle() string {
	if s.ofKey() {
		return s.keyTitle(true)
	}
	if s.Next != "" {
		return s.turnTitle(true)
	}
	if title := s.changeTitle(true); title != "" {
		return title
	}
	//exhaustive:enforce
	switch s.Kind {
	case StepSeal:
		return "give up the new value of " + s.Subject
	case StepChange:
		return "put the old value of " + s.Subject + " back on " + s.System
	case StepRetire:
		return "have " + s.System + " accept the old value of " + s.Subject + " again"
	case StepSignIn:
		return "sign in as " + s.Subject + " with the old value"
	case StepReplace:
		if s.Adds() {
			return "add the old key once more to " + s.Subject + " on " + s.System
		}
		return "put the old value back in " + s.Subject + " on " + s.System
	case StepLogOn:
		return fmt.Sprintf("give the %s %s on %s its former log-on %s back", s.Dependent, s.Subject, s.System, s.LogOn.Was)
	case StepStop:
		return s.Subject + " on " + s.System + " is started by its restart"
	case StepRestart: // the window counts for going forward only
		if s.Reload {
			return "have " + s.Subject + " on " + s.System + " read its files again, with the old value"
		}
		return "restart " + s.Subject + " on " + s.System + " with the old value"
	case StepAll:
		return s.Title()
	case StepSteward:
		return "sign in to " + s.System + " ourselves (steward " + s.Subject + ") with the old value"
	case StepRefuse:
		return "prove that the new value of " + s.Subject + " is refused"
	case StepRevive, StepProve:
		return s.Title() + " with the old value"
	case StepGive, StepTake, StepEnd, StepManage, StepWatch, StepConfirm, StepShow: // they have a right, an end or a door, and with it a title
	}
	return s.unknown()
}

func window(from, to time.Time) string {
	const at = "2006-01-02 15:04"
	return "between " + from.UTC().Format(at) + " and " + to.UTC().Format(at) + " UTC"
}

// AppCheck is an application's own check.
type AppCheck struct {
	Kind     string `json:"kind"`               // tcp, http, command
	Target   string `json:"target"`             // host:port, URL, or command line
	Contains string `json:"contains,omitempty"` // expected text in the answer
}

// OnFailure says what to do when a step fails.
type OnFailure string

// Policies.
const (
	StopOnFailure     OnFailure = "stop"
	ContinueOnFailure OnFailure = "continue"
	UndoOnFailure     OnFailure = "undo"
)

// PlanKind says what a plan is for.
type PlanKind string

// Kinds of plan. The empty one is a rotation.
const (
	KindRotate PlanKind = "rotate" // the credential changes, everywhere
	KindAssign PlanKind = "assign" // chosen log-ons get an account with its current value
	KindAmend  PlanKind = "amend"  // rights are given and taken; no value changes
	KindEnd    PlanKind = "end"    // what is accepted ends, or lasts; no value changes
	KindManage PlanKind = "manage" // accounts whose passwords a directory makes
)

// RestartPolicy says when dependents are restarted.
type RestartPolicy string

// Restart policies.
const (
	RestartNow    RestartPolicy = "now"
	RestartWindow RestartPolicy = "window" // between NotBefore and NotAfter
	RestartLeave  RestartPolicy = "leave"  // not at all: each is a latent breakage until somebody does
)

// Plan is what a rotation will do.
type Plan struct {
	Kind         PlanKind           `json:"kind,omitempty"`
	When         RestartPolicy      `json:"when,omitempty"` // dependents are restarted
	CredentialID string             `json:"credential_id"`
	Credential   string             `json:"credential"` // name
	Of           credential.Kind    `json:"credential_kind"`
	Type         string             `json:"type,omitempty"`    // of the new value, where a kind has types; "" for that of the old one
	Length       int                `json:"length,omitempty"`  // of a new password; 0 for the usual one
	Without      string             `json:"without,omitempty"` // characters that a new password must not have
	Lasts        time.Duration      `json:"lasts,omitempty"`   // of a new key that an issuer is given; 0 for without end
	Limits       []credential.Limit `json:"limits,omitempty"`  // what holders of a new password can carry
	Given        string             `json:"given,omitempty"`   // fingerprint of a new value that a person gave; "" when it is made
	Authority    string             `json:"authority"`         // the systems that decide
	OnFailure    OnFailure          `json:"on_failure"`
	// Patience is how long a system that is away is waited for before that
	// counts as a failure; 0 for without end. Undoing waits without end.
	Patience time.Duration `json:"patience,omitempty"`
	// Windows are those that steps wait for, by their names.
	Windows     map[string]Openings `json:"windows,omitempty"`
	AtWindowEnd WindowEnd           `json:"at_window_end,omitempty"` // pause when empty
	FirstAlone  string              `json:"first_alone,omitempty"`   // the dependent that is changed and proven before all others
	// Turn is set where two accounts take turns: the credential's account rests afterwards.
	Turn    *Successor `json:"turn,omitempty"`
	Managed bool       `json:"managed,omitempty"` // the account's own directory makes its password, and nobody here knows it
	// UndoOf is set in the plan of a rehearsal for undoing a finished rotation.
	UndoOf int64  `json:"undo_of,omitempty"`
	Steps  []Step `json:"steps"`
	Notes  []Note `json:"notes"` // what a person should know before saying yes
}

// UnmarshalJSON also reads plans that were kept when what is done on failure was called
// policy.
func (p *Plan) UnmarshalJSON(raw []byte) error {
	type plain Plan
	read := struct {
		*plain
		Former OnFailure `json:"policy"`
	}{plain: (*plain)(p)}
	if err := json.Unmarshal(raw, &read); err != nil {
		return err
	}
	p.OnFailure = cmp.Or(p.OnFailure, read.Former)
	return nil
}

// GivenBy is who gave the new value, and knows it; "" when it is made.
func (p Plan) GivenBy() string {
	for _, s := range p.Steps {
		if s.Kind == StepSeal {
			return s.GivenBy
		}
	}
	return ""
}

// Chain is the largest number of restarts that must follow one another.
func (p Plan) Chain() int {
	depth := make([]int, len(p.Steps))
	longest := 0
	for i, s := range p.Steps {
		for _, j := range s.Needs {
			depth[i] = max(depth[i], depth[j])
		}
		for _, j := range s.After {
			depth[i] = max(depth[i], depth[j])
		}
		if s.restarts() {
			depth[i]++
		}
		longest = max(longest, depth[i])
	}
	return longest
}

// Restarts counts the units that are restarted.
func (p Plan) Restarts() int { return p.count(Step.restarts) }

func (s Step) restarts() bool { return s.Kind == StepRestart && !s.Reload }

func (p Plan) count(is func(Step) bool) (n int) {
	for _, s := range p.Steps {
		if is(s) {
			n++
		}
	}
	return n
}

// Interruption says in words what will be interrupted.
func (p Plan) Interruption() string {
	n := p.Restarts()
	if again := p.count(func(s Step) bool { return s.Reload }); n == 0 && again > 0 {
		return fmt.Sprintf("nothing is restarted; told to read files again while running: %d", again)
	}
	if n == 0 {
		return "nothing is restarted"
	}
	stopped := p.count(func(s Step) bool { return s.Kind == StepStop })
	var names, windows []string
	var expected time.Duration
	when, known := "", 0
	for _, s := range p.Steps {
		if s.restarts() {
			names = append(names, s.Subject+" on "+s.System)
			if !s.NotBefore.IsZero() {
				when = ", " + window(s.NotBefore, s.NotAfter)
			}
			if s.Window != "" && !slices.Contains(windows, s.Window) {
				windows = append(windows, s.Window)
			}
			if s.Expected > 0 {
				expected, known = expected+s.Expected, known+1
			}
		}
	}
	if len(windows) > 0 {
		when += ", in the window " + strings.Join(windows, " or ")
	}
	still := ""
	if stopped > 0 {
		still = fmt.Sprintf("; %d of them stand still from before the change until then", stopped)
	}
	about := ""
	if known > 0 {
		about = fmt.Sprintf("; by earlier rotations about %s of standing still in all", calendar.Spell(expected))
		if known < n {
			about += fmt.Sprintf(" for %d of them, and the others were not measured yet", known)
		}
	}
	if n == 1 {
		return "one restart" + when + still + ": " + names[0] + about
	}
	return fmt.Sprintf("%d restarts, at most %d one after the other%s%s: %s%s", n, p.Chain(), when, still, strings.Join(names, ", "), about)
}
