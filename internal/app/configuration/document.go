// Package configuration has the service decide what a text says: rules, windows, policies,
// orders, requirements, charters, recipients, systems, people and labels, all of it or nothing. What that would change is told
// first; nothing is applied that was not shown.
package configuration

import (
	"mossledger.example/moss/internal/records"
)

// Format names the documents, so that a reader knows when they change.
const Format = "moss-configuration-1"

// Document is what a team decided. A part that it does not name stays as it is; what a part
// that it names does not have is removed. Names do not differ by capitals.
type Document struct {
	Format       string                     `json:"format" enum:"moss-configuration-1"`
	Rules        map[string]RuleText        `json:"rules,omitzero" doc:"Rules that put labels on accounts"`
	Windows      map[string]WindowText      `json:"windows,omitzero" doc:"Times that recur, in which something may be restarted or changed"`
	Policies     map[string]PolicyText      `json:"policies,omitzero" doc:"How often, when and how credentials are rotated by themselves"`
	Orders       map[string]OrderText       `json:"orders,omitzero" doc:"In which order dependents are restarted"`
	Requirements map[string]RequirementText `json:"requirements,omitzero" doc:"For which rotations a second person is needed"`
	Charters     map[string]CharterText     `json:"charters,omitzero" doc:"What accounts of roles must have, may have and must never have"`
	Recipients   map[string]RecipientText   `json:"recipients,omitzero" doc:"Who is told what happens; secrets are no part of it"`
	Systems      map[string]SystemText      `json:"systems,omitzero" doc:"What can be reached, by name; secrets and approvals are no part of it"`
	People       map[string]PersonText      `json:"people,omitzero" doc:"What everybody may do; somebody new is added by hand first"`
	Labels       map[string]LabelsText      `json:"labels,omitzero" doc:"Labels given by hand, by SYSTEM/ACCOUNT"`
}

// CharterText says what accounts of a role need.
type CharterText struct {
	Document string `json:"document" maxLength:"65536" doc:"The charter in YAML, as GET /charters/schema has it"`
}

// RuleText puts a label on accounts, or keeps it away.
type RuleText struct {
	Label       string `json:"label" maxLength:"63"`
	Excludes    bool   `json:"excludes,omitempty" doc:"It keeps the label from accounts, whoever else gives it"`
	Condition   string `json:"condition" maxLength:"4000" doc:"An expression of the Common Expression Language over the fields of GET /rules/fields"`
	TakeIn      string `json:"take_in,omitempty" maxLength:"63" doc:"Window in which accounts that it matches are taken into custody by a reset, where nothing depends on their password"`
	TakeUnread  bool   `json:"take_unread,omitempty" doc:"It does so also while systems are not read completely"`
	Description string `json:"description,omitempty" maxLength:"1000"`
}

// WindowText is a time that recurs.
type WindowText struct {
	Rule        string      `json:"rule" maxLength:"300" doc:"When it opens: a recurrence rule of RFC 5545"`
	Begins      string      `json:"begins" maxLength:"16" doc:"When it opened first, by the clock there: 2026-11-28T22:00"`
	Zone        string      `json:"zone" maxLength:"60" doc:"Time zone by whose clock it opens, such as Europe/Oslo"`
	Minutes     int         `json:"minutes" minimum:"5" maximum:"10080" doc:"For how long it is open"`
	Labels      []string    `json:"labels,omitempty" maxItems:"100" doc:"It counts for accounts with one of them"`
	Systems     []string    `json:"systems,omitempty" maxItems:"10000" doc:"And for what is restarted there"`
	Dependents  []PlaceText `json:"dependents,omitempty" maxItems:"10000" doc:"And for these"`
	Description string      `json:"description,omitempty" maxLength:"1000"`
}

// PlaceText is one with a window of its own.
type PlaceText struct {
	System string `json:"system" maxLength:"300"`
	Place  string `json:"place" maxLength:"500"`
}

// PolicyText rotates credentials by itself.
type PolicyText struct {
	Label      string `json:"label,omitempty" maxLength:"63" doc:"Of the accounts that it is for; absent for all in custody"`
	Precedence int    `json:"precedence" minimum:"0" maximum:"1000000" doc:"Where several are for one account, the one with the highest decides"`
	records.PolicySettings
	Window      string `json:"window,omitempty" maxLength:"63" doc:"In which they are rotated; absent for at any time"`
	Paused      bool   `json:"paused,omitempty" doc:"It decides, and nothing is rotated"`
	Description string `json:"description,omitempty" maxLength:"1000"`
}

// OrderText says in which order dependents are restarted.
type OrderText struct {
	Kind        string                `json:"kind" enum:"group,sequence"`
	AtOnce      int                   `json:"at_once,omitempty" minimum:"0" maximum:"1000" doc:"Of a group: so many at the same time"`
	Members     []records.OrderMember `json:"members" maxItems:"1000" nullable:"false"`
	Description string                `json:"description,omitempty" maxLength:"1000"`
}

// RequirementText says for which rotations a second person is needed.
type RequirementText struct {
	Label       string   `json:"label,omitempty" maxLength:"63"`
	Restarts    int      `json:"restarts,omitempty" minimum:"0" doc:"At least so many dependents are restarted"`
	Kinds       []string `json:"kinds,omitempty" maxItems:"20" doc:"Kinds of dependents that are counted; all when absent"`
	Unread      bool     `json:"unread,omitempty" doc:"Systems could not be read completely"`
	Hours       int      `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"For so long a request waits; 24 when absent"`
	Description string   `json:"description,omitempty" maxLength:"1000"`
}

// RecipientText is told what happens.
type RecipientText struct {
	Kind    string `json:"kind" enum:"mail,syslog,webhook"`
	Address string `json:"address" maxLength:"2000" doc:"An https address of a webhook, or host:port"`
	records.RecipientSettings
	Paused      bool   `json:"paused,omitempty"`
	Description string `json:"description,omitempty" maxLength:"1000"`
}

func ruleText(v records.Rule) RuleText {
	return RuleText{v.Label, v.Excludes, v.Condition, v.TakeIn, v.TakeUnread, v.Description}
}

func windowText(v records.Window) WindowText {
	out := WindowText{Rule: v.Rule, Begins: v.Begins, Zone: v.Zone, Minutes: v.Minutes, Labels: v.Labels, Systems: v.Systems, Description: v.Description}
	for _, d := range v.Dependents {
		out.Dependents = append(out.Dependents, PlaceText{d.System, d.Place})
	}
	return out
}

func policyText(v records.Policy) PolicyText {
	return PolicyText{v.Label, v.Precedence, v.PolicySettings, v.Window, v.Paused, v.Description}
}

func orderText(v records.Order) OrderText {
	return OrderText{v.Kind, v.AtOnce, v.Members, v.Description}
}

func requirementText(v records.Requirement) RequirementText {
	return RequirementText{v.Label, v.Restarts, v.Kinds, v.Unread, v.Hours, v.Description}
}

func recipientText(v records.Recipient) RecipientText {
	return RecipientText{v.Kind, v.Address, v.RecipientSettings, v.Paused, v.Description}
}
