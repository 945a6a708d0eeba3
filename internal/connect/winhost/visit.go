package winhost

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/codes"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// visit is what the lanes of one visit share.
type visit struct {
	emit         func(connect.Batch) error
	fingerprints *secret.Fingerprinter
	lock         sync.Mutex // of all below, and of emit
	coverage     connect.Coverage
	taken        error // of emit
	batch        connect.Batch
	failed       *connect.Failure // the first
	partly       error            // why what is read without an error is not all
}

// lane reads some scopes of a host over a connection of its own.
type lane struct {
	*session
	*visit
}

type part struct {
	scope string
	read  func(context.Context) error
}

// flushAt is how many dependents are handed over at a time.
const flushAt = 500

// Visit implements connect.Visitor. The services are read over a second
// connection at the same time as the rest: most of a visit is waiting.
func (Connector) Visit(ctx context.Context, target connect.Target, request connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	v := &visit{emit: emit, coverage: connect.NewCoverage()}
	if !request.FingerprintKey.Empty() {
		v.fingerprints = secret.FingerprinterFromKey(request.FingerprintKey)
	}
	s, failure := anew(ctx, target, watch)
	if failure != nil {
		v.coverage.Stages = watch.Stages()
		return v.coverage, failure
	}
	defer s.close()
	if failure := s.describe(ctx); failure != nil {
		watch.Fail(failure)
		v.coverage.Stages, v.coverage.Facts = watch.Stages(), s.facts
		return v.coverage, failure
	}
	watch.OK(connect.StageSignIn, "as "+target.Steward.Account)
	for _, scope := range []string{connect.ScopeAccounts, connect.ScopeServices, connect.ScopeTasks, connect.ScopePools} {
		v.coverage.Complete[scope] = false
	}
	if err := s.seesAll(ctx); err != nil {
		v.partly = err
		v.problem("", err.Error(), partlyNext)
	}
	main := &lane{s, v}
	var both sync.WaitGroup
	both.Add(1)
	go func() {
		defer both.Done()
		second, failure := anew(ctx, target, connect.NewStopwatch())
		if failure != nil {
			v.incomplete(connect.ScopeServices, failure)
			return
		}
		defer second.close()
		services := &lane{second, v}
		services.run(ctx, part{connect.ScopeServices, services.readServices})
	}()
	// Accounts last: they are what a host may be slow with, and nothing waits for them.
	main.run(ctx, part{connect.ScopeTasks, main.tasks}, part{connect.ScopePools, main.pools}, part{connect.ScopeAccounts, main.accounts})
	main.reboots(ctx)
	both.Wait()
	err := v.flush()
	if v.failed == nil {
		counts := v.coverage.Counts
		watch.OK(connect.StageRead, fmt.Sprintf("%d services, %d tasks, %d pools, %d local accounts", counts[connect.ScopeServices], counts[connect.ScopeTasks], counts[connect.ScopePools], counts[connect.ScopeAccounts]))
	} else {
		watch.Fail(v.failed)
	}
	v.coverage.Facts, v.coverage.Stages = s.facts, watch.Stages()
	switch {
	case v.taken != nil:
		return v.coverage, v.taken
	case err != nil:
		return v.coverage, err
	case v.failed != nil && lost(v.failed):
		return v.coverage, v.failed
	}
	return v.coverage, nil
}

// lost: there is no use in asking for more.
func lost(f *connect.Failure) bool {
	return f.Code == connect.CodeUnreachable || f.Code == connect.CodeTimeout || f.Code == connect.CodeStewardRefused
}

// run reads scopes, one after the other.
func (l *lane) run(ctx context.Context, parts ...part) {
	for _, p := range parts {
		err := p.read(ctx)
		l.lock.Lock()
		over := l.taken != nil
		l.lock.Unlock()
		if over {
			return
		}
		if failure := l.failure(connect.StageRead, err, false); failure != nil {
			if wsman.Is(err, wsman.TimedOut) { // one class had nothing ready: said by a host that answers
				failure.Code = connect.CodeFailed
			}
			l.incomplete(p.scope, failure)
			if lost(failure) {
				return
			}
			continue
		}
		l.lock.Lock()
		if l.partly == nil {
			l.coverage.Complete[p.scope] = true
		} else {
			l.coverage.Why[p.scope] = l.partly.Error()
		}
		l.lock.Unlock()
	}
}

