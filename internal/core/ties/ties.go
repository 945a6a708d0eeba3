// Package ties links credentials to their dependents, with the evidence for
// each link, and reports references that could not be placed. It never links
// by name alone without saying so: the strength of a tie tells whether the held
// value equals the sealed one, the system itself says that it logs on as the
// account, or a name merely stands beside a secret.
package ties

import (
	"fmt"

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

// Known is what Derive asks of the rest of the program.
type Known interface {
	naming.Lookup
	// Owners returns the accounts in custody with a value of that fingerprint.
	Owners(fingerprint string) ([]Owner, error)
	// InCustody reports whether the current value of an account is known.
	InCustody(account string) (bool, error)
}

// Derive finds the ties of one dependent. unreadable holds the files of the
// same system that could not be read.
func Derive(d estate.Dependent, context naming.Context, known Known, unreadable map[string]bool) ([]Tie, []Unplaced, error) {
	if d.Copy != nil {
		return deriveCopy(d, context, known)
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

func deriveCopy(d estate.Dependent, context naming.Context, known Known) ([]Tie, []Unplaced, error) {
	var out []Tie
	var unplaced []Unplaced
	matched := map[string]bool{}
	if d.Copy.Fingerprint != "" {
		owners, err := known.Owners(d.Copy.Fingerprint)
		if err != nil {
			return nil, nil, err
		}
		for _, o := range owners {
			if o.Current && !matched[o.Account] {
				matched[o.Account] = true
				out = append(out, Tie{Account: o.Account, Evidence: estate.Held, Strength: estate.StrengthMatches, Detail: place(d) + " holds the sealed value"})
			}
		}
		for _, o := range owners {
			if !o.Current && !matched[o.Account] {
				matched[o.Account] = true
				out = append(out, Tie{Account: o.Account, Evidence: estate.Held, Strength: estate.StrengthDiffers, Detail: place(d) + " holds a value that the account had before"})
			}
		}
	}
	for _, name := range d.Copy.Names {
		res, err := naming.Resolve(name, context, known)
		if err != nil {
			return nil, nil, err
		}
		switch res.State {
		case naming.Resolved:
			account := res.Accounts[0].ID
			if matched[account] {
				continue
			}
			matched[account] = true
			inCustody, err := known.InCustody(account)
			if err != nil {
				return nil, nil, err
			}
			strength, detail := estate.StrengthBeside, fmt.Sprintf("%s stands beside %q; the account is not in custody, so the value could not be compared", place(d), name)
			if inCustody {
				strength, detail = estate.StrengthDiffers, fmt.Sprintf("%s stands beside %q but is not the sealed value", place(d), name)
			}
			out = append(out, Tie{Account: account, Evidence: estate.Held, Strength: strength, Detail: detail})
		case naming.Ambiguous, naming.Unknown:
			if !decided(res.Accounts, matched) {
				unplaced = append(unplaced, Unplaced{Text: name, State: res.State, Why: res.Why})
			}
		}
	}
	return out, unplaced, nil
}

// decided: the value itself says which of several accounts a name means.
func decided(candidates []naming.Known, matched map[string]bool) bool {
	for _, k := range candidates {
		if matched[k.ID] {
			return true
		}
	}
	return false
}

func place(d estate.Dependent) string {
	if d.Copy.Line > 0 && d.Copy.Key != "" {
		return fmt.Sprintf("%s line %d (%s)", d.Path, d.Copy.Line, d.Copy.Key)
	}
	return d.Path
}
