package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// How long a sign-in lasts.
const (
	SessionTime = 12 * time.Hour
	TokenTime   = 30 * 24 * time.Hour
)

// Errors that callers decide by.
var (
	ErrWrong    = errors.New("the name or the password is wrong")
	ErrNotCode  = errors.New("this is not the set-up code: it was printed when the service first started; a restart prints a new one")
	ErrIsSetUp  = errors.New("the service is set up already: sign in")
	ErrWrongOld = errors.New("the old password is wrong")
)

// TooManyError says how long the next attempt has to wait.
type TooManyError struct{ Wait time.Duration }

// Seconds to wait, whole ones.
func (e *TooManyError) Seconds() int { return int(e.Wait.Seconds()) + 1 }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("too many failed sign-ins: wait %d seconds", e.Seconds())
}

// Attempt is somebody who wants to sign in.
type Attempt struct {
	Name     string
	Password secret.Value
	Address  string   // where from
	Devices  []string // what earlier sign-ins from there answered
	Token    bool     // asks for an API token in place of a session
	Label    string   // of the token
}

// SignedIn is somebody who signed in.
type SignedIn struct {
	Person  records.User
	Bearer  string // of the session, or the API token
	Expires time.Time
	Device  string // sent with the next attempt, it keeps others from making this device wait
}

const metaSetupCode = "setup-code-hash"

