// Package risk ranks accounts by what they could do and by how weakly they are held.
//
// A score is a product: power (0 to 100, what somebody could do who has the account) times
// weakness (0 to 100, how easily somebody else comes to have it), through a hundred. Both
// are sums of parts, each with its points and the reason, capped at a hundred: a score
// explains itself, and whoever disagrees sees with which part. docs/risk.md lists the parts.
package risk

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
)

// Sides of a score.
const (
	Power    = "power"
	Weakness = "weakness"
)

// Part is one reason.
type Part struct {
	Side   string `json:"side" enum:"power,weakness"`
	Points int    `json:"points"`
	What   string `json:"what"`
	Why    string `json:"why,omitempty" doc:"Through what, or since when"`
}

// Score of an account.
type Score struct {
	Score    int    `json:"score" doc:"Power times weakness, through a hundred"`
	Power    int    `json:"power" doc:"0 to 100: what it could do"`
	Weakness int    `json:"weakness" doc:"0 to 100: how weakly it is held"`
	Parts    []Part `json:"parts" nullable:"false" doc:"What the two are sums of, each capped at a hundred"`
}

// Facts are what a score is made of.
type Facts struct {
	Kind     estate.Kind
	Account  estate.Account
	Rights   []privilege.Right // its own, those of groups included; none by everyone, none that another entry takes back
	Groups   []string          // that it lies in
	Hosts    int               // other systems that depend on it
	Over     []Over            // hosts that it does not belong to, and may do everything on, or come to that
	Findings []string          // kinds of findings about it, or about what holds it
	NoOwner  bool
	Now      time.Time
}

// Over is a host that an account has power over, without belonging to it.
type Over struct {
	Host string
	By   string // what it comes to everything by in one step; "" where it may do everything
}

// HostOf says what rights on a windows host come to; nothing where they come to neither.
func HostOf(host string, rights []privilege.Right) (out Over, power bool) {
	for _, r := range rights {
		switch {
		case r.Deny || r.Unsure != "":
		case administers(estate.KindWindowsHost, r):
			return Over{Host: host}, true
		case out.By == "" && step(r):
			out, power = Over{host, "may " + strings.Replace(r.Verb, privilege.VerbEverything, "do everything", 1) + on(r)}, true
		}
	}
	return out, power
}

// steps are rights on windows hosts by which one comes to everything there in one step: whoever
// debugs a program, or changes what a service runs, has what that has.
var steps = []string{"debug programs", "act as the system", "load drivers", "make log-ons of its own", "start programs as others", "own every object", "write every file"}

func step(r privilege.Right) bool {
	return slices.Contains(steps, r.Verb) || about(r, "service") && slices.Contains([]string{"change", "change permissions", "take ownership", privilege.VerbEverything}, r.Verb)
}

func on(r privilege.Right) string {
	if about(r, "service") {
		return " on " + privilege.On(r.Objects)
	}
	return ""
}

// Of works a score out.
func Of(f Facts) Score {
	parts := append(power(f), weakness(f)...)
	s := Score{Parts: parts}
	for _, p := range parts {
		if p.Side == Power {
			s.Power += p.Points
		} else {
			s.Weakness += p.Points
		}
	}
	s.Power, s.Weakness = min(s.Power, 100), min(s.Weakness, 100)
	s.Score = (s.Power*s.Weakness + 50) / 100
	return s
}

// whole is what being able to do everything on a system counts, by its kind.
var whole = map[estate.Kind]int{estate.KindDirectory: 100, estate.KindUnixHost: 60, estate.KindWindowsHost: 60, estate.KindPostgreSQL: 70, estate.KindMariaDB: 70, estate.KindRedis: 50}

