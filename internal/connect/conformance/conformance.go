// Package conformance is the test suite that every connector must pass, in the
// manner of testing/slogtest. A test makes a Fixture around a system that it
// owns (real, or a stand-in) and calls Run. Every case runs, or says why it does
// not: because the description says that the kind cannot do it, which is then
// what the connector must answer, or because the fixture has nothing to try it on.
// What a kind can do must keep the contract of package connect:
// failures that name system and stage, verdicts that are never guessed, scopes
// that are complete only when they were read completely, values that never
// appear in errors, and acts that are certain or say that they are not.
package conformance

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/remote"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// Fixture is a system that the suite may change.
type Fixture struct {
	Connector connect.Connector
	ListBase  string         // a subtree with systems, of kinds that list them
	Target    connect.Target // with a log-on that has all rights

	Account  string // name of an account whose password may be changed
	Password secret.Value
	Weak     secret.Value // a value that the system's policy refuses; empty for none

	CopyPath string // a file that holds Password; "" when the kind has none
	CopyKey  string
	Unit     estate.Place   // of a dependent that may be restarted; Kind "" when there is none
	Reloads  estate.Place   // one that reads its files again while it runs
	Along    []estate.Place // what its restart takes down with it
	// LogOn is a dependent that the system logs on as Account with Password;
	// Stores tells from outside what it has stored.
	LogOn  estate.Place
	Stores func() (account, password string)
	// Prepare makes the account's password what is given next, for systems
	// that check before they store; nil for none.
	Prepare  func(password string)
	ReadFile func(t *testing.T, path string) (content []byte, attributes string)

	// Key opens KeyAccount by an entry in EntriesPath, with options and a comment,
	// and stands in KeyPath with its public half beside it.
	Key         secret.Value
	KeyAccount  string
	EntriesPath string
	KeyPath     string

	// Issuer is the place at which keys are accepted, and Pair two keys that it is asked to
	// accept in turn, the old one accepted now; empty where no keys are issued.
	Issuer string
	Pair   connect.Values

	// Twin is the name of another account, which may take turns with Account; "" for none.
	Twin string

	DeadAddress string // where nothing answers, on Target's port
}

const newValue = "Conformance-Passw0rd.7x"

// Run runs the suite, and then once more over a wire (package remote).
func Run(t *testing.T, f Fixture) {
	f.run(t)
	t.Run("over a wire", func(t *testing.T) {
		keys, err := remote.NewKeyPair()
		require.NoError(t, err)
		near := f.Connector
		server := remote.NewServer(keys, func(estate.Kind) (connect.Connector, bool) { return near, true })
		f.Connector, err = remote.NewClient(t.Context(), server, f.Target.Kind, server.Public())
		require.NoError(t, err)
		f.run(t)
	})
}

func (f Fixture) run(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	s := &suite{Fixture: f, ctx: ctx}
	t.Run("description", s.description)
	t.Run("check", s.check)
	t.Run("unreachable", s.unreachable)
	t.Run("wrong log-on", s.wrongLogOn)
	t.Run("cancelled", s.cancelled)
	t.Run("visit", s.visit)
	t.Run("verify", s.verify)
	t.Run("change", s.change)
	t.Run("overlap", s.overlap)
	t.Run("turns", s.turns)
	t.Run("many at once", s.manyAtOnce)
	t.Run("deadline", s.deadline)
	t.Run("copies", s.copies)
	t.Run("keys", s.keys)
	t.Run("log-on", s.logOn)
	t.Run("restart", s.restart)
	t.Run("diagnose", s.diagnose)
	t.Run("observe", s.observe)
	t.Run("records", s.records)
	t.Run("rights", s.rights)
	t.Run("amend", s.amend)
	t.Run("ends", s.ends)
	t.Run("prepare", s.prepare)
	t.Run("certify", s.certify)
	t.Run("show", s.show)
	t.Run("managing", s.managing)
	t.Run("host", s.host)
	t.Run("reach", s.reach)
	t.Run("sessions", s.sessions)
	t.Run("rehearse", s.rehearse)
	t.Run("list", s.list)
	t.Run("command", s.command)
	t.Run("cannot", s.cannot)
}

type suite struct {
	Fixture
	ctx     context.Context
	account estate.Account
}

func (s *suite) failure(t *testing.T, err error) *connect.Failure {
	t.Helper()
	var f *connect.Failure
	require.ErrorAs(t, err, &f, "every failure is a *connect.Failure")
	assert.Equal(t, s.Target.Name, f.System)
	assert.NotEmpty(t, f.Stage)
	assert.NotEmpty(t, f.Words)
	assert.NotEmpty(t, f.Code)
	for _, v := range []secret.Value{s.Password, s.Target.Steward.Password, secret.New(newValue)} {
		if !v.Empty() {
			assert.NotContains(t, f.Error(), v.RevealString())
		}
	}
	return f
}

