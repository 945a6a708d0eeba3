package winhost

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/pending"
	"mossledger.example/moss/internal/core/estate"
)

// Stop implements connect.Restarter. A service that others need is not stopped by itself:
// they would go down with it, and nothing brings them back until the end.
func (Connector) Stop(ctx context.Context, target connect.Target, place estate.Place) (words string, err error) {
	err = at(ctx, target, connect.StageRestart, place, func(s *session) (failure *connect.Failure) {
		state, failure := s.unitState(ctx, place)
		if failure != nil {
			return failure
		}
		if state.Active == "inactive" || state.Active == "failed" {
			words = "it is " + state.Sub + " already"
			return nil
		}
		why, failure := s.standsAlone(ctx, place, nil)
		if failure != nil {
			return failure
		}
		if why != "" {
			return target.Fail(connect.StageRestart, connect.CodeFailed, place.Place+" is not stopped: "+why, "rotate without stopping first, or stop that as well", nil)
		}
		words = "stopped"
		if place.Kind == estate.DependentPool {
			return s.stopPool(ctx, place)
		}
		return s.stop(ctx, place.Place)
	})
	return words, err
}

// standsAlone says why something cannot be stopped by itself, or "". down are those that
// are stopped as well.
func (s *session) standsAlone(ctx context.Context, place estate.Place, down []string) (string, *connect.Failure) {
	switch place.Kind {
	case estate.DependentPool:
		return "", nil
	case estate.DependentService:
	default:
		return "a scheduled task runs when it is due", nil
	}
	of, err := s.clusterOf(ctx)
	if failure := s.failure(connect.StageRestart, err, false); failure != nil {
		return "", failure
	}
	if resource := of.holds(place.Place); resource != "" {
		return "it is the resource " + resource + " of a failover cluster, which takes that for a fault", nil
	}
	up, err := s.chain(ctx, place.Place)
	if failure := s.failure(connect.StageRestart, err, false); failure != nil {
		return "", failure
	}
	up = slices.DeleteFunc(up, func(name string) bool {
		return slices.ContainsFunc(down, func(other string) bool { return strings.EqualFold(name, other) })
	})
	if len(up) > 0 {
		return strings.Join(up, ", ") + " needs it, runs, and would go down with it", nil
	}
	return "", nil
}

func (s *session) stopPool(ctx context.Context, place estate.Place) *connect.Failure {
	_, err := s.Invoke(ctx, poolResource(place.Place), "Stop", nil)
	if failure := s.failure(connect.StageRestart, err, true); failure != nil {
		return failure
	}
	for limit := time.Now().Add(pending.SettleTime); ; {
		state, failure := s.unitState(ctx, place)
		if failure != nil {
			failure.Unclear = true
			return failure
		}
		if state.Active == "inactive" {
			return nil
		}
		err := connect.Wait(ctx, lookEvery)
		if err != nil || time.Now().After(limit) {
			f := s.target.Fail(connect.StageRestart, connect.CodeTimeout, place.Place+" is still "+state.Sub, "look at its workers on the host", err)
			f.Unclear = true
			return f
		}
	}
}

// rehearseStop says whether it can be stopped, with those that are stopped as well.
func (s *session) rehearseStop(ctx context.Context, in connect.Intention) connect.Checked {
	line := connect.Checked{System: s.target.Name, What: fmt.Sprintf("the %s %s can be stopped by itself", in.Stop.Kind, in.Stop.Place), Result: connect.CheckOK}
	var down []string
	for _, p := range in.Along {
		down = append(down, p.Place)
	}
	_, failure := s.unitState(ctx, in.Stop)
	why := ""
	if failure == nil {
		why, failure = s.standsAlone(ctx, in.Stop, down)
	}
	switch {
	case failure != nil:
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
	case why != "":
		line.Result, line.Words, line.Next = connect.CheckFailed, why, "rotate without stopping first"
	}
	return line
}
