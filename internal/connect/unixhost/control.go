package unixhost

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

var unitPattern = regexp.MustCompile(`^[A-Za-z0-9:_.\\@][A-Za-z0-9:_.\\@\-]*\.service$`)

func (s *host) checkUnit(stage connect.Stage, place estate.Place) *connect.Failure {
	unit := place.Place
	if place.Kind != estate.DependentUnit || !unitPattern.MatchString(unit) || len(unit) > 255 {
		return s.Target.Fail(stage, connect.CodeFailed, fmt.Sprintf("%q is not a service unit's name", unit), "", nil)
	}
	return nil
}

// UnitState implements connect.Restarter.
func (Connector) UnitState(ctx context.Context, target connect.Target, place estate.Place) (connect.UnitState, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return connect.UnitState{}, failure
	}
	defer s.Close()
	if failure := s.checkUnit(connect.StageProve, place); failure != nil {
		return connect.UnitState{}, failure
	}
	state, failure := s.unitState(ctx, place.Place)
	if failure != nil {
		return state, failure
	}
	return state, nil
}

func (s *host) unitState(ctx context.Context, unit string) (connect.UnitState, *connect.Failure) {
	out, failure := s.Output(ctx, connect.StageProve, "/usr/bin/systemctl", "show", "--no-pager", "--property=ActiveState,SubState,InvocationID,Result,LoadState,MainPID,ExecMainStartTimestampMonotonic", "--", unit)
	if failure != nil {
		return connect.UnitState{}, failure
	}
	var state connect.UnitState
	var process, since string
	for line := range strings.Lines(string(out)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		switch key {
		case "ActiveState":
			state.Active = value
		case "SubState":
			state.Sub = value
		case "InvocationID":
			state.Invocation = value
		case "MainPID":
			process = value
		case "ExecMainStartTimestampMonotonic":
			since = value
		case "Result":
			state.Result = value
		case "LoadState":
			if value == "not-found" {
				return state, s.Target.Fail(connect.StageProve, connect.CodeGone, "there is no unit "+unit, "run a survey of this host", nil)
			}
		}
	}
	if state.Invocation == "" && process != "" && process != "0" {
		// Before 232 systemd tells no invocation: a process and since when it runs do.
		state.Invocation = "process " + process + " since " + since
	}
	if state.Active == "failed" || state.Sub == "auto-restart" {
		said := s.Run(ctx, nil, "/usr/bin/journalctl", "--no-pager", "-q", "-o", "cat", "-n", "3", "-u", unit)
		if said.Err == nil && len(said.Out) == 0 { // others' records need rights
			said = s.Sudo(ctx, nil, "/usr/bin/journalctl", "--no-pager", "-q", "-o", "cat", "-n", "3", "-u", unit)
		}
		if said.Err == nil && said.Exit == 0 {
			state.Words = strings.ReplaceAll(strings.TrimSpace(string(said.Out)), "\n", " / ")
		}
	}
	return state, nil
}

var reloadCommand = []string{"/usr/bin/systemctl", "daemon-reload"}

// Reload implements connect.Restarter.
func (Connector) Reload(ctx context.Context, target connect.Target, place estate.Place) (string, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure == nil {
		defer s.Close()
		failure = s.checkUnit(connect.StageRestart, place)
	}
	if argv := []string{"/usr/bin/systemctl", "reload", place.Place}; failure == nil {
		failure = s.Failure(connect.StageRestart, s.Sudo(ctx, nil, argv...), strings.Join(argv, " "))
	}
	if failure != nil {
		failure.Unclear = false // once more is harmless
		return "", failure
	}
	return "told to read its files again", nil
}

// Restart implements connect.Restarter.
func (Connector) Restart(ctx context.Context, target connect.Target, place estate.Place) (string, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return "", failure
	}
	defer s.Close()
	if failure := s.checkUnit(connect.StageRestart, place); failure != nil {
		return "", failure
	}
	words := "restarted"
	// A unit file that was changed, by us or others, counts only once it is read.
	if r := s.Run(ctx, nil, "/usr/bin/systemctl", "show", "--property=NeedDaemonReload", "--", place.Place); r.Err == nil && strings.TrimSpace(string(r.Out)) == "NeedDaemonReload=yes" {
		failure := s.Failure(connect.StageRestart, s.Sudo(ctx, nil, reloadCommand...), strings.Join(reloadCommand, " "))
		if failure != nil && failure.Code != connect.CodeNotPermitted {
			return "", failure
		}
		if failure != nil { // the rehearsal asks for the right where it matters
			words = "restarted as it was loaded: its unit file was changed, and the right to have it read is missing"
		}
	}
	argv := []string{"/usr/bin/systemctl", "restart", place.Place}
	if failure := s.Failure(connect.StageRestart, s.Sudo(ctx, nil, argv...), strings.Join(argv, " ")); failure != nil {
		return "", failure
	}
	return words, nil
}

