package notice

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/ledger"
)

// What an act is told as: how grave, in which words, and which are not told at all.
func TestEntriesBecomeEvents(t *testing.T) {
	for name, c := range map[string]struct {
		entry    ledger.Entry
		event    string
		severity Severity
		text     string
	}{
		"done":         {ledger.Entry{Act: "rotation.finished", Phase: ledger.Outcome, Result: "done", Subject: "svc-berth", System: "larkmoor", Actor: "ines"}, "rotation.finished", Notice, "The rotation of svc-berth on larkmoor has ended (ines)"},
		"undone":       {ledger.Entry{Act: "rotation.finished", Phase: ledger.Outcome, Result: "undone", Subject: "svc-berth", Actor: "service"}, "rotation.finished", Error, "The rotation of svc-berth has ended: undone"},
		"not undone":   {ledger.Entry{Act: "rotation.finished", Phase: ledger.Outcome, Result: "undo-incomplete", Subject: "svc-berth"}, "rotation.finished", Critical, "The rotation of svc-berth has ended: undo incomplete"},
		"a step":       {ledger.Entry{Act: "rotation.replace", Phase: ledger.Outcome, Result: "done", Subject: "/etc/tides.env", System: "quay1"}, "rotation.replace", Informational, "rotation.replace of /etc/tides.env on quay1"},
		"a bad step":   {ledger.Entry{Act: "rotation.replace", Phase: ledger.Outcome, Result: "unclear", Subject: "/etc/tides.env", System: "quay1"}, "rotation.replace", Warning, "rotation.replace of /etc/tides.env on quay1: unclear"},
		"asked":        {ledger.Entry{Act: "user.add", Phase: ledger.Intent, Result: "asked", Subject: "ola", Actor: "ben"}, "approval.asked", Warning, "A second person is needed for ola (ben)"},
		"refused":      {ledger.Entry{Act: "session.sign-in", Phase: ledger.Outcome, Result: "refused", Subject: "eve"}, "session.sign-in", Warning, "eve signed in: refused"},
		"signed in":    {ledger.Entry{Act: "session.sign-in", Phase: ledger.Outcome, Result: "done", Actor: "ola"}, "session.sign-in", Informational, "ola signed in"},
		"frozen":       {ledger.Entry{Act: "service.freeze", Phase: ledger.Outcome, Result: "done", Subject: "everything", Actor: "ola"}, "service.freeze", Warning, "Everything is frozen (ola)"},
		"never before": {ledger.Entry{Act: "tide.turn", Phase: ledger.Outcome, Result: "done", Ref: "tide/7"}, "tide.turn", Informational, "tide.turn of tide/7"},
	} {
		e, is := OfEntry(c.entry)
		require.True(t, is, name)
		assert.Equal(t, []any{c.event, c.severity, c.text}, []any{e.Event, e.Severity, e.Text}, name)
	}
	_, is := OfEntry(ledger.Entry{Act: "rotation.change", Phase: ledger.Intent})
	assert.False(t, is, "what is only intended is told with its outcome")
	e, _ := OfEntry(ledger.Entry{Act: "policy.save", Phase: ledger.Outcome, Result: "done", Subject: "nightly", Changes: []ledger.Change{{Field: "every_days", From: "90", To: "30"}}})
	assert.Equal(t, `every_days: "90" → "30"`, e.Detail)
}

func TestFindingsBecomeEvents(t *testing.T) {
	f := Event{Kind: "drift", Subject: "svc-tide", System: "larkmoor", Detail: "changed by somebody else", Next: "reset it"}
	for severity, want := range map[string]Severity{"high": Error, "medium": Warning, "low": Notice, "": Notice} {
		assert.Equal(t, want, OfFinding(f, severity, false).Severity, severity)
	}
	assert.Equal(t, "Finding drift about svc-tide on larkmoor: changed by somebody else", OfFinding(f, "high", false).Text)
	over := OfFinding(f, "high", true)
	assert.Equal(t, []any{Cleared, Informational, "Finding drift about svc-tide on larkmoor is no more", ""}, []any{over.Event, over.Severity, over.Text, over.Next})
}

