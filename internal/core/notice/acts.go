package notice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/ledger"
)

// act is what is said of one that is known by its name.
type act struct {
	severity Severity
	words    string // with %s for its subject; the act's own name without
}

// acts are those that deserve more than their name. What fails is a warning at least.
var acts = map[string]act{
	"amendment.decision":     {Notice, "A person decided about changing the rights of %s"},
	"amendment.finished":     {Notice, "Changing the rights of %s has ended"},
	"amendment.start":        {Warning, "Changing the rights of %s was begun"},
	"proof.start":            {Notice, "It is tried which rights a job of %s needs"},
	"proof.end":              {Notice, "It was tried which rights a job of %s needs"},
	"approval.asked":         {Warning, "A second person is needed for %s"},
	"approval.approve":       {Notice, "%s was approved"},
	"approval.refuse":        {Notice, "%s was refused"},
	"approval.withdraw":      {Notice, "The request about %s was withdrawn"},
	"batch.end":              {Notice, "Rotations together have ended: %s"},
	"batch.start":            {Notice, "Rotations together were begun: %s"},
	"batch.stop":             {Warning, "Rotations together were stopped: %s"},
	"configuration.apply":    {Warning, "What was decided was changed as a text says"},
	"custody.erase":          {Informational, "Former values of %s were erased, for their time was over"},
	"custody.release":        {Warning, "%s is out of custody"},
	"custody.reset":          {Notice, "%s got a new value and is in custody"},
	"custody.settle":         {Notice, "Which value of %s is in force was found out"},
	"custody.take":           {Notice, "%s is in custody"},
	"endpoint.trust":         {Warning, "Where %s is reached, or how it proves itself, was changed"},
	"ledger.begin":           {Notice, "The ledger was begun"},
	"message.retry":          {Notice, "Messages to %s are sent again"},
	"policy.remove":          {Warning, "The policy %s was removed"},
	"policy.save":            {Notice, "The policy %s was saved"},
	"charter.save":           {Notice, "The charter %s was saved"},
	"charter.remove":         {Notice, "The charter %s was removed"},
	"trace.start":            {Notice, "What is sent to %s is traced"},
	"trace.end":              {Notice, "What is sent to %s is traced no longer"},
	"probe.run":              {Informational, "%s was probed"},
	"recipient.remove":       {Warning, "The recipient %s was removed: it is told nothing more"},
	"recipient.save":         {Warning, "What the recipient %s is told was changed"},
	"recipient.test":         {Notice, "A test was sent to %s"},
	"rotation.decision":      {Notice, "A person decided about the rotation of %s"},
	"rotation.emergency":     {Critical, "A rotation of %s was begun in an emergency, without the second person that it needs"},
	"requirement.save":       {Warning, "For which rotations a second person is needed was changed: %s"},
	"requirement.remove":     {Warning, "For which rotations a second person is needed was changed: %s was removed"},
	"approval.expire":        {Notice, "Nobody approved %s in time"},
	"rotation.finished":      {Notice, "The rotation of %s has ended"},
	"rotation.override":      {Warning, "A rotation of %s was begun although no rehearsal passed"},
	"rotation.started":       {Notice, "A rotation of %s was begun"},
	"service.freeze":         {Warning, "Everything is frozen"},
	"service.set-up":         {Warning, "The service was set up"},
	"service.thaw":           {Warning, "Everything goes on: it was frozen"},
	"session.sign-in":        {Informational, "%s signed in"},
	"steward.remove":         {Notice, "The steward %s was removed"},
	"steward.save":           {Warning, "The steward %s was changed"},
	"system.add":             {Notice, "The system %s was added"},
	"system.change":          {Notice, "The system %s was changed"},
	"system.remove":          {Warning, "The system %s was removed"},
	"token.add":              {Notice, "The token %s was made"},
	"token.revoke":           {Notice, "The token %s was revoked"},
	"user.add":               {Warning, "The person %s was added"},
	"user.change":            {Warning, "The person %s was changed"},
	"user.password":          {Notice, "%s changed their password"},
	"window.remove":          {Warning, "The window %s was removed"},
	"window.save":            {Notice, "The window %s was saved"},
	"ledger.accept-restored": {Warning, "An older database was accepted as restored"},
}

