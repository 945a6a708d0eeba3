// Package descriptor reads the security descriptors of directories with the
// Windows-domain schema ([MS-DTYP], section 2.4.6, self-relative form): who owns an
// object, and which entries of its access list give or take what. It is the package's own
// code throughout, and writes what it read byte for byte.
package descriptor

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// SID is a security identifier ([MS-DTYP], section 2.4.2).
type SID struct {
	Authority uint64
	Sub       []uint32
}

// String writes it as S-1-5-21-...
func (s SID) String() string {
	var out strings.Builder
	if s.Authority >= 1<<32 { // [MS-DTYP], section 2.4.2.1
		fmt.Fprintf(&out, "S-1-0x%012x", s.Authority)
	} else {
		fmt.Fprintf(&out, "S-1-%d", s.Authority)
	}
	for _, n := range s.Sub {
		out.WriteByte('-')
		out.WriteString(strconv.FormatUint(uint64(n), 10))
	}
	return out.String()
}

// GUID as it stands in bytes: the first three groups with the least byte first.
type GUID [16]byte

// String writes it with dashes.
func (g GUID) String() string {
	return fmt.Sprintf("%08x-%04x-%04x-%04x-%012x", binary.LittleEndian.Uint32(g[0:]), binary.LittleEndian.Uint16(g[4:]), binary.LittleEndian.Uint16(g[6:]), binary.BigEndian.Uint16(g[8:]), g[10:])
}

// Kinds of entries ([MS-DTYP], section 2.4.4.1).
const (
	Allow       = 0x00
	Deny        = 0x01
	Audit       = 0x02
	AllowObject = 0x05
	DenyObject  = 0x06
	AuditObject = 0x07
)

// Flags of entries.
const (
	ContainerInherit = 0x02
	InheritOnly      = 0x08 // it is about what is below, not about the object
	Inherited        = 0x10
)

// Rights of an entry's mask ([MS-ADTS], section 5.1.3.2).
const (
	CreateChild   = 0x00000001
	DeleteChild   = 0x00000002
	ValidatedSelf = 0x00000008
	ReadProperty  = 0x00000010
	WriteProperty = 0x00000020
	ControlAccess = 0x00000100
	Delete        = 0x00010000
	ReadControl   = 0x00020000
	WriteDACL     = 0x00040000
	WriteOwner    = 0x00080000
	FullControl   = 0x000F01FF
	GenericAll    = 0x10000000
	GenericWrite  = 0x40000000
)

// Entry of an access list.
type Entry struct {
	Type, Flags byte
	Mask        uint32
	Object      *GUID // which right, property, set of properties or class; nil for all
	Inherits    *GUID // which class of objects below takes it over; nil for all
	Trustee     SID
	rest        []byte // what follows: conditions, filling
	objectFlags uint32
	whole       []byte // of a kind that is not known
}

// Known reports whether the entry is of a kind whose meaning is known here.
func (e Entry) Known() bool { return e.whole == nil }

// Denies reports whether it takes a right.
func (e Entry) Denies() bool { return e.Type == Deny || e.Type == DenyObject }

// Conditional reports whether it counts only under a condition that it has with it.
func (e Entry) Conditional() bool { return e.Known() && len(bytes.Trim(e.rest, "\x00")) > 0 }

// List is an access list.
type List struct {
	Entries []Entry
	head    [8]byte
	tail    []byte // after the last entry
}

// Descriptor of an object.
type Descriptor struct {
	Control uint16
	Owner   *SID
	Group   *SID
	Rules   *List  // DACL; nil where there is none: then everybody may do everything
	Audited *List  // SACL
	whole   []byte // as it was read: where each part stands, and what fills the places between
}

// Limits on what is believed of a peer.
const maxSize = 1 << 20

var errShort = errors.New("the descriptor ends too early")