func (s *suite) check(t *testing.T) {
	report := s.Connector.Check(s.ctx, s.Target)
	require.True(t, report.OK(), "%+v", report)
	assert.Equal(t, connect.StageResolve, report.Stages[0].Stage)
	assert.Equal(t, connect.StageRead, report.Stages[len(report.Stages)-1].Stage)
}

func (s *suite) unreachable(t *testing.T) {
	dead := s.Target
	dead.Address = s.DeadAddress
	report := s.Connector.Check(s.ctx, dead)
	require.False(t, report.OK())
	last := report.Stages[len(report.Stages)-1]
	assert.Equal(t, connect.StageConnect, last.Stage)
	assert.NotEmpty(t, last.Detail)
	assert.NotEmpty(t, last.Next)

	misspelt := s.Target
	misspelt.Address = "no-such-host.invalid"
	report = s.Connector.Check(s.ctx, misspelt)
	require.Len(t, report.Stages, 1)
	assert.Equal(t, connect.StageResolve, report.Stages[0].Stage)
	// Without a resolver nobody can know that there is no such name.
	assert.Contains(t, []string{connect.CodeUnknownName, connect.CodeUnreachable}, report.Stages[0].Code)
	assert.Contains(t, report.Stages[0].Detail, "no-such-host.invalid")
}

func (s *suite) wrongLogOn(t *testing.T) {
	wrong := s.Target
	wrong.Steward.Password, wrong.Steward.PrivateKey = secret.New("surely-Wr0ng-value"), secret.Value{}
	report := s.Connector.Check(s.ctx, wrong)
	require.False(t, report.OK())
	last := report.Stages[len(report.Stages)-1]
	assert.Equal(t, connect.StageSignIn, last.Stage)
	assert.Equal(t, connect.CodeStewardRefused, last.Code)
	assert.NotContains(t, last.Detail, "surely-Wr0ng-value")
}

func (s *suite) cancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(s.ctx)
	cancel()
	report := s.Connector.Check(ctx, s.Target)
	assert.False(t, report.OK(), "a cancelled check does not succeed")
}

func (s *suite) visit(t *testing.T) {
	if !s.can(t, connect.ActVisit) {
		return
	}
	key := secret.New("0123456789abcdef0123456789abcdef")
	fingerprint := secret.FingerprinterFromKey(key).Of(s.Password)
	var accounts []estate.Account
	var dependents []estate.Dependent
	coverage, err := s.Connector.Visit(s.ctx, s.Target, connect.VisitRequest{FingerprintKey: key, Known: []string{fingerprint}}, func(b connect.Batch) error {
		accounts = append(accounts, b.Accounts...)
		dependents = append(dependents, b.Dependents...)
		raw, err := json.Marshal(b)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), s.Password.RevealString(), "observations carry no secrets")
		return nil
	})
	require.NoError(t, err)
	assert.NotEmpty(t, coverage.Complete)
	assert.True(t, coverage.Complete[connect.ScopeAccounts], "%v", coverage.Why)
	assert.Equal(t, len(accounts), coverage.Counts[connect.ScopeAccounts])
	seen := map[string]bool{}
	for _, a := range accounts {
		assert.NotEmpty(t, a.StableID)
		assert.False(t, seen[a.StableID], "stable id %s of %s is used twice", a.StableID, a.Name)
		seen[a.StableID] = true
		if strings.EqualFold(a.Name, s.Account) {
			s.account = a
		}
	}
	require.NotEmpty(t, s.account.StableID, "the account %s is among those seen", s.Account)
	if s.CopyPath != "" {
		found := false
		for _, d := range dependents {
			found = found || d.Copy != nil && d.Path == s.CopyPath && d.Copy.Fingerprint == fingerprint && d.Copy.Key == s.CopyKey
		}
		assert.True(t, found, "the copy in %s is found by its fingerprint", s.CopyPath)
	}
	if s.Unit.Kind != "" {
		found := false
		for _, d := range dependents {
			if d.At() == s.Unit {
				found = d.Up()
				assert.False(t, d.Started.IsZero(), "since when it runs is known")
				assert.WithinDuration(t, time.Now(), d.Started, 60*24*time.Hour)
			}
		}
		assert.True(t, found, "the unit %s is seen", s.Unit)
	}
	_, err = s.Connector.Visit(s.ctx, s.Target, connect.VisitRequest{FingerprintKey: key}, func(connect.Batch) error { return errors.New("store is full") })
	assert.ErrorContains(t, err, "store is full", "an error of the taker ends the visit")

	dead := s.Target
	dead.Address = s.DeadAddress
	coverage, err = s.Connector.Visit(s.ctx, dead, connect.VisitRequest{FingerprintKey: key}, func(connect.Batch) error { return nil })
	s.failure(t, err)
	for scope, complete := range coverage.Complete {
		assert.False(t, complete, "nothing of an unreachable system is complete: %s", scope)
	}
}

