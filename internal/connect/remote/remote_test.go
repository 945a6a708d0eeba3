package remote_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"reflect"
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

// canary is every secret that crosses in these tests.
const canary = "Wire-Canary-41"

// echo says what it was given.
type echo struct {
	connect.Cannot
	given   chan any
	failure error
}

func (e echo) Describe() connect.Description {
	return connect.Description{Kind: estate.KindUnixHost, Title: "echo", Port: 1, Acts: []connect.Act{connect.ActVerify, connect.ActVisit}}
}

func (e echo) Check(_ context.Context, t connect.Target) connect.CheckReport {
	e.given <- t
	return connect.CheckReport{Facts: connect.Facts{Booted: time.Unix(7, 0).UTC(), ClockOff: -3 * time.Second, Policy: map[string]string{"a": "b"}}}
}

func (e echo) ReadCopies(_ context.Context, _ connect.Target, _ string, places []held.Locator) (connect.CopyState, error) {
	e.given <- places
	return connect.CopyState{Digest: "d", Found: []secret.Value{secret.New(canary), {}}}, e.failure
}

func (e echo) VerifyKey(_ context.Context, _ connect.Target, _ connect.AccountRef, key secret.Value, through *connect.Target) (connect.Verdict, error) {
	e.given <- through
	return connect.Verdict{Accepted: key.RevealString() == canary}, e.failure
}

func (e echo) Visit(_ context.Context, _ connect.Target, r connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	e.given <- r
	for _, name := range []string{"a", "b"} {
		if err := emit(connect.Batch{Accounts: []estate.Account{{Name: name, PasswordChanged: time.Unix(9, 0).UTC()}}, Dependents: []estate.Dependent{{Kind: estate.DependentFile, Copy: &estate.Copy{Line: 3}}}}); err != nil {
			return connect.Coverage{Complete: map[string]bool{"accounts": false}}, err
		}
	}
	return connect.Coverage{Complete: map[string]bool{"accounts": true}, Counts: map[string]int{"accounts": 2}}, nil
}

// wire keeps what crossed, and may change it.
type wire struct {
	*remote.Server
	crossed []string
	change  func([]byte) []byte
	lose    bool
}

func (w *wire) Carry(ctx context.Context, raw []byte, batch func([]byte) error) ([]byte, error) {
	if w.change != nil {
		raw = w.change(raw)
	}
	w.crossed = append(w.crossed, string(raw))
	if w.lose {
		return nil, errors.New("the line went dead")
	}
	answer, err := w.Server.Carry(ctx, raw, func(b []byte) error {
		w.crossed = append(w.crossed, string(b))
		return batch(b)
	})
	w.crossed = append(w.crossed, string(answer))
	return answer, err
}

func over(t *testing.T, e echo) (*remote.Client, *wire) {
	t.Helper()
	keys, err := remote.NewKeyPair()
	require.NoError(t, err)
	w := &wire{Server: remote.NewServer(keys, func(estate.Kind) (connect.Connector, bool) { return e, true })}
	c, err := remote.NewClient(t.Context(), w, estate.KindUnixHost, w.Public())
	require.NoError(t, err)
	return c, w
}

func target() connect.Target {
	return connect.Target{
		SystemID: "7", Name: "quay1", Kind: estate.KindUnixHost, Address: "192.0.2.7", Port: 22, Options: map[string]string{"paths": "/a"},
		Steward: connect.Steward{Account: "mossmgr", Password: secret.New(canary), PrivateKey: secret.New(canary + "\n")}, HostKeys: []string{"SHA256:x"}, Identity: "m",
	}
}

