package shell

import (
	"errors"
	"sync/atomic"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/secret"
)

// PasswordProof signs in with a password however a host asks for it, once: tries are
// counted where accounts are locked, and a second one with the same password may be
// the one that locks.
type PasswordProof struct {
	value secret.Value
	given atomic.Bool
}

// Password makes one.
func Password(value secret.Value) *PasswordProof { return &PasswordProof{value: value} }

// errOnce ends a second way of asking.
var errOnce = errors.New("the password was given already")

// Methods are the ways in which it can be asked for: plainly (RFC 4252, section 8), or
// in the host's own words (keyboard-interactive, RFC 4256), where only a single question
// whose answer is not shown is one for a password.
func (p *PasswordProof) Methods() []ssh.AuthMethod {
	return []ssh.AuthMethod{
		ssh.PasswordCallback(func() (string, error) {
			if p.given.Swap(true) {
				return "", errOnce
			}
			return p.value.RevealString(), nil
		}),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, shown []bool) ([]string, error) {
			switch {
			case len(questions) == 0: // words to be shown, and nothing asked
				return nil, nil
			case len(questions) > 1 || shown[0]:
				return nil, errors.New("the host asks for more than a password")
			case p.given.Swap(true):
				return nil, errOnce
			}
			return []string{p.value.RevealString()}, nil
		}),
	}
}

// Asked: the host asked for the password.
func (p *PasswordProof) Asked() bool { return p.given.Load() }