func (s *suite) ref() connect.AccountRef {
	return connect.AccountRef{StableID: s.account.StableID, Name: s.account.Name, DN: s.account.DN}
}

func (s *suite) verify(t *testing.T) {
	if !s.can(t, connect.ActVerify) {
		return
	}
	verdict, err := s.Connector.Verify(s.ctx, s.Target, s.ref(), s.Password)
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, verdict.Words)
	verdict, err = s.Connector.Verify(s.ctx, s.Target, s.ref(), secret.New("surely-Wr0ng-value"))
	require.NoError(t, err, "a refusal is a verdict, not an error")
	assert.False(t, verdict.Accepted)
	assert.Contains(t, []string{connect.VerdictWrong, connect.VerdictNotKnown}, verdict.Code)
	assert.NotEqual(t, connect.AnswerYes, verdict.Says())
	assert.NotContains(t, verdict.Words, "surely-Wr0ng-value")
	verdict, err = s.Connector.Verify(s.ctx, s.Target, s.ref(), secret.Value{})
	if err == nil {
		assert.False(t, verdict.Accepted, "an empty value never signs in")
	}
	dead := s.Target
	dead.Address = s.DeadAddress
	_, err = s.Connector.Verify(s.ctx, dead, s.ref(), s.Password)
	s.failure(t, err)
}

func (s *suite) change(t *testing.T) {
	if !s.can(t, connect.ActAccept) || !s.can(t, connect.ActVerify) {
		return
	}
	set := func(target connect.Target, ref connect.AccountRef, value secret.Value) error {
		return s.Connector.Accept(s.ctx, target, connect.Point{Account: ref}, connect.Values{Old: s.Password, New: value}, connect.AcceptNew)
	}
	require.NoError(t, set(s.Target, s.ref(), secret.New(newValue)))
	verdict, err := s.Connector.Verify(s.ctx, s.Target, s.ref(), secret.New(newValue))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, verdict.Words)
	verdict, err = s.Connector.Verify(s.ctx, s.Target, s.ref(), s.Password)
	require.NoError(t, err)
	assert.True(t, !verdict.Accepted || verdict.Lingers > 0, "the old value is refused, or said to linger")
	if !s.Weak.Empty() {
		f := s.failure(t, set(s.Target, s.ref(), s.Weak))
		assert.Equal(t, connect.CodePolicy, f.Code)
		assert.False(t, f.Unclear, "a refusal is certain")
	}
	gone := s.ref()
	gone.StableID = strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return '0' + ('9'-r)%10
		}
		return r
	}, gone.StableID)
	f := s.failure(t, set(s.Target, gone, secret.New(newValue)))
	assert.Equal(t, connect.CodeGone, f.Code, "the stable id decides, not the name")
	assert.False(t, f.Unclear)
	dead := s.Target
	dead.Address = s.DeadAddress
	f = s.failure(t, set(dead, s.ref(), secret.New(newValue)))
	assert.False(t, f.Unclear, "nothing was sent")
	require.NoError(t, set(s.Target, s.ref(), s.Password), "the fixture's value is put back")
}

func (s *suite) copies(t *testing.T) {
	if !s.can(t, connect.ActHold) || s.left(t, s.CopyPath == "", "no file holds a copy") {
		return
	}
	before, attributes := s.ReadFile(t, s.CopyPath)
	located, err := held.Locate(s.CopyPath, before, layout.HintEnv, nil)
	require.NoError(t, err)
	var places []held.Locator
	for _, span := range located.Spans {
		if span.Key == s.CopyKey {
			places = append(places, span.Locator)
		}
	}
	require.NotEmpty(t, places)
	state, err := s.Connector.ReadCopies(s.ctx, s.Target, s.CopyPath, places)
	require.NoError(t, err)
	require.Len(t, state.Found, len(places))
	assert.True(t, state.Found[0].Equal(s.Password))

	next := secret.New(newValue)
	require.NoError(t, s.Connector.ReplaceCopies(s.ctx, s.Target, s.CopyPath, places, s.Password, next))
	after, same := s.ReadFile(t, s.CopyPath)
	assert.Equal(t, attributes, same, "owner, mode and access list are kept")
	assert.Equal(t, strings.ReplaceAll(string(before), s.Password.RevealString(), newValue), string(after), "every other byte is kept")
	require.NoError(t, s.Connector.ReplaceCopies(s.ctx, s.Target, s.CopyPath, places, s.Password, next), "once more is harmless")

	f := s.failure(t, s.Connector.ReplaceCopies(s.ctx, s.Target, s.CopyPath, places, s.Password, secret.New("third-Valu3")))
	assert.False(t, f.Unclear, "a copy that holds neither value is left alone, certainly")
	f = s.failure(t, s.Connector.ReplaceCopies(s.ctx, s.Target, s.CopyPath, places, next, secret.New("two\nlines")))
	assert.False(t, f.Unclear)
	unchanged, _ := s.ReadFile(t, s.CopyPath)
	assert.Equal(t, string(after), string(unchanged), "a value that cannot be carried changes nothing")
	f = s.failure(t, s.Connector.ReplaceCopies(s.ctx, s.Target, s.CopyPath+".missing", places, next, next))
	assert.Equal(t, connect.CodeGone, f.Code)
	require.NoError(t, s.Connector.ReplaceCopies(s.ctx, s.Target, s.CopyPath, places, next, s.Password))
	final, same := s.ReadFile(t, s.CopyPath)
	assert.Equal(t, string(before), string(final))
	assert.Equal(t, attributes, same)
}

