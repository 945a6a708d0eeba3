package conformance

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"testing"
	"time"

	"mossledger.example/moss/internal/core/privilege"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/secret"
)

// can reports whether the kind says that it can do something. What it cannot do is
// tried by the case "cannot".
func (s *suite) can(t *testing.T, act connect.Act) bool {
	t.Helper()
	if s.Connector.Describe().Can(act) {
		return true
	}
	t.Logf("a %s says that it cannot: %s", s.Target.Kind, act)
	return false
}

// left says why a case has nothing to try.
func (s *suite) left(t *testing.T, nothing bool, why string) bool {
	t.Helper()
	if nothing {
		t.Logf("not on this fixture: %s", why)
	}
	return nothing
}

// description: a kind says what it is, in full, and the target keeps to it.
func (s *suite) description(t *testing.T) {
	d := s.Connector.Describe()
	assert.Equal(t, s.Target.Kind, d.Kind)
	assert.NotEmpty(t, d.Title)
	assert.NotEmpty(t, d.Class)
	assert.Positive(t, d.Port)
	assert.NotEmpty(t, d.Acts)
	assert.Equal(t, d.Can(connect.ActVisit), len(d.Scopes) > 0, "what is visited has scopes")
	for _, scope := range d.Scopes {
		assert.Contains(t, connect.Scopes(), scope)
	}
	seen := map[string]bool{}
	for _, o := range d.Options {
		assert.False(t, seen[o.Name], o.Name)
		seen[o.Name] = true
		assert.NotEmpty(t, o.Help, o.Name)
		assert.Equal(t, o.Type == connect.OptionChoice, len(o.Choices) > 1, "%s: a choice has choices", o.Name)
	}
	require.NoError(t, d.Valid(s.Target.Options))
	assert.Error(t, d.Valid(map[string]string{"no-such-option": "x"}))
	raw, err := json.Marshal(d)
	require.NoError(t, err)
	var back connect.Description
	require.NoError(t, json.Unmarshal(raw, &back))
	assert.Equal(t, d.Acts, back.Acts, "it is data")
	assert.Equal(t, d.Can(connect.ActEnd), len(d.Ends) > 0, "what acts about ends there are is told")
	for _, p := range d.Ends {
		assert.Contains(t, expiry.Acts(), p.Act)
		assert.Contains(t, expiry.Whats(), p.Of)
		assert.NotEmpty(t, p.How)
	}
}

// cannot: what a kind says that it cannot do fails certainly, and so.
func (s *suite) cannot(t *testing.T) {
	d, c := s.Connector.Describe(), s.Connector
	place := estate.Place{Kind: estate.DependentUnit, Place: "x"}
	for act, try := range map[connect.Act]func() error{
		connect.ActVisit: func() error {
			_, err := c.Visit(s.ctx, s.Target, connect.VisitRequest{}, func(connect.Batch) error { return nil })
			return err
		},
		connect.ActAsk:    func() error { _, err := c.StillThere(s.ctx, s.Target, nil); return err },
		connect.ActVerify: func() error { _, err := c.Verify(s.ctx, s.Target, connect.AccountRef{}, s.Password); return err },
		connect.ActAccept: func() error { return c.Accept(s.ctx, s.Target, connect.Point{}, connect.Values{}, connect.AcceptNew) },
		connect.ActHold: func() error {
			return c.ReplaceCopies(s.ctx, s.Target, "/x", []held.Locator{{}}, s.Password, s.Password)
		},
		connect.ActLogOns: func() error { _, err := c.ReplaceLogOn(s.ctx, s.Target, connect.LogOnChange{Place: place}); return err },
		connect.ActRestart: func() error {
			_, err := c.Restart(s.ctx, s.Target, place)
			_, stop := c.Stop(s.ctx, s.Target, place)
			return errors.Join(err, stop)
		},
		connect.ActReload: func() error { _, err := c.Reload(s.ctx, s.Target, place); return err },
		connect.ActAmend:  func() error { return c.Amend(s.ctx, s.Target, privilege.RightChange{}, false) },
		connect.ActEnd: func() error {
			return c.End(s.ctx, s.Target, expiry.EndChange{Act: expiry.Disable, Of: expiry.Account}, false)
		},
		connect.ActTry:      func() error { _, err := c.Try(s.ctx, s.Target, "true"); return err },
		connect.ActCommand:  func() error { _, _, err := c.RunCheck(s.ctx, s.Target, "true"); return err },
		connect.ActDiagnose: func() error { _, err := c.Diagnose(s.ctx, s.Target, place); return err },
		connect.ActObserve:  func() error { _, err := c.Connections(s.ctx, s.Target, place); return err },
		connect.ActRecords:  func() error { _, err := c.Records(s.ctx, s.Target, time.Time{}); return err },
		connect.ActRights: func() error {
			_, err := c.Rights(s.ctx, s.Target, connect.RightsRequest{Whole: true}, func(connect.Batch) error { return nil })
			return err
		},
		connect.ActList: func() error { _, err := c.ListSystems(s.ctx, s.Target, ""); return err },
		connect.ActEntries: func() error {
			_, err := c.VerifyKey(s.ctx, s.Target, connect.AccountRef{}, s.Password, nil)
			return err
		},
	} {
		if d.Can(act) {
			continue
		}
		f := s.failure(t, try())
		assert.Equal(t, connect.CodeCannot, f.Code, act)
		assert.False(t, f.Unclear, act)
	}
	if !d.Can(connect.ActOverlap) && !d.Can(connect.ActEntries) {
		can, why, err := c.Overlaps(s.ctx, s.Target, connect.Point{Account: s.ref()})
		require.NoError(t, err)
		assert.False(t, can)
		assert.NotEmpty(t, why)
	}
}

