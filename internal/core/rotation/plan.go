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
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
)

// StepKind says what a step does.
type StepKind string

// Kinds of step, in the order in which a plan has them.
const (
	StepSeal    StepKind = "seal"    // generate and seal the new value
	StepChange  StepKind = "change"  // change it at the authority
	StepSignIn  StepKind = "sign-in" // prove that the authority accepts the new value
	StepReplace StepKind = "replace" // replace the held copies in one file
	StepLogOn   StepKind = "log-on"  // replace the log-on that a system keeps for a dependent
	StepRestart StepKind = "restart" // restart one unit
	StepRevive  StepKind = "revive"  // bring back a unit that a restart took down with it
	StepProve   StepKind = "prove"   // prove that the unit runs anew, and its own check
	StepRefuse  StepKind = "refuse"  // prove that the authority refuses the old value
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
	NotBefore time.Time            `json:"not_before,omitzero"` // for restart: of its window
	NotAfter  time.Time            `json:"not_after,omitzero"`
	Places    []held.Locator       `json:"places,omitempty"` // for replace
	Holds     string               `json:"holds,omitempty"`  // for replace: fingerprint of an earlier value that stands there
	Check     *AppCheck            `json:"check,omitempty"`  // for prove
	Needs     []int                `json:"needs,omitempty"`  // must have succeeded
	After     []int                `json:"after,omitempty"`  // must have ended, well or not
}

// StepLogOnAs is the log-on that a step gives, and the one that undoing gives
// back.
type StepLogOnAs struct {
	Account string `json:"account"`          // in the spelling to write
	Was     string `json:"was"`              // as it was written before
	WasID   string `json:"was_id,omitempty"` // that account, when it was another one
	Moved   bool   `json:"moved,omitempty"`  // it was another identity, not the same in another spelling
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
	switch s.Kind {
	case StepSeal:
		return "seal a new value for " + s.Subject
	case StepChange:
		return "change " + s.Subject + " on " + s.System
	case StepSignIn:
		if len(s.Needs) == 0 { // of an assignment
			return "sign in as " + s.Subject + " with its current value"
		}
		return "sign in as " + s.Subject + " with the new value"
	case StepReplace:
		return "replace the copy in " + s.Subject + " on " + s.System
	case StepLogOn:
		return fmt.Sprintf("give the %s %s on %s the log-on %s", s.Dependent, s.Subject, s.System, s.LogOn.Account)
	case StepRestart:
		return "restart " + s.Subject + " on " + s.System
	case StepProve:
		return "prove " + s.Subject + " on " + s.System
	case StepRevive:
		return "make sure that " + s.Subject + " on " + s.System + " runs again"
	default:
		return "prove that the old value of " + s.Subject + " is refused"
	}
}

// UndoTitle is the undoing of the step in a few words.
func (s Step) UndoTitle() string {
	switch s.Kind {
	case StepSeal:
		return "give up the new value of " + s.Subject
	case StepChange:
		return "put the old value of " + s.Subject + " back on " + s.System
	case StepSignIn:
		return "sign in as " + s.Subject + " with the old value"
	case StepReplace:
		return "put the old value back in " + s.Subject + " on " + s.System
	case StepLogOn:
		return fmt.Sprintf("give the %s %s on %s its former log-on %s back", s.Dependent, s.Subject, s.System, s.LogOn.Was)
	case StepRefuse:
		return "prove that the new value of " + s.Subject + " is refused"
	default:
		return s.Title() + " with the old value"
	}
}

// AppCheck is an application's own check.
type AppCheck struct {
	Kind     string `json:"kind"`               // tcp, http, command
	Target   string `json:"target"`             // host:port, URL, or command line
	Contains string `json:"contains,omitempty"` // expected text in the answer
}

// Policy says what to do when a step fails.
type Policy string

// Policies.
const (
	PolicyStop     Policy = "stop"
	PolicyContinue Policy = "continue"
	PolicyUndo     Policy = "undo"
)

// PlanKind says what a plan is for.
type PlanKind string

// Kinds of plan. The empty one is a rotation.
const (
	KindRotate PlanKind = "rotate" // the credential changes, everywhere
	KindAssign PlanKind = "assign" // chosen log-ons get an account with its current value
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
	Kind        PlanKind      `json:"kind,omitempty"`
	When        RestartPolicy `json:"when,omitempty"` // dependents are restarted
	AccountID   string        `json:"account_id"`
	Account     string        `json:"account"`
	AuthorityID string        `json:"authority_id"`
	Authority   string        `json:"authority"`
	Policy      Policy        `json:"policy"`
	Steps       []Step        `json:"steps"`
	Notes       []string      `json:"notes"` // what a person should know before saying yes
}

