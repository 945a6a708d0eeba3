package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/service/withheld"
)

// Cookies: the session's, and that of a device that signed in once.
const (
	sessionCookie = "moss_session"
	deviceCookie  = "moss_device"
	deviceTime    = 365 * 24 * time.Hour
)

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
		Name     string          `json:"name" maxLength:"100"`
		Password withheld.Secret `json:"password"`
		Token    bool            `json:"token,omitempty" doc:"Answer with an API token instead of a session cookie"`
		Label    string          `json:"label,omitempty" maxLength:"100" doc:"What the token is for"`
		Device   string          `json:"device,omitempty" maxLength:"200" doc:"What an earlier sign-in answered"`
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

func (s *Service) cookie(name, path, value string, expires time.Time) http.Cookie {
	return http.Cookie{Name: name, Value: value, Path: path, Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.secure} //nolint:gosec // Secure follows whether the service speaks TLS
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
		return &signedOut{SetCookie: []http.Cookie{s.cookie(sessionCookie, "/", "", time.Unix(1, 0))}}, s.store.EndSession(ctx, bearer)
	})
	add(s, http.MethodGet, "/sessions", "list-sessions", "List who is signed in to the console, and from where: oneself, or all for an administrator", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Session]], error) {
		return answer(s.app.People.Sessions(ctx, who(ctx), callOf(ctx).bearer, in.Query()))
	})
	add(s, http.MethodDelete, "/sessions/{id}", "end-session", "End a session, wherever it is open", func(ctx context.Context, in *sessionInput) (*empty, error) {
		return &empty{}, s.app.People.EndSession(ctx, who(ctx), in.ID)
	})
	add(s, http.MethodGet, "/me", "get-me", "Who is signed in", func(ctx context.Context, _ *empty) (*body[Me], error) {
		return answer(Me{Name: who(ctx).Name, Roles: who(ctx).Roles}, nil)
	})
	add(s, http.MethodGet, "/me/settings", "get-settings", "What one has set for oneself in the console", s.settings)
	add(s, http.MethodPut, "/me/settings/{name}", "keep-setting", "Keep a setting of one's own; null takes it away", s.keepSetting)
	add(s, http.MethodPost, "/me/password", "change-own-password", "Change one's own password; all sessions and tokens end", s.changeOwnPassword)
	add(s, http.MethodGet, "/users", "list-users", "List people", func(ctx context.Context, in *ListInput) (*body[records.Page[records.User]], error) {
		return answer(s.store.Users(ctx, in.Query()))
	})
	add(s, http.MethodPost, "/users", "add-user", "Add a person", s.addUser)
	add(s, http.MethodPatch, "/users/{name}", "change-user", "Change roles, password or state of a person", s.changeUser)
	add(s, http.MethodGet, "/tokens", "list-tokens", "List API tokens: one's own, or all for an administrator", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Token]], error) {
		return answer(s.app.People.Tokens(ctx, who(ctx), in.Query()))
	})
	add(s, http.MethodPost, "/tokens", "add-token", "Make an API token; it is shown once", s.addToken)
	add(s, http.MethodDelete, "/tokens/{id}", "revoke-token", "Revoke an API token", func(ctx context.Context, in *IDInput) (*empty, error) {
		return &empty{}, s.app.People.RevokeToken(ctx, who(ctx), records.TokenID(in.ID))
	})
}

type sessionInput struct {
	ID string `path:"id" pattern:"^[0-9a-f]{16}$" patternDescription:"a session's id, as the list has it"`
}

type setUpInput struct {
	Body struct {
		Code     withheld.Secret `json:"code" doc:"The one-time code that the service printed at its first start"`
		Name     string          `json:"name" minLength:"1" maxLength:"100"`
		Password withheld.Secret `json:"password"`
	}
}

func (s *Service) setUp(ctx context.Context, in *setUpInput) (*signedIn, error) {
	defer in.Body.Code.Wipe()
	defer in.Body.Password.Wipe()
	return s.signedIn(s.app.People.SetUp(ctx, in.Body.Code.Value, people.Person{Name: in.Body.Name, Password: in.Body.Password.Value}, addressOf(ctx)))
}

func (s *Service) signIn(ctx context.Context, in *signInInput) (*signedIn, error) {
	defer in.Body.Password.Wipe()
	out, err := s.app.People.SignIn(ctx, people.Attempt{
		Name: in.Body.Name, Password: in.Body.Password.Value, Address: addressOf(ctx), Devices: []string{in.Body.Device, in.Cookie}, Token: in.Body.Token, Label: in.Body.Label,
	})
	if err == nil && in.Body.Token {
		return &signedIn{Body: Me{Name: out.Person.Name, Roles: out.Person.Roles, Token: out.Bearer, Device: out.Device}}, nil
	}
	return s.signedIn(out, err)
}

