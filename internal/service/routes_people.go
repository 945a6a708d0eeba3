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
}

type signInInput struct {
	Body struct {
		Name     string `json:"name" maxLength:"100"`
		Password Secret `json:"password"`
		Token    bool   `json:"token,omitempty" doc:"Answer with an API token instead of a session cookie"`
		Label    string `json:"label,omitempty" maxLength:"100" doc:"What the token is for"`
	}
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      Me
}

func (s *Service) cookie(value string, expires time.Time) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.secure}
}

func (s *Service) registerPeople() {
	add(s, http.MethodGet, "/status", "get-status", "Version, and whether the service is set up", func(ctx context.Context, _ *empty) (*body[Status], error) {
		n, err := s.store.CountUsers(ctx)
		return answer(Status{Version: Version, SetUp: n > 0}, err)
	})
	add(s, http.MethodPost, "/setup", "set-up", "Make the first user with the one-time set-up code", s.setUp)
	add(s, http.MethodPost, "/sessions", "sign-in", "Sign in", s.signIn)
	add(s, http.MethodDelete, "/sessions/current", "sign-out", "Sign out", func(ctx context.Context, _ *empty) (*signedIn, error) {
		bearer, _ := ctx.Value(keyBearer).(string)
		return &signedIn{SetCookie: s.cookie("", time.Unix(1, 0))}, s.store.EndSession(ctx, bearer)
	})
	add(s, http.MethodGet, "/me", "get-me", "Who is signed in", func(ctx context.Context, _ *empty) (*body[Me], error) {
		user, _ := ctx.Value(keyUser).(store.User)
		return answer(Me{Name: user.Name, Roles: user.Roles}, nil)
	})
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
	if wait := s.throttle.wait("set-up"); wait > 0 {
		return nil, tooMany(wait)
	}
	hash, err := s.store.Meta(ctx, metaSetupCode)
	if err != nil {
		return nil, huma.Error409Conflict("the service is set up already: sign in")
	}
	if !checkPassword(in.Body.Code.Value, string(hash)) {
		s.throttle.failed("set-up")
		return nil, huma.Error403Forbidden("this is not the set-up code: it was printed when the service first started; a restart prints a new one")
	}
	user, err := s.newUser(in.Body.Name, in.Body.Password, []string{RoleOperator, RoleApprover, RoleAuditor, RoleAdministrator})
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

func (s *Service) newUser(name string, password Secret, roles []string) (store.User, error) {
	name = strings.TrimSpace(name)
	if name == "" || strings.ContainsAny(name, "/\\\r\n\t\x00") {
		return store.User{}, huma.Error400BadRequest("a name cannot be empty or contain slashes or control characters")
	}
	if err := checkNewPassword(name, password.Value); err != nil {
		return store.User{}, huma.Error400BadRequest(err.Error())
	}
	if err := checkRoles(roles); err != nil {
		return store.User{}, err
	}
	hash, err := hashPassword(password.Value)
	return store.User{Name: name, Password: hash, Roles: roles}, err
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
	key := "name/" + strings.ToLower(in.Body.Name)
	if wait := s.throttle.wait(key); wait > 0 {
		return nil, tooMany(wait)
	}
	user, err := s.store.User(ctx, in.Body.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	hash := user.Password
	if hash == "" {
		hash = noSuchUser()
	}
	if !checkPassword(in.Body.Password.Value, hash) || user.Name == "" || user.Disabled {
		s.throttle.failed(key)
		s.Log.Warn("sign-in refused", "name", in.Body.Name)
		if err := s.operator.Record(ctx, ledger.Entry{Actor: in.Body.Name, Act: "session.sign-in", Phase: ledger.Outcome, Result: "refused"}); err != nil {
			return nil, err
		}
		return nil, huma.Error401Unauthorized("the name or the password is wrong")
	}
	s.throttle.succeeded(key)
	if !in.Body.Token {
		return s.startSession(ctx, user)
	}
	label := in.Body.Label
	if label == "" {
		label = "command line"
	}
	token, _, err := s.makeToken(ctx, user.Name, label)
	return &signedIn{Body: Me{Name: user.Name, Roles: user.Roles, Token: token}}, err
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
	if err := s.operator.Record(ctx, ledger.Entry{Actor: user.Name, Act: "session.sign-in", Phase: ledger.Outcome, Result: "done"}); err != nil {
		return nil, err
	}
	return &signedIn{SetCookie: s.cookie(bearer, expires), Body: Me{Name: user.Name, Roles: user.Roles}}, nil
}

func (s *Service) makeToken(ctx context.Context, user, label string) (string, int64, error) {
	bearer, err := newBearer()
	if err != nil {
		return "", 0, err
	}
	id, err := s.store.AddToken(ctx, bearer, store.Token{User: user, Label: label, Expires: time.Now().Add(tokenTime)},
		ledger.Entry{Actor: user, Act: "token.add", Phase: ledger.Outcome, Subject: label, Result: "done"})
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
	token, id, err := s.makeToken(ctx, who(ctx), in.Body.Label)
	return answer(NewToken{ID: id, Token: token}, err)
}

type addUserInput struct {
	Body struct {
		Name     string   `json:"name" minLength:"1" maxLength:"100"`
		Password Secret   `json:"password"`
		Roles    []string `json:"roles" nullable:"false"`
	}
}

func (s *Service) addUser(ctx context.Context, in *addUserInput) (*body[store.User], error) {
	user, err := s.newUser(in.Body.Name, in.Body.Password, in.Body.Roles)
	if err != nil {
		return nil, err
	}
	err = s.store.AddUser(ctx, user, false, ledger.Entry{Actor: who(ctx), Act: "user.add", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: strings.Join(user.Roles, " ")})
	if err != nil {
		return nil, err
	}
	return answer(s.store.User(ctx, user.Name))
}

type changeUserInput struct {
	Name string `path:"name" maxLength:"100"`
	Body struct {
		Password *Secret  `json:"password,omitempty"`
		Roles    []string `json:"roles,omitempty"`
		Disabled *bool    `json:"disabled,omitempty"`
	}
}

func (s *Service) changeUser(ctx context.Context, in *changeUserInput) (*body[store.User], error) {
	user, err := s.store.User(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if in.Body.Roles != nil {
		if err := checkRoles(in.Body.Roles); err != nil {
			return nil, err
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
		if user.Password, err = hashPassword(in.Body.Password.Value); err != nil {
			return nil, err
		}
	}
	entry := ledger.Entry{Actor: who(ctx), Act: "user.change", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: fmt.Sprintf("roles %s, disabled %v, password changed %v", strings.Join(user.Roles, " "), user.Disabled, in.Body.Password != nil)}
	if err := s.store.ChangeUser(ctx, user, in.Body.Password != nil, entry); err != nil {
		return nil, err
	}
	return answer(s.store.User(ctx, user.Name))
}
