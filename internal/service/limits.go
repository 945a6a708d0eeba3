package service

import (
	"context"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"mossledger.example/moss/internal/app/access"
)

// What a request may cost is decided when its headers are there, before room is
// made for its body: kilobytes for whoever has not shown a valid bearer, a
// megabyte for who has, more only for lists of systems and records of log-ons.
const (
	publicBody = 8 << 10
	signedBody = 1 << 20
	importBody = 12 << 20

	// readTime and writeTime bound a whole request and a whole answer.
	readTime  = 30 * time.Second
	writeTime = 60 * time.Second
)

// imports names the operation of a path that takes a long list.
func imports(path string) string {
	under, found := strings.CutPrefix(path, "/api/v1/systems/")
	switch {
	case under == "import":
		return "import-systems"
	case found && strings.HasSuffix(under, "/uses"):
		return "import-uses"
	}
	return ""
}

func (s *Service) limits(header *fasthttp.RequestHeader) fasthttp.RequestConfig {
	limit := fasthttp.RequestConfig{ReadTimeout: readTime, WriteTimeout: writeTime, MaxRequestBodySize: publicBody}
	path, _, _ := strings.Cut(string(header.RequestURI()), "?")
	if strings.HasSuffix(path, "/events") {
		limit.WriteTimeout = 0 // a stream has a deadline for each of its events
	}
	size := header.ContentLength()
	if size >= 0 && size <= publicBody {
		return limit
	}
	ctx, cancel := context.WithTimeout(s.base, 5*time.Second)
	defer cancel()
	user, err := s.store.SessionUser(ctx, string(header.Cookie(sessionCookie)))
	if bearer, found := strings.CutPrefix(string(header.Peek("Authorization")), "Bearer "); found {
		user, err = s.store.TokenUser(ctx, bearer)
	}
	if err != nil {
		return limit
	}
	limit.MaxRequestBodySize = signedBody
	if operation := imports(path); operation != "" && access.Decide(actorOf(user), access.Action(operation), access.Object{}) == nil {
		limit.MaxRequestBodySize = importBody
	}
	return limit
}

// watched lets watchers of the service in that are on this machine or show a
// token: how many accounts there are, and which systems do not answer, is no
// public matter. What comes through a proxy is not on this machine.
func (s *Service) watched(c fiber.Ctx) error {
	proxied := c.Get("Forwarded") != "" || c.Get("X-Forwarded-For") != "" || c.Get("Via") != "" || c.Get("X-Real-Ip") != ""
	if c.RequestCtx().RemoteIP().IsLoopback() && !proxied {
		return c.Next()
	}
	bearer, _ := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	ctx, cancel := context.WithTimeout(s.base, 5*time.Second)
	defer cancel()
	if _, err := s.store.TokenUser(ctx, bearer); err != nil {
		c.Set("WWW-Authenticate", `Bearer realm="moss"`)
		return problemAnswer(c, fiber.StatusUnauthorized, "ask from the machine of the service, or send a token: moss token create")
	}
	return c.Next()
}