func (s *Service) signedIn(in people.SignedIn, err error) (*signedIn, error) {
	if err != nil {
		return nil, err
	}
	out := &signedIn{SetCookie: []http.Cookie{s.cookie(sessionCookie, "/", in.Bearer, in.Expires)}, Body: Me{Name: in.Person.Name, Roles: in.Person.Roles}}
	if in.Device != "" {
		out.SetCookie = append(out.SetCookie, s.cookie(deviceCookie, "/api/v1/sessions", in.Device, time.Now().Add(deviceTime)))
	}
	return out, nil
}

type keepSettingInput struct {
	Name string `path:"name" pattern:"^[a-z-]{1,60}$"`
	Body struct {
		Value any `json:"value" doc:"Any JSON, 16 kB at most; nothing in it is looked at"`
	}
}

func (s *Service) settings(ctx context.Context, _ *empty) (*body[map[string]any], error) {
	kept, err := s.store.Settings(ctx, who(ctx).Name)
	out := make(map[string]any, len(kept))
	for name, value := range kept {
		out[name] = value
	}
	return answer(out, err)
}

func (s *Service) keepSetting(ctx context.Context, in *keepSettingInput) (*empty, error) {
	raw, err := json.Marshal(in.Body.Value)
	if err != nil {
		return nil, err
	}
	if len(raw) > 16<<10 {
		return nil, fmt.Errorf("%w: a setting has 16 kB at most, this one %d bytes", app.ErrInput, len(raw))
	}
	return &empty{}, s.store.KeepSetting(ctx, who(ctx).Name, in.Name, raw)
}

type addTokenInput struct {
	Body struct {
		Label string `json:"label" minLength:"1" maxLength:"100"`
		Only  string `json:"only,omitempty" enum:"calendar," doc:"calendar: it reads the schedule as a calendar and nothing else, for a year"`
	}
}

// NewToken is a token that was just made.
type NewToken struct {
	ID    records.TokenID `json:"id"`
	Token string          `json:"token" doc:"Shown once"`
}

func (s *Service) addToken(ctx context.Context, in *addTokenInput) (*body[NewToken], error) {
	token, id, err := s.app.People.AddToken(ctx, who(ctx), callOf(ctx).bearer, in.Body.Label, in.Body.Only)
	return answer(NewToken{ID: id, Token: token}, err)
}

type addUserInput struct {
	Body struct {
		Name     string          `json:"name" minLength:"1" maxLength:"100"`
		Password withheld.Secret `json:"password"`
		Roles    []string        `json:"roles" nullable:"false"`
	}
}

func (s *Service) addUser(ctx context.Context, in *addUserInput) (*body[Person], error) {
	defer in.Body.Password.Wipe()
	name, waits, err := s.app.People.Add(ctx, who(ctx), people.Person{Name: in.Body.Name, Password: in.Body.Password.Value, Roles: in.Body.Roles})
	if err != nil {
		return nil, err
	}
	if waits != 0 {
		return answer(Person{records.User{Name: name}, routing.Waiting{Approval: waits}}, nil)
	}
	user, err := s.store.User(ctx, name)
	return answer(Person{User: user}, err)
}

// Person is a person as they are now, and what a change of them waits for.
type Person struct {
	records.User
	routing.Waiting
}

type changeUserInput struct {
	Name string `path:"name" maxLength:"100"`
	Body struct {
		Password *withheld.Secret `json:"password,omitempty"`
		Roles    []string         `json:"roles,omitempty"`
		Disabled *bool            `json:"disabled,omitempty"`
	}
}

func (s *Service) changeUser(ctx context.Context, in *changeUserInput) (*body[Person], error) {
	change := people.Change{Roles: in.Body.Roles, Disabled: in.Body.Disabled}
	if in.Body.Password != nil {
		defer in.Body.Password.Wipe()
		change.Password = &in.Body.Password.Value
	}
	waits, err := s.app.People.Change(ctx, who(ctx), in.Name, change)
	if err != nil {
		return nil, err
	}
	user, err := s.store.User(ctx, in.Name)
	return answer(Person{user, routing.Waiting{Approval: waits}}, err)
}

type ownPasswordInput struct {
	Body struct {
		Old withheld.Secret `json:"old"`
		New withheld.Secret `json:"new"`
	}
}

func (s *Service) changeOwnPassword(ctx context.Context, in *ownPasswordInput) (*empty, error) {
	defer in.Body.Old.Wipe()
	defer in.Body.New.Wipe()
	return &empty{}, s.app.People.ChangeOwnPassword(ctx, who(ctx), in.Body.Old.Value, in.Body.New.Value)
}
