package building

import (
	"slices"

	"mossledger.example/moss/internal/core/rotation"
)

// groups are those that a unit belongs to, with how many of each may be restarted at the
// same time. What has the same name on several systems is one thing, one at a time.
func (b *builder) groups(u Unit) map[string]int {
	out := map[string]int{"\x00" + u.Name: 1}
	for _, name := range u.Groups {
		out[name] = max(1, b.in.Groups[name])
	}
	return out
}

// firstAlone adds one dependent with all that it reads, its restart and its proof, and
// has everything else wait for that. It returns the dependent's key, or "" where there is
// none, or nothing else. It is one that starts before others: nothing that it needs is
// changed after it. One with a check of its own says most.
func (b *builder) firstAlone(units []Unit) string {
	if !b.in.FirstAlone || b.plan.When == rotation.RestartLeave {
		return ""
	}
	at := -1
	for i, u := range units {
		if !u.Running || !b.gives(u) || b.waits(u, units) || b.apart(u) {
			continue
		}
		if at < 0 || u.Check != nil && units[at].Check == nil {
			at = i
		}
	}
	if at < 0 {
		return ""
	}
	u := units[at]
	mine := map[string]bool{u.key(): true}
	for _, other := range needing(u, b.running[u.SystemID]) {
		mine[other.key()] = true
	}
	file := func(system, path string) bool { return system == u.SystemID && slices.Contains(u.Reads, path) }
	logOn := func(l LogOn) bool { return mine[l.SystemID+"\x00"+l.Place.Key()] }
	others := slices.ContainsFunc(b.in.Files, func(f File) bool { return !file(f.SystemID, f.Path) }) || slices.ContainsFunc(b.in.LogOns, func(l LogOn) bool { return !logOn(l) })
	if !others {
		return ""
	}
	b.replacements(file, logOn)
	b.restart(u, b.running[u.SystemID])
	proven, found := b.proveOf[u.key()]
	if !found {
		return "" // its copies come first all the same
	}
	b.plan.FirstAlone = u.Name + " on " + u.System
	b.note(rotation.NoteInfo, "%s is changed, restarted and proven alone; only then everything else is", b.plan.FirstAlone)
	b.signIns = []int{proven}
	return u.key()
}

// apart: a unit is restarted in another window than the one in which the value that it
// has stops being accepted. Nothing may wait for it then.
func (b *builder) apart(u Unit) bool {
	return u.Window != "" && u.Window != b.in.Window && b.in.Kind != rotation.KindAssign && slices.ContainsFunc(b.in.Points, func(p Point) bool { return !p.Overlap && !p.Certifies })
}

// waits: a unit starts after another one of the plan.
func (b *builder) waits(u Unit, units []Unit) bool {
	before := map[string]bool{}
	for _, other := range units {
		if other.key() != u.key() && other.Running && b.gives(other) {
			before[other.key()] = true
		}
	}
	for _, list := range [][]string{u.After, u.Requires} {
		for _, name := range list {
			if before[Unit{SystemID: u.SystemID, Kind: u.Kind, Name: name}.key()] {
				return true
			}
		}
	}
	return slices.ContainsFunc(u.Behind, func(other Unit) bool { return before[other.key()] })
}
