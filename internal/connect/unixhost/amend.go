package unixhost

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

// Standing implements connect.Amender: of a membership what getent tells, of a command the
// file that is its own, and sudo's own verdict.
func (c Connector) Standing(ctx context.Context, target connect.Target, change privilege.RightChange) (connect.Standing, error) {
	if _, unfit := connect.Amendable(c, target, change); unfit != nil {
		return connect.Standing{}, unfit
	}
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return connect.Standing{}, failure
	}
	defer s.Close()
	out, failure := s.standing(ctx, change)
	if failure != nil {
		failure.Unclear = false // only read
		return out, failure
	}
	return out, nil
}

func (s *host) standing(ctx context.Context, change privilege.RightChange) (connect.Standing, *connect.Failure) {
	if _, failure := s.Output(ctx, connect.StageRead, "/usr/bin/id", "-u", "--", change.To); failure != nil {
		if failure.Code == connect.CodeFailed {
			failure.Code, failure.Next = connect.CodeGone, "run a survey of "+s.Target.Name
		}
		return connect.Standing{}, failure
	}
	if change.Group != "" {
		return s.member(ctx, change)
	}
	return s.ownRule(ctx, change)
}

func (s *host) member(ctx context.Context, change privilege.RightChange) (out connect.Standing, failure *connect.Failure) {
	r := s.Run(ctx, nil, "/usr/bin/getent", "group", change.Group)
	if r.Err == nil && r.Exit == 2 {
		out.Words = "there is no group " + change.Group
		return out, nil
	}
	if failure := s.Failure(connect.StageRead, r, "/usr/bin/getent group"); failure != nil {
		return out, failure
	}
	line := strings.TrimSpace(string(r.Out))
	if fields := strings.Split(line, ":"); len(fields) == 4 {
		out.There = slices.Contains(strings.Split(fields[3], ","), change.To)
	}
	names, failure := s.Output(ctx, connect.StageRead, "/usr/bin/id", "-Gn", "--", change.To)
	if failure != nil {
		return out, failure
	}
	out.InForce, out.Words = slices.Contains(strings.Fields(string(names)), change.Group), "getent says "+line
	return out, nil
}

// ownRule reads the file of a command, and asks sudo.
func (s *host) ownRule(ctx context.Context, change privilege.RightChange) (out connect.Standing, failure *connect.Failure) {
	want, _ := giveCommand(connect.Proposal{}, change)
	file := sudoFolder + fileOf(change)
	r := s.Sudo(ctx, nil, "/usr/bin/cat", "--", file)
	switch {
	case r.Err == nil && r.Exit != 0 && strings.Contains(r.Errs, "No such file"):
	case r.Err != nil || r.Exit != 0:
		return out, s.Failure(connect.StageRead, r, "/usr/bin/cat -- "+file)
	case string(r.Out) != want.Text:
		return out, s.Target.Fail(connect.StageRead, connect.CodeFailed, file+" says something else than the charter's rule: somebody wrote it", "look at it, and take it away or leave it", nil)
	default:
		out.There = true
	}
	out.Words, out.InForce = file+" is not there", out.There
	if out.There {
		out.Words = file + " is there"
	}
	words, plain := plainCommand(change.What)
	if !plain {
		return out, nil
	}
	argv := []string{"/usr/bin/sudo", "-l", "-U", change.To, "-u", asOf(change), "--"}
	said := s.Sudo(ctx, nil, append(argv, words...)...)
	switch {
	case said.Err != nil:
		return out, s.Failure(connect.StageRead, said, "sudo -l")
	case said.Exit == 0:
		out.InForce = true
		out.Words += "; sudo -l says it may run " + strings.TrimSpace(string(said.Out))
	case strings.Contains(said.Errs, "password is required") || strings.Contains(said.Errs, "not allowed to execute"):
		return out, s.Target.Fail(connect.StageRead, connect.CodeNotPermitted, "sudo does not answer what "+change.To+" may run: "+strings.TrimSpace(said.Errs), "'moss system prepare "+s.Target.Name+" --for amend' says what the steward needs", nil)
	default:
		out.InForce = false
		out.Words += "; sudo -l says it may not run it"
	}
	return out, nil
}

func asOf(change privilege.RightChange) string {
	if change.As == "" || change.As == "ALL" {
		return "root"
	}
	return change.As
}

