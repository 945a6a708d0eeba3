package winhost

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/codes"
	"mossledger.example/moss/internal/connect/wsman"
)

// up is the state of the host as a whole: since when it is up tells one run from another.
func (s *session) up(ctx context.Context) (connect.UnitState, *connect.Failure) {
	if failure := s.describe(ctx); failure != nil {
		return connect.UnitState{}, failure
	}
	return connect.UnitState{Active: "active", Sub: "up", Invocation: connect.UpSince + s.facts.Booted.UTC().Format(time.RFC3339)}, nil
}

// restartHost asks the host to restart. It answers, and goes down afterwards.
func (s *session) restartHost(ctx context.Context) (string, *connect.Failure) {
	out, err := s.Invoke(ctx, wsman.Resource{URI: resourceBase + spaceCIM + "/Win32_OperatingSystem"}, "Reboot", nil)
	if failure := s.failure(connect.StageRestart, err, true); failure != nil {
		return "", failure
	}
	if code := out.Int("ReturnValue"); code != 0 {
		return "", s.target.Fail(connect.StageRestart, connect.CodeFailed, codes.Restarted(code), "let the steward shut the host down (SeRemoteShutdownPrivilege), or restart it by hand", nil)
	}
	return "it was asked to restart", nil
}

// rehearseHost says what a restart of the host takes down for good: what runs, and does not start by
// itself.
func (s *session) rehearseHost(ctx context.Context) connect.Checked {
	line := connect.Checked{System: s.target.Name, What: "restart of the host " + s.target.Name, Result: connect.CheckOK}
	running, down := 0, []string{}
	err := s.all(ctx, spaceCIM, "Win32_Service", "State="+wsman.Quote("Running"), func(i *instance) error {
		running++
		if i.Text("StartMode") != "Auto" {
			down = append(down, i.Text("Name"))
		}
		return nil
	})
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		return line
	}
	line.Words = fmt.Sprintf("up since %s; %d services run", s.facts.Booted.UTC().Format(time.RFC3339), running)
	if len(down) > 0 {
		line.Result = connect.CheckWarning
		line.Words += fmt.Sprintf(", and %d of them do not start by themselves: %s", len(down), strings.Join(down[:min(len(down), 20)], ", "))
		line.Next = "have them started by hand afterwards"
	}
	return line
}
