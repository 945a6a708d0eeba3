// Package unixhost is the connector for unix hosts with systemd, over SSH
// (RFC 4251 to 4254).
//
// Everything it does on a host is a plain command with its arguments, one at a
// time, without a shell script: that makes the rights it needs expressible as
// exact sudoers lines, and what it did readable in the host's own log. Secrets
// travel on standard input only. Nothing is left on the host.
package unixhost

import (
	"context"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/connect/unixhost/rights"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/connect/unixhost/witness"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
)

// Connector implements connect.Connector for unix hosts.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindUnixHost, Class: estate.ClassHost, Title: "unix host", Port: shell.DefaultPort,
	Proof: connect.ProofHostKey, SignIn: []string{connect.SignInPassword, connect.SignInPrivateKey},
	Options: []connect.Option{
		{Name: reading.OptionPaths, Type: connect.OptionPaths, Help: "further files to read, separated by ;", Reading: true, Shared: reading.OptionMaybe},
		{Name: OptionSetPW, Type: connect.OptionText, Default: "chpasswd", Help: "command that reads user:password lines and sets local passwords"},
		{Name: reading.OptionSearch, Type: connect.OptionPaths, Choices: []string{"off"}, Default: "the usual folders of programs and their settings", Help: "folders to search for copies, separated by ;, or off", Reading: true, Adds: true},
		{Name: reading.OptionExclude, Type: connect.OptionPaths, Help: "folders that are not searched, separated by ;", Reading: true, Adds: true},
		{Name: reading.OptionCertificates, Type: connect.OptionChoice, Choices: []string{"on", "off"}, Default: "on", Help: "off: ports that listen are not asked which certificate they show", Reading: true},
		connect.RightsOption,
	},
	Scopes: []string{connect.ScopeAccounts, connect.ScopeUnits, connect.ScopeCron, connect.ScopeFiles, connect.ScopeSockets, connect.ScopeProcesses, connect.ScopeCertificates},
	Acts:   []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActAccept, connect.ActEntries, connect.ActHold, connect.ActRestart, connect.ActReload, connect.ActCommand, connect.ActRehearse, connect.ActDiagnose, connect.ActObserve, connect.ActRecords, connect.ActRights, connect.ActEnd, connect.ActAmend, connect.ActTry, connect.ActReach, connect.ActShow, connect.ActSessions},
	Verbs:  []string{privilege.VerbRun, privilege.VerbSignIn, "read", "write", "be signed in to by key", "has capability", privilege.VerbEverything},
	Ends:   possible,
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

// OptionSetPW is the command that sets local passwords.
const OptionSetPW = "setpw" // reads user:password lines; default chpasswd

// host is a session that acts.
type host struct{ *shell.Session }

func openHost(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*host, *connect.Failure) {
	s, failure := shell.Open(ctx, target, watch)
	if failure != nil {
		return nil, failure
	}
	return &host{s}, nil
}

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	s, failure := shell.SignIn(ctx, target, watch) // anew: its stages are the question
	if failure != nil {
		report := connect.CheckReport{Stages: watch.Stages()}
		if failure.Code == connect.CodeNewHostKey || failure.Code == connect.CodeUntrusted {
			report.Facts = offered(failure)
		}
		return report
	}
	defer s.Close()
	if failure := s.ReadFacts(ctx); failure != nil {
		watch.Fail(failure)
	} else {
		watch.OK(connect.StageRead, s.Facts.Flavor+", machine "+s.Facts.Identity)
	}
	return connect.CheckReport{Stages: watch.Stages(), Facts: s.Facts}
}

// offered finds the fingerprint in a host key failure's words.
func offered(f *connect.Failure) connect.Facts {
	for word := range strings.FieldsSeq(f.Words) {
		if strings.HasPrefix(word, "SHA256:") {
			return connect.Facts{Fingerprint: strings.TrimRight(word, ",")}
		}
	}
	return connect.Facts{}
}

// Connections implements connect.Observer, as far as the host shows whose a socket is.
func (Connector) Connections(ctx context.Context, target connect.Target, place estate.Place) ([]estate.Socket, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return nil, failure
	}
	defer s.Close()
	list, failure := reading.Sockets(ctx, s.Session)
	if failure != nil {
		return nil, failure
	}
	return slices.DeleteFunc(list, func(c estate.Socket) bool { return c.Unit != place.Place || c.Listens }), nil
}

// Records implements connect.Recorder.
func (Connector) Records(ctx context.Context, target connect.Target, _ time.Time) (change.Log, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return change.Log{}, failure
	}
	defer s.Close()
	return witness.Read(ctx, s.Session, time.Now())
}

// Rights implements connect.RightsReader.
func (Connector) Rights(ctx context.Context, target connect.Target, _ connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return connect.RightsCoverage{}, failure
	}
	defer s.Close()
	return rights.Read(ctx, s.Session, emit)
}

// Visit implements connect.Visitor.
func (Connector) Visit(ctx context.Context, target connect.Target, request connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	return reading.Visit(ctx, target, request, emit)
}
