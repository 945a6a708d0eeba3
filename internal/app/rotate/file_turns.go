package rotate

import (
	"context"
	"sync"
)

// fileTurns lets one act after the other at a place: two rotations may change the
// same file, and each writes all of it. The zero value is ready for use.
type fileTurns struct {
	lock sync.Mutex
	at   map[string]chan struct{} // closed when the place is free again
}

// take waits for a place, and returns what gives it back.
func (t *fileTurns) take(ctx context.Context, place string) (func(), error) {
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
