package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

const (
	sessionTime = 12 * time.Hour
	tokenTime   = 30 * 24 * time.Hour
)

func jsonString(raw []byte) (string, error) {
	var text string
	err := json.Unmarshal(raw, &text)
	if err != nil {
		err = errors.New("a secret must be a JSON string") // the error of the package would quote it
	}
	return text, err
}

// Status is what anybody may know.
type Status struct {
	Version string `json:"version"`
	SetUp   bool   `json:"set_up" doc:"Whether somebody can sign in yet"`
}

// Me is who is signed in.
type Me struct {
	Name  string   `json:"name"`
	Roles []string `json:"roles" nullable:"false"`
	Token string   `json:"token,omitempty" doc:"Shown once, when a token was asked for"`
	// Device is beside a token what a cookie is beside a session.
	Device string `json:"device,omitempty" doc:"Sent with the next sign-in, it keeps others from making this device wait"`
}

type signInInput struct {
	Body struct {
		Name     string `json:"name" maxLength:"100"`
		Password Secret `json:"password"`
		Token    bool   `json:"token,omitempty" doc:"Answer with an API token instead of a session cookie"`
		Label    string `json:"label,omitempty" maxLength:"100" doc:"What the token is for"`
		Device   string `json:"device,omitempty" maxLength:"200" doc:"What an earlier sign-in answered"`
	}
	Cookie string `cookie:"moss_device"`
}

type signedOut struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
}

type signedIn struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      Me
}

func (s *Service) cookie(value string, expires time.Time) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.secure} //nolint:gosec // Secure follows whether the service speaks TLS
}

func (s *Service) registerPeople() {
	add(s, http.MethodGet, "/status", "get-status", "Version, and whether the service is set up", func(ctx context.Context, _ *empty) (*body[Status], error) {
		n, err := s.store.CountUsers(ctx)
		return answer(Status{Version: Version, SetUp: n > 0}, err)
	})
	add(s, http.MethodPost, "/setup", "set-up", "Make the first user with the one-time set-up code", s.setUp)
	add(s, http.MethodPost, "/sessions", "sign-in", "Sign in", s.signIn)
	add(s, http.MethodDelete, "/sessions/current", "sign-out", "Sign out", func(ctx context.Context, _ *empty) (*signedOut, error) {
		bearer := callOf(ctx).bearer
		return &signedOut{SetCookie: []http.Cookie{s.cookie("", time.Unix(1, 0))}}, s.store.EndSession(ctx, bearer)
	})
	add(s, http.MethodGet, "/me", "get-me", "Who is signed in", func(ctx context.Context, _ *empty) (*body[Me], error) {
		user, _ := ctx.Value(keyUser).(store.User)
		return answer(Me{Name: user.Name, Roles: user.Roles}, nil)
	})
	add(s, http.MethodPost, "/me/password", "change-own-password", "Change one's own password; all sessions and tokens end", s.changeOwnPassword)
	add(s, http.MethodGet, "/users", "list-users", "List people", func(ctx context.Context, in *ListInput) (*body[store.Page[store.User]], error) {
		return answer(s.store.Users(ctx, in.query()))
	})
	add(s, http.MethodPost, "/users", "add-user", "Add a person", s.addUser)
	add(s, http.MethodPatch, "/users/{name}", "change-user", "Change roles, password or state of a person", s.changeUser)
	add(s, http.MethodGet, "/tokens", "list-tokens", "List API tokens: one's own, or all for an administrator", func(ctx context.Context, in *ListInput) (*body[store.Page[store.Token]], error) {
		return answer(s.store.Tokens(ctx, s.ownUnlessAdministrator(ctx), in.query()))
	})
	add(s, http.MethodPost, "/tokens", "add-token", "Make an API token; it is shown once", s.addToken)
	add(s, http.MethodDelete, "/tokens/{id}", "revoke-token", "Revoke an API token", func(ctx context.Context, in *IDInput) (*empty, error) {
		return &empty{}, s.store.RevokeToken(ctx, in.ID, s.ownUnlessAdministrator(ctx), ledger.Entry{Actor: who(ctx), Act: "token.revoke", Phase: ledger.Outcome, Subject: fmt.Sprint(in.ID), Result: "done"})
	})
}

func (s *Service) ownUnlessAdministrator(ctx context.Context) string {
	user, _ := ctx.Value(keyUser).(store.User)
	if slices.Contains(user.Roles, RoleAdministrator) {
		return ""
	}
	return user.Name
}

type setUpInput struct {
	Body struct {
		Code     Secret `json:"code" doc:"The one-time code that the service printed at its first start"`
		Name     string `json:"name" minLength:"1" maxLength:"100"`
		Password Secret `json:"password"`
	}
}

