// Package change says what differs between two looks at one thing.
//
// A survey looks at the estate again and again, and each look replaces the one before.
// What people want to know afterwards is not how things are but what became of them:
// which account is new, whose groups grew, which service runs as somebody else. This
// package compares two looks at an account or at a dependent field by field, and folds
// many changes into what they come to between two moments.
//
// Only what somebody decides about is compared. That a program runs or stands still,
// when it was started and when somebody last signed in is use, and changes at every look.
package change

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// What became of a thing.
type What string

// Kinds of change.
const (
	New     What = "new"     // a complete look before did not show it
	Changed What = "changed" // it was there, and is otherwise now
	Gone    What = "gone"    // a complete look did not show it any more
	Back    What = "back"    // it was gone, and is there again
)

// Whats lists all of them.
func Whats() []string { return []string{string(New), string(Changed), string(Gone), string(Back)} }

// Field is one field that differs. A list has what was added to it and what was removed
// from it in the place of from and to. Values that are secret are never told: only that
// there is another one.
type Field struct {
	Name    string   `json:"name"`
	From    string   `json:"from,omitempty"`
	To      string   `json:"to,omitempty"`
	Added   []string `json:"added,omitempty"`
	Removed []string `json:"removed,omitempty"`
}

// Words for values that are not shown.
const (
	ValueBefore = "one value"
	ValueAfter  = "another value"
)

// FieldValue is the name of the field that a held value changes in.
const FieldValue = "value"

// FieldNames is that other accounts are named beside it.
const FieldNames = "names beside it"

// FieldRunsAs and FieldPasswordChanged are fields that rules look at.
const (
	FieldRunsAs          = "runs as"
	FieldPasswordChanged = "password changed"
	FieldPasswordExpires = "password expires"
	FieldAccountExpires  = "account expires"
	FieldNeverExpires    = "never expires"
	FieldEnabled         = "enabled"
	FieldGroups          = "groups"
	FieldLabels          = "labels"
)

// comparing collects what differs.
type comparing struct{ fields []Field }

func (c *comparing) text(name, from, to string) {
	if from != to {
		c.fields = append(c.fields, Field{Name: name, From: from, To: to})
	}
}

func (c *comparing) time(name string, from, to time.Time) {
	if !from.Equal(to) {
		c.text(name, moment(from), moment(to))
	}
}

func (c *comparing) yes(name string, from, to bool) { c.text(name, yesNo(from), yesNo(to)) }

func (c *comparing) list(name string, from, to []string) {
	added, removed := without(to, from), without(from, to)
	if len(added) > 0 || len(removed) > 0 {
		c.fields = append(c.fields, Field{Name: name, Added: added, Removed: removed})
	}
}

func without(list, other []string) (out []string) {
	known := make(map[string]bool, len(other))
	for _, v := range other {
		known[v] = true
	}
	for _, v := range list {
		if !known[v] {
			known[v] = true
			out = append(out, v)
		}
	}
	return out
}

func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Accounts compares two looks at one account.
func Accounts(before, after estate.Account) []Field {
	c := &comparing{}
	c.text("name", before.Name, after.Name)
	c.text("dn", before.DN, after.DN)
	c.text("upn", before.UPN, after.UPN)
	c.text("sid", before.SID, after.SID)
	c.text("type", before.Type, after.Type)
	c.text(FieldEnabled, string(before.Enabled), string(after.Enabled))
	c.text("locked", string(before.Locked), string(after.Locked))
	c.list(FieldGroups, before.Groups, after.Groups)
	c.list("principals", before.Principals, after.Principals)
	c.time(FieldPasswordChanged, before.PasswordChanged, after.PasswordChanged)
	c.time(FieldPasswordExpires, before.PasswordExpires, after.PasswordExpires)
	c.time(FieldAccountExpires, before.AccountExpires, after.AccountExpires)
	c.yes(FieldNeverExpires, before.NeverExpire, after.NeverExpire)
	c.yes("must change", before.MustChange, after.MustChange)
	c.text("display name", before.DisplayName, after.DisplayName)
	c.text("description", before.Description, after.Description)
	c.text("owner", before.Owner, after.Owner)
	c.text("shell", before.Shell, after.Shell)
	c.text("home", before.Home, after.Home)
	return c.fields
}

// Dependents compares two looks at one dependent. The files that a unit reads and the
// order of its start belong to it; that it runs does not.
func Dependents(before, after estate.Dependent) []Field {
	c := &comparing{}
	c.text(FieldRunsAs, before.RunsAs, after.RunsAs)
	c.text("executable", before.Executable, after.Executable)
	c.text("start mode", before.StartMode, after.StartMode)
	c.text("schedule", before.Schedule, after.Schedule)
	c.text("path", before.Path, after.Path)
	c.list("uses", before.Uses, after.Uses)
	c.list("starts after", before.After, after.After)
	c.list("requires", before.Requires, after.Requires)
	c.text("name", before.Name, after.Name)
	c.text("description", before.Description, after.Description)
	if before.Stored != "" && after.Stored != "" && before.Stored != after.Stored {
		c.text(FieldValue, ValueBefore, ValueAfter)
	}
	c.copies(before.Copy, after.Copy)
	c.keys(before.Key, after.Key)
	return c.fields
}

func (c *comparing) copies(before, after *estate.Copy) {
	if before == nil || after == nil {
		return // of another kind: another dependent
	}
	if before.Fingerprint != after.Fingerprint {
		c.text(FieldValue, value(before, ValueBefore), value(after, ValueAfter))
	}
	c.list(FieldNames, before.Names, after.Names)
	c.text("unreadable", before.Unreadable, after.Unreadable)
}

// value says in words what a copy holds.
func value(v *estate.Copy, words string) string {
	switch {
	case v.Format == estate.FormatMention:
		return "only a mention"
	case v.Fingerprint == "":
		return "not read"
	}
	return words
}

func (c *comparing) keys(before, after *estate.Key) {
	if before == nil || after == nil {
		return
	}
	c.text("fingerprint", before.Fingerprint, after.Fingerprint)
	c.text("lets in", before.Lets, after.Lets)
	c.list("options", before.Options, after.Options)
	c.text("mode", before.Mode, after.Mode)
	c.text("comment", before.Comment, after.Comment)
	c.text("key version", number(before.Version), number(after.Version))
	c.time("ends", before.Ends, after.Ends)
	c.text("subject", before.Subject, after.Subject)
	c.yes("passphrase", before.Encrypted, after.Encrypted)
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// Systems compares what people say of a system: texts by name.
func Systems(before, after map[string]string) []Field {
	c := &comparing{}
	names := make([]string, 0, len(before)+len(after))
	for name := range before {
		names = append(names, name)
	}
	for name := range after {
		if _, both := before[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		c.text(name, before[name], after[name])
	}
	return c.fields
}

// String is one field in words.
func (f Field) String() string {
	if f.Added != nil || f.Removed != nil {
		var parts []string
		if len(f.Added) > 0 {
			parts = append(parts, "with "+strings.Join(f.Added, ", "))
		}
		if len(f.Removed) > 0 {
			parts = append(parts, "without "+strings.Join(f.Removed, ", "))
		}
		return f.Name + ": now " + strings.Join(parts, ", ")
	}
	from, to := f.From, f.To
	if from == "" {
		from = "nothing"
	}
	if to == "" {
		to = "nothing"
	}
	return f.Name + ": " + from + " → " + to
}

// Words are some fields in words.
func Words(fields []Field) string {
	parts := make([]string, len(fields))
	for i, f := range fields {
		parts[i] = f.String()
	}
	return strings.Join(parts, "; ")
}
