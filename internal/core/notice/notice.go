// Package notice is about what people are told while they do not look: which acts and
// findings are events, how grave each is, what of them a recipient wants, and how they
// are put into words.
//
// There is one vocabulary: an act of the ledger is an event by its own name (rotation.finished,
// approval.asked, policy.save), and findings are raised and cleared. Whoever wants the whole
// trail elsewhere takes every event; whoever wants to sleep takes what needs a person.
// What is told is made of ledger entries and findings, which hold no secrets.
package notice

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Severity is how grave an event is, in the words of RFC 5424, section 6.2.1.
type Severity string

// Severities that events have, the gravest first. Alerts and emergencies are for others to
// declare.
const (
	Critical      Severity = "critical"
	Error         Severity = "error"
	Warning       Severity = "warning"
	Notice        Severity = "notice"
	Informational Severity = "informational"
)

var severities = []Severity{Critical, Error, Warning, Notice, Informational}

// mostGrave is the number of critical.
const mostGrave = 2

// Number is the one that RFC 5424 gives it: the lower, the graver.
func (s Severity) Number() int {
	if i := slices.Index(severities, s); i >= 0 {
		return mostGrave + i
	}
	return mostGrave + len(severities) - 1
}

// Numbered is the severity with a number.
func Numbered(n int) Severity {
	return severities[max(0, min(n-mostGrave, len(severities)-1))]
}

// Severities are their words, the gravest first.
func Severities() []string {
	var out []string
	for _, s := range severities {
		out = append(out, string(s))
	}
	return out
}

// SeverityOf reads a word.
func SeverityOf(word string) (Severity, error) {
	if slices.Contains(severities, Severity(word)) {
		return Severity(word), nil
	}
	return "", fmt.Errorf("severity %q: it is one of %s", word, strings.Join(Severities(), ", "))
}

// Event is one thing that is told.
type Event struct {
	Event    string    `json:"event"` // an act of the ledger, finding.raised, finding.cleared or message.test
	Severity Severity  `json:"severity" enum:"critical,error,warning,notice,informational"`
	Time     time.Time `json:"time"`
	Text     string    `json:"text"`              // in a sentence
	Subject  string    `json:"subject,omitempty"` // what it is about
	System   string    `json:"system,omitempty"`  // where
	By       string    `json:"by,omitempty"`      // who did it; "service" when nobody asked at that moment
	Result   string    `json:"result,omitempty"`  // what came of it
	Reason   string    `json:"reason,omitempty"`  // in a person's words
	Detail   string    `json:"detail,omitempty"`  // in the system's words
	Next     string    `json:"next,omitempty"`    // what to do next
	Ref      string    `json:"ref,omitempty"`     // the rotation, batch, ... it belongs to
	Entry    int64     `json:"entry,omitempty"`   // number of the ledger's entry
	Finding  int64     `json:"finding,omitempty"` // number of the finding
	Kind     string    `json:"kind,omitempty"`    // of the finding
}

// Most of a text that is sent on: what systems say can be long.
const (
	mostText   = 600
	mostDetail = 2000
)

// Clean is the event with texts that fit on a line: whatever a system says, it begins no
// line of its own in somebody's log, and turns nothing round.
func (e Event) Clean() Event {
	for _, text := range []*string{&e.Event, &e.Subject, &e.System, &e.By, &e.Result, &e.Ref, &e.Kind, &e.Text} {
		*text = Line(*text, mostText)
	}
	for _, text := range []*string{&e.Reason, &e.Detail, &e.Next} {
		*text = Line(*text, mostDetail)
	}
	e.Time = e.Time.UTC()
	return e
}

// Line is a text on one line, of so many characters at most.
func Line(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp):
			return '·'
		}
		return r
	}, strings.ToValidUTF8(text, "·"))
	if utf8.RuneCountInString(text) > most {
		text = string([]rune(text)[:most-1]) + "…"
	}
	return text
}

// toEverybody is what everybody is told who is told anything.
const toEverybody = "rotation.emergency"

// Wants is what a recipient wants to be told.
type Wants struct {
	Events []string // names, with * for any letters at the end: rotation.*; all when there are none
	Least  Severity // no less grave than this
	Labels []string // only what is about an account with one of them; whatever it is about when there are none
}

// Fits reports whether an event about an account with some labels is wanted. about is nil
// when it is about no account.
func (w Wants) Fits(e Event, about []string) bool {
	if e.Event == toEverybody {
		return true
	}
	if e.Severity.Number() > w.Least.Number() {
		return false
	}
	if len(w.Events) > 0 && !slices.ContainsFunc(w.Events, func(pattern string) bool { return named(pattern, e.Event) }) {
		return false
	}
	return len(w.Labels) == 0 || slices.ContainsFunc(about, func(label string) bool { return slices.Contains(w.Labels, label) })
}

func named(pattern, name string) bool {
	if begin, open := strings.CutSuffix(pattern, "*"); open {
		return strings.HasPrefix(name, begin)
	}
	return pattern == name
}

// Subject is a line for several events: the gravest one, and how many more.
func Subject(events []Event) (Severity, string) {
	if len(events) == 0 {
		return Informational, "nothing"
	}
	gravest := events[0]
	for _, e := range events[1:] {
		if e.Severity.Number() < gravest.Severity.Number() {
			gravest = e
		}
	}
	if more := len(events) - 1; more > 0 {
		return gravest.Severity, fmt.Sprintf("%s (and %d more)", gravest.Text, more)
	}
	return gravest.Severity, gravest.Text
}
