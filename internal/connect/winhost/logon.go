package winhost

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/codes"
	"mossledger.example/moss/internal/connect/winhost/rights"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// ReadLogOn implements connect.LogOnKeeper.
func (Connector) ReadLogOn(ctx context.Context, target connect.Target, place estate.Place) (state connect.LogOnState, err error) {
	err = at(ctx, target, connect.StageRead, place, func(s *session) (failure *connect.Failure) {
		state, _, failure = s.logOn(ctx, connect.StageRead, place)
		return failure
	})
	return state, err
}

// logOn reads what a dependent logs on as, and the instance that it stands in.
func (s *session) logOn(ctx context.Context, stage connect.Stage, place estate.Place) (connect.LogOnState, *instance, *connect.Failure) {
	switch place.Kind {
	case estate.DependentTask:
		i, failure := s.task(ctx, stage, place)
		if failure != nil {
			return connect.LogOnState{}, nil, failure
		}
		d := taskOf(i)
		return connect.LogOnState{Account: d.RunsAs, Stores: d.Stores}, i, nil
	case estate.DependentPool:
		i, err := s.Get(ctx, poolResource(place.Place))
		if failure := s.failure(stage, err, false); failure != nil {
			return connect.LogOnState{}, nil, failure
		}
		d, password := poolOf(i)
		return connect.LogOnState{Account: d.RunsAs, Stores: d.Stores, Value: password, Shown: !password.Empty()}, i, nil
	}
	i, err := s.Get(ctx, serviceResource(place.Place))
	if failure := s.failure(stage, err, false); failure != nil {
		return connect.LogOnState{}, nil, failure
	}
	d := serviceOf(i)
	return connect.LogOnState{Account: d.RunsAs, Stores: d.Stores}, i, nil
}

// ReplaceLogOn implements connect.LogOnKeeper.
func (Connector) ReplaceLogOn(ctx context.Context, target connect.Target, change connect.LogOnChange) (words string, err error) {
	err = at(ctx, target, connect.StageReplace, change.Place, func(s *session) (failure *connect.Failure) {
		words, failure = s.replaceLogOn(ctx, change)
		return failure
	})
	return words, err
}

// carries says why a value cannot be carried in an envelope, or "".
func carries(v secret.Value) string {
	for _, r := range v.RevealString() {
		if r < 0x20 {
			return "a password with a control character cannot be carried in XML"
		}
	}
	return ""
}

func (s *session) replaceLogOn(ctx context.Context, change connect.LogOnChange) (string, *connect.Failure) {
	if why := carries(change.Value); why != "" {
		return "", s.target.Fail(connect.StageReplace, connect.CodePolicy, why, "", nil)
	}
	if change.Value.Empty() && storesPassword(change.Account) {
		return "", s.target.Fail(connect.StageReplace, connect.CodeFailed, change.Account+" needs a password, and none was given", "", nil)
	}
	now, at, failure := s.logOn(ctx, connect.StageReplace, change.Place)
	if failure != nil {
		return "", failure
	}
	if change.Was != "" && !strings.EqualFold(now.Account, change.Was) && !strings.EqualFold(now.Account, change.Account) {
		return "", s.target.Fail(connect.StageReplace, connect.CodeFailed, fmt.Sprintf("%s logs on as %s now, not as %s: somebody changed it", change.Place.Place, now.Account, change.Was), "run a survey of this host", nil)
	}
	switch change.Place.Kind {
	case estate.DependentTask:
		method, err := s.setTask(ctx, change, at)
		if failure := s.failure(connect.StageReplace, err, true, change.Value); failure != nil {
			if wsman.Is(err, "2147943726") { // 0x8007052E
				failure.Words, failure.Next = "the task scheduler checked the password and refused it: "+failure.Words, "the account may be new to this host's domain controller, disabled or locked"
			}
			return "", failure
		}
		if managed(change.Account) {
			return method + " succeeded: the host fetches the password itself, and the next run proves it", nil
		}
		return method + " succeeded: the scheduler has checked and stored it", nil
	case estate.DependentPool:
		return s.replacePool(ctx, change, at)
	}
	input := []wsman.Pair{{Name: "StartName", Value: change.Account}, {Name: "StartPassword", Value: change.Value.RevealString()}}
	if !storesPassword(change.Account) {
		input[1].Value = ""
	}
	out, err := s.Invoke(ctx, serviceResource(change.Place.Place), "Change", input)
	if failure := s.failure(connect.StageReplace, err, true, change.Value); failure != nil {
		return "", failure
	}
	code := out.Int("ReturnValue")
	words := codes.Returned("Change", code)
	if code != 0 {
		return "", s.target.Fail(connect.StageReplace, connect.CodeFailed, words, "", nil)
	}
	return words + " (stored unchecked: only the next start proves it)", nil
}

