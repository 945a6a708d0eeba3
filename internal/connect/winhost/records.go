package winhost

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/rights"
	"mossledger.example/moss/internal/connect/winhost/securitylog"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/change"
)

// mostRecords bounds what is read of a log of security, which can be large.
const mostRecords = 5000

var errEnough = errors.New("enough was read")

// Records implements connect.Recorder: the host's log of security, which only
// administrators may read.
func (Connector) Records(ctx context.Context, target connect.Target, since time.Time) (change.Log, error) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return change.Log{}, failure
	}
	defer s.close()
	out := change.Log{Since: since}
	oldest, read, told := time.Time{}, 0, false
	where := fmt.Sprintf("Logfile='Security' and (%s) and TimeGenerated>='%s'", securitylog.Which(), since.Add(-change.ClocksApart).UTC().Format("20060102150405.000000-000"))
	err := s.all(ctx, spaceCIM, "Win32_NTLogEvent", where, func(i *instance) error {
		at := i.Time("TimeGenerated")
		if told = true; oldest.IsZero() || at.Before(oldest) {
			oldest = at
		}
		if r, is := securitylog.Read(int(i.Int("EventCode")), i.List("InsertionStrings")); is {
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

// Rights implements connect.RightsReader.
func (Connector) Rights(ctx context.Context, target connect.Target, request connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
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
	return rights.Read(target, s.asked(ctx), request, emit)
}

// asked is the host as its rights are read.
func (s *session) asked(ctx context.Context) rights.Host {
	fail := s.failed
	return rights.Host{
		Name: s.name,
		Enumerate: func(space, class, where string, each func(*wsman.Instance) error) error {
			return fail(s.all(ctx, space, class, where, each))
		},
		Get: func(resource wsman.Resource) (*wsman.Instance, error) {
			i, err := s.Get(ctx, resource)
			return i, fail(err)
		},
		Registry: s.asksRegistry(ctx),
		Another: func() (rights.Registry, func(), error) {
			another, failure := anew(ctx, s.target, connect.NewStopwatch())
			if failure != nil {
				return nil, nil, failure
			}
			return another.asksRegistry(ctx), another.close, nil
		},
	}
}

// failed is a failure as an error, and no error where there is none.
func (s *session) failed(err error) error {
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		return failure
	}
	return nil
}

// asksRegistry reads keys of the local machine over the session.
func (s *session) asksRegistry(ctx context.Context) rights.Registry {
	return func(method, key string, more ...wsman.Pair) (*wsman.Instance, error) {
		resource, method, input := registry(method, key, more...)
		out, err := s.Invoke(ctx, resource, method, input)
		return out, s.failed(err)
	}
}
