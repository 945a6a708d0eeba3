package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"mossledger.example/moss/internal/app"
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

// hashing bounds how many hashes are computed at the same time: each takes 64
// MiB. Who finds too many waiting is sent away.
type hashing struct {
	running chan struct{}
	waiting chan struct{}
}

const (
	hashesAtOnce = 2
	hashesQueued = 32
)

// ErrBusy: as many passwords as may wait are being looked at.
var ErrBusy = errors.New("too many sign-ins at once: try again in a few seconds")

func newHashing() *hashing {
	return &hashing{running: make(chan struct{}, hashesAtOnce), waiting: make(chan struct{}, hashesQueued)}
}

// do runs f when it is its turn.
func (h *hashing) do(ctx context.Context, f func()) error {
	select {
	case h.waiting <- struct{}{}:
	default:
		return ErrBusy
	}
	defer func() { <-h.waiting }()
	select {
	case h.running <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-h.running }()
	f()
	return nil
}

// derive computes the key. The hash function keeps the first block of its
// input, with the text in it, in an object of its own that cannot be reached
// from here. It is freed by the collector, which overwrites nothing; so as
// many objects of its size are asked for as take the place of those of earlier
// hashes, and are handed out as zeros.
func derive(text, salt []byte, iterations, memory uint32, threads uint8, length uint32) []byte {
	for range placesOfHashes {
		inPlace.Store(new([hashState]byte))
	}
	return argon2.IDKey(text, salt, iterations, memory, threads, length)
}

const (
	hashState      = 384 // bytes: the size class of the state of BLAKE2b
	placesOfHashes = 4096
)

// inPlace keeps the compiler from leaving the objects out.
var inPlace atomic.Pointer[[hashState]byte]

// hashPassword makes the PHC form of an argon2id hash.
func hashPassword(password secret.Value) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	text := password.Reveal()
	defer clear(text)
	key := derive(text, salt, argonTime, argonMemory, argonThreads, argonKey)
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
	text := password.Reveal()
	defer clear(text)
	got := derive(text, salt, iterations, memory, threads, uint32(len(want)))
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

// Passwords of people: NIST SP 800-63B, section 5.1.1.2: a least length, no
// rules about kinds of characters, and none that is common or easy to guess.
const (
	minPassword  = 12
	maxPassword  = 256 // beyond, it is no password
	leastGuesses = 1e10
)

func checkNewPassword(name string, password secret.Value) error {
	text := password.RevealString()
	if n := utf8.RuneCountInString(text); n < minPassword || n > maxPassword {
		return fmt.Errorf("%w: the password has %d characters, %d to %d are needed", app.ErrInput, n, minPassword, maxPassword)
	}
	if name != "" && strings.Contains(strings.ToLower(text), strings.ToLower(name)) {
		return fmt.Errorf("%w: the password contains the name", app.ErrInput)
	}
	// The estimate knows lists of passwords that leaked, words, names, keyboard
	// rows, dates and repetitions.
	if zxcvbn.PasswordStrength(text, []string{name, "moss", "ledger", "mossledger"}).Guesses < leastGuesses {
		return fmt.Errorf("%w: the password is a common one, or made of common parts, and would soon be guessed: take several unrelated words, or let a password keeper make one", app.ErrInput)
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
