// Package values reads and writes the forms in which directories keep times, identities and
// passwords.
package values

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/secret"
)

// FileTime reads the 100-nanosecond ticks since 1601 of the Windows schema.
// Zero and the two "never" values give the zero time.
func FileTime(text string) time.Time {
	ticks, err := strconv.ParseInt(text, 10, 64)
	if err != nil || ticks <= 0 || ticks == 1<<63-1 {
		return time.Time{}
	}
	const toUnix = 11644473600
	return time.Unix(ticks/1e7-toUnix, ticks%1e7*100).UTC()
}

// GeneralizedTime reads RFC 4517, section 3.3.13.
func GeneralizedTime(text string) time.Time {
	for _, layout := range []string{"20060102150405Z", "20060102150405.999999Z", "20060102150405.0Z"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC()
		}
	}
	return time.Time{}
}

// SIDText writes a binary SID as S-1-... ; "" when it is none.
func SIDText(raw []byte) string {
	if len(raw) < 8 || raw[0] != 1 || len(raw) != 8+4*int(raw[1]) {
		return ""
	}
	var authority uint64
	for _, b := range raw[2:8] {
		authority = authority<<8 | uint64(b)
	}
	var out strings.Builder
	fmt.Fprintf(&out, "S-1-%d", authority)
	for i := 0; i < int(raw[1]); i++ {
		fmt.Fprintf(&out, "-%d", binary.LittleEndian.Uint32(raw[8+4*i:]))
	}
	return out.String()
}

// GUIDText writes a binary GUID in its usual mixed-endian form.
func GUIDText(raw []byte) string {
	if len(raw) != 16 {
		return ""
	}
	return fmt.Sprintf("%08x-%04x-%04x-%s-%s", binary.LittleEndian.Uint32(raw), binary.LittleEndian.Uint16(raw[4:]),
		binary.LittleEndian.Uint16(raw[6:]), hex.EncodeToString(raw[8:10]), hex.EncodeToString(raw[10:]))
}

// GUIDFilter writes a GUID's text as an escaped filter value (RFC 4515).
func GUIDFilter(text string) (string, error) {
	raw, err := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
	if err != nil || len(raw) != 16 {
		return "", fmt.Errorf("%q is not a GUID", text)
	}
	order := []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15}
	var out strings.Builder
	for _, i := range order {
		fmt.Fprintf(&out, `\%02x`, raw[i])
	}
	return out.String(), nil
}

// QuotedUTF16 is the form in which the Windows schema takes a new password:
// the value in double quotes, in UTF-16 little endian.
func QuotedUTF16(v secret.Value) string {
	var out []byte
	for _, unit := range utf16.Encode([]rune(`"` + v.RevealString() + `"`)) {
		out = binary.LittleEndian.AppendUint16(out, unit)
	}
	return string(out)
}

// Fold makes spellings of one name the same. What is no name is compared as it
// stands.
func Fold(dn string) string {
	if normal, err := naming.NormalDN(dn); err == nil {
		return normal
	}
	return strings.ToLower(dn)
}

// DNSOf makes larkmoor.example of DC=larkmoor,DC=example.
func DNSOf(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return ""
	}
	var labels []string
	for _, rdn := range parsed.RDNs {
		for _, a := range rdn.Attributes {
			if strings.EqualFold(a.Type, "dc") {
				labels = append(labels, a.Value)
			}
		}
	}
	return strings.Join(labels, ".")
}
