package reading

import (
	"context"
	"fmt"
	"path"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

const spool = "/var/spool/cron/crontabs"

// cron reads /etc/crontab, /etc/cron.d and the users' own crontabs.
func (v *visit) cron(ctx context.Context) *connect.Failure {
	var batch connect.Batch
	tables := []string{"/etc/crontab"}
	r := v.Run(ctx, nil, "/usr/bin/ls", "-1", "--", "/etc/cron.d")
	if r.Err != nil {
		return v.Failure(connect.StageRead, r, "ls /etc/cron.d")
	}
	for name := range strings.FieldsSeq(string(r.Out)) {
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
	users := v.Sudo(ctx, nil, "/usr/bin/ls", "-1", "--", spool)
	if failure := v.Failure(connect.StageRead, users, "/usr/bin/ls -1 -- "+spool); failure != nil && failure.Code != connect.CodeGone {
		v.incomplete(connect.ScopeCron, failure.Error())
		batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: spool, What: failure.Words, Next: failure.Next})
	}
	for user := range strings.FieldsSeq(string(users.Out)) {
		r := v.Sudo(ctx, nil, "/usr/bin/crontab", "-l", "-u", user)
		if failure := v.Failure(connect.StageRead, r, "/usr/bin/crontab -l -u "+user); failure != nil {
			v.incomplete(connect.ScopeCron, failure.Error())
			batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: path.Join(spool, user), What: failure.Words, Next: failure.Next})
			continue
		}
		v.cronTable(&batch, path.Join(spool, user), string(r.Out), user)
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

// parseCron reads crontab(5). In a system table the sixth field is the user;
// in a user's own table user is given.
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
		schedule, rest := takeFields(line, fields)
		runsAs := user
		if user == "" {
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