// File is a file that holds copies.
type File struct {
	SystemID string
	System   string
	Path     string
	Places   []held.Locator
	Holds    string // fingerprint of what stands there, when it is not the current value
}

// LogOn is a log-on that a system keeps for a dependent.
type LogOn struct {
	SystemID string
	System   string
	Place    Place
	Account  string // to write
	Was      string // as written now
	WasID    string // id of that account, when it is another one
	Moved    bool   // it is another identity
}

// Unit is a dependent that runs: it reads held copies, or logs on itself.
type Unit struct {
	SystemID string
	System   string
	Kind     estate.DependentKind // unit when empty
	Name     string               // its place
	Running  bool
	Start    bool     // bring it up although it is down
	Reads    []string // paths of files on the same system
	After    []string // names of units on the same system that start before it
	Requires []string // names of units that take it down with them
	Check    *AppCheck
}

// Place is the unit's place.
func (u Unit) Place() Place { return Place{Kind: u.Kind, Place: u.Name} }

func (u Unit) key() string { return u.SystemID + "\x00" + keyOf(u.Kind, u.Name) }

// keyOf makes one text of a place. Hosts that have services compare their
// names without case.
func keyOf(kind estate.DependentKind, place string) string {
	if kind.LogsOn() {
		place = strings.ToLower(place)
	}
	return string(kind) + "\x00" + place
}

// Input is what Build needs to know.
type Input struct {
	Kind                   PlanKind
	When                   RestartPolicy
	NotBefore, NotAfter    time.Time
	LogOns                 []LogOn
	AccountID, Account     string
	AuthorityID, Authority string
	Policy                 Policy
	Files                  []File
	Units                  []Unit
}

// Build makes the plan. A rotation seals, changes and proves the new value at
// the authority, then replaces every copy and every log-on that a system keeps,
// restarts every running reader in start order, never two replicas (dependents
// of the same name on different systems) at once, and proves each. An
// assignment leaves the authority alone: it proves the current value and gives
// it to the log-ons chosen.
func Build(in Input) Plan {
	b := &builder{in: in, plan: Plan{
		Kind: in.Kind, AccountID: in.AccountID, Account: in.Account, AuthorityID: in.AuthorityID,
		Authority: in.Authority, Policy: in.Policy, When: in.When, Notes: []string{},
	}, replaceOf: map[string]int{}, logOnOf: map[string]int{}, restartOf: map[string]int{}, proveOf: map[string]int{}, lastReplica: map[string]int{}, lastTaken: map[string]int{}}
	if b.plan.When == "" {
		b.plan.When = RestartNow
	}
	authority := Step{SystemID: in.AuthorityID, System: in.Authority, Subject: in.Account}
	step := func(kind StepKind, needs ...int) Step {
		s := authority
		s.Kind, s.Needs = kind, needs
		return s
	}
	if in.Kind == KindAssign {
		b.signIn = b.add(step(StepSignIn))
	} else {
		b.plan.Kind = ""
		seal := b.add(Step{Kind: StepSeal, Subject: in.Account})
		b.signIn = b.add(step(StepSignIn, b.add(step(StepChange, seal))))
	}
	b.replacements()
	units, cycles := startOrder(in.Units)
	b.plan.Notes = append(b.plan.Notes, cycles...)
	for _, u := range units {
		b.restart(u, units)
	}
	if in.Kind != KindAssign {
		refuse := step(StepRefuse, b.signIn)
		refuse.After = b.ends
		b.add(refuse)
	}
	if len(in.Files)+len(in.LogOns) == 0 {
		b.plan.Notes = append(b.plan.Notes, "no held copy and no stored log-on is known: only the authority is changed")
	}
	return b.plan
}

type builder struct {
	in     Input
	plan   Plan
	signIn int
	ends   []int
	// By system and place: the steps that a restart must wait for, that
	// restart it (or take it down with another), and that prove it.
	replaceOf, logOnOf, restartOf, proveOf map[string]int
	lastReplica                            map[string]int // by name
	lastTaken                              map[string]int // by system and name: the latest proof of what takes it down
}