// Parse reads one.
func Parse(raw []byte) (Descriptor, error) {
	var d Descriptor
	if len(raw) < 20 {
		return d, errShort
	}
	if len(raw) > maxSize {
		return d, fmt.Errorf("a descriptor of %d bytes is not read", len(raw))
	}
	if raw[0] != 1 {
		return d, fmt.Errorf("revision %d is not known", raw[0])
	}
	d.Control = binary.LittleEndian.Uint16(raw[2:])
	if d.Control&0x8000 == 0 {
		return d, errors.New("the descriptor is not self-relative")
	}
	for i, into := range []**SID{&d.Owner, &d.Group} {
		at := int(binary.LittleEndian.Uint32(raw[4+4*i:]))
		if at == 0 {
			continue
		}
		if at < 20 || at > len(raw) {
			return d, errShort
		}
		sid, _, err := sidOf(raw[at:])
		if err != nil {
			return d, err
		}
		*into = &sid
	}
	for i, l := range []struct {
		into **List
		flag uint16
	}{{&d.Audited, 0x0010}, {&d.Rules, 0x0004}} {
		at := int(binary.LittleEndian.Uint32(raw[12+4*i:]))
		if at == 0 || d.Control&l.flag == 0 {
			continue
		}
		if at < 20 || at > len(raw) {
			return d, errShort
		}
		list, err := listOf(raw[at:])
		if err != nil {
			return d, err
		}
		*l.into = &list
	}
	d.whole = slices.Clone(raw)
	return d, nil
}

// ReadSID reads the binary form.
func ReadSID(raw []byte) (SID, error) {
	s, n, err := sidOf(raw)
	if err == nil && n != len(raw) {
		err = errShort
	}
	return s, err
}

// sidOf reads a SID and how long it is.
func sidOf(raw []byte) (SID, int, error) {
	if len(raw) < 8 {
		return SID{}, 0, errShort
	}
	n := int(raw[1])
	if raw[0] != 1 || n > 15 {
		return SID{}, 0, fmt.Errorf("a security identifier of revision %d with %d parts is not known", raw[0], n)
	}
	if len(raw) < 8+4*n {
		return SID{}, 0, errShort
	}
	s := SID{Authority: uint64(binary.BigEndian.Uint16(raw[2:]))<<32 | uint64(binary.BigEndian.Uint32(raw[4:]))}
	for i := range n {
		s.Sub = append(s.Sub, binary.LittleEndian.Uint32(raw[8+4*i:]))
	}
	return s, 8 + 4*n, nil
}

func (s SID) bytes() []byte {
	out := []byte{1, byte(len(s.Sub)), byte(s.Authority >> 40), byte(s.Authority >> 32), byte(s.Authority >> 24), byte(s.Authority >> 16), byte(s.Authority >> 8), byte(s.Authority)}
	for _, n := range s.Sub {
		out = binary.LittleEndian.AppendUint32(out, n)
	}
	return out
}

// listOf reads an access list.
func listOf(raw []byte) (List, error) {
	var l List
	if len(raw) < 8 {
		return l, errShort
	}
	size, count := int(binary.LittleEndian.Uint16(raw[2:])), int(binary.LittleEndian.Uint16(raw[4:]))
	if size < 8 || size > len(raw) {
		return l, errShort
	}
	copy(l.head[:], raw)
	at := 8
	for range count {
		e, n, err := entryOf(raw[at:size])
		if err != nil {
			return l, err
		}
		l.Entries = append(l.Entries, e)
		at += n
	}
	l.tail = slices.Clone(raw[at:size])
	return l, nil
}

// entryOf reads an entry and how long it is.
func entryOf(raw []byte) (Entry, int, error) {
	if len(raw) < 4 {
		return Entry{}, 0, errShort
	}
	e := Entry{Type: raw[0], Flags: raw[1]}
	size := int(binary.LittleEndian.Uint16(raw[2:]))
	if size < 4 || size > len(raw) {
		return e, 0, errShort
	}
	body := raw[4:size]
	object := false
	switch e.Type {
	case Allow, Deny, Audit, 0x09, 0x0A: // the last two with a condition
	case AllowObject, DenyObject, AuditObject, 0x0B, 0x0C:
		object = true
	default:
		e.whole = slices.Clone(raw[:size])
		return e, size, nil
	}
	if len(body) < 4 {
		return e, 0, errShort
	}
	e.Mask, body = binary.LittleEndian.Uint32(body), body[4:]
	if object {
		if len(body) < 4 {
			return e, 0, errShort
		}
		e.objectFlags, body = binary.LittleEndian.Uint32(body), body[4:]
		for bit, into := range []**GUID{&e.Object, &e.Inherits} {
			if e.objectFlags>>bit&1 == 0 {
				continue
			}
			if len(body) < 16 {
				return e, 0, errShort
			}
			g := GUID(body[:16])
			*into, body = &g, body[16:]
		}
	}
	sid, n, err := sidOf(body)
	if err != nil {
		return e, 0, err
	}
	e.Trustee, e.rest = sid, slices.Clone(body[n:])
	return e, size, nil
}