// verbs are what single rights count, once each however often an account has them. Those
// about other accounts grow with how many they are.
var verbs = map[string]struct {
	points int
	grows  bool
}{
	"replicate secrets": {90, false}, "reset password": {30, true}, "write members": {30, true}, "change permissions": {30, true}, "take ownership": {30, true},
	"read managed password": {30, true}, "write key credentials": {25, true}, "write delegation": {25, true}, "write service names": {15, true}, "write account control": {15, true},
	"create accounts": {15, false}, "link policies": {40, false}, "manage roles": {50, false}, "create user": {50, false}, "super": {50, false}, "grant option": {40, false}, "file": {30, false},
	"pass row security": {20, false}, "replicate": {30, false}, "has capability": {30, false}, "set user": {40, false},
}

// doors are groups of unix hosts whose members come to root in one step.
var doors = []string{"docker", "lxd", "disk", "shadow", "kmem"}

func power(f Facts) (out []Part) {
	add := func(points int, what, why string) {
		out = append(out, Part{Power, points, what, why})
	}
	everything, why := false, ""
	type group struct {
		objects int
		through string
		more    bool
	}
	have := map[string]*group{}
	for _, r := range f.Rights {
		switch {
		case r.Deny || r.Unsure != "":
			continue
		case administers(f.Kind, r):
			if !everything {
				everything, why = true, r.Through()
			}
			continue
		}
		verb := r.Verb
		if verb == privilege.VerbEverything {
			if !about(r, "account", "group") {
				continue
			}
			verb = "reset password" // who may do everything with accounts may do that
		}
		if _, counts := verbs[verb]; !counts {
			continue
		}
		g := have[verb]
		if g == nil {
			g = &group{through: r.Through()}
			have[verb] = g
		}
		g.objects += len(r.Objects)
		for _, o := range r.Objects {
			g.more = g.more || o.Name == privilege.AllNames
		}
	}
	if everything {
		add(whole[f.Kind], "may do everything there", through(why))
	}
	for _, verb := range sorted(have) {
		v, g := verbs[verb], have[verb]
		points, words := v.points, "may "+verb
		if verb == "has capability" {
			words = "has capabilities of root"
		}
		if v.grows && (g.objects > 1 || g.more) {
			points += min(40, int(math.Round(20*math.Log10(float64(max(g.objects, 2))))))
			words += fmt.Sprintf(" (%d objects)", g.objects)
		}
		add(points, words, through(g.through))
	}
	if !everything {
		out = append(out, oneStep(f)...)
	}
	out = append(out, over(f.Over)...)
	if f.Hosts > 0 {
		add(min(25, int(math.Round(8*math.Log2(float64(1+f.Hosts))))), "what depends on it is on "+counted(f.Hosts, "system"), "")
	}
	return out
}

// oneStep is what comes to everything on its own system without having it.
func oneStep(f Facts) []Part {
	if f.Kind == estate.KindUnixHost {
		for _, g := range f.Groups {
			if slices.Contains(doors, g) {
				return []Part{{Power, 50, "comes to root by a group", g}}
			}
		}
	}
	if over, power := HostOf("", f.Rights); f.Kind == estate.KindWindowsHost && power {
		return []Part{{Power, 50, "comes to administrator in one step", over.By}}
	}
	return nil
}

// over counts hosts that an account does not belong to: what it may do everything on, else what
// it comes to everything on in one step.
func over(list []Over) (out []Part) {
	var whole, stepwise []Over
	for _, o := range list {
		if o.By == "" {
			whole = append(whole, o)
		} else {
			stepwise = append(stepwise, o)
		}
	}
	more := func(n int) int { return min(40, int(math.Round(20*math.Log10(float64(n))))) }
	if n := len(whole); n > 0 {
		out = append(out, Part{Power, 60 + more(n), "may do everything on " + counted(n, "host"), whole[0].Host + others(n)})
	}
	if n := len(stepwise); n > 0 {
		out = append(out, Part{Power, 50 + more(n), "comes to administrator in one step on " + counted(n, "host"), stepwise[0].By + " on " + stepwise[0].Host + others(n)})
	}
	return out
}

