package winhost

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
)

// lookBack is how far back event records are read to explain a state: over a
// long weekend. It is always bounded, because the log is read line by line.
const lookBack = 5 * 24 * time.Hour

// Diagnose implements connect.Diagnoser.
func (Connector) Diagnose(ctx context.Context, target connect.Target, place estate.Place) (d connect.Diagnosis, err error) {
	err = at(ctx, target, connect.StageRead, place, func(s *session) *connect.Failure {
		if failure := s.describe(ctx); failure != nil {
			return failure
		}
		d.Booted, d.ClockOff = s.facts.Booted, s.facts.ClockOff
		return s.diagnose(ctx, place, &d)
	})
	return d, err
}

func (s *session) diagnose(ctx context.Context, place estate.Place, d *connect.Diagnosis) *connect.Failure {
	_, i, failure := s.logOn(ctx, connect.StageRead, place)
	if failure != nil {
		return failure
	}
	var sources []string
	switch place.Kind {
	case estate.DependentTask:
		d.Dependent = taskOf(i)
		return nil // its records are in a log that this protocol does not reach
	case estate.DependentPool:
		d.Dependent, _ = poolOf(i)
		state, failure := s.unitState(ctx, place)
		if failure != nil {
			return failure
		}
		d.Dependent.State = state.Sub
		sources = []string{"WAS", "Microsoft-Windows-WAS"}
	default:
		d.Dependent = serviceOf(i)
		if failure := s.neededBy(ctx, d); failure != nil {
			return failure
		}
	}
	records, err := s.records(ctx, place.Place, lookBack, sources, d.Dependent.Description)
	d.Records = records
	if d.Dependent.StartMode != "disabled" || d.Dependent.Result != "" {
		for i := range records {
			if records[i].Code == 7040 {
				records[i].Hint = "" // whoever changed the start mode did not switch it off
			}
		}
	}
	return s.failure(connect.StageRead, err, false)
}

// neededBy reads what a service needs, directly or not, in start order.
func (s *session) neededBy(ctx context.Context, d *connect.Diagnosis) *connect.Failure {
	needs, _, err := s.startOrder(ctx)
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		return failure
	}
	d.Dependent.Requires = needs[strings.ToLower(d.Dependent.Name)]
	d.Dependent.After = d.Dependent.Requires
	var order []string
	seen := map[string]bool{strings.ToLower(d.Dependent.Name): true}
	var walk func(string)
	walk = func(name string) {
		for _, before := range needs[strings.ToLower(name)] {
			if !seen[strings.ToLower(before)] {
				seen[strings.ToLower(before)] = true
				walk(before)
				order = append(order, before)
			}
		}
	}
	walk(d.Dependent.Name)
	if len(order) == 0 {
		return nil
	}
	var parts []string
	for _, name := range order {
		parts = append(parts, "Name="+wsman.Quote(name))
	}
	found := map[string]estate.Dependent{}
	// The class of what services need holds drivers as well as services.
	err = s.all(ctx, spaceCIM, "Win32_BaseService", strings.Join(parts, " or "), func(i *instance) error {
		service := serviceOf(i)
		found[strings.ToLower(service.Name)] = service
		return nil
	})
	for _, name := range order {
		service, ok := found[strings.ToLower(name)]
		if !ok {
			service = estate.Dependent{Kind: estate.DependentService, Place: name, State: "not there"}
		}
		d.Needs = append(d.Needs, connect.Needed{Place: service.At(), State: service.State, RunsAs: service.RunsAs, Result: service.Result, Direct: slices.ContainsFunc(d.Dependent.Requires, func(n string) bool { return strings.EqualFold(n, name) })})
	}
	return s.failure(connect.StageRead, err, false)
}

// Codes of the service control manager's records that explain something.
var telling = []int{7000, 7001, 7003, 7009, 7011, 7022, 7023, 7024, 7031, 7034, 7036, 7038, 7040, 7041, 7042, 5021, 5057, 5059}

// logOnCauses are the causes behind the error numbers of record 7038.
var logOnCauses = map[string]diagnosis.Code{
	"1326": diagnosis.WrongPassword, "1330": diagnosis.Expired, "1331": diagnosis.Disabled, "1793": diagnosis.AccountExpired, "1907": diagnosis.MustChange, "1909": diagnosis.Locked,
	"1385": diagnosis.MissingRight, "1332": diagnosis.NoAccount, "1317": diagnosis.NoAccount,
}