func (b *builder) add(s Step) int {
	s.Index = len(b.plan.Steps)
	if s.Needs == nil {
		s.Needs = []int{}
	}
	b.plan.Steps = append(b.plan.Steps, s)
	return s.Index
}

func (b *builder) note(format string, args ...any) {
	b.plan.Notes = append(b.plan.Notes, fmt.Sprintf(format, args...))
}

// replacements adds the copies and the log-ons.
func (b *builder) replacements() {
	files := append([]File(nil), b.in.Files...)
	sort.Slice(files, func(i, j int) bool {
		return files[i].System+"\x00"+files[i].Path < files[j].System+"\x00"+files[j].Path
	})
	for _, f := range files {
		i := b.add(Step{Kind: StepReplace, SystemID: f.SystemID, System: f.System, Subject: f.Path, Places: f.Places, Holds: f.Holds, Needs: []int{b.signIn}})
		b.replaceOf[f.SystemID+"\x00"+f.Path] = i
		b.ends = append(b.ends, i)
	}
	logOns := append([]LogOn(nil), b.in.LogOns...)
	sort.Slice(logOns, func(i, j int) bool {
		return logOns[i].System+"\x00"+keyOf(logOns[i].Place.Kind, logOns[i].Place.Place) < logOns[j].System+"\x00"+keyOf(logOns[j].Place.Kind, logOns[j].Place.Place)
	})
	for _, l := range logOns {
		i := b.add(Step{Kind: StepLogOn, SystemID: l.SystemID, System: l.System, Subject: l.Place.Place, Dependent: l.Place.Kind, LogOn: &StepLogOnAs{Was: l.Was, WasID: l.WasID, Account: l.Account, Moved: l.Moved}, Needs: []int{b.signIn}})
		b.logOnOf[l.SystemID+"\x00"+keyOf(l.Place.Kind, l.Place.Place)] = i
		b.ends = append(b.ends, i)
	}
}

// restart adds what must happen so that a unit runs with the new value.
func (b *builder) restart(u Unit, all []Unit) {
	key := u.key()
	var needs []int
	for _, path := range u.Reads {
		if i, found := b.replaceOf[u.SystemID+"\x00"+path]; found {
			needs = append(needs, i)
		}
	}
	if i, found := b.logOnOf[key]; found {
		needs = append(needs, i)
	}
	switch {
	case !u.Running && !u.Start:
		if len(needs) > 0 {
			b.note("%s on %s is not running: what it uses is replaced, it is not started", u.Name, u.System)
		}
		return
	case b.plan.When == RestartLeave:
		if len(needs) > 0 {
			b.note("latent: %s on %s is left running with the old value until somebody restarts it", u.Name, u.System)
		}
		return
	}
	// What another restart takes down and brings back is not restarted again,
	// but only proven: a service stands and falls with those that it needs.
	if u.Kind.LogsOn() || len(needs) == 0 {
		if roots := b.rootsOf(u); len(roots) > 0 {
			revive := Step{Kind: StepRevive, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Check: u.Check, Needs: roots}
			for _, name := range u.Requires {
				if i, found := b.proveOf[u.SystemID+"\x00"+keyOf(u.Kind, name)]; found {
					revive.After = append(revive.After, i)
				}
			}
			r := b.add(revive)
			b.restartOf[key], b.proveOf[key] = roots[0], r
			b.ends = append(b.ends, r)
			return
		}
	}
	if len(needs) == 0 && !u.Start {
		return
	}
	restart := Step{Kind: StepRestart, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Needs: needs, NotBefore: b.in.NotBefore, NotAfter: b.in.NotAfter}
	for _, name := range u.After {
		if i, found := b.proveOf[u.SystemID+"\x00"+keyOf(u.Kind, name)]; found {
			restart.After = append(restart.After, i)
		}
	}
	if i, found := b.lastReplica[u.Name]; found {
		restart.After = append(restart.After, i)
	}
	var along []Unit
	if u.Kind == estate.DependentService {
		along = needing(u, all)
	}
	for _, other := range along {
		// It comes back with what it has stored then.
		if i, found := b.logOnOf[other.key()]; found {
			restart.Needs = append(restart.Needs, i)
		}
		restart.Along = append(restart.Along, other.Place())
		if i, found := b.lastTaken[other.key()]; found && !slices.Contains(restart.After, i) {
			restart.After = append(restart.After, i)
		}
	}
	r := b.add(restart)
	p := b.add(Step{Kind: StepProve, SystemID: u.SystemID, System: u.System, Subject: u.Name, Dependent: u.Kind, Check: u.Check, Needs: []int{r}})
	b.restartOf[key], b.proveOf[key], b.lastReplica[u.Name] = r, p, p
	for _, other := range along {
		b.lastTaken[other.key()] = p
	}
	b.ends = append(b.ends, r, p)
}

