package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/endroutes"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store/database"
)

type contextKey int

const (
	keyCall contextKey = iota
	keyAddress
)

// call is by what somebody calls.
type call struct {
	operation string
	bearer    string
	token     bool // not a session
}

func callOf(ctx context.Context) call {
	c, _ := ctx.Value(keyCall).(call)
	return c
}

func addressOf(ctx context.Context) string {
	address, _ := ctx.Value(keyAddress).(string)
	return address
}

// authenticate finds out who calls and holds the call against the table.
func (s *Service) authenticate(ctx huma.Context, next func(huma.Context)) {
	operation := ctx.Operation().OperationID
	host, _, err := net.SplitHostPort(ctx.RemoteAddr())
	if err != nil {
		host = ctx.RemoteAddr()
	}
	ctx = huma.WithValue(ctx, keyAddress, host)
	if access.Public(access.Action(operation)) {
		next(ctx)
		return
	}
	user, by, err := s.caller(ctx)
	if err != nil {
		ctx.SetHeader("WWW-Authenticate", `Bearer realm="moss"`)
		if endroutes.Feeds(operation) { // calendars send names and passwords (RFC 7617)
			ctx.SetHeader("WWW-Authenticate", `Basic realm="moss", charset="UTF-8"`)
		}
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, err.Error())
		return
	}
	actor := actorOf(user)
	if err := access.Decide(actor, access.Action(operation), access.Object{}); err != nil {
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, plain(err))
		return
	}
	ctx = routing.Acting(ctx, actor)
	by.operation = operation
	next(huma.WithValue(ctx, keyCall, by))
}

// still reports whether who began a stream may still have it: rights are looked
// at when they are used.
func (s *Service) still(ctx context.Context) bool {
	by := callOf(ctx)
	read := s.store.SessionUser
	if by.token {
		read = s.store.TokenUser
	}
	user, err := read(s.base, by.bearer)
	return err == nil && access.Decide(actorOf(user), access.Action(by.operation), access.Object{}) == nil
}

var (
	errSignIn = errors.New("sign in first")
	errForged = errors.New("a changing request with a session cookie must come from the console itself")
)

func (s *Service) caller(ctx huma.Context) (records.User, call, error) {
	if header := ctx.Header("Authorization"); header != "" {
		if basic, found := strings.CutPrefix(header, "Basic "); found && endroutes.Feeds(ctx.Operation().OperationID) {
			user, err := s.calendarUser(ctx.Context(), basic)
			return user, call{}, err
		}
		bearer, found := strings.CutPrefix(header, "Bearer ")
		if !found {
			return records.User{}, call{}, errSignIn
		}
		user, err := s.store.TokenUser(ctx.Context(), bearer)
		if err != nil {
			return user, call{}, errors.New("this token is unknown, has ended or was revoked: sign in again")
		}
		return user, call{bearer: bearer, token: true}, nil
	}
	cookie, err := huma.ReadCookie(ctx, sessionCookie)
	if err != nil || cookie.Value == "" {
		return records.User{}, call{}, errSignIn
	}
	// Another site can make a browser send the cookie, but not this header.
	if ctx.Method() != http.MethodGet && ctx.Header("X-Moss-Console") == "" {
		return records.User{}, call{}, errForged
	}
	if site := ctx.Header("Sec-Fetch-Site"); ctx.Method() != http.MethodGet && site != "" && site != "same-origin" {
		return records.User{}, call{}, errForged
	}
	user, err := s.store.SessionUser(ctx.Context(), cookie.Value)
	if err != nil {
		return user, call{}, errors.New("the session has ended: sign in again")
	}
	return user, call{bearer: cookie.Value}, nil
}

// calendarUser is whose token for the calendar was sent as a password.
func (s *Service) calendarUser(ctx context.Context, basic string) (records.User, error) {
	raw, err := base64.StdEncoding.DecodeString(basic)
	_, token, found := strings.Cut(string(raw), ":")
	if err != nil || !found {
		return records.User{}, errSignIn
	}
	user, err := s.store.CalendarUser(ctx, token)
	if err != nil {
		return user, errors.New("this token is not one for the calendar, has ended or was revoked")
	}
	return user, nil
}

func actorOf(user records.User) access.Actor { return access.Actor{Name: user.Name, Roles: user.Roles} }

// problem turns an error into problem details.
func (s *Service) problem(err error) error {
	if err == nil {
		return nil
	}
	var failure *connect.Failure
	var tooMany *people.TooManyError
	var status huma.StatusError
	switch {
	case errors.As(err, &status):
		return err
	case errors.Is(err, people.ErrWrong):
		return huma.NewError(http.StatusUnauthorized, plain(err))
	case errors.Is(err, people.ErrWrongOld), errors.Is(err, people.ErrNotCode), errors.Is(err, access.ErrDenied):
		return huma.NewError(http.StatusForbidden, plain(err))
	case errors.As(err, &tooMany):
		return huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, plain(err)), http.Header{"Retry-After": {fmt.Sprint(tooMany.Seconds())}})
	case errors.Is(err, people.ErrBusy):
		return huma.ErrorWithHeaders(huma.NewError(http.StatusServiceUnavailable, plain(err)), http.Header{"Retry-After": {"3"}})
	case errors.Is(err, database.ErrOtherRequest):
		return huma.NewError(http.StatusUnprocessableEntity, plain(err))
	case errors.Is(err, app.ErrInput), errors.Is(err, database.ErrQuery):
		return huma.NewError(http.StatusBadRequest, plain(err))
	case errors.Is(err, records.ErrNotFound):
		return huma.NewError(http.StatusNotFound, plain(err))
	case errors.Is(err, records.ErrStale):
		return huma.NewError(http.StatusPreconditionFailed, plain(err))
	case errors.Is(err, app.ErrRefused), errors.Is(err, records.ErrConflict), errors.Is(err, app.ErrCannot):
		return huma.NewError(http.StatusConflict, plain(err))
	case errors.Is(err, ledger.ErrBroken):
		return huma.NewError(http.StatusServiceUnavailable, "the ledger does not hold, so nothing is done: run 'moss ledger verify', see the findings and the log")
	case errors.As(err, &failure):
		return huma.NewError(http.StatusBadGateway, s.app.Base.Redact(context.Background(), failure.Error()))
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return huma.NewError(http.StatusGatewayTimeout, "it took too long, or was cancelled")
	}
	return huma.NewError(http.StatusInternalServerError, s.unexplained(err))
}

// unexplained logs an error that nobody thought of and gives it a number: what
// it says is about the inside, and stays there.
func (s *Service) unexplained(err error) string {
	raw := make([]byte, 4)
	_, _ = rand.Read(raw)
	number := hex.EncodeToString(raw)
	s.Log.Error("a request failed", "number", number, "error", err)
	return "something went wrong inside the service; its log explains it under the number " + number
}

// plain drops the words that only sort errors.
func plain(err error) string {
	text := err.Error()
	for _, word := range []string{app.ErrInput.Error(), app.ErrRefused.Error(), app.ErrCannot.Error(), database.ErrQuery.Error(), access.ErrDenied.Error()} {
		text = strings.TrimPrefix(text, word+": ")
	}
	return text
}

func titleOf(code int) string { return http.StatusText(code) }
