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
	// Written is a number as it stands: it may be a name as well, which keeps
	// its leading zeros.
	Written string
}

var sidPattern = regexp.MustCompile(`^[Ss]-1-\d{1,14}(-\d{1,10}){1,15}$`)

var builtIn = map[string]bool{"localsystem": true, "localservice": true, "networkservice": true, "system": true}

// builtInDomains hold identities that every windows host has, and no account that
// somebody made; also as German, French and Swedish hosts call them.
var builtInDomains = map[string]bool{
	"nt authority": true, "builtin": true, "nt-autorit\u00e4t": true, "vordefiniert": true, "autorite nt": true, "autorit\u00e9 nt": true, "nt instans": true,
}

// wellKnownSID are the identifiers of the same: everyone, local, creator; the
// identities below S-1-5 with one number; the built-in groups; integrity levels ([MS-DTYP],
// section 2.4.2.4).
var wellKnownSID = regexp.MustCompile(`^s-1-(?:[0-3]-\d{1,2}|5-(?:\d{1,2}|11[34]|1000|32-\d{3})|16-\d{1,5})$`)

// virtualSID are the identifiers of services, pools and virtual machines.
var virtualSID = regexp.MustCompile(`^s-1-5-(?:80|82|83|90|96)-\d`)

func isBuiltIn(folded string) bool {
	domain, _, found := strings.Cut(folded, `\`)
	return builtIn[folded] || found && builtInDomains[domain] || wellKnownSID.MatchString(folded)
}

// virtual identities belong to one service or pool and have no password.
var virtual = []string{`nt service\`, `iis apppool\`, `nt virtual machine\`, `window manager\`, `font driver host\`}

func isVirtual(folded string) bool {
	for _, prefix := range virtual {
		if strings.HasPrefix(folded, prefix) {
			return true
		}
	}
	return virtualSID.MatchString(folded)
}

// foreign is the entry by which a domain knows a principal of another one that it
// trusts ([MS-ADTS], section 6.1.1.4.10): it has no name but the identifier.
var foreign = regexp.MustCompile(`^cn=(s-1-5-21(?:-\d+){4,5}),cn=foreignsecurityprincipals,`)

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
	case isBuiltIn(folded), folded == "root", folded == "0":
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
	if isBuiltIn(folded) || isVirtual(folded) {
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
		if sid := foreign.FindStringSubmatch(dn); sid != nil {
			r.Form, r.Name = FormSID, strings.ToUpper(sid[1])
			return r, nil
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
		r.Form, r.Name, r.Written = FormUID, strings.TrimLeft(trimmed, "0"), trimmed
		if r.Name == "" {
			r.Name = "0"
		}
		return r, nil
	}
	r.Form, r.Name = FormName, folded
	return r, nil
}
