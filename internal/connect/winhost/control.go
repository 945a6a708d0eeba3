package winhost

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/codes"
	"mossledger.example/moss/internal/connect/winhost/pending"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/secret"
)

// lookEvery is how often a state is looked at that is pending. The whole act is bounded by its context.
const lookEvery = 150 * time.Millisecond

func storesPassword(account string) bool {
	return naming.IdentityOf(account) == estate.IdentityNamed
}

// Names of services have at most 256 characters and neither slash (MS-SCMR).
var servicePattern = regexp.MustCompile(`^[^/\\\x00-\x1f]{1,256}$`)

func (s *session) checkPlace(stage connect.Stage, place estate.Place) *connect.Failure {
	ok := false
	switch place.Kind {
	case estate.DependentService:
		ok = servicePattern.MatchString(place.Place) && strings.TrimSpace(place.Place) == place.Place && !strings.HasPrefix(place.Place, "-")
	case estate.DependentPool:
		ok = servicePattern.MatchString(place.Place)
	case estate.DependentHost:
		ok = true
	case estate.DependentTask:
		ok = strings.HasPrefix(place.Place, `\`) && !strings.HasSuffix(place.Place, `\`)
	}
	if !ok {
		return s.target.Fail(stage, connect.CodeFailed, fmt.Sprintf("%q is not a %s's name", place.Place, place.Kind), "", nil)
	}
	return nil
}

// at opens a session, does its work on a dependent, and closes it. What fails
// before the work begins has certainly changed nothing.
func at(ctx context.Context, target connect.Target, stage connect.Stage, place estate.Place, work func(*session) *connect.Failure) error {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.close()
	if failure = s.checkPlace(stage, place); failure == nil {
		failure = work(s)
	}
	if failure != nil {
		return failure
	}
	return nil
}

// UnitState implements connect.Restarter.
func (Connector) UnitState(ctx context.Context, target connect.Target, place estate.Place) (state connect.UnitState, err error) {
	err = at(ctx, target, connect.StageProve, place, func(s *session) (failure *connect.Failure) {
		state, failure = s.unitState(ctx, place)
		return failure
	})
	return state, err
}

// actives say in the contract's words what the hosts' states mean.
var actives = map[string]string{
	"running": "active", "stopped": "inactive", "start pending": "activating", "stop pending": "deactivating", "continue pending": "activating", "pause pending": "deactivating", "paused": "inactive",
	"started": "active", "starting": "activating", "stopping": "deactivating", "ready": "active", "queued": "activating", "disabled": "inactive",
}

func (s *session) unitState(ctx context.Context, place estate.Place) (connect.UnitState, *connect.Failure) {
	switch place.Kind {
	case estate.DependentHost:
		return s.up(ctx)
	case estate.DependentPool:
		out, err := s.Invoke(ctx, poolResource(place.Place), "GetState", nil)
		if failure := s.failure(connect.StageProve, err, false); failure != nil {
			return connect.UnitState{}, failure
		}
		word := poolStates[out.Int("ReturnValue")]
		return connect.UnitState{Active: actives[word], Sub: word}, nil
	case estate.DependentTask:
		i, failure := s.task(ctx, connect.StageProve, place)
		if failure != nil {
			return connect.UnitState{}, failure
		}
		word := taskStates[i.Int("State")]
		return connect.UnitState{Active: actives[word], Sub: word}, nil
	}
	i, err := s.Get(ctx, serviceResource(place.Place))
	if failure := s.failure(connect.StageProve, err, false); failure != nil {
		return connect.UnitState{}, failure
	}
	state := serviceState(i)
	if state.Active == "active" {
		// A number may be given again: with its time it is this very process.
		err := s.all(ctx, spaceCIM, "Win32_Process", "ProcessId="+i.Text("ProcessId"), func(p *instance) error {
			state.Invocation += " since " + p.Time("CreationDate").Format(time.RFC3339)
			return nil
		})
		if failure := s.failure(connect.StageProve, err, false); failure != nil {
			return state, failure
		}
	}
	return state, nil
}

func serviceState(i *instance) connect.UnitState {
	word := strings.ToLower(i.Text("State"))
	state := connect.UnitState{Active: actives[word], Sub: word}
	if pid := i.Int("ProcessId"); pid > 0 {
		state.Invocation = "process " + strconv.FormatInt(pid, 10)
	}
	if state.Result = codes.Exited(i.Int("ExitCode")); state.Active == "inactive" && state.Result != "" && i.Int("ExitCode") != 1077 {
		state.Active = "failed"
	}
	return state
}

// Restart implements connect.Restarter. A service that is down is started. One
// that runs is stopped after the running services that need it, in reverse
// order, and all of them are started again in order.
func (Connector) Restart(ctx context.Context, target connect.Target, place estate.Place) (words string, err error) {
	err = at(ctx, target, connect.StageRestart, place, func(s *session) (failure *connect.Failure) {
		switch place.Kind {
		case estate.DependentPool:
			words, failure = s.recycle(ctx, place.Place)
		case estate.DependentHost:
			words, failure = s.restartHost(ctx)
		case estate.DependentService:
			words, failure = s.restartService(ctx, place.Place)
		default:
			failure = target.Fail(connect.StageRestart, connect.CodeFailed, "a scheduled task is not restarted: its next run uses what is stored", "", nil)
		}
		return failure
	})
	return words, err
}

// recycle lets a pool's workers end; the next request starts one anew.
func (s *session) recycle(ctx context.Context, name string) (string, *connect.Failure) {
	state, failure := s.unitState(ctx, estate.Place{Kind: estate.DependentPool, Place: name})
	if failure != nil {
		failure.Stage = connect.StageRestart
		return "", failure
	}
	method := "Recycle"
	if state.Active != "active" {
		method = "Start"
	}
	_, err := s.Invoke(ctx, poolResource(name), method, nil)
	return method + " succeeded: the new identity counts from the next request on", s.failure(connect.StageRestart, err, true)
}

// chain is the running services that need a service, directly or not: those
// that need nobody else come last, so stopping goes from the front.
func (s *session) chain(ctx context.Context, name string) ([]string, error) {
	needs, _, err := s.startOrder(ctx)
	if err != nil {
		return nil, err
	}
	above := map[string][]string{} // folded name to those that need it
	for after, list := range needs {
		for _, before := range list {
			above[strings.ToLower(before)] = append(above[strings.ToLower(before)], after)
		}
	}
	var out []string
	seen := map[string]bool{strings.ToLower(name): true}
	var walk func(string)
	walk = func(at string) {
		list := above[at]
		sort.Strings(list)
		for _, other := range list {
			if !seen[other] {
				seen[other] = true
				walk(other)
				out = append(out, other)
			}
		}
	}
	walk(strings.ToLower(name))
	if len(out) == 0 {
		return nil, nil
	}
	var parts []string
	for _, n := range out {
		parts = append(parts, "Name="+wsman.Quote(n))
	}
	running := map[string]string{}
	err = s.all(ctx, spaceCIM, "Win32_Service", strings.Join(parts, " or "), func(i *instance) error {
		if state := i.Text("State"); state == "Running" || state == "Start Pending" || state == "Paused" {
			running[strings.ToLower(i.Text("Name"))] = i.Text("Name")
		}
		return nil
	})
	var up []string
	for _, n := range out {
		if running[n] != "" {
			up = append(up, running[n])
		}
	}
	return up, err
}

func (s *session) restartService(ctx context.Context, name string) (string, *connect.Failure) {
	begun := time.Now()
	of, err := s.clusterOf(ctx)
	if failure := s.failure(connect.StageRestart, err, false); failure != nil {
		return "", failure
	}
	if resource := of.holds(name); resource != "" {
		return "", s.target.Fail(connect.StageRestart, connect.CodeFailed, name+" is the resource "+resource+" of a failover cluster, which takes a restart for a fault: nothing was done", clusterNext, nil)
	}
	before, err := s.Get(ctx, serviceResource(name))
	if failure := s.failure(connect.StageRestart, err, false); failure != nil {
		return "", failure
	}
	var stopped []string
	if serviceState(before).Active != "inactive" && serviceState(before).Active != "failed" {
		up, err := s.chain(ctx, name)
		if failure := s.failure(connect.StageRestart, err, false); failure != nil {
			return "", failure
		}
		for _, other := range up {
			if resource := of.holds(other); resource != "" {
				return "", s.target.Fail(connect.StageRestart, connect.CodeFailed, other+", which needs "+name+", is the resource "+resource+" of a failover cluster, which takes a restart for a fault: nothing was done", clusterNext, nil)
			}
		}
		for _, other := range up {
			if failure := s.stop(ctx, other); failure != nil {
				failure.Words = "stopping " + other + ", which needs " + name + ": " + failure.Words
				return "", s.bringBack(ctx, stopped, failure)
			}
			stopped = append(stopped, other)
		}
		if failure := s.stop(ctx, name); failure != nil {
			return "", s.bringBack(ctx, stopped, failure)
		}
	}
	words, failure := s.start(ctx, name, begun)
	if failure != nil {
		if len(stopped) > 0 {
			failure.Words += "; stopped for it, and down until it runs: " + strings.Join(stopped, ", ")
		}
		return "", failure
	}
	for i := len(stopped) - 1; i >= 0; i-- {
		if _, failure := s.start(ctx, stopped[i], begun); failure != nil {
			failure.Words = name + " is restarted, but " + stopped[i] + ", which needs it, did not come back: " + failure.Words
			failure.Unclear = true // the restart itself did take effect
			return "", failure
		}
	}
	if len(stopped) > 0 {
		words += "; with it " + strings.Join(stopped, ", ")
	}
	return words, nil
}

// bringBack starts again what was stopped for an act that then failed.
func (s *session) bringBack(ctx context.Context, stopped []string, failure *connect.Failure) *connect.Failure {
	for i := len(stopped) - 1; i >= 0; i-- {
		if _, again := s.start(ctx, stopped[i], time.Now()); again != nil {
			failure.Words += "; and " + stopped[i] + ", stopped before it, did not come back: " + again.Words
		}
	}
	return failure
}

// stop stops a service and waits until it is stopped. One that came back by
// itself with another process was stopped as well.
func (s *session) stop(ctx context.Context, name string) *connect.Failure {
	before, err := s.Get(ctx, serviceResource(name))
	if failure := s.failure(connect.StageRestart, err, false); failure != nil {
		return failure
	}
	if before.Text("State") == "Stopped" {
		return nil
	}
	if before.Text("State") != "Stop Pending" {
		out, err := s.Invoke(ctx, serviceResource(name), "StopService", nil)
		if failure := s.failure(connect.StageRestart, err, true); failure != nil {
			return failure
		}
		code := out.Int("ReturnValue")
		if code != 0 && code != 6 {
			return s.target.Fail(connect.StageRestart, connect.CodeFailed, codes.Returned("StopService of "+name, code), "", nil)
		}
	}
	for wait := (pending.Patience{}); ; {
		now, err := s.Get(ctx, serviceResource(name))
		if failure := s.failure(connect.StageRestart, err, false); failure != nil {
			failure.Unclear = true
			return failure
		}
		state := now.Text("State")
		if state == "Stopped" || state != "Stop Pending" && now.Int("ProcessId") != before.Int("ProcessId") {
			return nil
		}
		if wait.Over(now, time.Now()) {
			f := s.target.Fail(connect.StageRestart, connect.CodeTimeout, fmt.Sprintf("%s is still %s, and told no progress for %s: its process %d does not end", name, strings.ToLower(state), wait.Time(), now.Int("ProcessId")), "look at the host what it waits for; when it has stopped, resume", nil)
			f.Unclear = true
			return f
		}
		if err := connect.Wait(ctx, lookEvery); err != nil {
			f := s.target.Fail(connect.StageRestart, connect.CodeTimeout, name+" is "+strings.ToLower(state)+" and did not stop in the time that there was", "look at it on the host, then resume", err)
			f.Unclear = true
			return f
		}
	}
}

// start starts a service and waits until it runs.
func (s *session) start(ctx context.Context, name string, begun time.Time) (string, *connect.Failure) {
	out, err := s.Invoke(ctx, serviceResource(name), "StartService", nil)
	if failure := s.failure(connect.StageRestart, err, true); failure != nil {
		return "", failure
	}
	code := out.Int("ReturnValue")
	words := codes.Returned("StartService", code)
	if code != 0 && code != 10 {
		return "", s.refused(ctx, name, codes.Returned("StartService of "+name, code), begun)
	}
	for wait := (pending.Patience{}); ; {
		now, err := s.Get(ctx, serviceResource(name))
		if failure := s.failure(connect.StageRestart, err, false); failure != nil {
			failure.Unclear = true
			return "", failure
		}
		state := serviceState(now)
		switch {
		case state.Active == "active":
			return words, nil
		case state.Active == "inactive" || state.Active == "failed":
			return "", s.refused(ctx, name, name+" stopped again: "+state.Result, begun)
		case wait.Over(now, time.Now()):
			f := s.target.Fail(connect.StageRestart, connect.CodeTimeout, fmt.Sprintf("%s is still %s, and told no progress for %s", name, state.Sub, wait.Time()), "look at it on the host, then resume", nil)
			f.Unclear = true
			return "", f
		}
		if err := connect.Wait(ctx, lookEvery); err != nil {
			f := s.target.Fail(connect.StageRestart, connect.CodeTimeout, name+" is "+state.Sub+": time ran out", "", err)
			f.Unclear = true
			return "", f
		}
	}
}

// refused is a start that certainly failed, with the records that say why.
func (s *session) refused(ctx context.Context, name, words string, begun time.Time) *connect.Failure {
	f := s.target.Fail(connect.StageRestart, connect.CodeFailed, words, "explain it with 'moss explain'", nil)
	records, err := s.records(ctx, name, time.Since(begun)+5*time.Second, nil)
	if err != nil {
		f.Words += " (the event records could not be read: " + err.Error() + ")"
		return f
	}
	said := map[string]bool{}
	for _, r := range records {
		if r.Code != 7036 && !said[r.Words] && len(said) < 3 {
			said[r.Words] = true
			f.Words += fmt.Sprintf("; record %d: %s", r.Code, r.Words)
		}
	}
	return f
}

// Verify implements connect.Verifier for local accounts: a sign-in over
// WS-Management. An account that may not use it is told apart from a wrong
// password by the host's answer.
func (Connector) Verify(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "the value is empty: not tried"}, nil
	}
	as := target
	as.Steward = connect.Steward{Account: account.Name, Password: value}
	as.Options = map[string]string{OptionSignIn: target.Options[OptionSignIn]}
	if strings.EqualFold(as.Options[OptionSignIn], "kerberos") {
		as.Options[OptionSignIn] = "ntlm" // local accounts have no tickets
	}
	s, failure := anew(ctx, as, connect.NewStopwatch()) // signing in is the question
	if failure != nil {
		return connect.Verdict{}, failure
	}
	defer s.End()
	failure = s.describe(ctx)
	switch {
	case failure == nil:
		return connect.Verdict{Accepted: true, Words: "signed in over WS-Management"}, nil
	case failure.Code == connect.CodeNotPermitted:
		return connect.Verdict{Accepted: true, Words: "the password is right; the account may not use WS-Management"}, nil
	case failure.Code == connect.CodeStewardRefused:
		// 401 after a completed handshake: the host says no more.
		return connect.Verdict{Code: connect.VerdictNotKnown, Words: "not permitted, or not known: the host does not say whether the password is wrong, the account is disabled or locked, it may not use WS-Management (it is in neither Administrators nor Remote Management Users), it is filtered (a local administrator other than the built-in one, without LocalAccountTokenFilterPolicy), or it is denied access from the network"}, nil
	}
	return connect.Verdict{}, failure
}

// errNoTask is for a task that is not there.
var errNoTask = errors.New("there is no such task")

func (s *session) task(ctx context.Context, stage connect.Stage, place estate.Place) (*instance, *connect.Failure) {
	folder, name := splitTask(place.Place)
	var found *instance
	err := s.all(ctx, spaceTasks, "MSFT_ScheduledTask", "TaskName="+wsman.Quote(name)+" and TaskPath="+wsman.Quote(folder), func(i *instance) error { found = i; return nil })
	if failure := s.failure(stage, err, false); failure != nil {
		return nil, failure
	}
	if found == nil {
		return nil, s.target.Fail(stage, connect.CodeGone, "there is no task "+place.Place, "run a survey of this host", errNoTask)
	}
	return found, nil
}
