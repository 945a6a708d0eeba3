// Package ties links credentials to their dependents, with the evidence for
// each link, and reports references that could not be placed. It never links
// by name alone without saying so: the strength of a tie tells whether the held
// value equals the sealed one, the system itself says that it logs on as the
// account, or a name merely stands beside a secret.
package ties

import (
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
)

// Tie is one link. Account is the id that the Lookup gave.
type Tie struct {
	Account  string
	Evidence estate.Evidence
	Strength estate.Strength
	Detail   string
}

// Unplaced is a reference that means no single known account.
type Unplaced struct {
	Text  string
	State naming.State // ambiguous or unknown
	Why   string
}

// Owner is an account in custody whose sealed value has a fingerprint.
type Owner struct {
	Account string
	Current bool // false for a value that it had before
}

// Door is an account that a key lets in as.
type Door struct {
	Account string
	Detail  string // where, and with which restrictions
}

// Known is what Derive asks of the rest of the program.
type Known interface {
	naming.Lookup
	// Owners returns the accounts in custody with a value of that fingerprint.
	Owners(fingerprint string) ([]Owner, error)
	// Authorized returns the accounts that a key opens, by its fingerprint.
	Authorized(fingerprint string) ([]Door, error)
	// Issued returns the identities that a key of an issuer proves, by its number.
	Issued(keyID string) ([]Door, error)
	// InCustody reports whether the current value of an account is known.
	InCustody(account string) (bool, error)
}

// Derive finds the ties of one dependent. unreadable holds the files of the
// same system that could not be read.
func Derive(d estate.Dependent, context naming.Context, known Known, unreadable map[string]bool) ([]Tie, []Unplaced, error) {
	if d.Copy != nil && d.Copy.Format == estate.FormatMention {
		return deriveMention(d, context, known)
	}
	if d.Copy != nil {
		context.Copy = true
		return deriveCopy(d, context, known)
	}
	if d.Key != nil {
		return deriveKey(d, context, known)
	}
	if d.RunsAs == "" {
		return nil, nil, nil
	}
	res, err := naming.Resolve(d.RunsAs, context, known)
	if err != nil {
		return nil, nil, err
	}
	switch res.State {
	case naming.BuiltIn:
		return nil, nil, nil
	case naming.Resolved:
		out := []Tie{{Account: res.Accounts[0].ID, Evidence: estate.Configured, Strength: estate.StrengthRunsAs, Detail: fmt.Sprintf("runs as %s: %s", d.RunsAs, res.Why)}}
		for _, file := range d.Uses {
			if unreadable[file] {
				out = append(out, Tie{Account: res.Accounts[0].ID, Evidence: estate.Held, Strength: estate.StrengthUnreadable, Detail: "reads " + file + ", which could not be read: it may hold a copy"})
				break
			}
		}
		return out, nil, nil
	}
	return nil, []Unplaced{{Text: d.RunsAs, State: res.State, Why: res.Why}}, nil
}

// deriveKey ties a private key to the accounts that it opens anywhere, and what
// names an account (an entry, a principal, an identity) to that account.
func deriveKey(d estate.Dependent, context naming.Context, known Known) ([]Tie, []Unplaced, error) {
	var out []Tie
	ask, of, strength := known.Authorized, d.Key.Fingerprint, estate.StrengthOpens
	switch d.Kind {
	case estate.DependentCloudKey:
		ask, of = known.Issued, d.Key.KeyID
	case estate.DependentIssued:
		ask, of, strength = known.Issued, d.Key.KeyID, estate.StrengthAuthorizes
	case estate.DependentKey:
	default:
		of = ""
	}
	if of != "" {
		doors, err := ask(of)
		if err != nil {
			return nil, nil, err
		}
		seen := map[string]bool{}
		for _, door := range doors {
			if !seen[door.Account] {
				seen[door.Account] = true
				out = append(out, Tie{Account: door.Account, Evidence: estate.Held, Strength: strength, Detail: strings.TrimSpace(d.Path + " " + door.Detail)})
			}
		}
		return out, nil, nil
	}
	name, detail := d.Key.Lets, "lets in the holder of "+d.Key.Fingerprint
	strength = estate.StrengthAuthorizes
	if d.Kind == estate.DependentKeytab {
		// Of HTTP/host@REALM the directory knows the service principal.
		name, strength, detail = d.Key.Principal, estate.StrengthBeside, fmt.Sprintf("holds version %d of the key of %s", d.Key.Version, d.Key.Principal)
	}
	if name == "" {
		return nil, nil, nil
	}
	context.Copy = d.Kind == estate.DependentKeytab
	res, err := naming.Resolve(name, context, known)
	if err != nil || res.State != naming.Resolved {
		return nil, nil, err
	}
	return append(out, Tie{Account: res.Accounts[0].ID, Evidence: estate.Held, Strength: strength, Detail: detail}), nil, nil
}

// deriveMention ties a file to the accounts that it only mentions. A name that
// means none, or several, is no reference that anybody has to place.
func deriveMention(d estate.Dependent, context naming.Context, known Known) ([]Tie, []Unplaced, error) {
	var out []Tie
	for _, name := range d.Copy.Names {
		res, err := naming.Resolve(name, context, known)
		if err != nil {
			return nil, nil, err
		}
		if res.State == naming.Resolved {
			out = append(out, Tie{Account: res.Accounts[0].ID, Evidence: estate.Held, Strength: estate.StrengthMentions, Detail: fmt.Sprintf("%s line %d mentions %q", d.Path, d.Copy.Line, name)})
		}
	}
	return out, nil, nil
}

