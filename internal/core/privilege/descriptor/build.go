package descriptor

import (
	"encoding/binary"
	"errors"
	"strconv"
	"strings"
)

// ParseSID reads the text form.
func ParseSID(text string) (SID, error) {
	words := strings.Split(text, "-")
	if len(words) < 3 || words[0] != "S" || words[1] != "1" || len(words) > 18 {
		return SID{}, errors.New("a security identifier is written S-1-...")
	}
	authority, err := strconv.ParseUint(strings.TrimPrefix(words[2], "0x"), map[bool]int{true: 16, false: 10}[strings.HasPrefix(words[2], "0x")], 48)
	if err != nil {
		return SID{}, err
	}
	s := SID{Authority: authority}
	for _, w := range words[3:] {
		n, err := strconv.ParseUint(w, 10, 32)
		if err != nil {
			return SID{}, err
		}
		s.Sub = append(s.Sub, uint32(n))
	}
	return s, nil
}

// ParseGUID reads the form with dashes.
func ParseGUID(text string) (GUID, error) {
	var g GUID
	parts := strings.Split(text, "-")
	if len(parts) != 5 {
		return g, errors.New("an identifier is written in five groups")
	}
	var n [5]uint64
	for i, bits := range []int{32, 16, 16, 16, 48} {
		v, err := strconv.ParseUint(parts[i], 16, bits)
		if err != nil || len(parts[i]) != bits/4 {
			return g, errors.New("an identifier is written in five groups of hexadecimal digits")
		}
		n[i] = v
	}
	binary.LittleEndian.PutUint32(g[0:], uint32(n[0]))
	binary.LittleEndian.PutUint16(g[4:], uint16(n[1]))
	binary.LittleEndian.PutUint16(g[6:], uint16(n[2]))
	binary.BigEndian.PutUint16(g[8:], uint16(n[3]))
	for i := range 6 {
		g[10+i] = byte(n[4] >> (8 * (5 - i)))
	}
	return g, nil
}

// Build writes a descriptor of an owner and entries, in self-relative form.
func Build(owner SID, entries ...Entry) []byte {
	l := List{head: [8]byte{4}}
	for _, e := range entries {
		e.objectFlags = 0
		if e.Object != nil {
			e.objectFlags |= 1
		}
		if e.Inherits != nil {
			e.objectFlags |= 2
		}
		l.Entries = append(l.Entries, e)
	}
	sid, rules := owner.bytes(), l.bytes()
	out := make([]byte, 20, 20+len(sid)+len(rules))
	out[0] = 1
	binary.LittleEndian.PutUint16(out[2:], 0x8004)
	binary.LittleEndian.PutUint32(out[4:], 20)
	binary.LittleEndian.PutUint32(out[16:], uint32(20+len(sid)))
	return append(append(out, sid...), rules...)
}
