package connect

import (
	"strings"
	"unicode"

	"mossledger.example/moss/internal/core/privilege"
)

// Proposal is what the owner of a system would do to give or take one right or membership,
// in the system's own language, with the way back beside it. It has no secret in it.
type Proposal struct {
	Where    string `json:"where" doc:"Who does it, and where"`
	Language string `json:"language" doc:"Of the text: sh, sudoers, sql, acl, ldif, sddl, powershell"`
	Text     string `json:"text"`
	Back     string `json:"back" doc:"What takes it back"`
	// ByHand is why only a person does it: the text says what, and cannot be carried out as it is.
	ByHand string `json:"by_hand,omitempty" doc:"Why the service does not carry it out itself; empty where it does"`
	// BackLanguage is that of Back where it is another one.
	BackLanguage string `json:"back_language,omitempty" doc:"Of what takes it back, where it is another one"`
}

// Proposer says how a change of rights is made on its kind of system. It reaches nothing.
// Where it knows no text, it says why.
type Proposer interface {
	Propose(target Target, change privilege.RightChange) (proposal Proposal, why string)
}

// WhyNot are reasons why there is no text.
const (
	WhyNotName     = "a name in it has characters that would be something else in a text to be copied"
	WhyNotEveryone = "everyone has it: who takes it, takes it from all"
)

// Copyable reports whether names may stand in a text that somebody copies: nothing in them
// ends a line, or shows as something else than it is.
func Copyable(names ...string) bool {
	for _, name := range names {
		if strings.ContainsFunc(name, func(c rune) bool { return unicode.IsControl(c) || unicode.In(c, unicode.Cf, unicode.Zl, unicode.Zp) }) {
			return false
		}
	}
	return true
}

// There and back of a change: what is given is taken back, and the other way round.
func (p Proposal) Turned(give bool) Proposal {
	if give {
		return p
	}
	p.Text, p.Back = p.Back, p.Text
	if p.BackLanguage != "" {
		p.Language, p.BackLanguage = p.BackLanguage, p.Language
	}
	return p
}

// Given turns a statement that gives something around: GRANT ... TO becomes REVOKE ... FROM,
// and an attribute of a role its NO form. ok is false where the text is no such statement.
func Given(text string) (taken string, ok bool) {
	if role, attribute, found := cutLast(text, " "); found && strings.HasPrefix(role, "ALTER ROLE ") {
		return role + " NO" + attribute, true
	}
	rest, found := strings.CutPrefix(text, "GRANT ")
	if !found {
		return "", false
	}
	rest = strings.TrimSuffix(rest, " WITH GRANT OPTION")
	what, to, found := cutLast(rest, " TO ")
	return "REVOKE " + what + " FROM " + to, found
}

func cutLast(text, at string) (before, after string, found bool) {
	i := strings.LastIndex(text, at)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(at):], true
}