// What crosses arrives as it was, and no secret can be read on the way.
func TestValuesSurvive(t *testing.T) {
	given := make(chan any, 1)
	c, w := over(t, echo{given: given})
	assert.Equal(t, "echo", c.Describe().Title)

	report := c.Check(t.Context(), target())
	got := (<-given).(connect.Target)
	assert.Equal(t, canary, got.Steward.Password.RevealString())
	assert.Equal(t, canary+"\n", got.Steward.PrivateKey.RevealString())
	got.Steward, report.Stages = target().Steward, nil
	assert.Equal(t, target().Options, got.Options)
	assert.Equal(t, target().HostKeys, got.HostKeys)
	assert.Equal(t, connect.Facts{Booted: time.Unix(7, 0).UTC(), ClockOff: -3 * time.Second, Policy: map[string]string{"a": "b"}}, report.Facts)

	places := []held.Locator{{Layout: layout.PEM, Key: "k", Nth: 2, Part: held.PartValue}}
	state, err := c.ReadCopies(t.Context(), target(), "/x", places)
	require.NoError(t, err)
	assert.Equal(t, places, <-given)
	require.Len(t, state.Found, 2)
	assert.Equal(t, canary, state.Found[0].RevealString())
	assert.True(t, state.Found[1].Empty())

	through := target()
	verdict, err := c.VerifyKey(t.Context(), target(), connect.AccountRef{}, secret.New(canary), &through)
	require.NoError(t, err)
	assert.True(t, verdict.Accepted)
	assert.Equal(t, "quay1", (<-given).(*connect.Target).Name)
	_, err = c.VerifyKey(t.Context(), target(), connect.AccountRef{}, secret.New(canary), nil)
	require.NoError(t, err)
	assert.Nil(t, (<-given).(*connect.Target))

	var names []string
	coverage, err := c.Visit(t.Context(), target(), connect.VisitRequest{FingerprintKey: secret.New(canary), Values: []secret.Value{secret.New(canary)}}, func(b connect.Batch) error {
		names = append(names, b.Accounts[0].Name)
		assert.Equal(t, time.Unix(9, 0).UTC(), b.Accounts[0].PasswordChanged)
		assert.Equal(t, 3, b.Dependents[0].Copy.Line)
		assert.Nil(t, b.Dependents[0].Key)
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names)
	assert.Equal(t, 2, coverage.Counts["accounts"])
	assert.Equal(t, canary, (<-given).(connect.VisitRequest).Values[0].RevealString())

	for _, message := range w.crossed {
		for _, form := range []string{canary, base64.StdEncoding.EncodeToString([]byte(canary))} {
			assert.NotContains(t, message, form)
		}
		assert.NotContains(t, message, secret.Placeholder, "nothing is lost either")
	}
}

// Failures keep what callers decide by; a lost answer leaves an act unclear.
func TestFailuresSurvive(t *testing.T) {
	given := make(chan any, 4)
	want := &connect.Failure{System: "quay1", Stage: connect.StageRead, Words: "no such file", Next: "survey", Code: connect.CodeGone, Unclear: true, Err: errors.New("inner")}
	c, _ := over(t, echo{given: given, failure: want})
	state, err := c.ReadCopies(t.Context(), target(), "/x", nil)
	var got *connect.Failure
	require.ErrorAs(t, err, &got)
	inner := *want
	inner.Err = nil
	assert.Equal(t, inner, *got)
	assert.Equal(t, "d", state.Digest, "what came with it is there")

	c, w := over(t, echo{given: given})
	f := new(connect.Failure)
	require.ErrorAs(t, c.Accept(t.Context(), target(), connect.Point{}, connect.Values{}, connect.AcceptNew), &f)
	assert.Equal(t, connect.CodeCannot, f.Code)
	w.lose = true
	require.ErrorAs(t, c.Accept(t.Context(), target(), connect.Point{}, connect.Values{New: secret.New(canary)}, connect.AcceptNew), &f)
	assert.True(t, f.Unclear, "it may have arrived")
	assert.Equal(t, connect.CodeUnreachable, f.Code)
	assert.False(t, c.Check(t.Context(), target()).OK())
	assert.Equal(t, connect.CheckFailed, c.Rehearse(t.Context(), target(), nil)[0].Result)

	w.lose = false
	_, err = c.Visit(t.Context(), target(), connect.VisitRequest{}, func(connect.Batch) error { return errors.New("store is full") })
	assert.ErrorContains(t, err, "store is full", "an error of the taker ends the visit")
}

// Who carries messages cannot move a sealed value to another place, nor send it
// again in another call, nor call what the contract does not have.
func TestCarriersCannotMoveSecrets(t *testing.T) {
	given := make(chan any, 4)
	c, w := over(t, echo{given: given})
	edit := func(change func(*remote.Request)) func([]byte) []byte {
		return func(raw []byte) []byte {
			var r remote.Request
			require.NoError(t, json.Unmarshal(raw, &r))
			change(&r)
			out, err := json.Marshal(r)
			require.NoError(t, err)
			return out
		}
	}
	var kept string
	w.change = edit(func(r *remote.Request) {
		var fields map[string]map[string]any
		require.NoError(t, json.Unmarshal(mustObject(t, r.Arguments[0]), &fields))
		kept, _ = fields["Steward"]["Password"].(string)
	})
	c.Check(t.Context(), target())
	<-given
	require.NotEmpty(t, kept)

	for name, change := range map[string]func(*remote.Request){
		"to another place": func(r *remote.Request) {
			r.Arguments[0] = json.RawMessage(strings.Replace(string(r.Arguments[0]), `"PrivateKey":"`+fieldOf(t, r.Arguments[0], "PrivateKey"), `"PrivateKey":"`+fieldOf(t, r.Arguments[0], "Password"), 1))
		},
		"of another call": func(r *remote.Request) {
			r.Arguments[0] = json.RawMessage(strings.Replace(string(r.Arguments[0]), fieldOf(t, r.Arguments[0], "Password"), kept, 1))
		},
		"garbage":       func(r *remote.Request) { r.Arguments[0] = json.RawMessage(`{"Steward":{"Password":"####"}}`) },
		"another call":  func(r *remote.Request) { r.Method = "String" },
		"another shape": func(r *remote.Request) { r.Arguments[0] = json.RawMessage(`[]`) },
	} {
		w.change = edit(change)
		report := c.Check(t.Context(), target())
		assert.False(t, report.OK(), name)
		assert.Empty(t, given, "%s: the connector was called", name)
	}
	_, err := w.Server.Carry(t.Context(), []byte("no json"), nil)
	assert.Error(t, err)
}

func mustObject(t *testing.T, raw json.RawMessage) []byte {
	t.Helper()
	var fields map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(raw, &fields))
	out, err := json.Marshal(map[string]json.RawMessage{"Steward": fields["Steward"]})
	require.NoError(t, err)
	return out
}

