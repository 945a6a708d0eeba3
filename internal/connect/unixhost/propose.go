package unixhost

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

// Propose implements connect.Proposer.
func (Connector) Propose(target connect.Target, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "as root on " + target.Name, Language: "sh"}
	switch {
	case !connect.Copyable(c.To, c.Group, c.What, c.As, c.Text, c.Source):
		return out, connect.WhyNotName
	case c.Group != "":
		group, account := quotedWord(c.Group), quotedWord(c.To)
		if strings.HasPrefix(c.Group, "-") || strings.HasPrefix(c.To, "-") {
			return out, connect.WhyNotName
		}
		if c.Give && c.GroupID == "" { // no survey has seen the group
			out.Text, out.Back = "getent group "+group+" >/dev/null || groupadd -r "+group+"\nusermod -aG "+group+" "+account+"\n", "gpasswd -d "+account+" "+group+"\n"
			return out, ""
		}
		out.Text, out.Back = "usermod -aG "+group+" "+account+"\n", "gpasswd -d "+account+" "+group+"\n"
		return out.Turned(c.Give), ""
	case c.ToKind == privilege.KindEveryone:
		return out, connect.WhyNotEveryone
	case c.Verb == privilege.VerbRun && c.Give:
		return giveCommand(out, c)
	case c.Verb == privilege.VerbRun && c.What != "" && c.Source != "" && ownFile(c):
		out, why := giveCommand(out, c)
		return out.Turned(false), why
	case c.Verb == privilege.VerbRun && c.Text != "":
		// Where it stands, other commands and users may stand beside it: a person takes it out.
		out.ByHand = "beside it may stand what others need: a person takes it out of " + cmp.Or(c.Source, "the rules")
		out.Language, out.Where = "sudoers", "as root on "+target.Name+", with visudo: what gives this is taken out of "+cmp.Or(c.Source, "the rules")+"; beside it may stand what others need"
		out.Text, out.Back = "# taken out: "+c.Text+"\n", c.Text+"\n"
		return out, ""
	case c.Verb == privilege.VerbEverything && c.Source == "/etc/passwd":
		return out, "it has the user id 0: give what runs as it another account"
	case c.Verb == privilege.VerbSignIn:
		return out, "AllowUsers, AllowGroups and the like in the server's configuration decide: " + cmp.Or(c.Source, "/etc/ssh/sshd_config")
	}
	return out, "it stands at " + cmp.Or(c.Source, "a place that is not known")
}

// giveCommand is a file of its own for sudo, so that it can be taken away as it came.
func giveCommand(out connect.Proposal, c privilege.RightChange) (connect.Proposal, string) {
	_, command, _ := sudo.Digested(c.What)
	words := strings.Fields(command)
	if len(words) == 0 || !strings.HasPrefix(words[0], "/") && c.What != "ALL" || strings.Trim(c.To, plainLetters) != "" || c.To == "" {
		return out, connect.WhyNotName
	}
	if strings.Trim(c.As, plainLetters) != "" {
		return out, connect.WhyNotName
	}
	out.Language = "sudoers"
	out.Where += ", into /etc/sudoers.d/" + fileOf(c) + ": visudo -cf FILE, then install it with the mode 440"
	out.Text = c.To + " ALL=(" + cmp.Or(c.As, "root") + ") NOPASSWD: " + sudo.Written(c.What) + "\n"
	out.Back, out.BackLanguage = "rm -f -- /etc/sudoers.d/"+fileOf(c)+"\n", "sh"
	return out, ""
}

// ownFile: it stands in the file that a charter's command has for itself.
func ownFile(c privilege.RightChange) bool {
	source, _, _ := strings.Cut(c.Source, ":")
	return source == sudoFolder+fileOf(c)
}

const sudoFolder = "/etc/sudoers.d/"

const plainLetters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_.-"

// fileOf is a name that sudo reads: it passes over files with a dot in theirs. Each command has
// a file of its own, so that taking one back takes no other.
func fileOf(c privilege.RightChange) string {
	sum := sha256.Sum256([]byte(c.As + " " + c.What))
	return "charter-" + strings.ReplaceAll(c.To, ".", "_") + "-" + hex.EncodeToString(sum[:4])
}

// quotedWord is a word for a shell.
func quotedWord(word string) string {
	if word != "" && strings.Trim(word, plainLetters) == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
