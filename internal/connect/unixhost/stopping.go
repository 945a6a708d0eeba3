package unixhost

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// What is stopped before a change must stay down until it has the new value, and nothing
// else may go down with it that nobody brings back: units that require it (systemd.unit(5),
// RequiredBy=, BoundBy=, ConsistsOf=), and those that start it again whenever somebody asks
// (TriggeredBy=: sockets, timers, paths).

// anyUnit is a name of a unit of any type (systemd.unit(5)).
var anyUnit = regexp.MustCompile(`^[A-Za-z0-9:_.\\@][A-Za-z0-9:_.\\@\-]*\.[a-z]+$`)

// standsAlone says why a unit cannot be stopped by itself, or "". down are those that are
// stopped as well.
func (s *host) standsAlone(ctx context.Context, unit string, down []string) (string, *connect.Failure) {
	out, failure := s.Output(ctx, connect.StageRestart, "/usr/bin/systemctl", "show", "--property=RequiredBy", "--property=BoundBy", "--property=ConsistsOf", "--property=TriggeredBy", "--", unit)
	if failure != nil {
		return "", failure
	}
	for line := range strings.Lines(string(out)) {
		property, names, _ := strings.Cut(strings.TrimSpace(line), "=")
		if !slices.Contains([]string{"RequiredBy", "BoundBy", "ConsistsOf", "TriggeredBy"}, property) {
			continue
		}
		for _, name := range strings.Fields(names) {
			if slices.Contains(down, name) {
				continue
			}
			if !anyUnit.MatchString(name) {
				return "whether " + name + " needs it is not known", nil
			}
			state, failure := s.unitState(ctx, name)
			switch {
			case failure != nil && failure.Code == connect.CodeGone:
			case failure != nil:
				return "", failure
			case state.Active != "active" && state.Active != "activating":
			case property == "TriggeredBy":
				return name + " starts it again whenever it is asked", nil
			default:
				return name + " needs it, runs, and would go down with it", nil
			}
		}
	}
	return "", nil
}

func (s *host) cannotStop(unit, why string) *connect.Failure {
	return s.Target.Fail(connect.StageRestart, connect.CodeFailed, unit+" is not stopped: "+why, "rotate without stopping first, or stop that as well", nil)
}

// Stop implements connect.Restarter.
func (Connector) Stop(ctx context.Context, target connect.Target, place estate.Place) (string, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return "", failure
	}
	defer s.Close()
	if failure := s.checkUnit(connect.StageRestart, place); failure != nil {
		return "", failure
	}
	state, failure := s.unitState(ctx, place.Place)
	if failure != nil {
		failure.Unclear = false // nothing but reading was tried
		return "", failure
	}
	if state.Active == "inactive" || state.Active == "failed" {
		return "it is " + state.Active + " already", nil
	}
	why, failure := s.standsAlone(ctx, place.Place, nil)
	if failure == nil && why != "" {
		failure = s.cannotStop(place.Place, why)
	}
	if failure != nil {
		failure.Unclear = false
		return "", failure
	}
	argv := []string{"/usr/bin/systemctl", "stop", place.Place}
	if failure := s.Failure(connect.StageRestart, s.Sudo(ctx, nil, argv...), strings.Join(argv, " ")); failure != nil {
		return "", failure
	}
	return "stopped", nil
}

// rehearseStop says whether a unit can be stopped, with those that are stopped as well.
func (s *host) rehearseStop(ctx context.Context, in connect.Intention) []connect.Checked {
	var down []string
	for _, p := range in.Along {
		down = append(down, p.Place)
	}
	_, failure := s.unitState(ctx, in.Stop.Place)
	why := ""
	if failure == nil {
		why, failure = s.standsAlone(ctx, in.Stop.Place, down)
	}
	line := s.line(fmt.Sprintf("%s can be stopped by itself", in.Stop.Place), failure)
	if failure == nil && why != "" {
		line.Result, line.Words, line.Next = connect.CheckFailed, why, "rotate without stopping first"
	}
	return []connect.Checked{line, s.allowed(ctx, "right to stop "+in.Stop.Place, "/usr/bin/systemctl", "stop", in.Stop.Place)}
}
