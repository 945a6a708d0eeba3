package reading

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// Where the users' own crontabs are. In the spool itself each file is one (the RHEL
// family), or they are in a folder of it (Debian; SUSE), and where busybox serves they
// may be beside it.
const (
	spool        = "/var/spool/cron"
	spoolBusybox = "/etc/crontabs"
)

// spoolFolders are the folders of the spool that hold crontabs; the rest of what is in it
// beside them is no user's.
var spoolFolders = map[string]bool{"crontabs": true, "tabs": true, "lastrun": false, "atjobs": false, "atspool": false, "cron.update": false}

// cronPrograms are what would run users' crontabs: where none of them is, none are run.
var cronPrograms = []string{"/usr/sbin/cron", "/usr/sbin/crond", "/usr/bin/crontab", "/usr/sbin/fcron", "/usr/bin/busybox"}

// listing lists a folder, with rights only when it needs them. A folder that is not there
// is no failure.
func (v *visit) listing(ctx context.Context, folder string) (names []string, there bool, failure *connect.Failure) {
	r := v.Run(ctx, nil, "/usr/bin/ls", "-1", "--", folder)
	if r.Err == nil && r.Exit != 0 && strings.Contains(r.Errs, "Permission denied") && !v.Root {
		r = v.Sudo(ctx, nil, "/usr/bin/ls", "-1", "--", folder)
	}
	failure = v.Failure(connect.StageRead, r, "/usr/bin/ls -1 -- "+folder)
	if failure != nil && failure.Code == connect.CodeGone {
		return nil, false, nil
	}
	return strings.Fields(string(r.Out)), failure == nil, failure
}

// userTables finds the users' own crontabs: who has one, and where it is.
func (v *visit) userTables(ctx context.Context) (tables map[string]string, failure *connect.Failure) {
	tables = map[string]string{}
	names, there, failure := v.listing(ctx, spool)
	if failure != nil {
		return nil, failure
	}
	for _, name := range names {
		holds, folder := spoolFolders[name]
		switch {
		case !folder && !strings.HasPrefix(name, "."):
			tables[name] = path.Join(spool, name)
		case holds:
			users, _, failure := v.listing(ctx, path.Join(spool, name))
			if failure != nil {
				return tables, failure
			}
			for _, user := range users {
				tables[user] = path.Join(spool, name, user)
			}
		}
	}
	if there {
		return tables, nil
	}
	names, there, failure = v.listing(ctx, spoolBusybox)
	for _, user := range names {
		tables[user] = path.Join(spoolBusybox, user)
	}
	if there || failure != nil {
		return tables, failure
	}
	// No crontab was read: then either none can be, or they are in a place not known here.
	for _, program := range cronPrograms {
		if r := v.Run(ctx, nil, "/usr/bin/stat", "-c", "%f", "--", program); r.Err != nil || r.Exit == 0 {
			return nil, v.Target.Fail(connect.StageRead, connect.CodeFailed, "the users' own crontabs are in neither "+spool+" nor "+spoolBusybox+", but "+program+" is there", "find out where this host keeps them", r.Err)
		}
	}
	return tables, nil
}

// cron reads /etc/crontab, /etc/cron.d, /etc/anacrontab and the users' own crontabs.
func (v *visit) cron(ctx context.Context) *connect.Failure {
	var batch connect.Batch
	tables := []string{"/etc/crontab", anacrontab}
	names, _, failure := v.listing(ctx, "/etc/cron.d")
	if failure != nil {
		if failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout {
			return failure
		}
		v.incomplete(connect.ScopeCron, failure.Error())
		batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: "/etc/cron.d", What: failure.Words, Next: failure.Next})
	}
	for _, name := range names {
		tables = append(tables, path.Join("/etc/cron.d", name))
	}
	for _, table := range tables {
		content, failure := v.ReadFile(ctx, table)
		if failure != nil {
			if failure.Code == connect.CodeUnreachable || failure.Code == connect.CodeTimeout {
				return failure
			}
			if failure.Code != connect.CodeGone {
				v.incomplete(connect.ScopeCron, failure.Error())
				batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: table, What: failure.Words, Next: failure.Next})
			}
			continue
		}
		v.cronTable(&batch, table, string(content), "")
	}
	users, failure := v.userTables(ctx)
	if failure != nil {
		v.incomplete(connect.ScopeCron, failure.Error())
		batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: spool, What: failure.Words, Next: failure.Next})
	}
	for _, user := range slices.Sorted(maps.Keys(users)) {
		r := v.Sudo(ctx, nil, "/usr/bin/crontab", "-l", "-u", user)
		if failure := v.Failure(connect.StageRead, r, "/usr/bin/crontab -l -u "+user); failure != nil {
			v.incomplete(connect.ScopeCron, failure.Error())
			batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: users[user], What: failure.Words, Next: failure.Next})
			continue
		}
		v.cronTable(&batch, users[user], string(r.Out), user)
	}
	v.count(connect.ScopeCron, len(batch.Dependents))
	v.pending.Dependents = append(v.pending.Dependents, batch.Dependents...)
	v.pending.Problems = append(v.pending.Problems, batch.Problems...)
	return nil
}

func (v *visit) cronTable(batch *connect.Batch, table, text, user string) {
	entries, problems := parseCron(table, text, user)
	batch.Problems = append(batch.Problems, problems...)
	for _, e := range entries {
		for _, file := range argumentFiles(" " + e.Executable) {
			v.candidate(file.path, file.hint, e.Place, false)
			e.Uses = append(e.Uses, path.Clean(file.path))
		}
		batch.Dependents = append(batch.Dependents, e)
	}
}

// anacrontab has entries of another shape: days, minutes of delay, a name, a command.
const anacrontab = "/etc/anacrontab"

// parseCron reads crontab(5). In a system table the sixth field is the user;
// in a user's own table user is given. It reads anacrontab(5), too.
func parseCron(table, text, user string) ([]estate.Dependent, []connect.Unread) {
	var out []estate.Dependent
	var problems []connect.Unread
	number := 0
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		if key, _, found := strings.Cut(line, "="); found && !strings.ContainsAny(strings.TrimSpace(key), " \t*/,") && !strings.HasPrefix(line, "@") {
			continue // a variable
		}
		fields := 5
		if line[0] == '@' {
			fields = 1
		}
		if table == anacrontab {
			fields = 2 // days or @monthly, and the delay
		}
		schedule, rest := takeFields(line, fields)
		runsAs := user
		switch {
		case table == anacrontab:
			runsAs = "root"
			_, rest = takeFields(rest, 1)
		case user == "":
			runsAs, rest = takeFields(rest, 1)
		}
		if schedule == "" || runsAs == "" || rest == "" {
			problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: fmt.Sprintf("%s line %d", table, number), What: "not a cron entry"})
			continue
		}
		out = append(out, estate.Dependent{
			Kind: estate.DependentCron, Place: fmt.Sprintf("%s:%d", table, number), Name: path.Base(table) + " line " + fmt.Sprint(number), Path: table,
			RunsAs: runsAs, State: "scheduled", StartMode: "timer", Executable: rest, Schedule: schedule,
		})
	}
	return out, problems
}

// takeFields splits off n blank-separated fields.
func takeFields(line string, n int) (fields, rest string) {
	rest = line
	for ; n > 0; n-- {
		rest = strings.TrimLeft(rest, " \t")
		i := strings.IndexAny(rest, " \t")
		if i < 0 {
			return "", ""
		}
		if fields != "" {
			fields += " "
		}
		fields += rest[:i]
		rest = rest[i:]
	}
	return fields, strings.TrimSpace(rest)
}
