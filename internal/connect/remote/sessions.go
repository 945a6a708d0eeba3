package remote

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"time"

	"mossledger.example/moss/internal/connect"
)

// Sessions stay where the connectors are: what crosses is the name of the work
// that they are kept for, and the word that it has ended. Who made that up gets
// nothing by it: a session is found only by a target with its steward's secret.

const (
	methodEndSessions = "EndSessions"
	endTime           = 5 * time.Second
	keptTime          = time.Minute // after the last call of work whose end was never told
)

type keptSessions struct {
	sessions *connect.Sessions
	calls    int
	last     time.Time
}

// sessions gives a call those of its work, and what to do after the call.
func (s *Server) sessions(ctx context.Context, name string) (context.Context, func()) {
	if name == "" {
		return ctx, func() {}
	}
	s.lock.Lock()
	var forgotten []*connect.Sessions
	for other, one := range s.kept {
		if one.calls == 0 && time.Since(one.last) > keptTime {
			delete(s.kept, other)
			forgotten = append(forgotten, one.sessions)
		}
	}
	kept := s.kept[name]
	if kept == nil {
		kept = &keptSessions{sessions: connect.NewSessions()}
		s.kept[name] = kept
	}
	kept.calls++
	s.lock.Unlock()
	for _, one := range forgotten {
		one.End()
	}
	return kept.sessions.In(ctx), func() {
		s.lock.Lock()
		defer s.lock.Unlock()
		kept.calls--
		kept.last = time.Now()
	}
}

func (s *Server) endSessions(name string) {
	s.lock.Lock()
	kept := s.kept[name]
	delete(s.kept, name)
	s.lock.Unlock()
	if kept != nil {
		kept.sessions.End()
	}
}

// endSessions tells the other end that work has ended. When that does not arrive,
// the sessions end there by themselves.
func (c *Client) endSessions(name string) {
	ctx, cancel := context.WithTimeout(context.Background(), endTime)
	defer cancel()
	raw, err := json.Marshal(Request{Call: rand.Text(), Kind: c.description.Kind, Method: methodEndSessions, Reply: c.keys.Public(), Sessions: name})
	if err == nil {
		_, _ = c.transport.Carry(ctx, raw, func([]byte) error { return nil })
	}
}