// overlap: two values at once, then each alone.
func (s *suite) overlap(t *testing.T) {
	if !s.can(t, connect.ActOverlap) {
		return
	}
	point, values := connect.Point{Account: s.ref()}, connect.Values{Old: s.Password, New: secret.New(newValue)}
	if s.Issuer != "" {
		point.Path, values = s.Issuer, s.Pair
	}
	can, why, err := s.Connector.Overlaps(s.ctx, s.Target, point)
	require.NoError(t, err)
	require.True(t, can, why)
	for _, c := range []struct {
		want     connect.Accepted
		old, new connect.Answer
	}{
		{connect.AcceptBoth, connect.AnswerYes, connect.AnswerYes},
		{connect.AcceptBoth, connect.AnswerYes, connect.AnswerYes}, // once more is harmless
		{connect.AcceptNew, connect.AnswerNo, connect.AnswerYes},
		{connect.AcceptBoth, connect.AnswerYes, connect.AnswerYes},
		{connect.AcceptOld, connect.AnswerYes, connect.AnswerNo},
	} {
		require.NoError(t, s.Connector.Accept(s.ctx, s.Target, point, values, c.want))
		is, err := s.Connector.Probe(s.ctx, s.Target, point, values)
		require.NoError(t, err)
		assert.Equal(t, []connect.Answer{c.old, c.new}, []connect.Answer{is.Old, is.New}, "%s: %s", c.want, is.Words)
	}
}

// manyAtOnce: a connector holds no state between calls.
func (s *suite) manyAtOnce(t *testing.T) {
	if !s.can(t, connect.ActVerify) {
		return
	}
	var all sync.WaitGroup
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			verdict, err := s.Connector.Verify(s.ctx, s.Target, s.ref(), s.Password)
			assert.NoError(t, err)
			assert.True(t, verdict.Accepted, verdict.Words)
		}()
	}
	all.Wait()
}

// deadline: a call ends within its context, and says so.
func (s *suite) deadline(t *testing.T) {
	ctx, cancel := context.WithTimeout(s.ctx, time.Nanosecond)
	defer cancel()
	<-ctx.Done()
	began := time.Now()
	assert.False(t, s.Connector.Check(ctx, s.Target).OK())
	if s.Connector.Describe().Can(connect.ActVerify) {
		_, err := s.Connector.Verify(ctx, s.Target, s.ref(), s.Password)
		s.failure(t, err)
	}
	if s.Connector.Describe().Can(connect.ActAccept) {
		err := s.Connector.Accept(ctx, s.Target, connect.Point{Account: s.ref()}, connect.Values{Old: s.Password, New: secret.New(newValue)}, connect.AcceptNew)
		assert.False(t, s.failure(t, err).Unclear, "nothing was sent")
	}
	assert.Less(t, time.Since(began), 20*time.Second)
}

// list: the systems that a system knows of.
func (s *suite) list(t *testing.T) {
	if !s.can(t, connect.ActList) || s.left(t, s.ListBase == "", "it knows of no systems") {
		return
	}
	list, err := s.Connector.ListSystems(s.ctx, s.Target, s.ListBase)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	for _, l := range list {
		assert.NotEmpty(t, l.Name)
	}
	_, err = s.Connector.ListSystems(s.ctx, s.Target, "OU=nowhere,"+s.ListBase)
	s.failure(t, err)
}

// command: a check command tells its output and how it ended.
func (s *suite) command(t *testing.T) {
	if !s.can(t, connect.ActCommand) {
		return
	}
	output, exit, err := s.Connector.RunCheck(s.ctx, s.Target, "echo fine")
	require.NoError(t, err)
	assert.Zero(t, exit)
	assert.Contains(t, output, "fine")
	_, exit, err = s.Connector.RunCheck(s.ctx, s.Target, "false")
	require.NoError(t, err, "how it ended is an answer")
	assert.Equal(t, 1, exit)
}
