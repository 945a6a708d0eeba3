// Package credential says what kinds of credential there are.
//
// A credential proves an account. It has a kind, perhaps an account, a public
// half or not, a beginning and an end. It is accepted at points (an authority;
// entries of an SSH key; an issuer of tokens) and held at locations (a span of a
// file, a log-on that a system keeps, an entry of a store). What differs between
// kinds stands here, as data and small functions; everything else, from the plan
// of a rotation to the pages of the console, treats all kinds alike.
package credential

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// Kind of credential.
type Kind string

// Kinds.
const (
	Password    Kind = "password"
	SSHKey      Kind = "ssh-key"
	CloudKey    Kind = "cloud-key"
	Token       Kind = "token"
	APIKey      Kind = "api-key"
	Certificate Kind = "certificate"
	KeyTab      Kind = "key-tab"
)

// Maker is who makes a new value.
type Maker string

// Makers.
const (
	MadeHere     Maker = "here"   // we draw it, seal it, and have it accepted
	MadeByIssuer Maker = "issuer" // the system that accepts it makes it, and tells it once
	MadeFrom     Maker = "other"  // it follows from another credential: a key tab from a password
)

// Ending is how the time of a value ends.
type Ending string

// Endings.
const (
	EndsByPolicy Ending = "policy" // of the system that accepts it: the maximum age of a password
	EndsInItself Ending = "itself" // its end stands in it: a certificate
	EndsAtIssuer Ending = "issuer" // the issuer knows it
	EndsNever    Ending = "never"  // unless somebody takes it away
)

// Public is what of a value may be shown: it tells one from another without
// proving anything.
type Public struct {
	Fingerprint string
	Type        string // ssh-ed25519
	Bits        int
	ID          string // of a cloud key: its number at the issuer (RFC 7638)
}

// Wanted says what a new value must be.
type Wanted struct {
	Like     secret.Value // the value before it
	Type     string       // of a key; "" for that of the value before it
	Shortest int          // characters; 0 for no rule
	Longest  int
	Avoid    []string // names that must not stand in it
	Length   int      // characters of a password; 0 for the usual number
	Without  string   // characters that a password must not have
	Limits   []Limit  // what holders of it can carry
}

// ErrWanted is wrapped by errors about a value that cannot be what is wanted.
var ErrWanted = errors.New("no such value can be made")

// Specification is what makes a kind.
type Specification struct {
	Kind     Kind
	Title    string // as people say it
	Value    string // what its secret half is called in a sentence: "value", "key"
	Maker    Maker
	Ending   Ending
	Accounts bool // it belongs to one account; a key may open several
	Types    []string
	// Public reads the public half of a value; nil when nothing of it is public.
	Public func(secret.Value) (Public, error)
	// Same reports whether two values are the same one, however each is written
	// down.
	Same func(a, b secret.Value) bool
	// Clean takes away what stands around a value that a person gave; an error when
	// it is none of this kind.
	Clean func(secret.Value) (secret.Value, error)
	// Make draws a new value; nil when it is not made here.
	Make func(Wanted, io.Reader) (secret.Value, error)
}

// ErrKind is returned for a kind that is not known.
var ErrKind = errors.New("unknown kind of credential")

// specifications in the order in which they are shown.
var specifications = []Specification{
	{Kind: Password, Title: "password", Value: "value", Maker: MadeHere, Ending: EndsByPolicy, Accounts: true, Same: equal, Clean: notEmpty, Make: makePassword},
	{Kind: SSHKey, Title: "SSH key", Value: "key", Maker: MadeHere, Ending: EndsNever, Types: keys.Types(), Public: publicKey, Same: keys.Same, Clean: privateKey, Make: makeKey},
	{Kind: CloudKey, Title: "cloud key", Value: "key", Maker: MadeHere, Ending: EndsAtIssuer, Accounts: true, Types: keys.IssuedTypes(), Public: numberedKey, Same: keys.Same, Clean: privateKey, Make: makeKeyOf(keys.IssuedTypes()[0], keys.IssuedTypes()...)},
	{Kind: Token, Title: "token", Value: "token", Maker: MadeByIssuer, Ending: EndsAtIssuer, Accounts: true, Same: equal, Clean: notEmpty},
	{Kind: APIKey, Title: "API key", Value: "key", Maker: MadeByIssuer, Ending: EndsAtIssuer, Accounts: true, Same: equal, Clean: notEmpty},
	{Kind: Certificate, Title: "certificate", Value: "key", Maker: MadeHere, Ending: EndsInItself, Types: certifiedTypes, Public: publicKey, Same: keys.Same, Clean: privateKey, Make: makeKeyOf(ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSA, ssh.KeyAlgoECDSA384)},
	{Kind: KeyTab, Title: "key tab", Value: "key", Maker: MadeFrom, Ending: EndsByPolicy, Accounts: true, Same: equal, Clean: notEmpty},
}

