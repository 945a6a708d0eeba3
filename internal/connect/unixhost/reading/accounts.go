package reading

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// accounts reads the local users with their groups and, where sudo allows it,
// the state of their passwords. Hashes are never read.
func (v *visit) accounts(ctx context.Context) *connect.Failure {
	passwd, failure := v.Output(ctx, connect.StageRead, "/usr/bin/getent", "passwd")
	if failure != nil {
		return failure
	}
	group, failure := v.Output(ctx, connect.StageRead, "/usr/bin/getent", "group")
	if failure != nil {
		return failure
	}
	list, problems := parsePasswd(string(passwd), v.Facts.Identity)
	addGroups(list, string(group))
	status := v.Sudo(ctx, nil, "/usr/bin/passwd", "-S", "-a")
	if failure := v.Failure(connect.StageRead, status, "/usr/bin/passwd -S -a"); failure != nil {
		problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: "password state", What: failure.Words, Next: failure.Next})
	} else {
		addStatus(list, string(status.Out))
		for i := range list {
			if list[i].Enabled == estate.Yes && list[i].Type == "local" {
				v.addExpiry(ctx, &list[i])
			}
		}
	}
	for _, a := range list {
		v.users[a.UID] = a.Name
		if a.Home != "" && a.Home != "/" {
			v.homes[a.Home] = a.Name
		}
	}
	v.count(connect.ScopeAccounts, len(list))
	return v.send(connect.Batch{Accounts: list, Problems: problems})
}

// addExpiry reads an account's end date: chage is the only reader of it that
// shows no hash.
func (v *visit) addExpiry(ctx context.Context, a *estate.Account) {
	r := v.Sudo(ctx, nil, "/usr/bin/chage", "-l", "-i", a.Name)
	if r.Err != nil || r.Exit != 0 {
		return
	}
	for line := range strings.Lines(string(r.Out)) {
		if key, value, found := strings.Cut(line, ":"); found && strings.HasPrefix(key, "Account expires") {
			if day, err := time.Parse(time.DateOnly, strings.TrimSpace(value)); err == nil {
				a.AccountExpires = day
			}
		}
	}
}

// parsePasswd reads passwd(5) lines.
func parsePasswd(text, machine string) ([]estate.Account, []connect.Unread) {
	var out []estate.Account
	var problems []connect.Unread
	number := 0
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			continue
		}
		f := strings.Split(line, ":")
		if len(f) != 7 || f[0] == "" {
			problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: fmt.Sprintf("passwd line %d", number), What: "not seven fields"})
			continue
		}
		uid, err := strconv.ParseUint(f[2], 10, 32)
		if err != nil {
			problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: fmt.Sprintf("passwd line %d", number), What: "the user id is not a number"})
			continue
		}
		a := estate.Account{
			StableID: machine + ":" + f[2], Name: f[0], UID: f[2], Type: "local",
			DisplayName: strings.TrimRight(f[4], ","), Home: f[5], Shell: f[6], Enabled: estate.Unknown, Locked: estate.Unknown,
		}
		if uid < 100 || uid == 65534 {
			a.Type = "system"
		}
		out = append(out, a)
	}
	return out, problems
}

// addGroups reads group(5) lines.
func addGroups(accounts []estate.Account, text string) {
	at := map[string]*estate.Account{}
	for i := range accounts {
		at[accounts[i].Name] = &accounts[i]
	}
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 4 {
			continue
		}
		if own := at[f[0]]; own != nil {
			own.Groups = append(own.Groups, f[0])
		}
		for member := range strings.SplitSeq(f[3], ",") {
			if a := at[member]; a != nil && f[0] != member {
				a.Groups = append(a.Groups, f[0])
			}
		}
	}
}

// addStatus reads passwd -S lines: name, state, last change, minimum, maximum,
// warning and inactivity in days.
func addStatus(accounts []estate.Account, text string) {
	at := map[string]*estate.Account{}
	for i := range accounts {
		at[accounts[i].Name] = &accounts[i]
	}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 7 || at[f[0]] == nil {
			continue
		}
		a := at[f[0]]
		// L is locked or has no usable password, P usable, NP empty.
		a.Locked = estate.Known(f[1] == "L")
		a.Enabled = estate.Known(f[1] != "L")
		for _, layout := range []string{time.DateOnly, "01/02/2006"} {
			if day, err := time.Parse(layout, f[2]); err == nil {
				a.PasswordChanged = day
				a.MustChange = day.Unix() <= 0
			}
		}
		// passwd writes 99999 days, or -1, for never.
		if days, err := strconv.Atoi(f[4]); err == nil && (days < 0 || days >= 99999) {
			a.NeverExpire = true
		} else if err == nil && !a.PasswordChanged.IsZero() {
			a.PasswordExpires = a.PasswordChanged.AddDate(0, 0, days)
		}
	}
}