// subject is the place of a record's string that names the service: key name or display
// name. The records of what took too long begin with the time.
func subject(code int) int {
	if code == 7009 || code == 7011 {
		return 1
	}
	return 0
}

// stateOf is the state that record 7036 is about, as a number of MS-SCMR 2.2.47, and 0
// where it does not say. Its strings are in the host's language; its data are not: the
// service's key name, a slash and the number, in UTF-16.
func stateOf(data []string) int {
	var text []uint16
	for i := 0; i+1 < len(data); i += 2 {
		low, err := strconv.Atoi(data[i])
		high, errHigh := strconv.Atoi(data[i+1])
		if err != nil || errHigh != nil || low|high<<8 == 0 {
			break
		}
		text = append(text, uint16(low|high<<8))
	}
	_, number, _ := strings.Cut(string(utf16.Decode(text)), "/")
	state, err := strconv.Atoi(number)
	if err != nil {
		return 0
	}
	return state
}

const stateRunning = 4

// meaning says which cause a record speaks for. The insertion strings decide,
// not the message, which is in the host's language.
func meaning(code int, list, data []string) (hint diagnosis.Code, of string, start bool) {
	last := ""
	if len(list) > 0 {
		last = strings.TrimLeft(list[len(list)-1], "%")
	}
	switch code {
	case 7038:
		return logOnCauses[last], "", false
	case 7041:
		return diagnosis.MissingRight, "", false
	case 7001, 7003:
		if len(list) > 1 {
			of = list[1]
		}
		return diagnosis.Dependency, of, false
	case 7042: // 7035 told it up to Windows Server 2003
		return diagnosis.StoppedBy, "", false
	case 7040:
		return diagnosis.SwitchedOff, "", false
	case 7036:
		return "", "", stateOf(data) == stateRunning || len(data) == 0 && strings.EqualFold(last, "running")
	case 7009, 7011, 7022, 7023, 7024, 7031, 7034:
		return diagnosis.Program, "", false
	case 7000:
		if last != "1069" {
			return diagnosis.Program, "", false
		}
	case 5021, 5057, 5059:
		return diagnosis.WrongPassword, "", false
	}
	return "", "", false
}

// records reads what the system log says of a service or pool, newest first.
// The host's own clock decides what is recent.
func (s *session) records(ctx context.Context, name string, back time.Duration, sources []string, more ...string) ([]connect.Record, error) {
	if s.system == nil {
		if failure := s.describe(ctx); failure != nil {
			return nil, failure
		}
	}
	since := time.Now().Add(-back)
	if own := s.system.Time("LocalDateTime"); !own.IsZero() {
		since = own.Add(-back)
	}
	if len(sources) == 0 {
		sources = []string{"Service Control Manager"}
	}
	var from []string
	for _, source := range sources {
		from = append(from, "SourceName="+wsman.Quote(source))
	}
	names := []string{strings.ToLower(name)}
	if i, err := s.Get(ctx, serviceResource(name)); err == nil {
		names = append(names, strings.ToLower(i.Text("DisplayName")))
	}
	for _, n := range more {
		names = append(names, strings.ToLower(n))
	}
	var out []connect.Record
	where := fmt.Sprintf("Logfile='System' and (%s) and TimeGenerated>='%s'", strings.Join(from, " or "), since.UTC().Format("20060102150405.000000-000"))
	err := s.all(ctx, spaceCIM, "Win32_NTLogEvent", where, func(i *instance) error {
		list := i.List("InsertionStrings")
		code := int(i.Int("EventCode"))
		at := subject(code)
		about := len(list) > at && slices.Contains(names, strings.ToLower(list[at]))
		if !about || !slices.Contains(telling, code) {
			return nil
		}
		r := connect.Record{Time: i.Time("TimeGenerated"), Source: i.Text("SourceName"), Code: code, Words: strings.Join(strings.Fields(i.Text("Message")), " "), Strings: list, By: i.Text("User")}
		r.Hint, r.Of, r.Start = meaning(code, list, i.List("Data"))
		out = append(out, r)
		return nil
	})
	sort.SliceStable(out, func(i, j int) bool { return out[i].Time.After(out[j].Time) })
	if len(out) > 30 {
		out = out[:30]
	}
	return out, err
}