// SetupCode makes a one-time code while nobody can sign in; "" when somebody can.
func (people *People) SetupCode(ctx context.Context) (string, error) {
	n, err := people.store.CountUsers(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	policy := secret.Policy{Length: 20, Classes: []string{secret.Upper, secret.Digits}}
	code, err := policy.Generate(people.base.Random)
	if err != nil {
		return "", err
	}
	hash, err := hashPassword(code)
	if err != nil {
		return "", err
	}
	return code.RevealString(), people.store.SetMeta(ctx, metaSetupCode, []byte(hash))
}

// SetUp makes the first person, with the one-time code. That person has all roles
// but viewer, which the others include.
func (people *People) SetUp(ctx context.Context, code secret.Value, first Person, address string) (SignedIn, error) {
	hash, err := people.store.Meta(ctx, metaSetupCode)
	if err != nil {
		return SignedIn{}, fmt.Errorf("%w: %w", app.ErrRefused, ErrIsSetUp)
	}
	// The code has a hundred bits: it is throttled by address only, so that
	// nobody can keep the owner from it.
	fits, err := people.fits(ctx, code, string(hash), func() bool { return true }, "address/"+address)
	if err != nil {
		return SignedIn{}, err
	}
	if !fits {
		return SignedIn{}, ErrNotCode
	}
	first.Roles = []string{access.RoleOperator, access.RoleApprover, access.RoleAuditor, access.RoleAdministrator}
	user, err := people.person(ctx, first)
	if err != nil {
		return SignedIn{}, err
	}
	if err := people.store.AddUser(ctx, user, true, ledger.Entry{Actor: user.Name, Act: "service.set-up", Phase: ledger.Outcome, Subject: user.Name, Result: "done"}); err != nil {
		return SignedIn{}, err
	}
	if err := people.store.SetMeta(ctx, metaSetupCode, nil); err != nil {
		return SignedIn{}, err
	}
	return people.startSession(ctx, user, address)
}

// from says where a sign-in came from, where that is known.
func from(address string) string {
	if address == "" {
		return ""
	}
	return "from " + address
}

// SignIn starts a session, or makes a token.
func (people *People) SignIn(ctx context.Context, a Attempt) (SignedIn, error) {
	user, err := people.store.User(ctx, a.Name)
	if err != nil && !errors.Is(err, app.ErrNotFound) {
		return SignedIn{}, err
	}
	keys := []string{people.throttledName(a.Name), "address/" + a.Address}
	if device, known := people.knownDevice(user.Name, a.Devices); known {
		keys = []string{"device/" + device} // it keeps its way in
	}
	hash := user.Password
	if hash == "" {
		hash = noSuchUser()
	}
	fits, err := people.fits(ctx, a.Password, hash, func() bool { return user.Name != "" && !user.Disabled }, keys...)
	if err != nil {
		return SignedIn{}, err
	}
	if !fits {
		if err := people.refused(ctx, user.Name, a.Name, a.Address); err != nil {
			return SignedIn{}, err
		}
		return SignedIn{}, ErrWrong
	}
	device, err := people.newDevice(user.Name)
	if err != nil {
		return SignedIn{}, err
	}
	var out SignedIn
	if a.Token {
		if a.Label == "" {
			a.Label = "command line"
		}
		out = SignedIn{Person: user, Expires: people.base.Now().Add(TokenTime)}
		out.Bearer, _, err = people.makeToken(ctx, records.Token{User: user.Name, Label: a.Label, Expires: out.Expires})
	} else {
		out, err = people.startSession(ctx, user, a.Address)
	}
	out.Device = device
	return out, err
}

// fits compares with a hash, when it is its turn and not too soon. also is what
// else must hold for the attempt to be a success.
func (people *People) fits(ctx context.Context, password secret.Value, hash string, also func() bool, keys ...string) (bool, error) {
	if wait := people.throttle.begin(keys...); wait > 0 {
		return false, &TooManyError{wait}
	}
	fits := false
	err := people.hashing.do(ctx, func() { fits = checkPassword(password, hash) })
	fits = fits && also()
	people.throttle.end(fits, keys...)
	return fits, err
}

func (people *People) throttledName(name string) string {
	return "name/" + people.base.Mark("name", strings.ToLower(name))
}

// hash hashes a password when it is its turn.
func (people *People) hash(ctx context.Context, password secret.Value) (hash string, err error) {
	if queueErr := people.hashing.do(ctx, func() { hash, err = hashPassword(password) }); queueErr != nil {
		return "", queueErr
	}
	return hash, err
}

// refused writes a refused sign-in. A name that is not known may be a password
// in the wrong field: only a keyed fingerprint of it is written.
func (people *People) refused(ctx context.Context, known, given, address string) error {
	actor := known
	if actor == "" {
		actor = "unknown:" + people.base.Mark("name", given)
	}
	people.base.Log.Warn("sign-in refused", "name", actor, "address", address)
	write, left := people.refusals.count(people.base.Now())
	var entries []ledger.Entry
	if left > 0 {
		entries = append(entries, ledger.Entry{Actor: app.ByService, Act: "session.sign-in", Phase: ledger.Outcome, Result: "refused", Detail: fmt.Sprintf("%d further ones in an earlier hour", left)})
	}
	if write {
		entries = append(entries, ledger.Entry{Actor: actor, Act: "session.sign-in", Phase: ledger.Outcome, Result: "refused", Detail: "from " + address})
	}
	return people.recordSignIn(ctx, entries...)
}

// recordSignIn writes to the ledger. While the ledger does not hold, people can
// still sign in to see why.
func (people *People) recordSignIn(ctx context.Context, entries ...ledger.Entry) error {
	err := people.store.Record(context.WithoutCancel(ctx), entries...)
	if errors.Is(err, ledger.ErrBroken) {
		people.base.Log.Warn("a sign-in could not be written to the ledger, which does not hold")
		return nil
	}
	return err
}

func (people *People) startSession(ctx context.Context, user records.User, address string) (SignedIn, error) {
	bearer, err := newBearer()
	if err != nil {
		return SignedIn{}, err
	}
	expires := people.base.Now().Add(SessionTime)
	if err := people.store.AddSession(ctx, bearer, user.Name, address, expires); err != nil {
		return SignedIn{}, err
	}
	if err := people.recordSignIn(ctx, ledger.Entry{Actor: user.Name, Act: "session.sign-in", Phase: ledger.Outcome, Result: "done", Detail: from(address)}); err != nil {
		return SignedIn{}, err
	}
	return SignedIn{Person: user, Bearer: bearer, Expires: expires}, nil
}
