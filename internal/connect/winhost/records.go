package winhost

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/rights"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/change"
)

// mostRecords bounds what is read of a log of security, which can be large.
const mostRecords = 5000

var errEnough = errors.New("enough was read")

// account says where in an event's strings an account stands: its name, and its domain
// after it.
type account int

// events of a log of security that tell who signed in or changed a local account: which
// account it was done to, and who did it.
var events = map[int]struct {
	act     change.Act
	of, who account
}{
	4624: {act: change.SignedIn, who: 5},
	4720: {change.Altered, 0, 4}, // made
	4722: {change.Altered, 0, 4}, // enabled
	4723: {change.SetPassword, 0, 4},
	4724: {change.SetPassword, 0, 4},
	4725: {change.Altered, 0, 4}, // disabled
	4726: {change.Altered, 0, 4}, // removed
	4738: {change.Altered, 1, 5},
}

// Strings of 4624: the kind of log-on, and from where.
const (
	kindOfLogOn = 8
	fromAddress = 18
)

// byPeople are the kinds of log-on that a person or a program elsewhere makes: at the
// console, over the network, unlocked, with a password in clear, remote and with a kept
// password. Services and tasks of the host itself are not among them.
var byPeople = []string{"2", "3", "7", "8", "10", "11"}

// Records implements connect.Recorder: the host's log of security, which only
// administrators may read.
func (Connector) Records(ctx context.Context, target connect.Target, since time.Time) (change.Log, error) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return change.Log{}, failure
	}
	defer s.close()
	var codes []string
	for code := range events {
		codes = append(codes, fmt.Sprintf("EventCode=%d", code))
	}
	slices.Sort(codes)
	out := change.Log{Since: since}
	oldest, read, told := time.Time{}, 0, false
	where := fmt.Sprintf("Logfile='Security' and (%s) and TimeGenerated>='%s'", strings.Join(codes, " or "), since.Add(-change.ClocksApart).UTC().Format("20060102150405.000000-000"))
	err := s.all(ctx, spaceCIM, "Win32_NTLogEvent", where, func(i *instance) error {
		at := i.Time("TimeGenerated")
		if told = true; oldest.IsZero() || at.Before(oldest) {
			oldest = at
		}
		if r, is := recordOf(int(i.Int("EventCode")), i.List("InsertionStrings")); is {
			r.At = at
			out.Records = append(out.Records, r)
		}
		if read++; read >= mostRecords {
			return errEnough
		}
		return nil
	})
	switch {
	case errors.Is(err, errEnough):
		out.Since = oldest
	case err != nil:
		return change.Log{}, s.failure(connect.StageRead, err, false)
	case !told: // we signed in ourselves: a log without that is not shown, or does not keep it
		return change.Log{}, target.Fail(connect.StageRead, connect.CodeNotPermitted, "the log of security is not shown to the steward, or has no sign-ins", "let the host audit log-on and account management, and the steward read that log", nil)
	}
	return out, nil
}

// recordOf reads one event.
func recordOf(code int, list []string) (change.Record, bool) {
	event, known := events[code]
	text := func(at account, after int) string {
		if i := int(at) + after; i < len(list) && list[i] != "-" {
			return list[i]
		}
		return ""
	}
	name, domain := text(event.who, 0), text(event.who, 1)
	if !known || name == "" || strings.HasSuffix(name, "$") {
		return change.Record{}, false // a machine
	}
	r := change.Record{Act: event.act, Who: name}
	if domain != "" {
		r.Who = domain + `\` + name
	}
	if event.act == change.SignedIn {
		r.From = text(fromAddress, 0)
		return r, slices.Contains(byPeople, text(kindOfLogOn, 0)) && !ofTheSystem(domain)
	}
	r.Of = text(event.of, 0)
	return r, r.Of != ""
}

// ofTheSystem are the domains of identities that no person has.
func ofTheSystem(domain string) bool {
	return slices.ContainsFunc([]string{"NT AUTHORITY", "Window Manager", "Font Driver Host", "NT SERVICE", "IIS APPPOOL"}, func(own string) bool { return strings.EqualFold(own, domain) })
}

// Rights implements connect.RightsReader.
func (Connector) Rights(ctx context.Context, target connect.Target, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return connect.RightsCoverage{}, failure
	}
	defer s.close()
	if s.name == "" { // the session is a new one: members of groups are asked for by the host's own name
		if failure := s.describe(ctx); failure != nil {
			return connect.RightsCoverage{}, failure
		}
	}
	fail := func(err error) error {
		if failure := s.failure(connect.StageRead, err, false); failure != nil {
			return failure
		}
		return nil
	}
	return rights.Read(target, rights.Host{
		Name: s.name,
		Enumerate: func(space, class, where string, each func(*wsman.Instance) error) error {
			return fail(s.all(ctx, space, class, where, each))
		},
		Registry: func(method, key string, more ...wsman.Pair) (*wsman.Instance, error) {
			resource, method, input := registry(method, key, more...)
			out, err := s.Invoke(ctx, resource, method, input)
			return out, fail(err)
		},
		Account: func(sid string) (string, error) {
			i, err := s.Get(ctx, wsman.Resource{URI: resourceBase + spaceCIM + "/Win32_SID", Selectors: []wsman.Pair{{Name: "SID", Value: sid}}})
			switch {
			case wsman.Is(err, wsman.NumberNotFound):
				return "", nil
			case err != nil || i.Text("AccountName") == "":
				return "", fail(err)
			}
			return i.Text("ReferencedDomainName") + `\` + i.Text("AccountName"), nil
		},
	}, emit)
}