// deriveCopy decides whose copy it is. The value alone does not: the same
// password may be used for several accounts. Names that stand beside it decide
// between them; where neither does, every candidate gets an ambiguous tie, and
// no rotation touches the copy.
func deriveCopy(d estate.Dependent, context naming.Context, known Known) ([]Tie, []Unplaced, error) {
	owners, current, before, err := ownersOf(d, known)
	if err != nil {
		return nil, nil, err
	}
	named, unplaced, err := namedBeside(d, context, known, current)
	if err != nil {
		return nil, nil, err
	}
	var out []Tie
	held := func(account string, strength estate.Strength, format string, args ...any) {
		out = append(out, Tie{Account: account, Evidence: estate.Held, Strength: strength, Detail: place(d) + " " + fmt.Sprintf(format, args...)})
	}
	decided := false
	if d.Copy.Doubt != "" {
		named = nil // what stands beside it was no reason to take it for a copy
	}
	for _, n := range named {
		inCustody, err := known.InCustody(n.account)
		switch {
		case err != nil:
			return nil, nil, err
		case current[n.account]:
			held(n.account, estate.StrengthMatches, "holds the sealed value and stands beside %q", n.name)
			decided = true
		case before[n.account]:
			held(n.account, estate.StrengthDiffers, "stands beside %q and holds a value that the account had before", n.name)
		case d.Copy.Fixed != "":
			held(n.account, estate.StrengthBeside, "stands beside %q and could not be compared: %s", n.name, d.Copy.Fixed)
		case inCustody:
			held(n.account, estate.StrengthDiffers, "stands beside %q but is not the sealed value", n.name)
		default:
			held(n.account, estate.StrengthBeside, "stands beside %q; the account is not in custody, so the value could not be compared", n.name)
		}
	}
	switch {
	case decided:
	case d.Copy.Doubt != "":
		for _, account := range owners {
			held(account, estate.StrengthDoubtful, "holds the text of the sealed value, which may stand there by chance: %s", d.Copy.Doubt)
		}
	case len(owners) == 1 && len(named) == 0:
		held(owners[0], estate.StrengthMatches, "holds the sealed value")
	default:
		for _, account := range owners {
			if len(named) > 0 {
				held(account, estate.StrengthReused, "holds the sealed value but stands beside another account: the password is used twice")
				continue
			}
			held(account, estate.StrengthAmbiguous, "holds the sealed value of %d accounts and does not say whose it is", len(owners))
		}
	}
	if len(named) == 0 && len(owners) == 0 {
		for account := range before {
			held(account, estate.StrengthDiffers, "holds a value that the account had before")
		}
	}
	return out, unplaced, nil
}

// ownersOf are the accounts whose present value it is, and those that had it before.
func ownersOf(d estate.Dependent, known Known) (owners []string, current, before map[string]bool, err error) {
	current, before = map[string]bool{}, map[string]bool{}
	if d.Copy.Fingerprint == "" {
		return nil, current, before, nil
	}
	list, err := known.Owners(d.Copy.Fingerprint)
	for _, o := range list {
		if o.Current && !current[o.Account] {
			owners = append(owners, o.Account)
			current[o.Account] = true
		}
	}
	for _, o := range list {
		if !o.Current && !current[o.Account] {
			before[o.Account] = true
		}
	}
	return owners, current, before, err
}

type namedAccount struct{ account, name string }

// namedBeside resolves the names beside a copy. An ambiguous one means the
// candidate that the value belongs to, if that is just one.
func namedBeside(d estate.Dependent, context naming.Context, known Known, current map[string]bool) ([]namedAccount, []Unplaced, error) {
	var out []namedAccount
	var unplaced []Unplaced
	seen := map[string]bool{}
	add := func(account, name string) {
		if !seen[account] {
			seen[account] = true
			out = append(out, namedAccount{account, name})
		}
	}
	for _, name := range d.Copy.Names {
		res, err := naming.Resolve(name, context, known)
		if err != nil {
			return nil, nil, err
		}
		switch res.State {
		case naming.Resolved:
			add(res.Accounts[0].ID, name)
		case naming.Ambiguous, naming.Unknown:
			var fits []string
			for _, k := range res.Accounts {
				if current[k.ID] {
					fits = append(fits, k.ID)
				}
			}
			if len(fits) == 1 {
				add(fits[0], name)
			} else {
				unplaced = append(unplaced, Unplaced{Text: name, State: res.State, Why: res.Why})
			}
		}
	}
	return out, unplaced, nil
}

func place(d estate.Dependent) string {
	if d.Kind == estate.DependentProcess {
		return fmt.Sprintf("%s (%s), in its %s,", d.Path, d.Description, d.Copy.Format)
	}
	if d.Copy.Line > 0 && d.Copy.Key != "" {
		return fmt.Sprintf("%s line %d (%s)", d.Path, d.Copy.Line, d.Copy.Key)
	}
	return d.Path
}
