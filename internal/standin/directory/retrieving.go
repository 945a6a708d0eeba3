package directory

import (
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha512"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/secret"
)

// Of passwords that the directory makes by itself.
const (
	passwordUnits = 128             // code units of UTF-16
	formerManaged = time.Hour       // for which the one before still signs in
	changesFrom   = 5 * time.Minute // before a change, from when on a password may become another one
)

// Why a password is not given out.
var (
	ErrNotManaged   = errors.New("the directory has no managed account of that name")
	ErrNotPermitted = errors.New("the account of the host may not ask for the password, by the groups that it was in when it started")
	ErrNoRootKey    = errors.New("there is no root key in effect")
)

// material makes what passwords are derived from.
func material() []byte {
	out := make([]byte, 64)
	_, _ = rand.Read(out) // it never fails
	return out
}

// Retrieve gives a host the password of a managed account, in the layout of [MS-ADTS], section
// 2.2.19. A host is in those groups that it was in when it started: its ticket says so, until the
// next one.
func (s *Server) Retrieve(host, account string, started time.Time) (secret.Value, error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	who, e := s.find(host), s.find(account)
	if who == nil || e == nil || !isManaged(e) {
		return secret.Value{}, ErrNotManaged
	}
	if !s.mayFetch(e, s.tokenOf(who, started)) {
		return secret.Value{}, fmt.Errorf("%w: %s asked for %s", ErrNotPermitted, host, account)
	}
	return s.passwordsOf(e)
}

func isManaged(e *Entry) bool {
	return slices.ContainsFunc(e.Attributes["objectClass"], func(class string) bool { return strings.EqualFold(class, ManagedClass) })
}

// mayFetch: the account's own list of who may ask names one of those that somebody is.
func (s *Server) mayFetch(e *Entry, token map[string]bool) bool {
	d, err := descriptor.Parse([]byte(first(e, "msDS-GroupMSAMembership")))
	return err == nil && slices.ContainsFunc(d.Rules.Entries, func(a descriptor.Entry) bool {
		return !a.Denies() && token[a.Trustee.String()] && a.Mask&descriptor.ReadProperty != 0
	})
}

// passwordsOf is the structure that who may ask is given. A password that is due is changed first:
// nobody needs a new one before.
func (s *Server) passwordsOf(e *Entry) (secret.Value, error) {
	key := s.keyInEffect()
	if key == nil {
		return secret.Value{}, ErrNoRootKey
	}
	days, err := strconv.Atoi(first(e, "msDS-ManagedPasswordInterval"))
	if err != nil || days < 1 {
		days = managed.IntervalDefault
	}
	interval, now := time.Duration(days)*24*time.Hour, s.config.Now()
	if e.Password == "" {
		if e.Password, err = derived(key, e); err != nil {
			return secret.Value{}, err
		}
	}
	if !now.Before(e.Changed.Add(interval)) {
		e.KeyVersion++
		next, err := derived(key, e)
		if err != nil {
			return secret.Value{}, err
		}
		e.before = [2]string{e.Password, e.before[0]}
		e.Password, e.Changed = next, now
	}
	left := e.Changed.Add(interval).Sub(now)
	return managed.Encode(managed.Passwords{Current: secret.FromBytes(utf16Bytes(e.Password)), Previous: secret.FromBytes(utf16Bytes(e.before[0])), Ask: left, Unchanged: max(0, left-changesFrom)})
}

// derived is a password that follows from the root key, the account, and how often it changed.
func derived(key, e *Entry) (string, error) {
	raw, err := hkdf.Key(sha512.New, key.material, []byte(first(e, "objectSid")), "managed password "+strconv.Itoa(e.KeyVersion), 8*passwordUnits)
	if err != nil {
		return "", err
	}
	var out []rune
	for i := 0; i+1 < len(raw) && len(out) < passwordUnits; i += 2 {
		// What is no character by itself, and what ends a text, is left out: it would not survive a
		// sign-in by name and password.
		if u := rune(raw[i]) | rune(raw[i+1])<<8; u >= 0x20 && !utf16.IsSurrogate(u) {
			out = append(out, u)
		}
	}
	return string(out), nil
}

func utf16Bytes(text string) (out []byte) {
	for _, u := range utf16.Encode([]rune(text)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return out
}