func (e Entry) bytes() []byte {
	if e.whole != nil {
		return e.whole
	}
	out := binary.LittleEndian.AppendUint32([]byte{e.Type, e.Flags, 0, 0}, e.Mask)
	switch e.Type {
	case AllowObject, DenyObject, AuditObject, 0x0B, 0x0C:
		out = binary.LittleEndian.AppendUint32(out, e.objectFlags)
		for _, g := range []*GUID{e.Object, e.Inherits} {
			if g != nil {
				out = append(out, g[:]...)
			}
		}
	}
	out = append(append(out, e.Trustee.bytes()...), e.rest...)
	binary.LittleEndian.PutUint16(out[2:], uint16(len(out)))
	return out
}

func (l List) bytes() []byte {
	out := slices.Clone(l.head[:])
	for _, e := range l.Entries {
		out = append(out, e.bytes()...)
	}
	out = append(out, l.tail...)
	binary.LittleEndian.PutUint16(out[2:], uint16(len(out)))
	binary.LittleEndian.PutUint16(out[4:], uint16(len(l.Entries)))
	return out
}

// Bytes writes a descriptor that was read. What it is made of is written anew from what was
// understood; where each part stands, and what fills the places between, is kept.
func (d Descriptor) Bytes() []byte {
	out := slices.Clone(d.whole)
	binary.LittleEndian.PutUint16(out[2:], d.Control)
	put := func(offset int, raw []byte) {
		if at := int(binary.LittleEndian.Uint32(out[offset:])); at >= 20 && at+len(raw) <= len(out) {
			copy(out[at:], raw)
		}
	}
	if d.Owner != nil {
		put(4, d.Owner.bytes())
	}
	if d.Group != nil {
		put(8, d.Group.bytes())
	}
	if d.Audited != nil {
		put(12, d.Audited.bytes())
	}
	if d.Rules != nil {
		put(16, d.Rules.bytes())
	}
	return out
}

// letters of masks, as the string form has them ([MS-DTYP], section 2.5.1.1).
var letters = []struct {
	mask uint32
	text string
}{
	{GenericAll, "GA"}, {0x80000000, "GR"}, {GenericWrite, "GW"}, {0x20000000, "GX"}, {CreateChild, "CC"}, {DeleteChild, "DC"}, {0x4, "LC"}, {ValidatedSelf, "SW"}, {ReadProperty, "RP"}, {WriteProperty, "WP"}, {0x40, "DT"}, {0x80, "LO"}, {ControlAccess, "CR"}, {Delete, "SD"}, {ReadControl, "RC"}, {WriteDACL, "WD"}, {WriteOwner, "WO"},
}

// String writes an entry as the string form has it, with all identifiers in full.
func (e Entry) String() string {
	if !e.Known() {
		return fmt.Sprintf("(an entry of the kind 0x%02x)", e.Type)
	}
	kind := map[byte]string{Allow: "A", Deny: "D", Audit: "AU", AllowObject: "OA", DenyObject: "OD", AuditObject: "OU", 0x09: "XA", 0x0A: "XD", 0x0B: "ZA", 0x0C: "ZD"}[e.Type]
	flags := ""
	for bit, text := range []string{"OI", "CI", "NP", "IO", "ID", "", "SA", "FA"} {
		if e.Flags>>bit&1 == 1 {
			flags += text
		}
	}
	mask, left := "", e.Mask
	for _, l := range letters {
		if left&l.mask != 0 {
			mask += l.text
			left &^= l.mask
		}
	}
	if left != 0 {
		mask = fmt.Sprintf("0x%x", e.Mask)
	}
	object, inherits := "", ""
	if e.Object != nil {
		object = e.Object.String()
	}
	if e.Inherits != nil {
		inherits = e.Inherits.String()
	}
	return fmt.Sprintf("(%s;%s;%s;%s;%s;%s)", kind, flags, mask, object, inherits, e.Trustee)
}
