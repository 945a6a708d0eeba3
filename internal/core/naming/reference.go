// Package naming takes an account reference in any spelling and says which
// known account it means: exactly one, several (ambiguous) or none (unknown).
// It never guesses: a bare name that two directories know is ambiguous, and
// stays so until a person or better evidence decides.
package naming

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"mossledger.example/moss/internal/core/estate"
)

// Form is the spelling of a reference.
type Form string

// Forms that Parse tells apart.
const (
	FormDN        Form = "distinguished name" // RFC 4514
	FormDomain    Form = "domain name"        // DOMAIN\name
	FormPrincipal Form = "principal name"     // name@domain
	FormLocal     Form = "local name"         // .\name
	FormSID       Form = "security identifier"
	FormUID       Form = "numeric uid"
	FormName      Form = "bare name"
	FormBuiltIn   Form = "built-in identity" // root, LocalSystem, NT AUTHORITY\...
)

// MaxLength is the longest reference that Parse accepts, in bytes.
const MaxLength = 2048

// ErrBadReference is wrapped by every refusal of Parse.
var ErrBadReference = errors.New("not an account reference")

// Reference is a parsed spelling. Comparisons are made on the folded fields.
type Reference struct {
	Text   string // as written
	Form   Form
	Name   string // folded; without domain; a managed account keeps its trailing $
	Domain string // folded; NetBIOS or DNS name
	DN     string // normalised, see NormalDN
}

var sidPattern = regexp.MustCompile(`^[Ss]-1-\d{1,14}(-\d{1,10}){1,15}$`)

var builtIn = map[string]bool{
	"localsystem": true, "localservice": true, "networkservice": true, "system": true,
	`nt authority\system`: true, `nt authority\localservice`: true, `nt authority\networkservice`: true,
	`nt authority\local service`: true, `nt authority\network service`: true,
	// The same by their well-known identifiers, as scheduled tasks give them.
	"s-1-5-18": true, "s-1-5-19": true, "s-1-5-20": true, `builtin\administrators`: true, `builtin\users`: true,
}