func others(n int) string {
	if n == 1 {
		return ""
	}
	return " and others"
}

// Words say what a score is made of, in one line.
func (s Score) Words() string {
	var sides [2][]string
	for _, p := range s.Parts {
		word := p.What
		if p.Why != "" {
			word += ", " + p.Why
		}
		i := 0
		if p.Side == Weakness {
			i = 1
		}
		sides[i] = append(sides[i], fmt.Sprintf("%s (%d)", word, p.Points))
	}
	return strings.TrimSuffix(strings.Join(sides[0], "; ")+" | "+strings.Join(sides[1], "; "), " | ")
}

func through(path string) string {
	if path == "" {
		return ""
	}
	return "through " + path
}

// administers reports whether a right is that to everything on the system.
func administers(kind estate.Kind, r privilege.Right) bool {
	switch r.Verb {
	case privilege.VerbEverything:
		return about(r, privilege.ObjectSystem, "host", "domain") || kind == estate.KindUnixHost
	case privilege.VerbRun:
		if kind == estate.KindRedis {
			return r.What == "@all"
		}
		as := strings.TrimSpace(r.As)
		return r.What == "ALL" && (as == "" || as == "root" || strings.HasPrefix(as, "ALL"))
	}
	return false
}

func about(r privilege.Right, kinds ...string) bool {
	return slices.ContainsFunc(r.Objects, func(o privilege.Object) bool { return slices.Contains(kinds, o.Kind) })
}

// found are what findings count.
var found = map[string]struct {
	points int
	words  string
}{
	"reused-password": {30, "its password is used for other accounts too"}, "exposed-key": {30, "a key of it can be read by others"}, "weak-key": {15, "a key of it is weak"},
	"secret-in-arguments": {30, "its password stands in the arguments of a program"}, "unexplained-client": {15, "it is used from where nothing depends on it"},
	"stale-copy": {5, "old values of it lie about"}, "left-behind": {10, "a value of it was left behind"}, "drift": {10, "somebody else changed it"}, "started-by-hand": {10, "a person runs programs as it"},
}

func weakness(f Facts) (out []Part) {
	add := func(points int, what, why string) {
		out = append(out, Part{Weakness, points, what, why})
	}
	a := f.Account
	// An account of a unix host whose password is locked is none that rests: programs run as
	// it, and whoever has one of them has it.
	bare := f.Kind == estate.KindUnixHost && a.Enabled == estate.No
	if bare && f.Hosts > 0 {
		add(15, "programs run as it without a password", "")
	}
	switch {
	case bare:
	case a.PasswordChanged.IsZero():
		add(10, "nobody knows how old its password is", "")
	default:
		days := int(f.Now.Sub(a.PasswordChanged).Hours() / 24)
		for _, step := range []struct{ days, points int }{{1825, 40}, {1095, 30}, {365, 20}, {180, 12}, {90, 6}} {
			if days > step.days {
				add(step.points, "its password is old", fmt.Sprintf("%d days", days))
				break
			}
		}
	}
	if a.NeverExpire && !bare {
		add(10, "its password never expires", "")
	}
	if f.NoOwner && a.Owner == "" {
		add(10, "nobody owns it", "")
	}
	if f.Kind == estate.KindUnixHost && a.Shell != "" && !strings.HasSuffix(a.Shell, "nologin") && !strings.HasSuffix(a.Shell, "false") {
		add(10, "one can sign in with it to a shell", a.Shell)
	}
	kinds := slices.Clone(f.Findings)
	slices.Sort(kinds)
	for _, kind := range slices.Compact(kinds) {
		if v, counts := found[kind]; counts {
			add(v.points, v.words, "")
		}
	}
	if a.Enabled == estate.No && !bare {
		return []Part{{Weakness, 2, "it is disabled", ""}}
	}
	return out
}

func sorted[V any](m map[string]V) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func counted(n int, one string) string {
	if n == 1 {
		return "one " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