// Of returns the specification of a kind.
func Of(kind Kind) (Specification, error) {
	for _, s := range specifications {
		if s.Kind == kind {
			return s, nil
		}
	}
	return Specification{}, fmt.Errorf("%w: %q (known: %s)", ErrKind, kind, strings.Join(Names(), ", "))
}

// Word is what the secret half of a kind is called in a sentence.
func (k Kind) Word() string {
	s, err := Of(k)
	if err != nil {
		return "value"
	}
	return s.Value
}

// Pair: it is a pair of keys, known by the fingerprint of its public half, which may stand in
// several files and be accepted at several places.
func (k Kind) Pair() bool { return k == SSHKey || k == CloudKey || k == Certificate }

// Kinds lists all kinds.
func Kinds() []Kind {
	out := make([]Kind, len(specifications))
	for i, s := range specifications {
		out[i] = s.Kind
	}
	return out
}

// Names are the kinds as text.
func Names() []string {
	out := make([]string, len(specifications))
	for i, s := range specifications {
		out[i] = string(s.Kind)
	}
	return out
}

// CheckType refuses a type that new values of the kind cannot have.
func (s Specification) CheckType(wanted string) error {
	switch {
	case wanted == "":
		return nil
	case len(s.Types) == 0:
		return fmt.Errorf("a type is for keys: a %s has none", s.Title)
	case !slices.Contains(s.Types, wanted):
		return fmt.Errorf("no %s of type %q can be made (%s)", s.Title, wanted, strings.Join(s.Types, ", "))
	}
	return nil
}

func equal(a, b secret.Value) bool { return a.Equal(b) }

func notEmpty(v secret.Value) (secret.Value, error) {
	if v.Empty() {
		return v, errors.New("no value was given")
	}
	return v, nil
}

func makePassword(w Wanted, random io.Reader) (secret.Value, error) {
	policy, err := w.PasswordPolicy()
	if err != nil {
		return secret.Value{}, err
	}
	return policy.Generate(random)
}

func makeKey(w Wanted, random io.Reader) (secret.Value, error) {
	return keys.Generate(w.Like, w.Type, random)
}

// makeKeyOf draws a key of the type that is wanted, or of the type of the one before it, where
// those who take it take that; the usual type otherwise.
func makeKeyOf(usual string, taken ...string) func(Wanted, io.Reader) (secret.Value, error) {
	return func(w Wanted, random io.Reader) (secret.Value, error) {
		wanted := w.Type
		if wanted == "" {
			pair, err := keys.PairOf(w.Like)
			if err != nil {
				return secret.Value{}, err
			}
			if wanted = pair.Type; !slices.Contains(taken, wanted) {
				wanted = usual
			}
		}
		return keys.Generate(w.Like, wanted, random)
	}
}

// certifiedTypes are those of which authorities certify keys; the first is usual.
var certifiedTypes = []string{ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSA}

func numberedKey(v secret.Value) (Public, error) {
	out, err := publicKey(v)
	if err == nil {
		out.ID, err = keys.NumberOf(v)
	}
	return out, err
}

func publicKey(v secret.Value) (Public, error) {
	pair, err := keys.PairOf(v)
	return Public{Fingerprint: pair.Fingerprint, Type: pair.Type, Bits: pair.Bits}, err
}

// privateKey takes one private key out of what stands around it.
func privateKey(v secret.Value) (secret.Value, error) {
	if blocks := keys.Blocks(v.Reveal()); len(blocks) == 1 {
		v = blocks[0].Private
	}
	_, err := keys.PairOf(v)
	return v, err
}