// plainCommand are the words of a command that has no pattern in it: only such a one can be asked for.
func plainCommand(what string) ([]string, bool) {
	_, what, _ = sudo.Digested(what) // sudo looks at the file itself when it is asked
	words := strings.Fields(what)
	return words, len(words) > 0 && strings.HasPrefix(words[0], "/") && !strings.ContainsAny(what, `*?[]\^"'!`)
}

// Amend implements connect.Amender. A command has a file of its own for sudo, which is checked
// before it is put where sudo reads, and after it with all others; a list that sudo would not
// take is taken away again at once.
func (c Connector) Amend(ctx context.Context, target connect.Target, change privilege.RightChange, back bool) error {
	if _, unfit := connect.Amendable(c, target, change); unfit != nil {
		return unfit
	}
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.Close()
	standing, failure := s.standing(ctx, change)
	if failure != nil {
		failure.Unclear = false // only read
		return failure
	}
	give := change.Give != back
	if standing.There == give {
		return nil
	}
	if change.Group != "" {
		return connect.AsError(s.changeMember(ctx, change, give))
	}
	file := sudoFolder + fileOf(change)
	if !give {
		return connect.AsError(s.inTurn(ctx, []string{"/usr/bin/rm", "-f", "--", file}, []string{"/usr/bin/sync", "--", sudoFolder}))
	}
	want, _ := giveCommand(connect.Proposal{}, change)
	temporary := temporaryName(file) // sudo passes over files with a dot in their name
	if failure := s.acts(ctx, []act{
		{nil, []string{"/usr/bin/rm", "-f", "--", temporary}},
		{[]byte(want.Text), []string{"/usr/bin/dd", "of=" + temporary, "conv=fsync", "status=none"}},
		{nil, []string{"/usr/bin/chmod", "440", "--", temporary}},
		{nil, []string{"/usr/sbin/visudo", "-c", "-q", "-f", temporary}},
	}); failure != nil {
		failure.Unclear = false // sudo does not read it there
		_ = s.Sudo(ctx, nil, "/usr/bin/rm", "-f", "--", temporary)
		return failure
	}
	if failure := s.inTurn(ctx, []string{"/usr/bin/mv", "-fT", "--", temporary, file}, []string{"/usr/bin/sync", "--", sudoFolder}, []string{"/usr/sbin/visudo", "-c", "-q"}); failure != nil {
		if r := s.Sudo(context.WithoutCancel(ctx), nil, "/usr/bin/rm", "-f", "--", file); r.Err == nil && r.Exit == 0 {
			failure.Unclear = false
			failure.Words += " (taken away again)"
			return failure
		}
		failure.Unclear = true
		return failure
	}
	return nil
}

// inTurn runs one command after the other. Of one whose end was not seen it is not known what
// it did.
func (s *host) inTurn(ctx context.Context, commands ...[]string) *connect.Failure {
	for i, argv := range commands {
		if failure := s.Failure(connect.StageChange, s.Sudo(ctx, nil, argv...), strings.Join(argv, " ")); failure != nil {
			failure.Unclear = failure.Unclear || i > 0
			return failure
		}
	}
	return nil
}

func (s *host) changeMember(ctx context.Context, change privilege.RightChange, give bool) *connect.Failure {
	if !give {
		return s.inTurn(ctx, []string{"/usr/bin/gpasswd", "-d", change.To, change.Group})
	}
	if r := s.Run(ctx, nil, "/usr/bin/getent", "group", change.Group); r.Err == nil && r.Exit == 2 {
		if change.GroupID != "" {
			return s.Target.Fail(connect.StageChange, connect.CodeGone, "the group "+change.Group+" is not there any more", "run a survey of "+s.Target.Name, nil)
		}
		if failure := s.inTurn(ctx, []string{"/usr/sbin/groupadd", "-r", change.Group}); failure != nil {
			return failure
		}
	}
	return s.inTurn(ctx, []string{"/usr/sbin/usermod", "-aG", change.Group, change.To})
}

// Try implements connect.Trier. It signs in anew: groups are looked up then.
func (Connector) Try(ctx context.Context, target connect.Target, step string) (connect.Tried, error) {
	var out connect.Tried
	s, failure := shell.SignIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return out, failure
	}
	defer s.End()
	r := s.Run(ctx, nil, "/bin/sh", "-c", step)
	if r.Err != nil {
		return out, s.Failure(connect.StageProve, r, "/bin/sh")
	}
	if out.OK = r.Exit == 0; !out.OK {
		out.Words = estate.FirstLine(strings.TrimSpace(r.Errs))
		if out.Words == "" {
			out.Words = "it ended with " + strconv.Itoa(r.Exit)
		}
	}
	return out, nil
}
