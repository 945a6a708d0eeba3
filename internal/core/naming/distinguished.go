package naming

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Fold makes the form in which names are compared, as directories prepare
// them (RFC 4518, sections 2.2 to 2.6.1): full case folding, compatibility
// composition, and spaces that do not count. So "é" is the same in one
// character and in two, "ß" is "ss", and a full-width letter is the letter.
func Fold(name string) string {
	if ascii(name) { // nearly all are
		return oneSpace(strings.ToLower(name))
	}
	folder := cases.Fold()
	for range 3 { // folding can need composing, and the reverse, once more
		next := oneSpace(norm.NFKC.String(folder.String(norm.NFKC.String(name))))
		if next == name {
			break
		}
		name = next
	}
	return name
}

func ascii(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// oneSpace takes spaces off both ends and makes one of several.
func oneSpace(text string) string {
	text = strings.TrimSpace(text)
	for strings.Contains(text, "  ") {
		text = strings.ReplaceAll(text, "  ", " ")
	}
	return text
}

// attributeNames are other names and numbers of the attribute types that
// distinguished names are made of (RFC 4519, section 2; RFC 4514, section 3).
var attributeNames = map[string]string{
	"commonname": "cn", "2.5.4.3": "cn", "surname": "sn", "2.5.4.4": "sn", "countryname": "c", "2.5.4.6": "c",
	"localityname": "l", "2.5.4.7": "l", "stateorprovincename": "st", "2.5.4.8": "st", "streetaddress": "street", "2.5.4.9": "street",
	"organizationname": "o", "2.5.4.10": "o", "organizationalunitname": "ou", "2.5.4.11": "ou",
	"domaincomponent": "dc", "0.9.2342.19200300.100.1.25": "dc", "userid": "uid", "0.9.2342.19200300.100.1.1": "uid",
}

// NormalDN parses a distinguished name (RFC 4514, section 3, and the quoted
// values that RFC 2253, section 4 keeps from older writers) and writes it in
// one normal form: attribute types by one name and values folded, the parts of
// a relative name in order, no spaces around separators, escapes only where
// section 2.4 asks for them.
func NormalDN(text string) (string, error) {
	if plainDN(text) { // nearly all are
		return strings.ToLower(text), nil
	}
	return parsedDN(text)
}

// plainDN reports whether a name is in the normal form but for the case of its
// letters: nothing quoted, escaped or doubled, one part to a relative name,
// each type by its usual name.
func plainDN(text string) bool {
	start, inValue := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '=' && !inValue:
			if !usualNames[text[start:i]] || i+1 < len(text) && strings.IndexByte(" #,", text[i+1]) >= 0 {
				return false
			}
			inValue = true
		case c == ',' && inValue:
			start, inValue = i+1, false
		case c == ' ':
			if !inValue || i+1 == len(text) || text[i+1] == ' ' || text[i+1] == ',' {
				return false
			}
		case c < ' ' || c >= 0x7f || strings.IndexByte("\\\"+;<>=,#", c) >= 0:
			return false
		}
	}
	return inValue
}

// usualNames are those that plainDN knows, as directories write them.
var usualNames = map[string]bool{"CN": true, "cn": true, "OU": true, "ou": true, "DC": true, "dc": true, "uid": true, "UID": true, "O": true, "o": true, "C": true, "c": true, "L": true, "l": true}

func parsedDN(text string) (string, error) {
	p := &dnParser{text: text}
	var names, parts []string
	for {
		part, err := p.attribute()
		if err != nil {
			return "", fmt.Errorf("%w: distinguished name %q: %w", ErrBadReference, text, err)
		}
		parts = append(parts, part)
		p.spaces()
		separator := byte(',')
		if !p.done() {
			separator = p.text[p.at]
		}
		switch separator {
		case '+':
		case ',', ';':
			slices.Sort(parts)
			names = append(names, strings.Join(parts, "+"))
			parts = nil
		default:
			return "", fmt.Errorf("%w: distinguished name %q: unexpected %q at byte %d", ErrBadReference, text, separator, p.at)
		}
		if p.done() {
			return strings.Join(names, ","), nil
		}
		p.at++
	}
}

// Below reports whether a name is another one or lies below it, both in normal
// form.
func Below(dn, above string) bool { return dn == above || strings.HasSuffix(dn, ","+above) }

type dnParser struct {
	text string
	at   int
}

func (p *dnParser) done() bool { return p.at >= len(p.text) }

func (p *dnParser) spaces() {
	for !p.done() && p.text[p.at] == ' ' {
		p.at++
	}
}

func (p *dnParser) attribute() (string, error) {
	p.spaces()
	start := p.at
	for !p.done() && (isAlnum(p.text[p.at]) || p.text[p.at] == '-' || p.text[p.at] == '.') {
		p.at++
	}
	if start == p.at {
		return "", fmt.Errorf("no attribute type at byte %d", start)
	}
	name := strings.TrimPrefix(strings.ToLower(p.text[start:p.at]), "oid.")
	if usual, other := attributeNames[name]; other {
		name = usual
	}
	p.spaces()
	if p.done() || p.text[p.at] != '=' {
		return "", fmt.Errorf("no = after the type %q", name)
	}
	p.at++
	p.spaces()
	value, err := p.value()
	if err != nil {
		return "", err
	}
	if !utf8.ValidString(value) {
		return "", errors.New("a value is not valid UTF-8")
	}
	return name + "=" + escapeDNValue(Fold(value)), nil
}

// value reads a value, in quotes or up to the next separator.
func (p *dnParser) value() (string, error) {
	quoted := !p.done() && p.text[p.at] == '"'
	if quoted {
		p.at++
	}
	var raw []byte
	for !p.done() {
		c := p.text[p.at]
		switch {
		case c == '\\':
			b, err := p.escape()
			if err != nil {
				return "", err
			}
			raw = append(raw, b)
			continue
		case c == '"' && quoted:
			p.at++
			return string(raw), nil
		case quoted:
		case c == ',' || c == ';' || c == '+':
			return string(raw), nil
		case c == '"' || c == '<' || c == '>' || c == 0:
			return "", fmt.Errorf("unescaped %q at byte %d", c, p.at)
		}
		raw = append(raw, c)
		p.at++
	}
	if quoted {
		return "", errors.New("a quote is not closed")
	}
	return string(raw), nil
}

func (p *dnParser) escape() (byte, error) {
	if p.at+1 >= len(p.text) {
		return 0, errors.New("a single backslash at the end")
	}
	next := p.text[p.at+1]
	if !isHex(next) {
		p.at += 2
		return next, nil
	}
	if p.at+2 >= len(p.text) || !isHex(p.text[p.at+2]) {
		return 0, fmt.Errorf("half an escape at byte %d", p.at)
	}
	b, _ := strconv.ParseUint(p.text[p.at+1:p.at+3], 16, 8)
	p.at += 3
	return byte(b), nil
}

func escapeDNValue(value string) string {
	var out strings.Builder
	for i, r := range value {
		switch {
		case strings.ContainsRune(`,;+"<>\=`, r), r == '#' && i == 0:
			out.WriteByte('\\')
			out.WriteRune(r)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&out, `\%02x`, r)
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}
