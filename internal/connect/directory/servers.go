package directory

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/roster"
)

// A directory may have several servers that hold the same entries. Reading may
// go to another one when the first is away. Acts never do: a change that is made
// on one server and proven on another, which does not have it yet, would be
// judged wrongly.

// others are the targets of the further servers.
func others(target connect.Target) ([]connect.Target, error) {
	servers, err := roster.Addresses(target.Options[OptionServers])
	out := make([]connect.Target, len(servers))
	for i, server := range servers {
		out[i] = target
		out[i].Address, out[i].Port = server.Host, server.Port
	}
	return out, err
}

// placeOf names a server as the option does.
func placeOf(target connect.Target) string {
	return roster.Address{Host: target.Address, Port: target.Port}.String()
}

// away reports whether a failure says that a server was not reached.
func away(f *connect.Failure) bool {
	switch f.Code {
	case connect.CodeUnreachable, connect.CodeTimeout, connect.CodeUnknownName:
		return true
	}
	return false
}

// openAny opens a session for reading, on the first server that is reached and
// that is one of this directory. away is what the others said.
func openAny(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (s *session, passed []string, failure *connect.Failure) {
	further, err := others(target)
	if err != nil {
		return nil, nil, target.Fail(connect.StageResolve, connect.CodeFailed, "option servers: "+err.Error(), "correct the option", err)
	}
	first := connect.NewStopwatch()
	if len(further) == 0 {
		first = watch
	}
	s, failure = open(ctx, target, first)
	if failure == nil || len(further) == 0 || !away(failure) || ctx.Err() != nil {
		if first != watch {
			watch.Take(first)
		}
		return s, nil, failure
	}
	passed = append(passed, failure.Words)
	for _, other := range further {
		tried := connect.NewStopwatch()
		s, f := open(ctx, other, tried)
		if f == nil {
			if f = s.sameAs(target.Identity); f == nil {
				watch.Take(tried)
				return s, passed, nil
			}
			s.close()
		}
		passed = append(passed, placeOf(other)+": "+f.Words)
	}
	watch.Take(first)
	failure.Words = strings.Join(passed, "; ")
	return nil, passed, failure
}

// sameAs refuses a server of another directory.
func (s *session) sameAs(identity string) *connect.Failure {
	switch {
	case identity == "":
		return s.target.Fail(connect.StagePermitted, connect.CodeUntrusted, "which directory it should belong to is not known yet", "check this system while its first server is there", nil)
	case s.facts.Identity == "":
		return s.target.Fail(connect.StagePermitted, connect.CodeUntrusted, "it does not show which directory it belongs to", "grant the steward the right to read the topmost entry", nil)
	case s.facts.Identity != identity:
		return s.target.Fail(connect.StagePermitted, connect.CodeUntrusted, fmt.Sprintf("it is a server of another directory (%s, not %s)", s.facts.Identity, identity), "take it out of the option servers", nil)
	}
	return nil
}

// Check implements connect.Connector: the first server, and each further one,
// also when the first is away. A steward that was refused is not tried elsewhere.
func (Connector) Check(ctx context.Context, t connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	s, failure := signIn(ctx, t, watch)
	if failure != nil {
		if away(failure) {
			checkOthers(ctx, t, t.Identity, watch)
		}
		return connect.CheckReport{Stages: watch.Stages()}
	}
	defer s.close()
	for _, base := range s.bases {
		words, next := s.closed[base], closedNext
		if words == "" {
			var f *connect.Failure
			if _, words, f = s.base(base, "objectClass"); f != nil {
				watch.Fail(f)
				continue
			}
			next = "grant the steward the right to read it, or give another --option base=DN"
		}
		if words != "" {
			watch.Fail(t.Fail(connect.StageRead, connect.CodeNotPermitted, base+": "+words, next, nil))
			continue
		}
		watch.OK(connect.StageRead, base)
	}
	checkOthers(ctx, t, s.facts.Identity, watch)
	if list := s.unnamed(ctx); len(list) > 0 {
		watch.OK(connect.StageRead, "by DNS its domain also has "+strings.Join(list, ", ")+": name them with --option servers=, so that a change waits until they have learned of it")
	}
	return connect.CheckReport{Stages: watch.Stages(), Facts: s.facts}
}

// The servers of a domain stand in DNS (RFC 2782; [MS-ADTS], section 6.3.2.3).
const (
	discoverTime = 2 * time.Second
	mostUnnamed  = 8
)

// unnamed are the servers of the directory's domain by DNS that are not named here. Names
// from DNS are told, and not used: who may sign in where is decided by people.
func (s *session) unnamed(ctx context.Context) []string {
	domain := values.DNSOf(s.facts.BaseDN)
	if domain == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, discoverTime)
	defer cancel()
	_, found, err := net.DefaultResolver.LookupSRV(ctx, "ldap", "tcp", domain)
	if err != nil {
		return nil // a directory need not stand in DNS
	}
	named := []string{strings.ToLower(s.target.Address), strings.ToLower(s.root.GetAttributeValue("dnsHostName"))}
	if further, err := others(s.target); err == nil {
		for _, other := range further {
			named = append(named, strings.ToLower(other.Address))
		}
	}
	var out []string
	for _, server := range found {
		host := strings.ToLower(strings.TrimSuffix(server.Target, "."))
		if !slices.Contains(named, host) && !slices.Contains(out, host) {
			out = append(out, host)
		}
	}
	slices.Sort(out)
	if more := len(out) - mostUnnamed; more > 0 {
		out = append(out[:mostUnnamed], fmt.Sprintf("%d more", more))
	}
	return out
}

func checkOthers(ctx context.Context, t connect.Target, identity string, watch *connect.Stopwatch) {
	further, err := others(t)
	if err != nil {
		watch.Fail(t.Fail(connect.StageResolve, connect.CodeFailed, "option servers: "+err.Error(), "correct the option", err))
	}
	for _, other := range further {
		one, f := signIn(ctx, other, connect.NewStopwatch())
		if f == nil {
			f = one.sameAs(identity)
			one.End()
		}
		if f != nil {
			f.Words = placeOf(other) + ": " + f.Words
			watch.Fail(f)
			continue
		}
		watch.OK(connect.StageRead, placeOf(other)+" is a server of the same directory")
	}
}

const closedNext = "grant the steward the right to read this naming context, or read only a part of the directory with --option base=DN"

func (s *session) reads(base string) bool { return slices.Contains(s.bases, base) }
