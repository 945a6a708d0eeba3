package connect

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

type kept struct {
	name        string
	dead, wrong bool
	ended       atomic.Int32
}

func (k *kept) Resume(context.Context) bool { return !k.dead }
func (k *kept) Rest() bool                  { return !k.wrong }
func (k *kept) End()                        { k.ended.Add(1) }

type otherKind struct{ *kept }

func TestSessionsAreTakenByTheirTargetOnly(t *testing.T) {
	base := Target{
		SystemID: "7", Name: "host-a", Kind: estate.KindUnixHost, Address: "192.0.2.1", Port: 22, Options: map[string]string{"a": "b"},
		Steward: Steward{Account: "moss", Password: secret.New("p"), PrivateKey: secret.New("k")}, TrustedCA: "ca", HostKeys: []string{"x"}, Identity: "id",
	}
	for what, change := range map[string]func(*Target){
		"another system":   func(t *Target) { t.SystemID = "8" },
		"another name":     func(t *Target) { t.Name = "host-b" },
		"another kind":     func(t *Target) { t.Kind = estate.KindDirectory },
		"another address":  func(t *Target) { t.Address = "192.0.2.2" },
		"another port":     func(t *Target) { t.Port = 23 },
		"another option":   func(t *Target) { t.Options = map[string]string{"a": "c"} },
		"another steward":  func(t *Target) { t.Steward.Account = "other" },
		"another password": func(t *Target) { t.Steward.Password = secret.New("q") },
		"another key":      func(t *Target) { t.Steward.PrivateKey = secret.New("l") },
		"parts moved":      func(t *Target) { t.Steward.Password, t.Steward.PrivateKey = secret.New("pk"), secret.Value{} },
		"another ca":       func(t *Target) { t.TrustedCA = "" },
		"other host keys":  func(t *Target) { t.HostKeys = []string{"x", "y"} },
		"another identity": func(t *Target) { t.Identity = "" },
	} {
		t.Run(what, func(t *testing.T) {
			ctx, end := KeepSessions(t.Context())
			defer end()
			one := &kept{}
			LeaveSession(ctx, base, one)
			other := base
			change(&other)
			_, found := TakeSession[*kept](ctx, other)
			assert.False(t, found)
			got, found := TakeSession[*kept](ctx, base)
			require.True(t, found)
			assert.Same(t, one, got)
			_, found = TakeSession[*kept](ctx, base)
			assert.False(t, found, "it serves one call at a time")
		})
	}
}

func TestSessionsThatCannotBeKeptEnd(t *testing.T) {
	ctx, end := KeepSessions(t.Context())
	target := Target{Name: "a"}
	wrong := &kept{wrong: true}
	LeaveSession(ctx, target, wrong)
	assert.EqualValues(t, 1, wrong.ended.Load(), "one that does not rest")
	dead, alive := &kept{dead: true}, &kept{}
	LeaveSession(ctx, target, alive)
	LeaveSession(ctx, target, dead)
	got, found := TakeSession[*kept](ctx, target)
	require.True(t, found)
	assert.Same(t, alive, got, "a dead one is passed over")
	assert.EqualValues(t, 1, dead.ended.Load(), "and ended")
	LeaveSession(ctx, target, otherKind{alive})
	_, found = TakeSession[*kept](ctx, target)
	assert.False(t, found, "not a session of this connector")
	assert.EqualValues(t, 1, alive.ended.Load())

	last := &kept{}
	LeaveSession(ctx, target, last)
	told := 0
	require.True(t, SessionsOf(ctx).AtEnd("who", func() { told++ }))
	require.True(t, SessionsOf(ctx).AtEnd("who", func() { told++ }))
	end()
	end()
	assert.EqualValues(t, 1, last.ended.Load())
	assert.Equal(t, 1, told, "once")
	assert.False(t, SessionsOf(ctx).AtEnd("late", func() { told++ }))
	late := &kept{}
	LeaveSession(ctx, target, late)
	assert.EqualValues(t, 1, late.ended.Load(), "a call that outlived the work")
	without := &kept{}
	LeaveSession(t.Context(), target, without)
	assert.EqualValues(t, 1, without.ended.Load(), "nothing is kept")
	assert.Nil(t, SessionsOf(t.Context()))
}

func TestIdleSessionsEndByThemselves(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, end := KeepSessions(t.Context())
		defer end()
		first, second := &kept{}, &kept{}
		LeaveSession(ctx, Target{Name: "a"}, first)
		require.NoError(t, Wait(ctx, SessionIdle/2)) // of the bubble's clock
		LeaveSession(ctx, Target{Name: "b"}, second)
		require.NoError(t, Wait(ctx, SessionIdle/2+time.Millisecond))
		synctest.Wait()
		assert.EqualValues(t, 1, first.ended.Load())
		assert.EqualValues(t, 0, second.ended.Load())
		_, found := TakeSession[*kept](ctx, Target{Name: "a"})
		assert.False(t, found)
		require.NoError(t, Wait(ctx, SessionIdle))
		synctest.Wait()
		assert.EqualValues(t, 1, second.ended.Load())
	})
}

func TestIdleSessionsAreBounded(t *testing.T) {
	ctx, end := KeepSessions(t.Context())
	var all []*kept
	for i := range sessionsKept + 5 {
		one := &kept{name: fmt.Sprint(i)}
		all = append(all, one)
		LeaveSession(ctx, Target{Name: one.name}, one)
	}
	for i, one := range all {
		assert.Equal(t, i < 5, one.ended.Load() == 1, one.name)
	}
	end()
	for _, one := range all {
		assert.EqualValues(t, 1, one.ended.Load(), one.name)
	}
}
