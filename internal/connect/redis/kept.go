package redis

import (
	"context"
	"fmt"
	"strings"

	"github.com/redis/go-redis/v9"

	"mossledger.example/moss/internal/connect"
)

// A server has its access lists in memory. What it does not write into the file that
// it reads at its start is gone with its next restart, and then every dependent that
// was given the new password is refused. So a change that is not kept is no change:
// it is tried beforehand whether the server can keep anything, and one that it did
// not keep after all is taken back.

// save has the server write its access lists: into their file, or where it has none
// into its configuration. The one does not stand in for the other: a configuration
// beside a file of lists has no users in it.
func save(ctx context.Context, conn *redis.Conn) error {
	err := conn.Do(ctx, "ACL", "SAVE").Err()
	if err == nil || !strings.Contains(err.Error(), "not configured to use an ACL file") {
		return err
	}
	return conn.ConfigRewrite(ctx).Err()
}

// notKept is the failure of save. changed says whether a change came before it.
func notKept(target connect.Target, err error, changed bool) *connect.Failure {
	f := failure(target, connect.StageChange, err, changed)
	words := "nothing was changed, because the server cannot keep it through a restart: "
	if changed {
		words = "changed, but it would be lost when the server restarts: "
	}
	f.Words, f.Unclear = words+f.Words, changed
	f.Next = "let the server keep its access lists in a file that it may write (aclfile), or have a configuration file that it may write, and give the steward +acl|save +config|rewrite"
	return f
}

// passwords are the digests that a user signs in with now, as a rule that sets them.
func passwords(ctx context.Context, conn *redis.Conn, user string) ([]any, error) {
	var out []any
	answer, err := conn.Do(ctx, "ACL", "GETUSER", user).Result()
	if err != nil {
		return nil, err
	}
	for field, value := range fields(answer) {
		if list, ok := value.([]any); ok && field == "passwords" {
			for _, digest := range list {
				out = append(out, fmt.Sprintf("#%v", digest))
			}
		}
	}
	return out, nil
}

// fields reads an answer of names and values: a map in RESP3, a list in RESP2.
func fields(answer any) map[string]any {
	out := map[string]any{}
	switch answer := answer.(type) {
	case map[any]any:
		for name, value := range answer {
			out[fmt.Sprint(name)] = value
		}
	case []any:
		for i := 0; i+1 < len(answer); i += 2 {
			out[fmt.Sprint(answer[i])] = answer[i+1]
		}
	}
	return out
}

// may asks whether the steward may run a command, which is not run. The server answers
// "no" with a text, and with an error only what it does not understand.
func may(ctx context.Context, conn *redis.Conn, target connect.Target, what string, command ...any) connect.Checked {
	line := connect.Checked{System: target.Name, What: what, Result: connect.CheckOK}
	said, err := conn.Do(ctx, append([]any{"ACL", "DRYRUN", target.Steward.Account}, command...)...).Text()
	switch {
	case err != nil: // before version 7, or without +acl|dryrun
		line.Result, line.Words, line.Next = connect.CheckUnchecked, err.Error(), "nothing tells beforehand whether the steward may do it"
	case said != "OK":
		line.Result, line.Words, line.Next = connect.CheckFailed, said, "give the steward "+target.Steward.Account+" +acl +config|rewrite"
	}
	return line
}

// keeps says whether what is changed outlives the server's next restart, as far as
// that can be told without writing anything.
func keeps(ctx context.Context, conn *redis.Conn, target connect.Target) connect.Checked {
	const what = "passwords are kept through a restart of the server"
	line := connect.Checked{System: target.Name, What: what, Result: connect.CheckUnchecked, Next: "give the steward +config|get +info"}
	settings, err := conn.ConfigGet(ctx, "aclfile").Result()
	if err != nil {
		line.Words = err.Error()
		return line
	}
	if file := settings["aclfile"]; file != "" {
		line = may(ctx, conn, target, what, "ACL", "SAVE")
		if line.Result == connect.CheckOK {
			line.Words = "in " + file + "; whether the server can write it is tried before anything is changed"
		}
		return line
	}
	info, err := info(ctx, conn, "server")
	switch {
	case err != nil:
		line.Words = err.Error()
	case info["config_file"] == "":
		line.Result, line.Words, line.Next = connect.CheckFailed, "the server runs without a config file and without a file of access lists: every change is lost when it restarts", "start it with a configuration file, or with aclfile"
	default:
		line = may(ctx, conn, target, what, "CONFIG", "REWRITE")
		if line.Result == connect.CheckOK {
			line.Words = "in " + info["config_file"] + ", which is written anew after the change; whether the server can write it is tried before anything is changed"
		}
	}
	return line
}

// alone says whether other nodes answer for the same data. Access lists are not
// replicated: one that was left out refuses the new password when it takes over.
func alone(ctx context.Context, conn *redis.Conn, target connect.Target) connect.Checked {
	line := connect.Checked{System: target.Name, What: "no other node answers in its place", Result: connect.CheckOK}
	replication, err := info(ctx, conn, "replication")
	if err != nil {
		line.Result, line.Words, line.Next = connect.CheckUnchecked, err.Error(), "give the steward +info"
		return line
	}
	const next = "access lists are not replicated: each node needs the change, and masterauth or auth-pass where the account is used for them; until one rotation can do that, change all of them in one window by hand"
	switch {
	case replication["role"] == "slave":
		line.Result, line.Next = connect.CheckFailed, next
		line.Words = "it is a replica of " + replication["master_host"] + ":" + replication["master_port"]
	case replication["connected_slaves"] != "" && replication["connected_slaves"] != "0":
		line.Result, line.Next = connect.CheckFailed, next
		line.Words = "it has " + counted(replication["connected_slaves"], "replica")
	default:
		if cluster, err := info(ctx, conn, "cluster"); err == nil && cluster["cluster_enabled"] == "1" {
			line.Result, line.Words, line.Next = connect.CheckFailed, "it is a node of a cluster", next
		}
	}
	return line
}

// watcher is how the connections of a Sentinel call themselves.
const watcher = "sentinel-"

// unwatched says whether a Sentinel signs in with the account: it would take the server
// for dead when it is refused, and does not tell.
func unwatched(ctx context.Context, conn *redis.Conn, target connect.Target, user string) connect.Checked {
	line := connect.Checked{System: target.Name, What: "no Sentinel signs in with " + user, Result: connect.CheckOK}
	clients, err := conn.Do(ctx, "CLIENT", "LIST").Text()
	if err != nil {
		line.Result, line.Words, line.Next = connect.CheckUnchecked, err.Error(), "give the steward +client|list"
		return line
	}
	for text := range strings.Lines(clients) {
		if s, _ := session(text); strings.HasPrefix(s.Application, watcher) && s.Account == user {
			line.Result, line.Words = connect.CheckFailed, "the Sentinel at "+s.Client+" signs in with it"
			line.Next = "give the Sentinels an account of their own (sentinel auth-user and auth-pass), or change auth-pass on each of them in the same window by hand"
			return line
		}
	}
	return line
}

func counted(n, of string) string {
	if n == "1" {
		return "1 " + of
	}
	return n + " " + of + "s"
}

// info reads a section of what a server tells of itself.
func info(ctx context.Context, conn *redis.Conn, section string) (map[string]string, error) {
	text, err := conn.Info(ctx, section).Result()
	out := map[string]string{}
	for line := range strings.Lines(text) {
		if name, value, found := strings.Cut(strings.TrimRight(line, "\r\n"), ":"); found {
			out[name] = value
		}
	}
	return out, err
}
