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
	"sort"
	"strings"

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
	StepRestart StepKind = "restart" // restart one unit
	StepRevive  StepKind = "revive"  // bring back a unit that a restart took down with it
	StepProve   StepKind = "prove"   // prove that the unit runs anew, and its own check
	StepRefuse  StepKind = "refuse"  // prove that the authority refuses the old value
)

// Step is one act of a plan.
type Step struct {
	Index    int            `json:"index"`
	Kind     StepKind       `json:"kind"`
	SystemID string         `json:"system_id,omitempty"`
	System   string         `json:"system,omitempty"` // name
	Subject  string         `json:"subject"`          // account, file path or unit name
	Places   []held.Locator `json:"places,omitempty"` // for replace
	Check    *AppCheck      `json:"check,omitempty"`  // for prove
	Needs    []int          `json:"needs,omitempty"`  // must have succeeded
	After    []int          `json:"after,omitempty"`  // must have ended, well or not
}

// Title is the step in a few words.
func (s Step) Title() string {
	switch s.Kind {
	case StepSeal:
		return "seal a new value for " + s.Subject
	case StepChange:
		return "change " + s.Subject + " on " + s.System
	case StepSignIn:
		return "sign in as " + s.Subject + " with the new value"
	case StepReplace:
		return "replace the copy in " + s.Subject + " on " + s.System
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

// Plan is what a rotation will do.
type Plan struct {
	AccountID   string   `json:"account_id"`
	Account     string   `json:"account"`
	AuthorityID string   `json:"authority_id"`
	Authority   string   `json:"authority"`
	Policy      Policy   `json:"policy"`
	Steps       []Step   `json:"steps"`
	Notes       []string `json:"notes"` // what a person should know before saying yes
}

// File is a file that holds copies.
type File struct {
	SystemID string
	System   string
	Path     string
	Places   []held.Locator
}

// Unit is a unit that reads held copies.
type Unit struct {
	SystemID string
	System   string
	Name     string
	Running  bool
	Reads    []string // paths of files on the same system
	After    []string // names of units on the same system that start before it
	Requires []string // names of units that take it down with them
	Check    *AppCheck
}

// Input is what Build needs to know.
type Input struct {
	AccountID, Account     string
	AuthorityID, Authority string
	Policy                 Policy
	Files                  []File
	Units                  []Unit
}

// Build makes the plan: seal, change, prove, then replace every copy and
// restart every running reader in start order, never two replicas (units of
// the same name on different systems) at once, and prove each.
func Build(in Input) Plan {
	plan := Plan{
		AccountID: in.AccountID, Account: in.Account, AuthorityID: in.AuthorityID,
		Authority: in.Authority, Policy: in.Policy, Notes: []string{},
	}
	add := func(s Step) int {
		s.Index = len(plan.Steps)
		plan.Steps = append(plan.Steps, s)
		return s.Index
	}
	seal := add(Step{Kind: StepSeal, Subject: in.Account})
	change := add(Step{Kind: StepChange, SystemID: in.AuthorityID, System: in.Authority, Subject: in.Account, Needs: []int{seal}})
	signIn := add(Step{Kind: StepSignIn, SystemID: in.AuthorityID, System: in.Authority, Subject: in.Account, Needs: []int{change}})

	files := append([]File(nil), in.Files...)
	sort.Slice(files, func(i, j int) bool {
		return files[i].System+"\x00"+files[i].Path < files[j].System+"\x00"+files[j].Path
	})
	replaceOf := map[string]int{}
	var ends []int
	for _, f := range files {
		i := add(Step{Kind: StepReplace, SystemID: f.SystemID, System: f.System, Subject: f.Path, Places: f.Places, Needs: []int{signIn}})
		replaceOf[f.SystemID+"\x00"+f.Path] = i
		ends = append(ends, i)
	}

	units, cycles := startOrder(in.Units)
	plan.Notes = append(plan.Notes, cycles...)
	restartOf := map[string]int{}   // system and unit name
	proveOf := map[string]int{}     // system and unit name
	lastReplica := map[string]int{} // unit name
	for _, u := range units {
		if !u.Running {
			plan.Notes = append(plan.Notes, fmt.Sprintf("%s on %s is not running: its copy is replaced, it is not started", u.Name, u.System))
			continue
		}
		restart := Step{Kind: StepRestart, SystemID: u.SystemID, System: u.System, Subject: u.Name, Needs: []int{}}
		for _, path := range u.Reads {
			if i, found := replaceOf[u.SystemID+"\x00"+path]; found {
				restart.Needs = append(restart.Needs, i)
			}
		}
		if len(restart.Needs) == 0 {
			// It holds nothing, but stands and falls with one that is restarted.
			for _, name := range u.Requires {
				if i, found := restartOf[u.SystemID+"\x00"+name]; found {
					r := add(Step{Kind: StepRevive, SystemID: u.SystemID, System: u.System, Subject: u.Name, Check: u.Check, Needs: []int{i}, After: []int{proveOf[u.SystemID+"\x00"+name]}})
					restartOf[u.SystemID+"\x00"+u.Name], proveOf[u.SystemID+"\x00"+u.Name] = i, r
					ends = append(ends, r)
					break
				}
			}
			continue
		}
		for _, name := range u.After {
			if i, found := proveOf[u.SystemID+"\x00"+name]; found {
				restart.After = append(restart.After, i)
			}
		}
		if i, found := lastReplica[u.Name]; found {
			restart.After = append(restart.After, i)
		}
		r := add(restart)
		p := add(Step{Kind: StepProve, SystemID: u.SystemID, System: u.System, Subject: u.Name, Check: u.Check, Needs: []int{r}})
		restartOf[u.SystemID+"\x00"+u.Name], proveOf[u.SystemID+"\x00"+u.Name] = r, p
		lastReplica[u.Name] = p
		ends = append(ends, r, p)
	}
	add(Step{Kind: StepRefuse, SystemID: in.AuthorityID, System: in.Authority, Subject: in.Account, Needs: []int{signIn}, After: ends})
	if len(files) == 0 {
		plan.Notes = append(plan.Notes, "no held copy is known: only the authority is changed")
	}
	return plan
}

// startOrder sorts units so that each comes after those it starts after.
// Cycles are broken where they close, and reported.
func startOrder(units []Unit) ([]Unit, []string) {
	sorted := append([]Unit(nil), units...)
	sort.Slice(sorted, func(i, j int) bool {
		return sorted[i].System+"\x00"+sorted[i].Name < sorted[j].System+"\x00"+sorted[j].Name
	})
	at := map[string]int{}
	for i, u := range sorted {
		at[u.SystemID+"\x00"+u.Name] = i
	}
	var out []Unit
	var notes []string
	mark := make([]int, len(sorted)) // 0 new, 1 on the path, 2 placed
	var visit func(i int)
	visit = func(i int) {
		mark[i] = 1
		for _, name := range sorted[i].After {
			j, found := at[sorted[i].SystemID+"\x00"+name]
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