func fieldOf(t *testing.T, raw json.RawMessage, name string) string {
	t.Helper()
	var fields struct{ Steward map[string]string }
	require.NoError(t, json.Unmarshal(raw, &fields))
	require.NotEmpty(t, fields.Steward[name])
	return fields.Steward[name]
}

// Nothing in the contract is of a type that cannot cross.
func TestEverythingInTheContractCanCross(t *testing.T) {
	var cross func(of reflect.Type, path string, depth int)
	seen := map[reflect.Type]bool{reflect.TypeFor[secret.Value](): true, reflect.TypeFor[time.Time](): true, reflect.TypeFor[context.Context](): true, reflect.TypeFor[error](): true}
	cross = func(of reflect.Type, path string, depth int) {
		if seen[of] || depth > 12 {
			return
		}
		seen[of] = true
		switch of.Kind() {
		case reflect.Interface, reflect.Chan, reflect.UnsafePointer, reflect.Complex64, reflect.Complex128:
			t.Errorf("%s: %s cannot cross", path, of)
		case reflect.Func:
			for i := range of.NumIn() {
				cross(of.In(i), path+"()", depth+1)
			}
		case reflect.Pointer, reflect.Slice, reflect.Array:
			cross(of.Elem(), path, depth+1)
		case reflect.Map:
			assert.Equal(t, reflect.String, of.Key().Kind(), path)
			cross(of.Elem(), path, depth+1)
		case reflect.Struct:
			for i := range of.NumField() {
				f := of.Field(i)
				assert.True(t, f.IsExported(), "%s.%s would be lost", path, f.Name)
				cross(f.Type, path+"."+f.Name, depth+1)
			}
		}
	}
	contract := reflect.TypeFor[connect.Connector]()
	require.Greater(t, contract.NumMethod(), 15)
	for i := range contract.NumMethod() {
		m := contract.Method(i)
		for j := range m.Type.NumIn() {
			cross(m.Type.In(j), m.Name, 0)
		}
		for j := range m.Type.NumOut() {
			cross(m.Type.Out(j), m.Name, 0)
		}
	}
}