func (s *suite) logOn(t *testing.T) {
	if !s.can(t, connect.ActLogOns) || s.left(t, s.LogOn.Kind == "", "no dependent logs on") {
		return
	}
	state, err := s.Connector.ReadLogOn(s.ctx, s.Target, s.LogOn)
	require.NoError(t, err)
	assert.True(t, state.Stores)
	if state.Shown {
		assert.True(t, state.Value.Equal(s.Password))
	}
	change := connect.LogOnChange{Place: s.LogOn, Was: state.Account, Account: state.Account, Value: secret.New(newValue)}
	if s.Prepare != nil {
		s.Prepare(newValue)
	}
	for range 2 { // once more is harmless
		words, err := s.Connector.ReplaceLogOn(s.ctx, s.Target, change)
		require.NoError(t, err)
		assert.NotEmpty(t, words)
		account, password := s.Stores()
		assert.Equal(t, state.Account, account)
		assert.Equal(t, newValue, password)
	}
	moved := change
	moved.Was, moved.Account = "somebody-else", "somebody-third"
	_, err = s.Connector.ReplaceLogOn(s.ctx, s.Target, moved)
	assert.False(t, s.failure(t, err).Unclear, "a log-on that somebody else changed is left alone, certainly")
	empty := change
	empty.Value = secret.Value{}
	_, err = s.Connector.ReplaceLogOn(s.ctx, s.Target, empty)
	assert.False(t, s.failure(t, err).Unclear, "a named account needs a password")
	gone := change
	gone.Place.Place = s.LogOn.Place + "-missing"
	_, err = s.Connector.ReplaceLogOn(s.ctx, s.Target, gone)
	f := s.failure(t, err)
	assert.Equal(t, connect.CodeGone, f.Code)
	assert.False(t, f.Unclear)
	dead := s.Target
	dead.Address = s.DeadAddress
	_, err = s.Connector.ReplaceLogOn(s.ctx, dead, change)
	assert.False(t, s.failure(t, err).Unclear, "nothing was sent")
	_, password := s.Stores()
	assert.Equal(t, newValue, password, "none of that changed anything")
	if s.Prepare != nil {
		s.Prepare(s.Password.RevealString())
	}
	change.Value = s.Password
	_, err = s.Connector.ReplaceLogOn(s.ctx, s.Target, change)
	require.NoError(t, err)
}

func (s *suite) rehearse(t *testing.T) {
	if !s.can(t, connect.ActRehearse) {
		return
	}
	ref := s.ref()
	var intentions []connect.Intention
	if s.Connector.Describe().Can(connect.ActVerify) && s.Connector.Describe().Can(connect.ActAccept) {
		intentions = append(intentions, connect.Intention{Change: &ref, Current: s.Password})
	}
	if s.LogOn.Kind != "" {
		intentions = append(intentions, connect.Intention{LogOn: &connect.LogOnChange{Place: s.LogOn}, Current: s.Password})
	}
	if s.Unit.Kind != "" {
		intentions = append(intentions, connect.Intention{Restart: s.Unit, Along: s.Along})
	}
	lines := s.Connector.Rehearse(s.ctx, s.Target, intentions)
	require.NotEmpty(t, lines)
	for _, line := range lines {
		assert.NotEqual(t, connect.CheckFailed, line.Result, fmt.Sprintf("%+v", line))
		assert.Equal(t, s.Target.Name, line.System)
	}
	dead := s.Target
	dead.Address = s.DeadAddress
	lines = s.Connector.Rehearse(s.ctx, dead, intentions)
	require.NotEmpty(t, lines)
	assert.Equal(t, connect.CheckFailed, lines[0].Result)
}