// rootsOf finds the restarts on the same system that take a unit down. What
// merely comes back with another is no root of its own.
func (b *builder) rootsOf(u Unit) []int {
	var out []int
	for i, s := range b.plan.Steps {
		if s.Kind != StepRestart || s.SystemID != u.SystemID {
			continue
		}
		taken := slices.Contains(s.Along, u.Place())
		if u.Kind == estate.DependentUnit {
			for _, name := range u.Requires {
				taken = taken || b.restartedWith(u.SystemID, Place{Kind: u.Kind, Place: name}, i)
			}
		}
		if taken {
			out = append(out, i)
		}
	}
	return out
}

func (b *builder) restartedWith(system string, place Place, restart int) bool {
	i, found := b.restartOf[system+"\x00"+keyOf(place.Kind, place.Place)]
	return found && i == restart
}

// needing lists the running units that need a unit, directly or not.
func needing(u Unit, all []Unit) []Unit {
	var out []Unit
	taken := map[string]bool{u.key(): true}
	for again := true; again; {
		again = false
		for _, other := range all {
			if taken[other.key()] || other.SystemID != u.SystemID || other.Kind != u.Kind || !other.Running && !other.Start {
				continue
			}
			for _, name := range other.Requires {
				if taken[u.SystemID+"\x00"+keyOf(u.Kind, name)] {
					taken[other.key()], again = true, true
				}
			}
			if taken[other.key()] {
				out = append(out, other)
			}
		}
	}
	return out
}

// startOrder sorts units so that each comes after those it starts after.
// Cycles are broken where they close, and reported.
func startOrder(units []Unit) ([]Unit, []string) {
	sorted := append([]Unit(nil), units...)
	for i := range sorted {
		if sorted[i].Kind == "" {
			sorted[i].Kind = estate.DependentUnit
		}
	}
	sort.Slice(sorted, func(i, j int) bool {
		return sorted[i].System+"\x00"+sorted[i].Name < sorted[j].System+"\x00"+sorted[j].Name
	})
	at := map[string]int{}
	for i, u := range sorted {
		at[u.key()] = i
	}
	var out []Unit
	var notes []string
	mark := make([]int, len(sorted)) // 0 new, 1 on the path, 2 placed
	var visit func(i int)
	visit = func(i int) {
		mark[i] = 1
		for _, name := range sorted[i].After {
			j, found := at[sorted[i].SystemID+"\x00"+keyOf(sorted[i].Kind, name)]
			if !found || mark[j] == 2 {
				continue
			}
			if mark[j] == 1 {
				notes = append(notes, fmt.Sprintf("start order of %s and %s on %s is a circle: restarted one after the other", sorted[i].Name, name, sorted[i].System))
				continue
			}
			visit(j)
		}
		mark[i] = 2
		out = append(out, sorted[i])
	}
	for i := range sorted {
		if mark[i] == 0 {
			visit(i)
		}
	}
	return out, notes
}

// Chain is the largest number of restarts that must follow one another.
func (p Plan) Chain() int {
	depth := make([]int, len(p.Steps))
	longest := 0
	for i, s := range p.Steps {
		for _, j := range append(append([]int(nil), s.Needs...), s.After...) {
			depth[i] = max(depth[i], depth[j])
		}
		if s.Kind == StepRestart {
			depth[i]++
		}
		longest = max(longest, depth[i])
	}
	return longest
}

// Restarts counts the units that are restarted.
func (p Plan) Restarts() int {
	n := 0
	for _, s := range p.Steps {
		if s.Kind == StepRestart {
			n++
		}
	}
	return n
}

// Interruption says in words what will be interrupted.
func (p Plan) Interruption() string {
	n := p.Restarts()
	if n == 0 {
		return "nothing is restarted"
	}
	var names []string
	for _, s := range p.Steps {
		if s.Kind == StepRestart {
			names = append(names, s.Subject+" on "+s.System)
		}
	}
	if n == 1 {
		return "one restart: " + names[0]
	}
	return fmt.Sprintf("%d restarts, at most %d one after the other: %s", n, p.Chain(), strings.Join(names, ", "))
}