// setTask calls the method that gives a task its log-on.
func (s *session) setTask(ctx context.Context, change connect.LogOnChange, at *instance) (string, error) {
	folder, name := splitTask(change.Place.Place)
	if present := at.Child("Principal"); managed(change.Account) && present != nil {
		resource, method, input, principal := principalMethod(folder, name, change.Account, present)
		_, err := s.Invoke(ctx, resource, method, input, principal)
		return method, err
	}
	resource, method, input := taskMethod(folder, name, change.Account, change.Value.RevealString())
	_, err := s.Invoke(ctx, resource, method, input)
	return method, err
}

func (s *session) replacePool(ctx context.Context, change connect.LogOnChange, at *instance) (string, *connect.Failure) {
	model := processModel(at)
	if model == nil {
		return "", s.target.Fail(connect.StageReplace, connect.CodeProtocol, "the pool has no process model", "", nil)
	}
	kind := int64(4)
	for number, name := range poolIdentities {
		if strings.EqualFold(name, change.Account) {
			kind = number
		}
	}
	if storesPassword(change.Account) || strings.HasSuffix(change.Account, "$") {
		kind = poolNamed
		model.Set("UserName", change.Account)
		model.Set("Password", change.Value.RevealString())
	}
	model.Set("IdentityType", fmt.Sprint(kind))
	if err := s.Put(ctx, poolResource(change.Place.Place), at); err != nil {
		return "", s.failure(connect.StageReplace, err, true, change.Value)
	}
	// The web server shows what it stored: read it back.
	now, _, failure := s.logOn(ctx, connect.StageReplace, change.Place)
	if failure != nil {
		failure.Unclear = true
		return "", failure
	}
	if !strings.EqualFold(now.Account, change.Account) || now.Shown && !now.Value.Equal(change.Value) {
		f := s.target.Fail(connect.StageReplace, connect.CodeFailed, "the web server took the change and has something else stored", "look at the pool's identity on the host", nil)
		f.Unclear = true // something did change
		return "", f
	}
	return "Put succeeded and was read back", nil
}

// Rehearse implements connect.Rehearser.
func (Connector) Rehearse(ctx context.Context, target connect.Target, intentions []connect.Intention) []connect.Checked {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure == nil {
		failure = s.describe(ctx)
		defer s.close()
	}
	if failure != nil {
		return []connect.Checked{{System: target.Name, What: "reach the host", Result: connect.CheckFailed, Words: failure.Words, Next: failure.Next}}
	}
	out := []connect.Checked{{System: target.Name, What: "reach the host and sign in", Result: connect.CheckOK, Words: s.facts.Flavor}}
	if s.facts.ClockOff != 0 {
		out = append(out, connect.Checked{System: target.Name, What: "clock of the host", Result: connect.CheckWarning, Words: fmt.Sprintf("it is off by %s", s.facts.ClockOff), Next: "Kerberos fails beyond five minutes"})
	}
	s.logOns = nil                      // as they are now
	starts := map[estate.Place]string{} // as whom, by what the plan changes
	for _, in := range intentions {
		if in.LogOn != nil {
			starts[in.LogOn.Place] = in.LogOn.Account
		}
	}
	for _, in := range intentions {
		switch {
		case in.Change != nil:
			// Only so that a local account's rotation is refused before it begins.
			out = append(out, connect.Checked{System: target.Name, What: "set the password of " + in.Change.Name, Result: connect.CheckFailed, Words: "WS-Management offers no way to set a local account's password", Next: "use an account of the directory, or a managed one"})
		case in.LogOn != nil:
			out = append(out, s.rehearseLogOn(ctx, in))
		case in.Stop.Kind != "":
			out = append(out, s.rehearseStop(ctx, in))
		case in.Restart.Kind != "":
			out = append(out, s.rehearseRestart(ctx, in, starts[in.Restart]))
		}
	}
	return out
}