func (v *visit) incomplete(scope string, failure *connect.Failure) {
	v.problem(scope, failure.Words, failure.Next)
	v.lock.Lock()
	defer v.lock.Unlock()
	v.coverage.Why[scope] = failure.Words
	if v.failed == nil || lost(failure) && !lost(v.failed) {
		v.failed = failure
	}
}

func (v *visit) problem(place, what, next string) {
	v.lock.Lock()
	defer v.lock.Unlock()
	v.batch.Problems = append(v.batch.Problems, connect.Unread{Stage: connect.StageRead, Place: place, What: what, Next: next})
}

func (v *visit) flush() error {
	v.lock.Lock()
	defer v.lock.Unlock()
	return v.hand()
}

// hand hands over what was gathered; the lock is held.
func (v *visit) hand() error {
	if v.taken != nil || len(v.batch.Accounts)+len(v.batch.Dependents)+len(v.batch.Problems) == 0 {
		return v.taken
	}
	v.taken = v.emit(v.batch)
	v.batch = connect.Batch{}
	return v.taken
}

func (v *visit) add(scope string, d estate.Dependent) error {
	v.lock.Lock()
	defer v.lock.Unlock()
	v.coverage.Counts[scope]++
	v.batch.Dependents = append(v.batch.Dependents, d)
	if len(v.batch.Dependents) >= flushAt {
		return v.hand()
	}
	return v.taken
}

func (v *visit) addAccount(a estate.Account) error {
	v.lock.Lock()
	defer v.lock.Unlock()
	v.coverage.Counts[connect.ScopeAccounts]++
	v.batch.Accounts = append(v.batch.Accounts, a)
	if len(v.batch.Accounts) >= flushAt {
		return v.hand()
	}
	return v.taken
}