// Diagnose implements connect.Diagnoser: the unit as it is now, the units that
// it requires, and the last lines that it said.
func (Connector) Diagnose(ctx context.Context, target connect.Target, place estate.Place) (connect.Diagnosis, error) {
	var d connect.Diagnosis
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return d, failure
	}
	defer s.Close()
	if failure := s.checkUnit(connect.StageRead, place); failure != nil {
		return d, failure
	}
	if d.Dependent, failure = s.diagnoseUnit(ctx, place.Place); failure != nil {
		return d, failure
	}
	seen := map[string]bool{place.Place: true}
	queue := append([]string(nil), d.Dependent.Requires...)
	for len(queue) > 0 && len(seen) < 50 {
		name := queue[0]
		queue = queue[1:]
		if seen[name] || !unitPattern.MatchString(name) {
			continue
		}
		seen[name] = true
		needed, failure := s.diagnoseUnit(ctx, name)
		if failure != nil {
			return d, failure
		}
		d.Needs = append([]connect.Needed{{Place: needed.At(), State: needed.State, RunsAs: needed.RunsAs, Result: needed.Result, Direct: slices.Contains(d.Dependent.Requires, name)}}, d.Needs...)
		queue = append(queue, needed.Requires...)
	}
	said := s.Run(ctx, nil, "/usr/bin/journalctl", "--no-pager", "-q", "-o", "cat", "-n", "3", "-u", place.Place)
	if said.Err == nil && len(said.Out) == 0 && !s.Root { // others' records need rights
		said = s.Sudo(ctx, nil, "/usr/bin/journalctl", "--no-pager", "-q", "-o", "cat", "-n", "3", "-u", place.Place)
	}
	for line := range strings.Lines(string(said.Out)) {
		d.Records = append(d.Records, connect.Record{Source: "journal", Words: strings.TrimSpace(line), Hint: diagnosis.Program})
	}
	return d, nil
}

func (s *host) diagnoseUnit(ctx context.Context, unit string) (estate.Dependent, *connect.Failure) {
	out, failure := s.Output(ctx, connect.StageRead, append(append([]string(nil), reading.ShowArguments...), unit)...)
	if failure != nil {
		return estate.Dependent{}, failure
	}
	shown := reading.ParseShow(string(out))
	if len(shown) == 0 || shown[0].Load == "not-found" {
		return estate.Dependent{}, s.Target.Fail(connect.StageRead, connect.CodeGone, "there is no unit "+unit, "run a survey of this host", nil)
	}
	return shown[0].Dependent, nil
}

// RunCheck implements connect.Commander.
func (Connector) RunCheck(ctx context.Context, target connect.Target, command string) (string, int, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return "", 0, failure
	}
	defer s.Close()
	r := s.Run(ctx, nil, "/bin/sh", "-c", command)
	if r.Err != nil {
		return "", 0, s.Failure(connect.StageProve, r, "check command")
	}
	return string(r.Out) + r.Errs, r.Exit, nil
}

// Verify implements connect.Verifier: a password sign-in over SSH that opens
// no session. The host must allow password sign-in for the account.
func (Connector) Verify(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "the value is empty: not tried"}, nil
	}
	watch := connect.NewStopwatch()
	proof := shell.Password(value)
	client, stop, _, failure := shell.Handshake(ctx, target, account.Name, proof.Methods(), watch)
	if failure != nil {
		if failure.Stage != connect.StageSignIn || failure.Code != connect.CodeStewardRefused {
			return connect.Verdict{}, failure
		}
		failure.Words = secret.Scrub(failure.Words, value)
		if !proof.Asked() && codeOf(failure.Words) != connect.VerdictEnded {
			failure.Code, failure.Words = connect.CodeUnproven, "the host asks "+account.Name+" for no password (it takes publickey or something else): "+failure.Words
			failure.Next = "that says nothing of the value: let sshd ask this account for a password from here (Match User, Address), or have it proven elsewhere"
			return connect.Verdict{}, failure
		}
		return refusedBy(failure.Words), nil
	}
	defer func() { stop(); _ = client.Close() }()
	if words := shell.MustChange(client); words != "" {
		return connect.Verdict{Code: connect.VerdictMustChange, Words: words}, nil
	}
	return connect.Verdict{Accepted: true, Words: "signed in over SSH"}, nil
}

// codeOf is the verdict of a refusal in words.
func codeOf(words string) string {
	if strings.Contains(words, shell.AccountEnded) {
		return connect.VerdictEnded
	}
	return connect.VerdictWrong
}