func (s *session) rehearseLogOn(ctx context.Context, in connect.Intention) connect.Checked {
	line := connect.Checked{System: s.target.Name, What: fmt.Sprintf("log-on of the %s %s", in.LogOn.Place.Kind, in.LogOn.Place.Place), Result: connect.CheckOK}
	now, at, failure := s.logOn(ctx, connect.StageRead, in.LogOn.Place)
	switch {
	case failure != nil:
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
	case in.LogOn.Was != "" && !strings.EqualFold(now.Account, in.LogOn.Was):
		line.Result, line.Words, line.Next = connect.CheckFailed, fmt.Sprintf("it logs on as %s now, not as %s", now.Account, in.LogOn.Was), "survey this host, and rehearse again"
	case now.Shown && !in.Current.Empty() && !now.Value.Equal(in.Current) && strings.EqualFold(in.LogOn.Was, in.LogOn.Account):
		line.Result, line.Words = connect.CheckWarning, "it has another password stored than the current one: it would fail at its next start already"
	case now.Shown:
		line.Words = "has the current password stored"
	default:
		line.Words = now.Account + "; the stored password cannot be read"
	}
	if line.Result == connect.CheckFailed {
		return line
	}
	switch in.LogOn.Place.Kind {
	case estate.DependentPool:
		line.Words += "; the web server ends its workers and starts them anew as soon as the identity changes: it cannot be left running as it is"
	case estate.DependentTask:
		if works, words := s.taskMethodWorks(ctx, at, managed(in.LogOn.Account) || managed(in.LogOn.Was)); !works {
			line.Result, line.Words, line.Next = connect.CheckFailed, words, "change the log-on of this task by hand, and skip it here"
		}
	case estate.DependentService:
		if why, next := s.notLoggedOn(ctx, in.LogOn.Account); why != "" {
			line.Result, line.Words, line.Next = connect.CheckWarning, line.Words+"; "+why, next
		}
		of, err := s.clusterOf(ctx)
		if failure := s.failure(connect.StageRead, err, false); failure != nil {
			line.Result, line.Words, line.Next = connect.CheckWarning, line.Words+"; whether it belongs to a cluster could not be read: "+failure.Words, failure.Next
			return line
		}
		if resource := of.holds(in.LogOn.Place.Place); resource != "" {
			line.Result, line.Words = connect.CheckWarning, line.Words+"; it is the resource "+resource+" of a failover cluster: on each other node it has a log-on of its own, which must change as well"
			line.Next = "see that each is surveyed and in the plan: " + of.others(s.name)
		}
	}
	return line
}

// notLoggedOn says why a host will not start a service as an account, and what to do; "" where it
// will, or does not tell.
func (s *session) notLoggedOn(ctx context.Context, account string) (why, next string) {
	if s.logOns == nil {
		var err error
		if s.logOns, err = rights.ReadLogOns(s.target, s.asked(ctx)); err != nil {
			return "", ""
		}
	}
	if why, err := s.logOns.Refused(account); err == nil && why != "" {
		return why + ": its next start fails (event 7041)", "give " + account + " the right SeServiceLogonRight in the policy, or see that nothing denies it"
	}
	return "", ""
}

func (s *session) rehearseRestart(ctx context.Context, in connect.Intention, as string) connect.Checked {
	if in.Restart.Kind == estate.DependentHost {
		return s.rehearseHost(ctx)
	}
	line := connect.Checked{System: s.target.Name, What: fmt.Sprintf("restart of the %s %s", in.Restart.Kind, in.Restart.Place), Result: connect.CheckOK}
	state, failure := s.unitState(ctx, in.Restart)
	if failure != nil {
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		return line
	}
	line.Words = state.Sub
	if in.Restart.Kind != estate.DependentService {
		return line
	}
	i, err := s.Get(ctx, serviceResource(in.Restart.Place))
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		return line
	}
	if stops, ok := i.Bool("AcceptStop"); ok && !stops && state.Active == "active" {
		line.Result, line.Words, line.Next = connect.CheckFailed, "it does not accept to be stopped", "leave it running, and restart it with the host"
		return line
	}
	of, err := s.clusterOf(ctx)
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		line.Result, line.Words, line.Next = connect.CheckFailed, "whether it belongs to a cluster could not be read: "+failure.Words, failure.Next
		return line
	}
	if resource := of.holds(in.Restart.Place); resource != "" {
		line.Result, line.Words, line.Next = connect.CheckFailed, "it is the resource "+resource+" of a failover cluster, which takes a restart for a fault", clusterNext
		return line
	}
	if why, next := s.notLoggedOn(ctx, cmp.Or(as, i.Text("StartName"))); why != "" {
		line.Result, line.Words, line.Next = connect.CheckFailed, why, next+"; or leave it running, and restart it once that is done"
		return line
	}
	if i.Text("StartMode") == "Disabled" {
		line.Result, line.Words, line.Next = connect.CheckFailed, "it is disabled: once stopped it would not start again", "enable it, or leave it running"
		return line
	}
	if state.Active != "active" {
		line.Result, line.Next = connect.CheckWarning, "it is not running now: that cannot be blamed on the rotation"
	}
	up, err := s.chain(ctx, in.Restart.Place)
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		return line
	}
	planned := map[string]bool{}
	for _, p := range in.Along {
		planned[strings.ToLower(p.Place)] = true
	}
	var along []string
	for _, name := range up {
		if resource := of.holds(name); resource != "" {
			line.Result, line.Words, line.Next = connect.CheckFailed, name+" needs it, and is the resource "+resource+" of a failover cluster, which takes a restart for a fault", clusterNext
			return line
		}
		if !planned[strings.ToLower(name)] {
			line.Result, line.Words, line.Next = connect.CheckFailed, name+" needs it and runs, but the plan does not know of it", "survey this host, and rehearse again"
			return line
		}
		along = append(along, name)
	}
	if len(along) > 0 {
		line.Words += "; takes down and brings back " + strings.Join(along, ", ")
	}
	return line
}