// Names are the events that deserve more than their name, with how grave they are when all
// goes well.
func Names() map[string]Severity {
	out := map[string]Severity{Raised: Error, Cleared: Informational, Test: Notice}
	for name, a := range acts {
		out[name] = a.severity
	}
	return out
}

// Names of events that are no acts.
const (
	Raised  = "finding.raised"
	Cleared = "finding.cleared"
	Test    = "message.test"
)

// bad are results of acts that did not come to what was asked for, with how grave that is.
// What a rotation came to is graver than what one of its steps did: those are tried again.
var bad = map[string]Severity{
	"failed": Warning, "unclear": Warning, "refused": Warning,
	"done-with-failures": Error, "undone": Error, "undo-incomplete": Critical,
}

// OfEntry makes an event of an entry of the ledger. What is only intended is none, but for
// what waits for a second person.
func OfEntry(e ledger.Entry) (Event, bool) {
	name := e.Act
	if e.Phase == ledger.Intent {
		if e.Result != "asked" {
			return Event{}, false
		}
		name = "approval.asked"
	}
	known := acts[name]
	out := Event{Event: name, Severity: cmp.Or(known.severity, Informational), Time: e.Time, Subject: e.Subject, System: e.System, By: e.Actor, Result: e.Result, Reason: e.Reason, Detail: e.Detail, Ref: e.Ref, Entry: e.Index}
	if s, is := bad[e.Result]; is {
		out.Severity = Numbered(min(out.Severity.Number(), s.Number()))
	}
	for _, c := range e.Changes {
		words := fmt.Sprintf("%s: %q", c.Field, c.To)
		if c.From != "" {
			words = fmt.Sprintf("%s: %q → %q", c.Field, c.From, c.To)
		}
		out.Detail = strings.TrimPrefix(out.Detail+"; "+words, "; ")
	}
	out.Text = sentence(known.words, out)
	return out.Clean(), true
}

func sentence(words string, e Event) string {
	subject := cmp.Or(e.Subject, e.Ref, e.By, "the service")
	if e.System != "" && e.System != e.Subject {
		subject += " on " + e.System
	}
	text := e.Event + " of " + subject
	if strings.Contains(words, "%s") {
		text = strings.ReplaceAll(words, "%s", subject)
	} else if words != "" {
		text = words
	}
	if _, is := bad[e.Result]; is {
		text += ": " + strings.ReplaceAll(e.Result, "-", " ")
	}
	if e.By != "" && e.By != "service" && subject != e.By {
		text += " (" + e.By + ")"
	}
	return text
}

// OfFinding makes an event of a finding that was raised or cleared.
func OfFinding(e Event, severity string, cleared bool) Event {
	e.Event, e.Severity = Raised, map[string]Severity{"high": Error, "medium": Warning}[severity]
	if e.Severity == "" {
		e.Severity = Notice
	}
	text := fmt.Sprintf("Finding %s about %s", e.Kind, cmp.Or(e.Subject, "the estate"))
	if e.System != "" && e.System != e.Subject {
		text += " on " + e.System
	}
	e.Text = text + ": " + e.Detail
	if cleared {
		e.Event, e.Severity, e.Text, e.Detail, e.Next = Cleared, Informational, text+" is no more", "", ""
	}
	return e.Clean()
}

// CheckPattern reports why a name of events can never fit anything.
func CheckPattern(pattern string) error {
	name, open := strings.CutSuffix(pattern, "*")
	if strings.Contains(name, "*") || pattern == "" || len(pattern) > 60 {
		return fmt.Errorf("event %q: a name, or the beginning of names and *, such as rotation.*", pattern)
	}
	areas := []string{"finding", "message", "copy", "dependent", "label", "option", "order", "rule", "session", "survey", "use", "holder"}
	for known := range Names() {
		area, _, _ := strings.Cut(known, ".")
		areas = append(areas, area)
	}
	area, _, dotted := strings.Cut(name, ".")
	if slices.Contains(areas, area) || open && !dotted && slices.ContainsFunc(areas, func(a string) bool { return strings.HasPrefix(a, area) }) {
		return nil
	}
	slices.Sort(areas)
	return fmt.Errorf("event %q: nothing is called so; names begin with %s", pattern, strings.Join(slices.Compact(areas), ", "))
}
