package service

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"mossledger.example/moss/internal/core/secret"
)

// Argon2id parameters (RFC 9106, section 4, the second recommended option
// with less memory: sign-ins happen beside surveys).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 2
	argonKey     = 32
)

// hashPassword makes the PHC form of an argon2id hash.
func hashPassword(password secret.Value) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key := argon2.IDKey(password.Reveal(), salt, argonTime, argonMemory, argonThreads, argonKey)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key)), nil
}

// checkPassword compares with a hash in PHC form.
func checkPassword(password secret.Value, hash string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	var memory, iterations uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &iterations, &threads); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	got := argon2.IDKey(password.Reveal(), salt, iterations, memory, threads, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// noSuchUser is hashed against when a name is unknown, so that the answer
// takes as long as for a known one.
var noSuchUser = sync.OnceValue(func() string {
	hash, err := hashPassword(secret.New("nobody has this password"))
	if err != nil {
		return ""
	}
	return hash
})

const minPassword = 12

func checkNewPassword(name string, password secret.Value) error {
	text := password.RevealString()
	if len(text) < minPassword {
		return fmt.Errorf("the password has %d characters, at least %d are needed", len(text), minPassword)
	}
	if name != "" && strings.Contains(strings.ToLower(text), strings.ToLower(name)) {
		return errors.New("the password contains the name")
	}
	return nil
}

func newBearer() (string, error) {
	raw := make([]byte, 32)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(raw), nil
}

// throttle slows down guessing: after five failures for a name or from an
// address, the next attempt has to wait, twice as long each time.
type throttle struct {
	lock  sync.Mutex
	now   func() time.Time
	fails map[string]*failures
}

type failures struct {
	count int
	until time.Time
	last  time.Time
}

const (
	freeFailures = 5
	firstWait    = 2 * time.Second
	longestWait  = 5 * time.Minute
	forgetAfter  = 30 * time.Minute
)

func newThrottle(now func() time.Time) *throttle {
	return &throttle{now: now, fails: map[string]*failures{}}
}

// wait says how long the keys must still wait; 0 to go on.
func (t *throttle) wait(keys ...string) time.Duration {
	t.lock.Lock()
	defer t.lock.Unlock()
	var longest time.Duration
	for _, key := range keys {
		if f := t.fails[key]; f != nil {
			longest = max(longest, f.until.Sub(t.now()))
		}
	}
	return longest
}

func (t *throttle) failed(keys ...string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	now := t.now()
	for key, f := range t.fails {
		if now.Sub(f.last) > forgetAfter {
			delete(t.fails, key)
		}
	}
	for _, key := range keys {
		f := t.fails[key]
		if f == nil {
			f = &failures{}
			t.fails[key] = f
		}
		f.count++
		f.last = now
		if f.count >= freeFailures {
			f.until = now.Add(min(firstWait<<min(f.count-freeFailures, 20), longestWait))
		}
	}
}

func (t *throttle) succeeded(keys ...string) {
	t.lock.Lock()
	defer t.lock.Unlock()
	for _, key := range keys {
		delete(t.fails, key)
	}
}
