package connect

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"sync"
	"time"
)

// A rotation does many small acts on one host. Signing in anew for each costs more
// than the acts do, fills the host's log, and lets a name with several addresses
// answer from another machine half way. So whoever is about to make several calls
// keeps the sessions between them: KeepSessions at the beginning, its end at the
// end. Connectors take a session that an earlier call left, or sign in, and leave
// theirs behind. A session is used by one call at a time.

// Limits of keeping sessions. One that was idle for longer may have been forgotten
// by something in between, which would make the next act's outcome unclear where a
// new sign-in would have failed clearly.
const (
	SessionIdle  = 10 * time.Second
	sessionsKept = 64 // idle ones at the same time; the oldest is ended
)

// Session is a sign-in that can be kept.
type Session interface {
	// Resume makes a session that was kept ready for a call, and reports whether
	// it is still there.
	Resume(ctx context.Context) bool
	// Rest takes it from the call that ends, and reports whether it can be kept.
	Rest() bool
	// End signs out.
	End()
}

type keptSession struct {
	key     string
	session Session
	since   time.Time
}

// Sessions are those kept for one piece of work.
type Sessions struct {
	name  string
	lock  sync.Mutex
	idle  []keptSession // the longest idle first
	over  bool
	wake  *time.Timer
	atEnd map[any]func()
	pins  map[string]string // addresses by the name that has several
}

// NewSessions begins to keep sessions.
func NewSessions() *Sessions {
	return &Sessions{name: rand.Text(), atEnd: map[any]func(){}, pins: map[string]string{}}
}

// KeepSessions has the calls made with the context use sessions that earlier ones
// of them left. The function that is returned ends them all.
func KeepSessions(ctx context.Context) (context.Context, func()) {
	kept := NewSessions()
	return kept.In(ctx), kept.End
}

type sessionsKey struct{}

// In has the calls made with a context use them.
func (s *Sessions) In(ctx context.Context) context.Context {
	return context.WithValue(ctx, sessionsKey{}, s)
}

// SessionsOf are those that calls made with a context use; nil for none.
func SessionsOf(ctx context.Context) *Sessions {
	kept, _ := ctx.Value(sessionsKey{}).(*Sessions)
	return kept
}

// Name tells them from others, wherever the calls go. It cannot be guessed.
func (s *Sessions) Name() string { return s.name }

// AtEnd has something done when they end, once for a key: who keeps sessions
// under their name elsewhere ends them too. It reports whether they have not
// ended yet.
func (s *Sessions) AtEnd(key any, do func()) bool {
	s.lock.Lock()
	defer s.lock.Unlock()
	if !s.over && s.atEnd[key] == nil {
		s.atEnd[key] = do
	}
	return !s.over
}

// TakeSession gives a session on a target that an earlier call left.
func TakeSession[S Session](ctx context.Context, target Target) (S, bool) {
	var none S
	kept := SessionsOf(ctx)
	if kept == nil {
		return none, false
	}
	key := sessionKey(target)
	for {
		session := kept.take(key)
		if session == nil {
			return none, false
		}
		if one, same := session.(S); same && session.Resume(ctx) {
			return one, true
		}
		session.End()
	}
}

// LeaveSession keeps a session for the next call, or ends it.
func LeaveSession(ctx context.Context, target Target, session Session) {
	kept := SessionsOf(ctx)
	if kept == nil || !session.Rest() || !kept.leave(sessionKey(target), session) {
		session.End()
	}
}

// sessionKey is the same for targets whose session may be the same: everything
// that says whom to reach, whom to trust and as whom to sign in.
func sessionKey(t Target) string {
	hash := sha256.New()
	part := func(values ...any) {
		for _, v := range values {
			text := fmt.Sprint(v)
			_, _ = fmt.Fprintf(hash, "%d:%s", len(text), text)
		}
	}
	part(t.SystemID, t.Name, t.Kind, t.Address, t.Port, t.Options, t.TrustedCA, t.HostKeys, t.Identity, t.Steward.Account)
	part(t.Steward.Password.RevealString(), t.Steward.PrivateKey.RevealString())
	return hex.EncodeToString(hash.Sum(nil))
}

func (s *Sessions) take(key string) Session {
	s.lock.Lock()
	defer s.lock.Unlock()
	for i := len(s.idle) - 1; i >= 0; i-- {
		if one := s.idle[i]; one.key == key {
			s.idle = append(s.idle[:i:i], s.idle[i+1:]...)
			return one.session
		}
	}
	return nil
}

func (s *Sessions) leave(key string, session Session) bool {
	s.lock.Lock()
	if s.over {
		s.lock.Unlock()
		return false
	}
	var out []Session
	if len(s.idle) == sessionsKept {
		out, s.idle = append(out, s.idle[0].session), s.idle[1:]
	}
	s.idle = append(s.idle, keptSession{key, session, time.Now()})
	if s.wake == nil {
		s.wake = time.AfterFunc(SessionIdle, s.sweep)
	}
	s.lock.Unlock()
	endAll(out)
	return true
}

// sweep ends what was idle for too long, and comes again while there is something.
func (s *Sessions) sweep() {
	s.lock.Lock()
	var out []Session
	for len(s.idle) > 0 && time.Since(s.idle[0].since) >= SessionIdle {
		out, s.idle = append(out, s.idle[0].session), s.idle[1:]
	}
	s.wake = nil
	if len(s.idle) > 0 && !s.over {
		s.wake = time.AfterFunc(SessionIdle-time.Since(s.idle[0].since), s.sweep)
	}
	s.lock.Unlock()
	endAll(out)
}

// End ends them all, and those that calls under way will leave.
func (s *Sessions) End() {
	s.lock.Lock()
	var out []Session
	for _, one := range s.idle {
		out = append(out, one.session)
	}
	do := s.atEnd
	s.idle, s.atEnd, s.over = nil, nil, true
	if s.wake != nil {
		s.wake.Stop()
	}
	s.lock.Unlock()
	endAll(out)
	for _, one := range do {
		one()
	}
}

func endAll(list []Session) {
	for _, one := range list {
		one.End()
	}
}