func TestWants(t *testing.T) {
	failed := Event{Event: "rotation.finished", Severity: Error}
	for name, c := range map[string]struct {
		wants Wants
		about []string
		fits  bool
	}{
		"everything":          {Wants{Least: Informational}, nil, true},
		"as grave":            {Wants{Least: Error}, nil, true},
		"only graver":         {Wants{Least: Critical}, nil, false},
		"by its name":         {Wants{Least: Warning, Events: []string{"rotation.finished"}}, nil, true},
		"by its beginning":    {Wants{Least: Warning, Events: []string{"batch.*", "rotation.*"}}, nil, true},
		"other names":         {Wants{Least: Warning, Events: []string{"batch.*", "rotation"}}, nil, false},
		"by a label":          {Wants{Least: Warning, Labels: []string{"quay", "tides"}}, []string{"crew", "tides"}, true},
		"by another label":    {Wants{Least: Warning, Labels: []string{"quay"}}, []string{"tides"}, false},
		"about no account":    {Wants{Least: Warning, Labels: []string{"quay"}}, nil, false},
		"label, not so grave": {Wants{Least: Critical, Labels: []string{"quay"}}, []string{"quay"}, false},
	} {
		assert.True(t, c.wants.Fits(Event{Event: "rotation.emergency", Severity: Critical}, c.about), "an emergency is told to everybody")
		assert.Equal(t, c.fits, c.wants.Fits(failed, c.about), name)
	}
}

func TestPatterns(t *testing.T) {
	for _, good := range []string{"rotation.*", "rotation.finished", "finding.raised", "*", "rot*", "policy.save", "survey.run", "message.test"} {
		assert.NoError(t, CheckPattern(good), good)
	}
	for _, bad := range []string{"", "rotations.*", "*.save", "tide.turn", "zz*", strings.Repeat("a", 61), "rotation.*.*"} {
		assert.Error(t, CheckPattern(bad), bad)
	}
	for name := range Names() {
		assert.NoError(t, CheckPattern(name), "what is told can be asked for by its name")
	}
}

func TestSubject(t *testing.T) {
	severity, words := Subject([]Event{{Severity: Notice, Text: "a"}, {Severity: Error, Text: "b"}, {Severity: Warning, Text: "c"}})
	assert.Equal(t, Error, severity)
	assert.Equal(t, "b (and 2 more)", words)
	severity, words = Subject(nil)
	assert.Equal(t, []any{Informational, "nothing"}, []any{severity, words})
}

func TestSeverities(t *testing.T) {
	for i, word := range Severities() {
		s, err := SeverityOf(word)
		require.NoError(t, err)
		assert.Equal(t, i+2, s.Number(), "RFC 5424, table 2")
		assert.Equal(t, s, Numbered(s.Number()))
	}
	_, err := SeverityOf("loud")
	assert.ErrorContains(t, err, "critical, error, warning")
	assert.Equal(t, Critical, Numbered(-4))
	assert.Equal(t, Informational, Numbered(40))
	assert.Equal(t, 6, Severity("loud").Number())
}

// Whatever a system says, it stays on its line, is not too long, and is text.
func FuzzClean(f *testing.F) {
	for _, seed := range []string{"", "plain", "two\nlines\r\n<134>1 - - forged", "\x1b[2J", "\u202egnp.exe", strings.Repeat("ø", 5000), "\xff\xfe", "a\x00b", "\u2028next"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e := Event{Event: text, Severity: Warning, Time: time.Unix(0, 0), Text: text, Subject: text, System: text, By: text, Result: text, Reason: text, Detail: text, Next: text, Ref: text, Kind: text}.Clean()
		raw, err := json.Marshal(e)
		require.NoError(t, err)
		var fields map[string]any
		require.NoError(t, json.Unmarshal(raw, &fields))
		for name, v := range fields {
			s, is := v.(string)
			if !is {
				continue
			}
			assert.True(t, utf8.ValidString(s), name)
			assert.LessOrEqual(t, utf8.RuneCountInString(s), mostDetail, name)
			assert.False(t, strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) || r == '\u2028' || r == '\u202e' }), "%s: %q", name, s)
		}
	})
}