// accounts reads the local accounts with the local groups that they are in.
// Only local ones are asked for: otherwise a host walks its whole domain.
func (v *lane) accounts(ctx context.Context) error {
	if err := v.all(ctx, spaceCIM, "Win32_ComputerSystem", "", func(i *instance) error {
		v.facts.Identity = i.Text("DNSHostName")
		if member, _ := i.Bool("PartOfDomain"); member {
			v.facts.Identity += "." + i.Text("Domain")
		}
		return nil
	}); err != nil {
		return err
	}
	// A local account is also written with the host's name before it.
	v.facts.Domains = []string{v.name}
	groups, err := v.memberships(ctx)
	if err != nil {
		return err
	}
	return v.all(ctx, spaceCIM, "Win32_UserAccount", "LocalAccount=TRUE", func(i *instance) error {
		a := estate.Account{
			StableID: i.Text("SID"), Name: i.Text("Name"), SID: i.Text("SID"), Type: "local", DisplayName: i.Text("FullName"), Description: i.Text("Description"),
			EndsUnknown: "a host tells whether passwords expire, not when, and nothing of ends of accounts",
			Enabled:     negated(i, "Disabled"), Locked: known(i, "Lockout"), Groups: groups[strings.ToLower(i.Text("Domain")+`\`+i.Text("Name"))],
		}
		if expires, ok := i.Bool("PasswordExpires"); ok {
			a.NeverExpire = !expires
		}
		if a.StableID == "" || a.Name == "" {
			v.problem("Win32_UserAccount", fmt.Sprintf("a local account %q without an identifier", a.Name), "")
			return nil
		}
		return v.addAccount(a)
	})
}

// groupsAtOnce is how many groups one question is about: hosts refuse long ones.
const groupsAtOnce = 25

// memberships are the local groups by their members, DOMAIN\name in lower case. The
// class of memberships is asked by group: without that its provider walks through all
// groups of the domain.
func (v *lane) memberships(ctx context.Context) (map[string][]string, error) {
	var names []string
	if err := v.all(ctx, spaceCIM, "Win32_Group", "LocalAccount=TRUE", func(i *instance) error {
		names = append(names, i.Text("Name"))
		return nil
	}); err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for some := range slices.Chunk(names, groupsAtOnce) {
		conditions := make([]string, len(some))
		for i, name := range some {
			conditions[i] = "GroupComponent=" + wsman.Quote(fmt.Sprintf(`Win32_Group.Domain="%s",Name="%s"`, v.name, name))
		}
		if err := v.all(ctx, spaceCIM, "Win32_GroupUser", strings.Join(conditions, " or "), func(i *instance) error {
			group, ok := i.Reference("GroupComponent")
			part, found := i.Reference("PartComponent")
			if ok && found && strings.EqualFold(group.Selector("Domain"), v.name) {
				key := strings.ToLower(part.Selector("Domain") + `\` + part.Selector("Name"))
				out[key] = append(out[key], group.Selector("Name"))
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func known(i *instance, property string) estate.Tristate {
	value, ok := i.Bool(property)
	if !ok {
		return estate.Unknown
	}
	return estate.Known(value)
}

func negated(i *instance, property string) estate.Tristate {
	value, ok := i.Bool(property)
	if !ok {
		return estate.Unknown
	}
	return estate.Known(!value)
}

// readServices reads the processes first, which say since when something
// runs; then the start order; then the services, which are handed over as
// they come.
func (v *lane) readServices(ctx context.Context) error {
	started := map[int64]*instance{}
	if err := v.all(ctx, spaceCIM, "Win32_Process", "", func(i *instance) error {
		// Only the time is needed: a host may have many processes.
		started[i.Int("ProcessId")] = &instance{Children: []*wsman.Node{i.Child("CreationDate")}}
		return nil
	}); err != nil {
		return err
	}
	needs, drivers, err := v.startOrder(ctx)
	if err != nil {
		return err
	}
	shown := maps.Clone(drivers) // what need not be looked for among the hidden
	// Drivers as well: only so is known what is neither, and hidden.
	err = v.all(ctx, spaceCIM, "Win32_BaseService", "", func(i *instance) error {
		shown[strings.ToLower(i.Text("Name"))] = true
		if i.Local == "Win32_SystemDriver" {
			return nil
		}
		d := serviceOf(i)
		if d.Name == "" {
			v.problem("Win32_Service", "a service without a name", "")
			return nil
		}
		if p := started[i.Int("ProcessId")]; p != nil && i.Int("ProcessId") > 0 && p.Children[0] != nil {
			d.Started = p.Time("CreationDate")
		}
		for _, name := range needs[strings.ToLower(d.Name)] {
			if !drivers[strings.ToLower(name)] {
				d.Requires = append(d.Requires, name)
			}
		}
		d.After = d.Requires
		return v.add(connect.ScopeServices, d)
	})
	if err != nil {
		return err
	}
	hidden, err := v.hidden(ctx, shown)
	if err != nil {
		return err
	}
	for _, d := range hidden {
		if v.partly == nil {
			v.problem("service "+d.Name, "its own security descriptor hides it: its state and what it needs could not be read", "let administrators read it, on the host")
		}
		if err := v.add(connect.ScopeServices, d); err != nil {
			return err
		}
	}
	if len(hidden) > 0 && v.partly == nil {
		return v.target.Fail(connect.StagePermitted, connect.CodeNotPermitted, fmt.Sprintf("%d services are hidden by their own security descriptors: of these only the log-on is known", len(hidden)), "let administrators read them, on the host", nil)
	}
	return nil
}

// startOrder reads which services need which: by folded name, the names that
// a service needs; and which of those are drivers, which are needed and are no services.
func (s *session) startOrder(ctx context.Context) (needs map[string][]string, drivers map[string]bool, err error) {
	needs, drivers = map[string][]string{}, map[string]bool{}
	err = s.all(ctx, spaceCIM, "Win32_DependentService", "", func(i *instance) error {
		before, ok := i.Reference("Antecedent")
		after, found := i.Reference("Dependent")
		if ok && found {
			key := strings.ToLower(after.Selector("Name"))
			needs[key] = append(needs[key], before.Selector("Name"))
			if strings.HasSuffix(before.URI, "/Win32_SystemDriver") {
				drivers[strings.ToLower(before.Selector("Name"))] = true
			}
		}
		return nil
	})
	return needs, drivers, err
}

func serviceOf(i *instance) estate.Dependent {
	d := estate.Dependent{
		Kind: estate.DependentService, Place: i.Text("Name"), Name: i.Text("Name"), Description: i.Text("DisplayName"), RunsAs: i.Text("StartName"),
		State: strings.ToLower(i.Text("State")), StartMode: startModes[i.Text("StartMode")], Executable: i.Text("PathName"),
	}
	if more := i.Text("Description"); more != "" && more != d.Description {
		d.Description += ": " + more
	}
	if delayed, _ := i.Bool("DelayedAutoStart"); delayed && d.StartMode == "automatic" {
		d.StartMode = "automatic (delayed)"
	}
	if d.State == "stopped" {
		d.Result = codes.Exited(i.Int("ExitCode"))
	}
	d.Stores = storesPassword(d.RunsAs)
	return d
}

func (v *lane) tasks(ctx context.Context) error {
	return v.all(ctx, spaceTasks, "MSFT_ScheduledTask", "", func(i *instance) error {
		return v.add(connect.ScopeTasks, taskOf(i))
	})
}

func taskOf(i *instance) estate.Dependent {
	place := taskPlace(i.Text("TaskPath"), i.Text("TaskName"))
	d := estate.Dependent{Kind: estate.DependentTask, Place: place, Name: i.Text("TaskName"), Description: i.Text("Description"), State: taskStates[i.Int("State")], StartMode: "scheduled"}
	if p := i.Child("Principal"); p != nil {
		var whoever string
		d.RunsAs, whoever = principal(p.Text("UserId"), p.Text("GroupId"))
		d.Description = strings.TrimSpace(d.Description + " " + whoever)
		kind := p.Int("LogonType")
		d.Stores = (kind == taskPassword || kind == taskInteractiveOrPassword) && storesPassword(d.RunsAs)
	}
	for _, a := range i.All("Actions") {
		d.Executable = strings.TrimSpace(a.Text("Execute") + " " + a.Text("Arguments"))
		break
	}
	var when []string
	for _, t := range i.All("Triggers") {
		text := t.Text("StartBoundary")
		if repeat := t.Child("Repetition"); repeat != nil && repeat.Text("Interval") != "" {
			text = strings.TrimSpace(text + " every " + repeat.Text("Interval"))
		}
		when = append(when, text)
	}
	d.Schedule = strings.Join(when, "; ")
	if d.State == "disabled" {
		d.StartMode = "disabled"
	}
	return d
}

// pools reads the application pools, where the web server's classes are
// installed: a host without them has none.
func (v *lane) pools(ctx context.Context) error {
	var found []estate.Dependent
	err := v.all(ctx, spaceWeb, "ApplicationPool", "", func(i *instance) error {
		d, password := poolOf(i)
		if !password.Empty() && v.fingerprints != nil {
			d.Stored = v.fingerprints.Of(password)
		}
		found = append(found, d)
		return nil
	})
	if absent(err) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, d := range found {
		if out, err := v.Invoke(ctx, poolResource(d.Name), "GetState", nil); err == nil {
			d.State = poolStates[out.Int("ReturnValue")]
		} else {
			v.problem("pool "+d.Name, "its state could not be read: "+err.Error(), "")
		}
		if err := v.add(connect.ScopePools, d); err != nil {
			return err
		}
	}
	return nil
}

// absent: the class or its name space is not there, so there are none.
func absent(err error) bool {
	return wsman.Is(err, wsman.NumberNotFound) || wsman.Is(err, wsman.NumberNoClass) || wsman.Is(err, wsman.NumberNoNamespace)
}

func poolOf(i *instance) (estate.Dependent, secret.Value) {
	d := estate.Dependent{Kind: estate.DependentPool, Place: i.Text("Name"), Name: i.Text("Name"), Description: "application pool", StartMode: "automatic"}
	if starts, ok := i.Bool("AutoStart"); ok && !starts {
		d.StartMode = "manual"
	}
	model := processModel(i)
	if model == nil {
		return d, secret.Value{}
	}
	var password secret.Value
	switch kind := model.Int("IdentityType"); {
	case kind == poolNamed:
		d.RunsAs = model.Text("UserName")
		d.Stores = storesPassword(d.RunsAs)
		password = secret.New(model.Text("Password"))
	case poolIdentities[kind] != "":
		d.RunsAs = poolIdentities[kind]
	default:
		d.RunsAs = `IIS APPPOOL\` + d.Name
	}
	return d, password
}

// processModel finds the embedded settings, which some hosts wrap once more.
func processModel(i *instance) *instance {
	model := i.Child("ProcessModel")
	if model == nil {
		return nil
	}
	if inner := model.Child("ProcessModelSettings"); inner != nil {
		return inner
	}
	return model
}

// reboots finds out whether a restart of the host is due. It is told where it
// can be read, and missed by nothing where it cannot.
func (v *lane) reboots(ctx context.Context) {
	for _, p := range codes.PendingReboot {
		out, err := v.Invoke(ctx, wsman.Resource{URI: registryURI}, "EnumKey", []wsman.Pair{{Name: "hDefKey", Value: localMachine}, {Name: "sSubKeyName", Value: p.Key}})
		if err != nil {
			v.problem("registry", "whether a restart of the host is due could not be read: "+err.Error(), "")
			return
		}
		if out.Int("ReturnValue") == 0 {
			v.facts.Reboot = p.Why
		}
	}
}