func (s *Service) setUp(ctx context.Context, in *setUpInput) (*signedIn, error) {
	defer in.Body.Code.Wipe()
	defer in.Body.Password.Wipe()
	hash, err := s.store.Meta(ctx, metaSetupCode)
	if err != nil {
		return nil, huma.Error409Conflict("the service is set up already: sign in")
	}
	// The code has a hundred bits: it is throttled by address only, so that
	// nobody can keep the owner from it.
	key := "address/" + addressOf(ctx)
	if wait := s.throttle.begin(key); wait > 0 {
		return nil, tooMany(wait)
	}
	fits := false
	err = s.hashing.do(ctx, func() { fits = checkPassword(in.Body.Code.Value, string(hash)) })
	s.throttle.end(fits, key)
	if err != nil {
		return nil, busy(err)
	}
	if !fits {
		return nil, huma.Error403Forbidden("this is not the set-up code: it was printed when the service first started; a restart prints a new one")
	}
	user, err := s.newUser(ctx, in.Body.Name, in.Body.Password, []string{RoleOperator, RoleApprover, RoleAuditor, RoleAdministrator})
	if err != nil {
		return nil, err
	}
	if err := s.store.AddUser(ctx, user, true, ledger.Entry{Actor: user.Name, Act: "service.set-up", Phase: ledger.Outcome, Subject: user.Name, Result: "done"}); err != nil {
		return nil, err
	}
	if err := s.store.SetMeta(ctx, metaSetupCode, nil); err != nil {
		return nil, err
	}
	return s.startSession(ctx, user)
}

func (s *Service) newUser(ctx context.Context, name string, password Secret, roles []string) (store.User, error) {
	taken, err := s.store.UserNames(ctx)
	if err != nil {
		return store.User{}, err
	}
	if name, err = checkPersonName(name, taken); err != nil {
		return store.User{}, err
	}
	if err := checkNewPassword(name, password.Value); err != nil {
		return store.User{}, huma.Error400BadRequest(err.Error())
	}
	if err := checkRoles(roles); err != nil {
		return store.User{}, err
	}
	hash, err := s.hash(ctx, password)
	return store.User{Name: name, Password: hash, Roles: roles}, err
}

// hash hashes a password when it is its turn.
func (s *Service) hash(ctx context.Context, password Secret) (hash string, err error) {
	if queueErr := s.hashing.do(ctx, func() { hash, err = hashPassword(password.Value) }); queueErr != nil {
		return "", busy(queueErr)
	}
	return hash, err
}

func busy(err error) error {
	if errors.Is(err, errBusy) {
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable(err.Error()), http.Header{"Retry-After": {"3"}})
	}
	return err
}

func checkRoles(roles []string) error {
	if len(roles) == 0 {
		return huma.Error400BadRequest("at least one role is needed: " + strings.Join(Roles, ", "))
	}
	for _, role := range roles {
		if !slices.Contains(Roles, role) {
			return huma.Error400BadRequest(fmt.Sprintf("unknown role %q (known: %s)", role, strings.Join(Roles, ", ")))
		}
	}
	return nil
}

func tooMany(wait time.Duration) error {
	seconds := int(wait.Seconds()) + 1
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf("too many failed sign-ins: wait %d seconds", seconds)), http.Header{"Retry-After": {fmt.Sprint(seconds)}})
}

