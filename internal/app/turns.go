package app

import (
	"context"
	"sync"
)

// Turns lets one act after the other at a place: at a file that two rotations
// change, each writing all of it; at a credential that two people reset. The zero
// value is ready for use.
type Turns struct {
	lock sync.Mutex
	at   map[string]chan struct{} // closed when the place is free again
}

// Take waits for a place, and returns what gives it back.
func (t *Turns) Take(ctx context.Context, place string) (func(), error) {
	for {
		t.lock.Lock()
		busy := t.at[place]
		if busy == nil {
			if t.at == nil {
				t.at = map[string]chan struct{}{}
			}
			mine := make(chan struct{})
			t.at[place] = mine
			t.lock.Unlock()
			return func() {
				t.lock.Lock()
				defer t.lock.Unlock()
				delete(t.at, place)
				close(mine)
			}, nil
		}
		t.lock.Unlock()
		select {
		case <-busy:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