// refusedBy is what a refusal says. Why sshd refuses it tells nobody but its own journal.
func refusedBy(words string) connect.Verdict {
	code := codeOf(words)
	if code == connect.VerdictWrong {
		words = "Permission denied: " + words
	}
	return connect.Verdict{Code: code, Words: words}
}

var userPattern = regexp.MustCompile(`^[a-z_][a-z0-9_.\-]{0,31}$`)

// Accept implements connect.Accepter: for local accounts, and for files of entries.
func (Connector) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	if point.Path != "" {
		return acceptEntries(ctx, target, point.Path, values, want)
	}
	return connect.ReplacePassword(target, values, want, func(value secret.Value) error { return setPassword(ctx, target, point.Account, value) })
}

// Overlaps implements connect.Accepter: a file of entries lets several keys in.
func (c Connector) Overlaps(ctx context.Context, target connect.Target, point connect.Point) (bool, string, error) {
	if point.Path != "" {
		return true, "every entry lets one key in", nil
	}
	return c.Cannot.Overlaps(ctx, target, point)
}

// Probe implements connect.Accepter.
func (c Connector) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (connect.Probed, error) {
	if point.Path != "" {
		return probeEntries(ctx, target, point.Path, values)
	}
	return connect.ProbePassword(ctx, c, target, point, values)
}

// setPassword gives a local account a password.
func setPassword(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) error {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.Close()
	if failure := s.sameUser(ctx, connect.StageChange, account); failure != nil {
		return failure
	}
	if strings.ContainsAny(value.RevealString(), "\r\n\x00") || value.Empty() {
		return target.Fail(connect.StageChange, connect.CodePolicy, "a local password cannot be empty or contain a line end or NUL", "", nil)
	}
	command := s.setPW()
	r := s.Sudo(ctx, []byte(account.Name+":"+value.RevealString()+"\n"), command)
	if failure := s.Failure(connect.StageChange, r, command, value); failure != nil {
		if strings.Contains(failure.Words, "BAD PASSWORD") || strings.Contains(r.Errs, "Authentication token manipulation error") {
			failure.Code = connect.CodePolicy
		}
		return failure
	}
	return nil
}

func (s *host) setPW() string {
	if command := s.Target.Options[OptionSetPW]; command != "" {
		return command
	}
	return "/usr/sbin/chpasswd"
}

// sameUser makes sure that the name still belongs to the numeric id that the
// account is known by.
func (s *host) sameUser(ctx context.Context, stage connect.Stage, account connect.AccountRef) *connect.Failure {
	if !userPattern.MatchString(account.Name) {
		return s.Target.Fail(stage, connect.CodeFailed, fmt.Sprintf("%q is not a local user name", account.Name), "", nil)
	}
	r := s.Run(ctx, nil, "/usr/bin/id", "-u", account.Name)
	if r.Err == nil && r.Exit != 0 {
		return s.Target.Fail(stage, connect.CodeGone, r.Errs, "run a survey of this host", nil)
	}
	if failure := s.Failure(stage, r, "id"); failure != nil {
		failure.Unclear = false
		return failure
	}
	uid := strings.TrimSpace(string(r.Out))
	if !strings.HasSuffix(account.StableID, ":"+uid) {
		return s.Target.Fail(stage, connect.CodeGone, fmt.Sprintf("%s now has the user id %s: it is another account", account.Name, uid), "run a survey of this host", nil)
	}
	if uid == "0" {
		return s.Target.Fail(stage, connect.CodeNotPermitted, "the password of user id 0 is never changed from here", "", nil)
	}
	return nil
}

// Rehearse implements connect.Rehearser.
func (Connector) Rehearse(ctx context.Context, target connect.Target, intentions []connect.Intention) []connect.Checked {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return []connect.Checked{{System: target.Name, What: "reach the host", Result: connect.CheckFailed, Words: failure.Words, Next: failure.Next}}
	}
	defer s.Close()
	out := []connect.Checked{{System: target.Name, What: "reach the host and sign in", Result: connect.CheckOK}}
	for _, in := range intentions {
		switch {
		case in.Change != nil:
			out = append(out, s.line("find the account "+in.Change.Name, s.sameUser(ctx, connect.StageChange, *in.Change)))
			out = append(out, s.allowed(ctx, "right to set the password", s.setPW()))
		case in.Entries != nil:
			out = append(out, s.rehearseEntries(ctx, *in.Entries)...)
		case in.Replace != "":
			out = append(out, s.rehearseReplace(ctx, in)...)
		case in.Stop.Kind != "":
			out = append(out, s.rehearseStop(ctx, in)...)
		case in.Restart.Kind != "":
			state, failure := s.unitState(ctx, in.Restart.Place)
			line := s.line("state of "+in.Restart.Place, failure)
			if failure == nil {
				line.Words = state.Active
				if state.Active != "active" {
					line.Result, line.Next = connect.CheckWarning, "it is not running now: that cannot be blamed on the rotation"
				}
			}
			verb := "restart"
			if in.Reload {
				verb = "reload"
			}
			out = append(out, line, s.allowed(ctx, "right to "+verb+" "+in.Restart.Place, "/usr/bin/systemctl", verb, in.Restart.Place))
			if slices.ContainsFunc(intentions, func(other connect.Intention) bool { return strings.Contains(other.Replace, "/systemd/") }) {
				out = append(out, s.allowed(ctx, "right to have changed units read", reloadCommand...))
			}
		}
	}
	return out
}