func (s *Service) signIn(ctx context.Context, in *signInInput) (*signedIn, error) {
	defer in.Body.Password.Wipe()
	user, err := s.store.User(ctx, in.Body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	address := addressOf(ctx)
	keys := []string{"name/" + s.app.Base.Mark("name", strings.ToLower(in.Body.Name)), "address/" + address}
	if device, known := s.knownDevice(user.Name, in); known {
		keys = []string{"device/" + device} // it keeps its way in
	}
	if wait := s.throttle.begin(keys...); wait > 0 {
		return nil, tooMany(wait)
	}
	hash := user.Password
	if hash == "" {
		hash = noSuchUser()
	}
	fits := false
	err = s.hashing.do(ctx, func() { fits = checkPassword(in.Body.Password.Value, hash) })
	fits = fits && user.Name != "" && !user.Disabled
	s.throttle.end(fits, keys...)
	if err != nil {
		return nil, busy(err)
	}
	if !fits {
		if err := s.refused(ctx, user.Name, in.Body.Name, address); err != nil {
			return nil, err
		}
		return nil, huma.Error401Unauthorized("the name or the password is wrong")
	}
	device, err := s.newDevice(user.Name)
	if err != nil {
		return nil, err
	}
	if !in.Body.Token {
		out, err := s.startSession(ctx, user)
		if err == nil {
			out.SetCookie = append(out.SetCookie, http.Cookie{Name: deviceCookie, Value: device, Path: "/api/v1/sessions", Expires: time.Now().Add(deviceTime), HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.secure}) //nolint:gosec // Secure follows whether the service speaks TLS
		}
		return out, err
	}
	label := in.Body.Label
	if label == "" {
		label = "command line"
	}
	token, _, err := s.makeToken(ctx, user.Name, label, time.Now().Add(tokenTime))
	return &signedIn{Body: Me{Name: user.Name, Roles: user.Roles, Token: token, Device: device}}, err
}

// refused writes a refused sign-in. A name that is not known may be a password
// in the wrong field: only a keyed fingerprint of it is written.
func (s *Service) refused(ctx context.Context, known, given, address string) error {
	actor := known
	if actor == "" {
		actor = "unknown:" + s.app.Base.Mark("name", given)
	}
	s.Log.Warn("sign-in refused", "name", actor, "address", address)
	write, left := s.refusals.count(time.Now())
	var entries []ledger.Entry
	if left > 0 {
		entries = append(entries, ledger.Entry{Actor: "service", Act: "session.sign-in", Phase: ledger.Outcome, Result: "refused", Detail: fmt.Sprintf("%d further ones in an earlier hour", left)})
	}
	if write {
		entries = append(entries, ledger.Entry{Actor: actor, Act: "session.sign-in", Phase: ledger.Outcome, Result: "refused", Detail: "from " + address})
	}
	return s.recordSignIn(ctx, entries...)
}

// recordSignIn writes to the ledger. While the ledger does not hold, people can
// still sign in to see why.
func (s *Service) recordSignIn(ctx context.Context, entries ...ledger.Entry) error {
	err := s.store.Record(context.WithoutCancel(ctx), entries...)
	if errors.Is(err, ledger.ErrBroken) {
		s.Log.Warn("a sign-in could not be written to the ledger, which does not hold")
		return nil
	}
	return err
}

func (s *Service) startSession(ctx context.Context, user store.User) (*signedIn, error) {
	bearer, err := newBearer()
	if err != nil {
		return nil, err
	}
	expires := time.Now().Add(sessionTime)
	if err := s.store.AddSession(ctx, bearer, user.Name, expires); err != nil {
		return nil, err
	}
	if err := s.recordSignIn(ctx, ledger.Entry{Actor: user.Name, Act: "session.sign-in", Phase: ledger.Outcome, Result: "done"}); err != nil {
		return nil, err
	}
	return &signedIn{SetCookie: []http.Cookie{s.cookie(bearer, expires)}, Body: Me{Name: user.Name, Roles: user.Roles}}, nil
}

func (s *Service) makeToken(ctx context.Context, user, label string, expires time.Time) (string, int64, error) {
	bearer, err := newBearer()
	if err != nil {
		return "", 0, err
	}
	id, err := s.store.AddToken(ctx, bearer, store.Token{User: user, Label: label, Expires: expires},
		ledger.Entry{Actor: user, Act: "token.add", Phase: ledger.Outcome, Subject: label, Result: "done", Detail: "ends " + expires.UTC().Format(time.RFC3339)})
	return bearer, id, err
}

type addTokenInput struct {
	Body struct {
		Label string `json:"label" minLength:"1" maxLength:"100"`
	}
}

// NewToken is a token that was just made.
type NewToken struct {
	ID    int64  `json:"id"`
	Token string `json:"token" doc:"Shown once"`
}

func (s *Service) addToken(ctx context.Context, in *addTokenInput) (*body[NewToken], error) {
	expires := time.Now().Add(tokenTime)
	// A token makes none that outlives it.
	if own, err := s.store.TokenExpires(ctx, callOf(ctx).bearer); err == nil {
		expires = minTime(expires, own)
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	token, id, err := s.makeToken(ctx, who(ctx), in.Body.Label, expires)
	return answer(NewToken{ID: id, Token: token}, err)
}

type addUserInput struct {
	Body struct {
		Name     string   `json:"name" minLength:"1" maxLength:"100"`
		Password Secret   `json:"password"`
		Roles    []string `json:"roles" nullable:"false"`
	}
}

func (s *Service) addUser(ctx context.Context, in *addUserInput) (*body[Person], error) {
	defer in.Body.Password.Wipe()
	user, err := s.newUser(ctx, in.Body.Name, in.Body.Password, in.Body.Roles)
	if err != nil {
		return nil, err
	}
	entry := ledger.Entry{Actor: who(ctx), Act: "user.add", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Changes: changedUser(store.User{}, user, false)}
	return s.changePerson(ctx, store.User{}, user, true, false, entry)
}

// Person is a person as they are now, and what a change of them waits for.
type Person struct {
	store.User
	Waiting
}

func (s *Service) changePerson(ctx context.Context, before, after store.User, isNew, endSessions bool, entry ledger.Entry) (*body[Person], error) {
	waits, err := s.app.People.Change(ctx, who(ctx), before, after, isNew, endSessions, entry)
	if err != nil {
		return nil, err
	}
	if waits != 0 {
		before.Name = after.Name
		return answer(Person{before, Waiting{waits}}, nil)
	}
	user, err := s.store.User(ctx, after.Name)
	return answer(Person{User: user}, err)
}

type changeUserInput struct {
	Name string `path:"name" maxLength:"100"`
	Body struct {
		Password *Secret  `json:"password,omitempty"`
		Roles    []string `json:"roles,omitempty"`
		Disabled *bool    `json:"disabled,omitempty"`
	}
}

func (s *Service) changeUser(ctx context.Context, in *changeUserInput) (*body[Person], error) {
	if in.Body.Password != nil {
		defer in.Body.Password.Wipe()
	}
	user, err := s.store.User(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	before := user
	if in.Body.Roles != nil {
		if err := checkRoles(in.Body.Roles); err != nil {
			return nil, err
		}
		if user.Name == who(ctx) && slices.ContainsFunc(in.Body.Roles, func(role string) bool { return !slices.Contains(user.Roles, role) }) {
			return nil, huma.Error409Conflict("you cannot give yourself a role: let another administrator do it")
		}
		if user.Name == who(ctx) && !slices.Contains(in.Body.Roles, RoleAdministrator) {
			return nil, huma.Error409Conflict("you cannot take the role administrator from yourself: let another administrator do it")
		}
		user.Roles = in.Body.Roles
	}
	if in.Body.Disabled != nil {
		if *in.Body.Disabled && user.Name == who(ctx) {
			return nil, huma.Error409Conflict("you cannot disable yourself")
		}
		user.Disabled = *in.Body.Disabled
	}
	if in.Body.Password != nil {
		if err := checkNewPassword(user.Name, in.Body.Password.Value); err != nil {
			return nil, huma.Error400BadRequest(err.Error())
		}
		if user.Password, err = s.hash(ctx, *in.Body.Password); err != nil {
			return nil, err
		}
	}
	entry := ledger.Entry{Actor: who(ctx), Act: "user.change", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Changes: changedUser(before, user, in.Body.Password != nil)}
	return s.changePerson(ctx, before, user, false, in.Body.Password != nil, entry)
}

func changedUser(before, after store.User, password bool) []ledger.Change {
	changes := ledger.Diff(
		[3]string{"roles", strings.Join(before.Roles, " "), strings.Join(after.Roles, " ")},
		[3]string{"disabled", fmt.Sprint(before.Disabled), fmt.Sprint(after.Disabled)},
	)
	if password {
		changes = append(changes, ledger.Change{Field: "password", From: "one", To: "another"})
	}
	return changes
}

type ownPasswordInput struct {
	Body struct {
		Old Secret `json:"old"`
		New Secret `json:"new"`
	}
}

// changeOwnPassword needs the old one: a session that was left open must not
// be enough.
func (s *Service) changeOwnPassword(ctx context.Context, in *ownPasswordInput) (*empty, error) {
	defer in.Body.Old.Wipe()
	defer in.Body.New.Wipe()
	user, err := s.store.User(ctx, who(ctx))
	if err != nil {
		return nil, err
	}
	key := "name/" + s.app.Base.Mark("name", strings.ToLower(user.Name))
	if wait := s.throttle.begin(key); wait > 0 {
		return nil, tooMany(wait)
	}
	fits := false
	err = s.hashing.do(ctx, func() { fits = checkPassword(in.Body.Old.Value, user.Password) })
	s.throttle.end(fits, key)
	switch {
	case err != nil:
		return nil, busy(err)
	case !fits:
		return nil, huma.Error403Forbidden("the old password is wrong")
	case in.Body.Old.Equal(in.Body.New.Value):
		return nil, huma.Error400BadRequest("the new password is the old one")
	}
	if err := checkNewPassword(user.Name, in.Body.New.Value); err != nil {
		return nil, huma.Error400BadRequest(err.Error())
	}
	if user.Password, err = s.hash(ctx, in.Body.New); err != nil {
		return nil, err
	}
	return &empty{}, s.store.ChangeUser(ctx, user, true, ledger.Entry{Actor: user.Name, Act: "user.password", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: "all sessions and tokens ended"})
}

func minTime(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}