// virtual identities belong to one service or pool and have no password.
var virtual = []string{`nt service\`, `iis apppool\`, `nt virtual machine\`, `window manager\`, `font driver host\`}

func isVirtual(folded string) bool {
	for _, prefix := range virtual {
		if strings.HasPrefix(folded, prefix) {
			return true
		}
	}
	return false
}

// IdentityOf says at a glance what sort of identity a reference means.
func IdentityOf(text string) estate.Identity {
	folded := Fold(text)
	name := folded[strings.LastIndexByte(folded, '\\')+1:]
	name, _, _ = strings.Cut(name, "@")
	switch {
	case folded == "":
		return ""
	case isVirtual(folded):
		return estate.IdentityVirtual
	case builtIn[folded], folded == "root", folded == "0":
		return estate.IdentityBuiltIn
	case strings.HasSuffix(name, "$"):
		return estate.IdentityManaged
	}
	return estate.IdentityNamed
}

// Parse reads a reference. It is an error if the text cannot be one.
func Parse(text string) (Reference, error) {
	trimmed := strings.TrimSpace(text)
	switch {
	case trimmed == "":
		return Reference{}, fmt.Errorf("%w: it is empty", ErrBadReference)
	case len(trimmed) > MaxLength:
		return Reference{}, fmt.Errorf("%w: %d bytes, at most %d are read", ErrBadReference, len(trimmed), MaxLength)
	case !utf8.ValidString(trimmed):
		return Reference{}, fmt.Errorf("%w: it is not valid UTF-8", ErrBadReference)
	}
	if i := strings.IndexFunc(trimmed, unicode.IsControl); i >= 0 {
		return Reference{}, fmt.Errorf("%w: control character at byte %d", ErrBadReference, i)
	}
	r := Reference{Text: trimmed}
	folded := Fold(trimmed)
	if builtIn[folded] || isVirtual(folded) {
		r.Form, r.Name = FormBuiltIn, folded
		return r, nil
	}
	if sidPattern.MatchString(trimmed) {
		r.Form, r.Name = FormSID, strings.ToUpper(trimmed)
		return r, nil
	}
	if domain, name, found := strings.Cut(trimmed, `\`); found && !strings.Contains(domain, "=") {
		if name == "" || strings.Contains(name, `\`) {
			return Reference{}, fmt.Errorf(`%w: %q has no single name after the \`, ErrBadReference, trimmed)
		}
		r.Name = Fold(name)
		switch domain {
		case "", ".":
			r.Form = FormLocal
		default:
			r.Form, r.Domain = FormDomain, Fold(domain)
		}
		return r, nil
	}
	if strings.Contains(trimmed, "=") {
		dn, err := NormalDN(trimmed)
		if err != nil {
			return Reference{}, err
		}
		r.Form, r.DN = FormDN, dn
		return r, nil
	}
	if i := strings.LastIndexByte(trimmed, '@'); i >= 0 {
		if i == 0 || i == len(trimmed)-1 {
			return Reference{}, fmt.Errorf("%w: %q has nothing on one side of the @", ErrBadReference, trimmed)
		}
		r.Form, r.Name, r.Domain = FormPrincipal, Fold(trimmed[:i]), Fold(trimmed[i+1:])
		return r, nil
	}
	if _, err := strconv.ParseUint(trimmed, 10, 32); err == nil {
		r.Form, r.Name = FormUID, strings.TrimLeft(trimmed, "0")
		if r.Name == "" {
			r.Name = "0"
		}
		return r, nil
	}
	r.Form, r.Name = FormName, folded
	return r, nil
}

// Fold makes the form in which names are compared: lower case by Unicode
// simple folding, as directories compare them.
func Fold(name string) string { return strings.ToLower(strings.TrimSpace(name)) }

// NormalDN parses a distinguished name (RFC 4514, section 3) and writes it in
// one normal form: attribute types and values folded, no spaces around
// separators, escapes only where section 2.4 asks for them.
func NormalDN(text string) (string, error) {
	var out strings.Builder
	p := &dnParser{text: text}
	for {
		if err := p.attribute(&out); err != nil {
			return "", fmt.Errorf("%w: distinguished name %q: %w", ErrBadReference, text, err)
		}
		p.spaces()
		if p.done() {
			return out.String(), nil
		}
		switch c := p.text[p.at]; c {
		case ',', ';':
			out.WriteByte(',')
		case '+':
			out.WriteByte('+')
		default:
			return "", fmt.Errorf("%w: distinguished name %q: unexpected %q at byte %d", ErrBadReference, text, c, p.at)
		}
		p.at++
	}
}

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

func (p *dnParser) attribute(out *strings.Builder) error {
	p.spaces()
	start := p.at
	for !p.done() && (isAlnum(p.text[p.at]) || p.text[p.at] == '-' || p.text[p.at] == '.') {
		p.at++
	}
	if start == p.at {
		return fmt.Errorf("no attribute type at byte %d", start)
	}
	name := strings.ToLower(p.text[start:p.at])
	p.spaces()
	if p.done() || p.text[p.at] != '=' {
		return fmt.Errorf("no = after the type %q", name)
	}
	p.at++
	p.spaces()
	value, err := p.value()
	if err != nil {
		return err
	}
	out.WriteString(name + "=" + escapeDNValue(strings.ToLower(value)))
	return nil
}

func (p *dnParser) value() (string, error) {
	var raw []byte
	trailing := 0
	for !p.done() {
		c := p.text[p.at]
		switch c {
		case ',', ';', '+':
			return p.finish(raw, trailing)
		case '"', '<', '>', 0:
			return "", fmt.Errorf("unescaped %q at byte %d", c, p.at)
		case '\\':
			if p.at+1 >= len(p.text) {
				return "", errors.New("a single backslash at the end")
			}
			next := p.text[p.at+1]
			if isHex(next) {
				if p.at+2 >= len(p.text) || !isHex(p.text[p.at+2]) {
					return "", fmt.Errorf("half an escape at byte %d", p.at)
				}
				b, _ := strconv.ParseUint(p.text[p.at+1:p.at+3], 16, 8)
				raw = append(raw, byte(b))
				p.at += 3
			} else {
				raw = append(raw, next)
				p.at += 2
			}
			trailing = 0
			continue
		case ' ':
			trailing++
		default:
			trailing = 0
		}
		raw = append(raw, c)
		p.at++
	}
	return p.finish(raw, trailing)
}

func (p *dnParser) finish(raw []byte, trailing int) (string, error) {
	raw = raw[:len(raw)-trailing]
	if !utf8.Valid(raw) {
		return "", errors.New("a value is not valid UTF-8")
	}
	return string(raw), nil
}

func escapeDNValue(value string) string {
	var out strings.Builder
	for i, r := range value {
		switch {
		case strings.ContainsRune(`,;+"<>\=`, r),
			r == '#' && i == 0,
			r == ' ' && (i == 0 || i == len(value)-1):
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