func (s *host) line(what string, failure *connect.Failure) connect.Checked {
	if failure != nil {
		return connect.Checked{System: s.Target.Name, What: what, Result: connect.CheckFailed, Words: failure.Words, Next: failure.Next}
	}
	return connect.Checked{System: s.Target.Name, What: what, Result: connect.CheckOK}
}

// allowed asks sudo whether it would run a command, without running it.
func (s *host) allowed(ctx context.Context, what string, argv ...string) connect.Checked {
	if s.Root {
		return s.line(what, nil)
	}
	r := s.Run(ctx, nil, append([]string{"/usr/bin/sudo", "-n", "-l", "--"}, argv...)...)
	if r.Err != nil {
		return s.line(what, s.Failure(connect.StagePermitted, r, "sudo -l"))
	}
	if r.Exit != 0 {
		return connect.Checked{System: s.Target.Name, What: what, Result: connect.CheckFailed, Words: "sudo does not allow: " + strings.Join(argv, " "), Next: "add it to the sudoers of " + s.Target.Steward.Account}
	}
	return s.line(what, nil)
}

func (s *host) rehearseReplace(ctx context.Context, in connect.Intention) []connect.Checked {
	f, failure := s.regular(ctx, connect.StageRead, in.Replace)
	if failure != nil {
		return []connect.Checked{s.line("read "+in.Replace, failure)}
	}
	what := "copy in " + in.Replace + " is the current value"
	if in.Current.Empty() {
		return []connect.Checked{{System: s.Target.Name, What: what, Result: connect.CheckUnchecked, Words: "the current value is not known"}}
	}
	_, failure = s.spliced(f, in.Places, in.Current, in.Current)
	out := []connect.Checked{s.line(what, failure)}
	if failure == nil && !in.Next.Empty() && !slices.ContainsFunc(in.Places, func(l held.Locator) bool { return l.Layout == layout.PEM || l.Layout == layout.KeyTab }) {
		if _, failure = s.spliced(f, in.Places, in.Current, in.Next); failure != nil {
			line := s.line("the new value can stand in "+in.Replace, failure)
			line.Next = "give another value, or ask for one without the characters that do not fit there"
			out = append(out, line)
		}
	}
	if len(in.Places) > 0 && in.Places[0].Layout == layout.PEM {
		public, has, failure := s.publicBeside(ctx, f.path, in.Current)
		if failure != nil || has {
			line := s.line("public half beside "+in.Replace, failure)
			if failure == nil {
				line = s.mayReplace(ctx, public.path)
			}
			if line.Result == connect.CheckOK {
				line = s.allowed(ctx, "right to remove "+public.path, "/usr/bin/rm", "-f", "--", public.path)
			}
			if line.Result == connect.CheckOK && s.maybeThere(ctx, temporaryName(public.path)) == perhaps {
				line = s.allowed(ctx, "right to look for what was left beside "+public.path, "/usr/bin/cat", "--", temporaryName(public.path))
			}
			out = append(out, line)
		}
	}
	return append(append(out, s.mayReplace(ctx, f.path)), s.grounds(ctx, f)...)
}

// mayReplace asks sudo about every command that replacing a file takes.
func (s *host) mayReplace(ctx context.Context, p string) connect.Checked {
	temporary := temporaryName(p)
	for _, argv := range [][]string{
		{"/usr/bin/rm", "-f", "--", temporary},
		{"/usr/bin/cp", "-a", "--", p, temporary},
		{"/usr/bin/dd", "of=" + temporary, "conv=fsync", "status=none"},
		{"/usr/bin/mv", "-fT", "--", temporary, p},
		{"/usr/bin/sync", "--", path.Dir(p)},
	} {
		if line := s.allowed(ctx, "right to replace "+p, argv...); line.Result != connect.CheckOK {
			return line
		}
	}
	return s.line("right to replace "+p, nil)
}
