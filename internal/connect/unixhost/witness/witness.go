// Package witness reads from the journal of a unix host who signed in and who changed
// accounts: what there is to go by when something was changed and nobody here did it.
//
// Taken out of a line are names, addresses and what was done; its words are not kept.
// Who is behind a change is the account that signed in at first (the kernel's login
// identifier, audit_log_user_login_message and pam_loginuid(8)), else the real user of
// the program, unless that is root: then it is not known.
package witness

import (
	"context"
	"encoding/json"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/change"
)

const (
	back  = 7 * 24 * time.Hour // what -S of Command says
	lines = 5000               // and -n
)

// Command reads the journal. It is the same each time, so that one line of sudoers(5)
// allows it and nothing else.
var Command = []string{
	"/usr/bin/journalctl", "-q", "--no-pager", "-o", "json", "--output-fields=MESSAGE,SYSLOG_IDENTIFIER,_AUDIT_LOGINUID,_UID",
	"-t", "sshd", "-t", "sshd-session", "-t", "login", "-t", "su", "-t", "passwd", "-t", "chpasswd", "-t", "chage", "-t", "usermod", "-t", "useradd", "-t", "userdel", "-t", "gpasswd",
	"-S", "-7days", "-n", "5000",
}

// Read asks a host. What may not be read is a failure that names the command.
func Read(ctx context.Context, s *shell.Session, now time.Time) (change.Log, error) {
	r, full := s.Elevated(ctx, shell.MaxOutput, nil, Command...)
	if r.Err == nil && !full {
		groups, failure := s.Output(ctx, connect.StageRead, "/usr/bin/id", "-nG")
		if failure != nil {
			return change.Log{}, failure
		}
		if !slices.ContainsFunc(strings.Fields(string(groups)), mayRead) { // others are shown their own lines, or nothing
			return change.Log{}, s.Target.Fail(connect.StageRead, connect.CodeNotPermitted, "the journal is not shown to the steward", "allow it with sudo, as root: "+strings.Join(Command, " "), nil)
		}
	}
	if failure := s.Failure(connect.StageRead, r, strings.Join(Command, " ")); failure != nil {
		return change.Log{}, failure
	}
	users, failure := s.Output(ctx, connect.StageRead, "/usr/bin/getent", "passwd")
	if failure != nil {
		return change.Log{}, failure
	}
	return parse(string(r.Out), namesOf(string(users)), now), nil
}

// mayRead: systemd-journald.service(8).
func mayRead(group string) bool {
	return group == "adm" || group == "systemd-journal" || group == "wheel"
}

func namesOf(passwd string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(passwd) {
		if fields := strings.Split(line, ":"); len(fields) > 2 && out[fields[2]] == "" {
			out[fields[2]] = fields[0]
		}
	}
	return out
}

func parse(text string, names map[string]string, now time.Time) change.Log {
	out := change.Log{Since: now.Add(-back)}
	read, oldest := 0, time.Time{}
	for line := range strings.Lines(text) {
		var record struct {
			Message    any    `json:"MESSAGE"` // a list of numbers where it is no text
			Identifier string `json:"SYSLOG_IDENTIFIER"`
			Login      string `json:"_AUDIT_LOGINUID"`
			User       string `json:"_UID"`
			Realtime   string `json:"__REALTIME_TIMESTAMP"`
		}
		if json.Unmarshal([]byte(line), &record) != nil {
			continue
		}
		micros, err := strconv.ParseInt(record.Realtime, 10, 64)
		message, isText := record.Message.(string)
		if err != nil {
			continue
		}
		at := time.UnixMicro(micros).UTC()
		if read++; read == 1 {
			oldest = at
		}
		if !isText || !believed(record.Identifier, record.User) {
			continue
		}
		if r, told := meaning(record.Identifier, message); told {
			r.At = at
			if r.Who == "" || record.User != "0" { // what it says of itself is believed of root alone
				r.Who = whose(names, record.Login, record.User)
			}
			if r.Who != "" || r.Of != "" { // of a user that is gone, nothing is told
				out.Records = append(out.Records, r)
			}
		}
	}
	if read >= lines { // older ones were left out
		out.Since = oldest
	}
	return out
}

// believed: anybody on a host can write a line under any identifier (syslog(3)); under
// which user they did is what journald itself adds. Programs that only root can run, and
// servers, are believed as root; those that change to root by themselves (setuid) run for
// whoever called them.
func believed(identifier, user string) bool {
	return user == "0" || user != "" && slices.Contains([]string{"su", "passwd", "chage", "gpasswd"}, identifier)
}

// unset is the login identifier of what nobody signed in for.
const unset = "4294967295"

func whose(names map[string]string, login, user string) string {
	if login != "" && login != unset {
		return names[login]
	}
	if user != "" && user != "0" {
		return names[user]
	}
	return ""
}

var (
	accepted = regexp.MustCompile(`^Accepted \S+ for (\S+) from (\S+) port \d+`)
	console  = regexp.MustCompile(`^(?:(ROOT) LOGIN +ON (\S+)|LOGIN ON (\S+) BY (\S+))(?: FROM (\S+))?`)
	became   = regexp.MustCompile(`^\(to \S+\) (\S+) on (\S+)`)
	set      = []*regexp.Regexp{
		regexp.MustCompile(`^pam_\w+\((?:passwd|chpasswd):chauthtok\): password changed for (\S+)$`),
		regexp.MustCompile(`^change user '([^']+)' password$`),
	}
	altered = []*regexp.Regexp{
		regexp.MustCompile(`^password for '([^']+)' changed by '`), // locked, unlocked, must change
		regexp.MustCompile(`^(?:change|lock|unlock|delete) user(?: name)? '([^']+)'`),
		regexp.MustCompile(`^(?:add|delete) '([^']+)' (?:to|from) (?:shadow )?group '`),
		regexp.MustCompile(`^new user: name=([^,]+),`),
		regexp.MustCompile(`^changed (?:password expiry for|password expiry information for|expiry for) (\S+)$`),
		regexp.MustCompile(`^user (\S+) (?:added|removed) by \S+ (?:to|from) group `),
	}
)

// meaning reads one line: what shadow, util-linux, PAM and OpenSSH write.
func meaning(identifier, message string) (r change.Record, told bool) {
	switch identifier {
	case "sshd", "sshd-session": // the latter since OpenSSH 9.8
		if m := accepted.FindStringSubmatch(message); m != nil {
			return change.Record{Act: change.SignedIn, Who: m[1], From: m[2]}, true
		}
		return r, false
	case "login":
		m := console.FindStringSubmatch(message)
		switch {
		case m == nil:
			return r, false
		case m[1] != "":
			return change.Record{Act: change.SignedIn, Who: "root", From: m[2]}, true
		case m[5] != "":
			return change.Record{Act: change.SignedIn, Who: m[4], From: m[5]}, true
		}
		return change.Record{Act: change.SignedIn, Who: m[4], From: m[3]}, true
	case "su":
		if m := became.FindStringSubmatch(message); m != nil {
			return change.Record{Act: change.Became, Who: m[1], From: m[2]}, true
		}
		return r, false
	}
	for i, expression := range slices.Concat(set, altered) {
		if m := expression.FindStringSubmatch(message); m != nil {
			r = change.Record{Act: change.Altered, Of: m[1]}
			if i < len(set) {
				r.Act = change.SetPassword
			}
			return r, true
		}
	}
	return r, false
}
