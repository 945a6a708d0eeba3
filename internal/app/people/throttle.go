package people

import (
	"strings"
	"sync"
	"time"
)

// throttle slows down guessing. An attempt is counted when it begins, so that
// many at once are no way around it, and taken back when it succeeds. After
// some failures the next attempt has to wait, twice as long each time.
//
// Names and addresses are counted apart. Whoever knows a name can make it
// wait, which must not lock its owner out: a device that signed in before is
// counted by itself, not by the name.
type throttle struct {
	lock  sync.Mutex
	now   func() time.Time
	fails map[string]*failures
}

type failures struct {
	count   int
	running int
	until   time.Time
	last    time.Time
}

// Failed attempts before the next one has to wait: with a name, and from an
// address, which many people share behind a proxy.
const (
	FreeFailures    = 5
	FreeFromAddress = 50
)

const (
	firstWait     = 2 * time.Second
	longestWait   = 5 * time.Minute
	forgetAfter   = 30 * time.Minute
	mostThrottled = 100_000 // keys; beyond, the oldest go
)

func newThrottle(now func() time.Time) *throttle {
	return &throttle{now: now, fails: map[string]*failures{}}
}

func freeOf(key string) int {
	if strings.HasPrefix(key, "address/") {
		return FreeFromAddress
	}
	return FreeFailures
}

// begin counts an attempt under all keys, or says how long it has to wait.
func (t *throttle) begin(keys ...string) time.Duration {
	t.lock.Lock()
	defer t.lock.Unlock()
	now := t.now()
	t.forget(now)
	var longest time.Duration
	for _, key := range keys {
		f := t.fails[key]
		if f == nil {
			continue
		}
		longest = max(longest, f.until.Sub(now))
		if f.running > 0 && f.count+f.running >= freeOf(key) {
			longest = max(longest, firstWait/2) // as many as may fail are under way
		}
	}
	if longest > 0 {
		return longest
	}
	for _, key := range keys {
		if t.fails[key] == nil {
			t.fails[key] = &failures{}
		}
		t.fails[key].running++
		t.fails[key].last = now
	}
	return 0
}

// end tells how an attempt ended. A success forgets the failures of all keys
// but the address.
func (t *throttle) end(succeeded bool, keys ...string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	now := t.now()
	for _, key := range keys {
		f := t.fails[key]
		if f == nil {
			continue
		}
		f.running--
		f.last = now
		switch free := freeOf(key); {
		case succeeded && !strings.HasPrefix(key, "address/"):
			f.count, f.until = 0, time.Time{}
		case succeeded:
		default:
			if f.count++; f.count >= free {
				f.until = now.Add(min(firstWait<<min(f.count-free, 20), longestWait))
			}
		}
		if f.count == 0 && f.running == 0 {
			delete(t.fails, key)
		}
	}
}

func (t *throttle) forget(now time.Time) {
	for key, f := range t.fails {
		if f.running == 0 && (now.Sub(f.last) > forgetAfter || len(t.fails) > mostThrottled && now.After(f.until)) {
			delete(t.fails, key)
		}
	}
}

// refusals bounds how many refused sign-ins are written one by one: whoever
// can reach the service could let the ledger grow without limit.
type refusals struct {
	lock    sync.Mutex
	hour    time.Time
	written int
	left    int
}

const refusalsAnHour = 30

// count says whether this one is written, and how many of an earlier hour were
// not.
func (r *refusals) count(now time.Time) (write bool, leftBefore int) {
	r.lock.Lock()
	defer r.lock.Unlock()
	if hour := now.Truncate(time.Hour); !hour.Equal(r.hour) {
		leftBefore = r.left
		r.hour, r.written, r.left = hour, 0, 0
	}
	if r.written < refusalsAnHour {
		r.written++
		return true, leftBefore
	}
	r.left++
	return false, leftBefore
}
