// Package managed is about passwords that a directory makes and changes by itself, and that
// nobody needs to know.
//
// A managed account has a password that the directory derives and replaces at its interval. Hosts
// that are permitted ask for it when they need it, and are given the current one with the one
// before it, how long both stay as they are, and when to ask again: the structure
// MSDS-MANAGEDPASSWORD_BLOB of [MS-ADTS], section 2.2.19.
package managed

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"
	"unicode/utf16"

	"mossledger.example/moss/internal/core/secret"
)

// Passwords are what a host is given of a managed account.
type Passwords struct {
	Current secret.Value // UTF-16 code units, little end first; any but zero
	// Previous is accepted beside it for a while; empty for an account that had none yet.
	Previous secret.Value
	// Ask is after how long the password should be asked for again; Unchanged is for how long the
	// current one certainly stays. Both count from when this was given, in steps of 100 ns.
	Ask, Unchanged time.Duration
}

// ErrBlob says that bytes are no such structure.
var ErrBlob = errors.New("this is no managed password")

const (
	blobVersion = 1
	headLength  = 16 // version, reserved, length, and four offsets
	tick        = 100 * time.Nanosecond
	tailLength  = 16 // the two intervals
)

// Encode writes the structure. It refuses passwords that cannot stand in it: of an odd number of
// bytes, empty, or with a code unit of zero, which ends one there.
func Encode(p Passwords) (secret.Value, error) {
	list := []secret.Value{p.Current}
	if !p.Previous.Empty() {
		list = append(list, p.Previous)
	}
	out := make([]byte, headLength)
	offsets := make([]uint16, 2)
	for i, v := range list {
		raw := v.Reveal()
		if len(raw) == 0 || len(raw)%2 != 0 || units(raw) != len(raw)/2 {
			return secret.Value{}, errors.New("a managed password is a text of UTF-16 without a zero in it")
		}
		if len(out) > 0xFFFF-len(raw) {
			return secret.Value{}, errors.New("a managed password is too long for its structure")
		}
		offsets[i] = uint16(len(out))
		out = append(append(out, raw...), 0, 0)
	}
	for len(out)%8 != 0 { // intervals stand at a multiple of 64 bits
		out = append(out, 0)
	}
	at := len(out)
	for _, d := range []time.Duration{p.Ask, p.Unchanged} {
		if d < 0 {
			return secret.Value{}, errors.New("an interval of a managed password is below zero")
		}
		out = binary.LittleEndian.AppendUint64(out, uint64(d/tick))
	}
	if at+8 > 0xFFFF {
		return secret.Value{}, errors.New("managed passwords are too long for their structure")
	}
	binary.LittleEndian.PutUint16(out[0:], blobVersion)
	binary.LittleEndian.PutUint32(out[4:], uint32(len(out)))
	for i, offset := range []uint16{offsets[0], offsets[1], uint16(at), uint16(at + 8)} {
		binary.LittleEndian.PutUint16(out[8+2*i:], offset)
	}
	return secret.FromBytes(out), nil
}

// units counts the code units before the first that is zero.
func units(raw []byte) int {
	for i := 0; i+1 < len(raw); i += 2 {
		if raw[i] == 0 && raw[i+1] == 0 {
			return i / 2
		}
	}
	return len(raw) / 2
}

// Decode reads the structure. What stands elsewhere than it says, or has no end, is an ErrBlob; no
// byte of a password is in an error.
func Decode(blob secret.Value) (p Passwords, err error) {
	raw := blob.Reveal()
	if len(raw) < headLength+tailLength {
		return p, fmt.Errorf("%w: it has %d bytes", ErrBlob, len(raw))
	}
	if version := binary.LittleEndian.Uint16(raw); version != blobVersion {
		return p, fmt.Errorf("%w: its version is %d", ErrBlob, version)
	}
	length := binary.LittleEndian.Uint32(raw[4:])
	if uint64(length) > uint64(len(raw)) || length < headLength+tailLength {
		return p, fmt.Errorf("%w: it says that it has %d bytes, and has %d", ErrBlob, length, len(raw))
	}
	raw = raw[:length]
	text := func(field int) (secret.Value, error) {
		offset := int(binary.LittleEndian.Uint16(raw[8+2*field:]))
		if offset == 0 && field == 1 {
			return secret.Value{}, nil // there was none before it
		}
		if offset < headLength || offset >= len(raw) {
			return secret.Value{}, fmt.Errorf("%w: a password stands at byte %d of %d", ErrBlob, offset, len(raw))
		}
		n := units(raw[offset:])
		if n == 0 || offset+2*n+2 > len(raw) {
			return secret.Value{}, fmt.Errorf("%w: the password at byte %d has no end", ErrBlob, offset)
		}
		return secret.FromBytes(raw[offset : offset+2*n]), nil
	}
	if p.Current, err = text(0); err != nil {
		return Passwords{}, err
	}
	if p.Previous, err = text(1); err != nil {
		return Passwords{}, err
	}
	for i, into := range []*time.Duration{&p.Ask, &p.Unchanged} {
		offset := int(binary.LittleEndian.Uint16(raw[12+2*i:]))
		if offset < headLength || offset+8 > len(raw) {
			return Passwords{}, fmt.Errorf("%w: an interval stands at byte %d of %d", ErrBlob, offset, len(raw))
		}
		ticks := binary.LittleEndian.Uint64(raw[offset:])
		*into = longest
		if ticks <= uint64(longest/tick) {
			*into = time.Duration(ticks) * tick
		}
	}
	return p, nil
}

// longest is what an interval is taken for that is longer.
const longest = 100 * 365 * 24 * time.Hour

// Text is a password of the structure as the text that it is. What is no whole character there is
// one that says so, and signs nobody in.
func Text(password secret.Value) string {
	raw := password.Reveal()
	list := make([]uint16, 0, len(raw)/2)
	for i := 0; i+1 < len(raw); i += 2 {
		list = append(list, binary.LittleEndian.Uint16(raw[i:]))
	}
	return string(utf16.Decode(list))
}
