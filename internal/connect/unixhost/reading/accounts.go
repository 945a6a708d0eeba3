package reading

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// accounts reads the local users with their groups and, where sudo allows it,
// the state of their passwords. Hashes are never read. Local is who stands in the
// host's own file: getent also tells users of directories, whose passwords are not
// kept, changed or checked here.
func (v *visit) accounts(ctx context.Context) *connect.Failure {
	passwd, failure := v.ReadFile(ctx, "/etc/passwd")
	if failure != nil {
		return failure
	}
	known, failure := v.Output(ctx, connect.StageRead, "/usr/bin/getent", "passwd")
	if failure != nil {
		return failure
	}
	group, failure := v.Output(ctx, connect.StageRead, "/usr/bin/getent", "group")
	if failure != nil {
		return failure
	}
	list, problems := parsePasswd(string(passwd), v.Facts.Identity)
	addGroups(list, string(group))
	if failure := v.passwordStates(ctx, list); failure != nil {
		problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: "password state", What: failure.Words, Next: failure.Next})
	}
	for i := range list {
		switch a := &list[i]; {
		case a.Type != "local":
		case a.Enabled == estate.Yes:
			v.addExpiry(ctx, a)
		case a.Enabled == estate.No:
			a.EndsUnknown = "its password is locked: chage was not asked"
		default:
			a.EndsUnknown = "the state of passwords cannot be read"
		}
	}
	everybody, _ := parsePasswd(string(known), "") // processes and files may belong to users of directories
	for _, a := range slices.Concat(everybody, list) {
		v.users[a.UID] = a.Name
		if a.Home != "" && a.Home != "/" {
			v.homes[a.Home] = a.Name
		}
	}
	v.count(connect.ScopeAccounts, len(list))
	return v.send(connect.Batch{Accounts: list, Problems: problems})
}

// passwordStates asks for the states of all at once, and where passwd has no option for
// that (that of the RHEL family up to 9) one by one.
func (v *visit) passwordStates(ctx context.Context, list []estate.Account) *connect.Failure {
	all := v.Sudo(ctx, nil, "/usr/bin/passwd", "-S", "-a")
	failure := v.Failure(connect.StageRead, all, "/usr/bin/passwd -S -a")
	if failure == nil {
		addStatus(list, string(all.Out))
		return nil
	}
	if failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout || failure.Code == connect.CodeNotPermitted {
		return failure
	}
	for _, a := range list {
		if a.Type != "local" {
			continue
		}
		one := v.Sudo(ctx, nil, "/usr/bin/passwd", "-S", a.Name)
		if again := v.Failure(connect.StageRead, one, "/usr/bin/passwd -S "+a.Name); again != nil {
			return failure // not a matter of how many
		}
		addStatus(list, string(one.Out))
	}
	return nil
}

// addExpiry reads an account's end date: chage is the only reader of it that
// shows no hash. Before shadow 4.7 it knows no option for ISO dates.
func (v *visit) addExpiry(ctx context.Context, a *estate.Account) {
	r := v.Sudo(ctx, nil, "/usr/bin/chage", "-l", "-i", a.Name)
	if r.Err == nil && r.Exit != 0 {
		r = v.Sudo(ctx, nil, "/usr/bin/chage", "-l", a.Name)
	}
	if r.Err != nil || r.Exit != 0 {
		a.EndsUnknown = "chage cannot be asked"
		return
	}
	a.AccountExpires = expiry(string(r.Out))
}

// expiry finds the end of an account in what chage says; none is the zero time.
func expiry(text string) time.Time {
	for line := range strings.Lines(text) {
		key, value, found := strings.Cut(line, ":")
		if !found || !strings.EqualFold(strings.TrimSpace(key), "account expires") {
			continue
		}
		for _, layout := range []string{time.DateOnly, "Jan 02, 2006", "Jan _2, 2006"} {
			if day, err := time.Parse(layout, strings.TrimSpace(value)); err == nil {
				return day
			}
		}
	}
	return time.Time{}
}

// parsePasswd reads passwd(5) lines.
func parsePasswd(text, machine string) ([]estate.Account, []connect.Unread) {
	var out []estate.Account
	var problems []connect.Unread
	number := 0
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimRight(line, "\r\n")
		if line == "" || line[0] == '#' || line[0] == '+' || line[0] == '-' {
			continue // the last two take in users of a directory (nsswitch.conf, compat)
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
		// L is locked or has no usable password, P usable, NP empty; other programs of
		// that name say LK and PS. What is none of these says nothing.
		switch f[1] {
		case "L", "LK":
			a.Locked, a.Enabled = estate.Yes, estate.No
		case "P", "PS", "NP":
			a.Locked, a.Enabled = estate.No, estate.Yes
		default:
			continue
		}
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
